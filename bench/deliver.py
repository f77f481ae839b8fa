"""Measures deliveries against two processes of the reference: `python -m bench.deliver`.

The reference, as in `bench.run`: LibRaw's AHD with the camera's white balance to 8 bits, and a JPEG of the same frame.
"""

import os
import statistics
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from multiprocessing import get_context
from pathlib import Path

from bench.run import FULL, SMALL, ours, peak, reference
from tanner.core.output.spec import OutputSpec
from tanner.jobs.workers import Workers
from tanner.studio.camera import take
from tanner.studio.demo import frames

THUMB = OutputSpec(title="thumb", size="long:800", quality=92, exists="replace", name="{name}-thumb").model_dump()
KINDS = {"2048 px": [SMALL], "full size": [FULL], "full size, 2048 and 800 px": [FULL, SMALL, THUMB]}
MUST = {"2048 px": 4.0, "full size": 1.7, "full size, 2048 and 800 px": 1.4}


def batch(paths: list[str], out: str, rounds: int = 3) -> dict[str, float]:
    """How many times as fast as two processes of the reference each kind is, in the same run."""
    result = {}
    with ProcessPoolExecutor(2, mp_context=get_context("spawn")) as pool, Workers(2) as workers:
        list(pool.map(reference, paths[:2], [f"{out}/w0.jpg", f"{out}/w1.jpg"]))
        for job in [workers.submit(ours, p, KINDS["full size, 2048 and 800 px"], out, 1) for p in paths[:2]]:
            job.result()
        for name, specs in KINDS.items():
            ratios = []
            for _ in range(rounds):
                began = time.perf_counter()
                list(pool.map(reference, paths, [f"{out}/r{i}.jpg" for i in range(len(paths))]))
                theirs = time.perf_counter() - began
                began = time.perf_counter()
                for job in [workers.submit(ours, p, specs, out, 1) for p in paths]:
                    job.result()
                ratios.append(theirs / (time.perf_counter() - began))
            result[name] = statistics.median(ratios)
    return result


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        shot = next(s for s in frames() if s.scene.startswith("lamp"))
        big = replace(shot, scene="lamp", width=6000, height=4000)
        for label, packed in (("uncompressed", False), ("lossless JPEG inside", True)):
            first = folder / f"{label[:4]}.dng"
            first.write_bytes(take(big, compress=packed))
            paths = []
            for n in range(6):
                paths.append(str(folder / f"{label[:4]}{n}.dng"))
                os.link(first, paths[-1])
            for kind, ratio in batch(paths, name).items():
                print(
                    f"{label}: {kind}: {ratio:.2f} times two processes of the reference (must {MUST[kind]})", flush=True
                )
        with ProcessPoolExecutor(1, mp_context=get_context("spawn")) as pool:
            print(
                f"peak memory of one worker: {pool.submit(peak, str(folder / 'unco.dng'), name).result():.0f} MB (must 600)"
            )


if __name__ == "__main__":
    main()
