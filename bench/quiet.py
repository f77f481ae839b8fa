"""What the methods against noise cost on a 24 MP frame, as ratios to R (see bench.run): `python -m bench.quiet`."""

import re
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from multiprocessing import get_context
from pathlib import Path

from bench.run import interleaved, reference
from tanner.core.adjust.registry import develop
from tanner.core.noise.methods import METHODS, cleaned
from tanner.core.raw.reader import read
from tanner.core.render import render
from tanner.studio.camera import take
from tanner.studio.demo import frames


def whole(path: str, method: str) -> float:
    source = read(Path(path))
    began = time.perf_counter()
    cleaned(source, method, threads=2)
    return time.perf_counter() - began


def memory(path: str, method: str, out: str) -> float:
    """Peak memory in MB of a process that writes a quiet copy."""
    from tanner.core.noise.methods import Strength
    from tanner.core.noise.prepass import denoise_file

    denoise_file(Path(path), method, Strength(), Path(out), threads=2)
    status = Path("/proc/self/status").read_text()
    return int(re.search(r"VmHWM:\s+(\d+)", status)[1]) / 1024  # type: ignore[index]


def step(path: str) -> Callable[[], float]:
    """One step of a dragged noise control at 1600 px: noise shrunk anew, picture drawn."""
    from concurrent.futures import ThreadPoolExecutor

    source, pool, count = read(Path(path)), ThreadPoolExecutor(2), [0]

    def drawn(method: str) -> float:
        count[0] += 1
        values = {"noise.method": method, "noise.luminance": 50.0 + count[0] % 50, "light.exposure": count[0] / 100}
        began = time.perf_counter()
        render(source, develop(values), (1600, 1067), pool=pool, keep=True, draft=True)
        return time.perf_counter() - began

    def difference() -> float:
        return drawn("quick") - drawn("none")

    return difference


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        shot = next(s for s in frames() if s.iso >= 6400)
        path = f"{folder}/a.dng"
        Path(path).write_bytes(take(replace(shot, upright=False, width=6000, height=4000), compress=False))
        out = f"{folder}/r.jpg"
        times = interleaved(
            3, r=lambda: reference(path, out), **{m: (lambda m=m: whole(path, m)) for m in METHODS}, step=step(path)
        )  # fmt: skip
        print(f"R {times['r']:.2f} s")
        for method in METHODS:
            print(f"{method:8} {times[method]:6.2f} s  {times[method] / times['r']:.2f} R")
        print(f"step of a control at 1600 px: {times['step'] * 1000:.0f} ms for its noise")
        for method in METHODS:
            with ProcessPoolExecutor(1, mp_context=get_context("spawn")) as pool:
                print(f"{method:8} copy, peak {pool.submit(memory, path, method, folder).result():.0f} MB")


if __name__ == "__main__":
    main()
