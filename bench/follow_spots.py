"""A lead's 60 spots found and healed again in 100 frames of 24 MP, from their files on: `python -m bench.follow_spots`.

Ten different frames of the demo's first setup, each under ten names, by two processes as Tanner has them; nothing of a frame is known
before. Seconds, beside the time of one export with two threads (R).
"""

import json
import shutil
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor
from dataclasses import replace
from itertools import islice
from pathlib import Path

from bench.spots import some
from bench.tools import export
from tanner.core.adjust.registry import defaults
from tanner.jobs.areas.spots import spots_found
from tanner.studio.camera import take
from tanner.studio.demo import frames

FRAMES, NAMES, SPOTS = 10, 10, 60


def shots(folder: Path) -> list[Path]:
    found = []
    for n, shot in enumerate(islice((s for s in frames() if s.scene.startswith("lamp")), FRAMES)):
        first = folder / f"{n}-0.dng"
        first.write_bytes(take(replace(shot, upright=False, width=6000, height=4000), compress=False))
        found += [first, *(folder / f"{n}-{k}.dng" for k in range(1, NAMES))]
        for name in found[-NAMES + 1 :]:
            shutil.copy(first, name)
    return found


def follow(lead: Path, values: str, ids: list[str], paths: list[Path], processes: int) -> tuple[float, int]:
    """Seconds, and how many spots were placed."""
    with ProcessPoolExecutor(processes) as pool:
        began = time.perf_counter()
        asked = [pool.submit(spots_found, str(lead), values, ids, str(path)) for path in paths]
        results = [f.result() for f in asked]
        taken = time.perf_counter() - began
    return taken, sum(v.endswith(":") for r in results for k, v in r.items() if k.endswith("/judged"))


def main() -> None:
    with tempfile.TemporaryDirectory() as name, ThreadPoolExecutor(2) as threads:
        folder = Path(name)
        paths = shots(folder)
        spots = some(SPOTS, 3)
        ids = sorted({k.split("/")[1] for k in spots})
        values = json.dumps(defaults(raw=True, lens=True) | spots)
        follow(paths[0], values, ids, paths[1:3], 2)
        export(paths[0], {}, threads)
        r = min(export(paths[0], {}, threads) for _ in range(3))
        seconds, placed = follow(paths[0], values, ids, paths[3:], 2)
        many = len(paths) - 3
        print(f"{SPOTS} spots in {many} frames: {seconds:.1f} s, {seconds / many / r:.2f} R a frame; R = {r:.2f} s")
        print(f"placed: {placed} of {SPOTS * many}")


if __name__ == "__main__":
    main()
