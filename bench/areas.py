"""What areas cost: a 24 MP export and a step of a drag with 0 to 10 of them, CPU time as a ratio to none, interleaved in one run.

An export is from the raw file to the bytes of a JPEG.

python -m bench.areas
"""

import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np

from bench.tools import demo_frame
from tanner.core.adjust.registry import defaults, develop
from tanner.core.areas.strokes import written
from tanner.core.output.develop import encode
from tanner.core.output.spec import OutputSpec
from tanner.core.raw.reader import read
from tanner.core.render import render

# Small on purpose: colours that an area drives out of the output space cost what they cost in any picture.
SEVEN = {"light.exposure": 0.03, "light.highlights": -2.0, "light.shadows": 2.0, "light.local_contrast": 1.5,
         "white.temperature": 1.0, "colour.saturation": 1.0, "colour.vibrance": 1.0}  # fmt: skip


def areas(count: int, values: dict[str, float]) -> dict[str, Any]:
    """Areas of both kinds, every other with the opposite values: together they drive no colour out of the output space."""
    found: dict[str, Any] = {}
    for n in range(count):
        start = f"areas/{n:08x}/"
        shape = (
            {"kind": "round", "at": [n / 20 - 0.2, 0.0], "radii": [0.25, 0.15]}
            if n % 2
            else {"kind": "straight", "start": [0, 0.3], "end": [n / 20, 0]}
        )
        found |= {
            start + "kind": "area",
            start + "shapes": [shape],
            **{start + k: v * (-1) ** n for k, v in values.items()},
        }
    return found


STRUCTURED = {f"areas/{n:08x}/structure.texture": 20.0 for n in (4, 5)}
"""Two of ten areas with structure."""


def painted(found: dict[str, Any], count: int) -> dict[str, Any]:
    """The same with the first few of them painted: twenty strokes each."""
    rng = np.random.default_rng(1)
    for n in range(count):
        lines = [np.cumsum(rng.normal(0, 0.02, (12, 2)), axis=0) for _ in range(20)]
        own = [{"path": written(line.tolist()), "size": 0.03} for line in lines]
        found |= {f"areas/{n:08x}/shapes": [{"kind": "brush", "strokes": own}]}
    return found


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        compare(demo_frame(Path(folder)))


def compare(path: Path) -> None:
    source = read(path)
    base = defaults(raw=True, lens=True) | {"light.exposure": 0.2, "light.shadows": 20.0, "detail.amount": 50.0}
    cases = {
        "none": {},
        "one, exposure": areas(1, {"light.exposure": 0.3}),
        "one, painted": painted(areas(1, {"light.exposure": 0.3}), 1),
        **{f"{n} x seven": areas(n, SEVEN) for n in (1, 2, 4, 8)},
        "ten mixed": painted(areas(10, {"light.exposure": 0.03}), 2) | STRUCTURED,
    }

    def export(values: dict[str, Any]) -> float:
        began = time.process_time()
        encode(read(path), develop(base | values), OutputSpec())
        return time.process_time() - began

    def step(values: dict[str, Any], n: int) -> float:
        began = time.process_time()
        render(source, develop(base | values | {"light.exposure": 0.2 + n / 100}), (800, 533), keep=True)
        return time.process_time() - began

    found: dict[str, list[tuple[float, float]]] = {name: [] for name in cases}
    for turn in range(4):
        for name, values in cases.items():
            steps = [step(values, n) for n in range(12)]
            found[name].append((export(values), float(np.percentile(steps[2:], 95))))
        if not turn:
            found = {name: [] for name in cases}
    best = {name: np.min(times, axis=0) for name, times in found.items()}
    print(f"{'':16} {'24 MP export':>14} {'step, 800 px':>14}")
    for name, times in best.items():
        ratio = times / best["none"]
        print(f"{name:16} {ratio[0]:14.3f} {ratio[1]:14.3f}   {times[0]:.2f} s {times[1] * 1000:.1f} ms")


if __name__ == "__main__":
    main()
