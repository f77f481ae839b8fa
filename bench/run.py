"""Measures speed and memory as ratios to a reference in the same run: `make bench`.

The reference, R seconds: one process running LibRaw's AHD with the camera's white balance to 8 bits, and a
JPEG of the same 24 MP frame. Seconds depend on the machine and on what else runs there; ratios hardly do.
"""

import os
import platform
import re
import statistics
import subprocess
import sys
import tempfile
import time
import urllib.request
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from contextlib import contextmanager
from dataclasses import replace
from multiprocessing import get_context
from pathlib import Path
from typing import Any

import numpy as np

from bench.browser import drag, sheet
from tanner.core.adjust.registry import defaults
from tanner.core.output.spec import OutputSpec
from tanner.jobs.delivery.tasks import develop_file
from tanner.jobs.workers import Workers
from tanner.studio.camera import take
from tanner.studio.demo import frames

SETTINGS = {
    **defaults(raw=True, lens=True),
    "light.exposure": 0.3,
    "light.highlights": -20.0,
    "light.shadows": 20.0,
    "light.local_contrast": 20.0,
    "colour.vibrance": 10.0,
    "detail.amount": 60.0,
}
FULL = OutputSpec(title="full", quality=92, exists="replace", name="{name}-full").model_dump()
SMALL = OutputSpec(title="small", size="long:2048", quality=92, exists="replace", name="{name}-small").model_dump()


def reference(path: str, out: str) -> float:
    """The work that R counts."""
    import rawpy
    import simplejpeg

    began = time.perf_counter()
    with rawpy.imread(path) as raw:
        rgb = raw.postprocess(demosaic_algorithm=rawpy.DemosaicAlgorithm.AHD, use_camera_wb=True, output_bps=8)
    Path(out).write_bytes(simplejpeg.encode_jpeg(np.ascontiguousarray(rgb), quality=92, colorsubsampling="420"))
    return time.perf_counter() - began


def ours(path: str, specs: list[dict[str, Any]], out: str, threads: int = 2) -> float:
    began = time.perf_counter()
    results = develop_file(path, SETTINGS, specs, out, rules=False, threads=threads)
    assert not any("error" in r for r in results), results
    return time.perf_counter() - began


def peak(path: str, out: str) -> float:
    """Peak memory in MB of a worker's process that develops one frame in both sizes."""
    ours(path, [FULL, SMALL], out, threads=1)
    # Not ru_maxrss, which a new process takes over from the one that started it.
    status = Path("/proc/self/status").read_text()
    return int(re.search(r"VmHWM:\s+(\d+)", status)[1]) / 1024  # type: ignore[index]


def interleaved(rounds: int, **work: Callable[[], float]) -> dict[str, float]:
    """Medians of several kinds of work, each done once a round, so that a busy moment hits all alike."""
    for run in work.values():
        run()
    times: dict[str, list[float]] = {name: [] for name in work}
    for _ in range(rounds):
        for name, run in work.items():
            times[name].append(run())
    return {name: statistics.median(t) for name, t in times.items()}


@contextmanager
def one_thread() -> Iterator[Callable[[str, str], float]]:
    """The reference in a process of its own that has one thread only."""
    before = os.environ.get("OMP_NUM_THREADS")
    os.environ["OMP_NUM_THREADS"] = "1"
    with ProcessPoolExecutor(1, mp_context=get_context("spawn")) as pool:
        pool.submit(os.getpid).result()
        if before is None:
            del os.environ["OMP_NUM_THREADS"]
        else:
            os.environ["OMP_NUM_THREADS"] = before
        yield lambda path, out: pool.submit(reference, path, out).result()


def batch(paths: list[str], out: str) -> dict[str, tuple[float, float]]:
    """Seconds for all paths: the reference in two processes, ours in two workers, for both sizes."""
    result = {}
    with ProcessPoolExecutor(2, mp_context=get_context("spawn")) as pool, Workers(2) as workers:
        list(pool.map(reference, paths[:2], [f"{out}/w0.jpg", f"{out}/w1.jpg"]))
        for job in [workers.submit(ours, p, [FULL, SMALL], out, 1) for p in paths[:2]]:
            job.result()
        for name, spec in (("full", FULL), ("small", SMALL)):
            theirs, mine = [], []
            for _ in range(2):
                began = time.perf_counter()
                list(pool.map(reference, paths, [f"{out}/r{i}.jpg" for i in range(len(paths))]))
                theirs.append(time.perf_counter() - began)
                began = time.perf_counter()
                for job in [workers.submit(ours, p, [spec], out, 1) for p in paths]:
                    job.result()
                mine.append(time.perf_counter() - began)
            result[name] = (statistics.median(theirs), statistics.median(mine))
    return result


def previews(path: str) -> dict[str, float]:
    """p95 in ms of render and encode, as the Bench asks for them."""
    from tanner.web.viewer.viewer import AskedView, Viewer

    with Workers(1) as workers:
        viewer = Viewer(workers)

        def run(view: AskedView, key: str, values: list[float], extra: dict[str, float]) -> float:
            times = []
            for value in values:
                began = time.perf_counter()
                viewer.show(path, {**SETTINGS, **extra, key: value}, {}, view)
                times.append((time.perf_counter() - began) * 1000)
            return float(np.percentile(times[5:], 95))

        steps = list(np.linspace(-1, 1, 45))
        draft, whole = AskedView(width=1600, height=1067, draft=True), AskedView(width=1600, height=1067)
        result = {
            "exposure": run(draft, "light.exposure", steps, {}),
            "white": run(draft, "white.temperature", list(np.linspace(4000, 7000, 45)), {}),
            "settled": run(whole, "light.exposure", steps, {}),
        }
        viewer.close()
    return result


def start(folder: Path) -> float:
    """Seconds from starting the program to its first page, warm."""
    times = []
    for port in (8491, 8492, 8493):
        began = time.perf_counter()
        command = [
            sys.executable,
            "-m",
            "tanner.cli",
            "serve",
            "--data",
            str(folder / "start"),
            "--folder",
            str(folder),
            "--port",
            str(port),
        ]
        server = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
        assert server.stdout is not None
        server.stdout.readline()
        with urllib.request.urlopen(f"http://127.0.0.1:{port}/") as page:
            page.read()
        times.append(time.perf_counter() - began)
        server.terminate()
        server.wait()
    return min(times[1:])


def main() -> None:
    print(f"{platform.machine()}, {os.cpu_count()} cores, Python {platform.python_version()}", flush=True)
    rows: list[tuple[str, str, str, str]] = []

    def row(what: str, must: str, aim: str, found: str) -> None:
        rows.append((what, must, aim, found))
        print(f"{what:72} must {must:>10}  aim {aim:>10}  measured {found}", flush=True)

    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        shot = next(s for s in frames() if s.scene.startswith("lamp"))
        big = replace(shot, scene="lamp", width=6000, height=4000)  # drawn, so that its cost stays comparable
        path, packed = str(folder / "big.dng"), str(folder / "packed.dng")
        Path(path).write_bytes(take(big, compress=False))
        Path(packed).write_bytes(take(big, compress=True))
        out = str(folder)
        wanted = {
            "uncompressed": (path, ("0.36 R", "0.28 R"), ("0.16 R", "0.12 R"), ("0.50 R", "0.38 R")),
            "lossless JPEG inside": (packed, ("0.50 R", "0.42 R"), ("0.30 R", "0.22 R"), ("0.55 R", "0.48 R")),
        }
        there: list[float] = []
        for label, (file, full, small, both) in wanted.items():
            with one_thread() as single:
                t = interleaved(
                    5,
                    r=lambda f=file: reference(f, f"{out}/r.jpg"),
                    r1=lambda f=file, run=single: run(f, f"{out}/r1.jpg"),
                    full=lambda f=file: ours(f, [FULL], out),
                    small=lambda f=file: ours(f, [SMALL], out),
                    both=lambda f=file: ours(f, [FULL, SMALL], out),
                )
            print(f"R = {t['r']:.2f} s with LibRaw's own threads, R1 = {t['r1']:.2f} s with one; 24 MP, {label}")

            there.append(1.7 / t["r"])

            def against(name: str, t: dict[str, float] = t) -> str:
                return f"{t[name] / t['r']:.2f} R, {t[name] / t['r1']:.2f} R1"

            row(f"one raw to full-size JPEG, latency ({label})", *full, against("full"))
            row(f"one raw to 2048 px JPEG, latency ({label})", *small, against("small"))
            row(f"both sizes in one pass, latency ({label})", *both, against("both"))
        for label, (file, *_) in wanted.items():
            paths = [str(folder / f"{label[0]}{n}.dng") for n in range(8)]
            for linked in paths:
                os.link(file, linked)
            for size, (theirs, mine) in batch(paths, out).items():
                must, aim = ("2.2 times", "2.8") if size == "full" else ("4 times", "6")
                row(
                    f"batch of 8, {size} size, against two processes ({label})", must, aim, f"{theirs / mine:.1f} times"
                )
        p = previews(path)
        row("a drag step at 800 px, exposure, p95", "35 ms", "20 ms", f"{p['exposure']:.0f} ms")
        row("a drag step at 800 px, white balance, p95", "35 ms", "20 ms", f"{p['white']:.0f} ms")
        # What is wanted in ms is wanted where R is 1.7 s.
        settled = p["settled"]
        row("the settled frame at 1600 px, p95", "80 ms", "35 ms", f"{settled:.0f} ms, {settled * there[0]:.0f} there")
        median, p95 = drag(folder / "drag", Path(path))
        row(
            "event to painted picture in Chromium, median / p95",
            "45 / 70 ms",
            "33 / 50 ms",
            f"{median:.0f} / {p95:.0f} ms",
        )
        started, shown = start(folder), sheet(folder / "sheet")
        row("warm start to first page", "4 s", "1.5 s", f"{started:.1f} s, {started * there[0]:.1f} there")
        row(
            "Sheet with 2,000 frames, first screenful",
            "500 ms",
            "200 ms",
            f"{shown:.0f} ms, {shown * there[0]:.0f} there",
        )
        with ProcessPoolExecutor(1, mp_context=get_context("spawn")) as pool:
            row(
                "peak memory of one worker at 24 MP",
                "450 MB",
                "350 MB",
                f"{pool.submit(peak, path, out).result():.0f} MB",
            )
    print("\n| what | must | aim | measured |\n|---|---|---|---|")
    for entry in rows:
        print("| " + " | ".join(entry) + " |")


if __name__ == "__main__":
    main()
