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
from bench.series import many
from tanner.catalogue.store import Catalogue
from tanner.core.output.spec import OutputSpec
from tanner.jobs.delivery.deliveries import Deliveries
from tanner.jobs.tasks import ready
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


def thousand(folder: Path, raw: Path) -> dict[str, float]:
    """Seconds from asking for 1,000 frames to the first file, and the share of one core's time that following them takes."""
    many(folder / "data", raw, 1000, 500)
    catalogue, workers, out = Catalogue(folder / "data"), Workers(2), folder / "out"
    for job in [workers.submit(ready) for _ in range(2)]:
        job.result()
    deliveries = Deliveries(catalogue, workers)
    began = time.perf_counter()
    number = deliveries.create(1, list(range(1, 1001)), [OutputSpec(**SMALL), OutputSpec(**THUMB)], out)
    planned = time.perf_counter() - began
    while not (out.exists() and any(out.glob("*.jpg"))):
        time.sleep(0.005)
    first = time.perf_counter() - began
    time.sleep(5)
    since, asking, rounds = -1, 0.0, 0
    watched = time.perf_counter()
    while time.perf_counter() - watched < 12:
        with catalogue.read() as session:
            began = time.thread_time()
            since = deliveries.progress.report(session, number, since)["counter"]
            asking += time.thread_time() - began if rounds else 0.0  # the first asks for all
        rounds += 1
        time.sleep(0.4)
    spent = time.perf_counter() - watched
    deliveries.cancel(number)
    deliveries.wait()
    deliveries.close()
    workers.shutdown()
    catalogue.close()
    return {"planned": planned, "first": first, "progress": asking / spent}


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
        found = thousand(folder, folder / "unco.dng")
        print(
            f"1,000 frames x 2: recorded in {found['planned']:.2f} s, first file after {found['first']:.2f} s (must 3)"
        )
        print(f"asking for progress every 0.4 s takes {100 * found['progress']:.2f} % of a core (must 1)", flush=True)
        with ProcessPoolExecutor(1, mp_context=get_context("spawn")) as pool:
            print(
                f"peak memory of one worker: {pool.submit(peak, str(folder / 'unco.dng'), name).result():.0f} MB (must 600)"
            )


if __name__ == "__main__":
    main()
