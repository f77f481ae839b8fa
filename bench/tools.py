"""What the tools of tone and colour cost, as ratios in one run: `python -m bench.tools`.

An export of a 24 MP frame (read, rendered and encoded to a JPEG, by two threads) and a step of a drag at 800 px, with tools on, to the
same without them; all in turns, so that a busy machine hits them alike.
"""

import tempfile
import time
from collections.abc import Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from bench.run import SETTINGS as USUAL
from tanner.core.adjust.registry import develop
from tanner.core.output.develop import encode
from tanner.core.output.spec import OutputSpec
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.render import render
from tanner.studio.camera import take
from tanner.studio.demo import frames

CHANNELS: dict[str, Any] = {"levels.red_middle": 48.0, "curve.red": ((0.0, 0.0), (0.4, 0.45), (1.0, 1.0))}
LIGHTNESS = {"curve.lightness": ((0.0, 0.0), (0.5, 0.55), (1.0, 1.0))}
RANGES = {"ranges.orange_saturation": 20.0, "ranges.blue_lightness": -15.0}
BALANCE = {"balance.shadows_hue": 220.0, "balance.shadows_strength": 15.0}
VIGNETTE, GRAIN = {"finish.vignette": -30.0}, {"finish.grain": 25.0}
STRUCTURE = {"structure.texture": 20.0, "structure.middle": 20.0, "structure.haze": 15.0}
WANTED = CHANNELS | LIGHTNESS | RANGES | BALANCE | VIGNETTE | GRAIN
TOOLS: Mapping[str, Mapping[str, Any]] = {
    "none": {},
    "levels and a curve of single channels": CHANNELS,
    "the lightness curve": LIGHTNESS,
    "hue ranges": RANGES,
    "hue ranges and balance": RANGES | BALANCE,
    "vignette": VIGNETTE,
    "grain": GRAIN,
    "all of these": WANTED,
    "and texture, structure, haze": WANTED | STRUCTURE,
}
ROUNDS = 7


def demo_frame(folder: Path) -> Path:
    """An uncompressed raw file of 24 MP, from a frame of the demo."""
    path = folder / "a.dng"
    path.write_bytes(take(replace(next(iter(frames())), upright=False, width=6000, height=4000), compress=False))
    return path


def export(path: Path, tools: Mapping[str, Any], pool: ThreadPoolExecutor) -> float:
    development = develop({**USUAL, **tools})
    began = time.perf_counter()
    encode(read(path), development, OutputSpec(), pool=pool)
    return time.perf_counter() - began


def step(source: Source, tools: Mapping[str, Any], pool: ThreadPoolExecutor, n: int) -> float:
    development = develop({**USUAL, **tools, "light.exposure": n / 50})
    began = time.perf_counter()
    render(source, development, (800, 533), pool=pool, keep=True, draft=True)
    return time.perf_counter() - began


def main() -> None:
    with tempfile.TemporaryDirectory() as folder, ThreadPoolExecutor(2) as pool:
        path = demo_frame(Path(folder))
        source = read(path)
        whole: dict[str, list[float]] = {name: [] for name in TOOLS}
        steps: dict[str, list[float]] = {name: [] for name in TOOLS}
        for n in range(ROUNDS + 1):
            for name, tools in TOOLS.items():
                taken = export(path, tools, pool)
                moved = [step(source, tools, pool, 10 * n + k) for k in range(8)]
                if n:
                    whole[name].append(taken)
                    steps[name] += moved[2:]
        print(f"{'on':40} export        step: median, p95")
        for name in TOOLS:
            ratio = np.median([a / b for a, b in zip(whole[name], whole["none"], strict=True)])
            ms = np.array(steps[name]) * 1000
            base = np.median(steps["none"]) * 1000
            print(
                f"{name:40} {ratio:.2f} ({np.median(whole[name]) * 1000:.0f} ms)"
                f"  {np.median(ms) / base:.2f} ({np.median(ms):.1f} ms), {np.percentile(ms, 95):.1f} ms"
            )


if __name__ == "__main__":
    main()
