"""Forty developments over the demo, rendered by this code: `python -m bench.same FOLDER` keeps them, or compares with those kept.

Run it with the code before (in a worktree of its own, on PYTHONPATH), then with the code after: says for each development the
largest difference of its pixels in 65,535ths, at 800 px and at full size.
"""

import random
import sys
from pathlib import Path
from typing import Any

import numpy as np

from tanner.core.adjust.registry import defaults, develop
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.render import full_size, render

DEMO = Path("build/demo/shoot")
COUNT = 40
NUMBERS = {
    "light.exposure": (-1.5, 1.5), "light.contrast": (-40, 60), "light.highlights": (-80, 60), "light.shadows": (-40, 80),
    "light.white_point": (-40, 40), "light.black_point": (-40, 40), "light.clipped_colour": (0, 100),
    "light.local_contrast": (-50, 60), "colour.saturation": (-60, 70), "colour.vibrance": (-60, 80), "white.tint": (-20, 20),
    "white.temperature": (3200, 8000), "detail.amount": (0, 120), "detail.radius": (0.5, 2.0), "crop.straighten": (-6, 6),
    "perspective.vertical": (-8, 8), "profile.curve_strength": (0, 100), "optics.distortion": (0, 100),
}  # fmt: skip


def developments() -> list[dict[str, Any]]:
    """Sparse settings: each of the numbers in about a third of them, a curve, a crop and a method for noise in some."""
    chance = random.Random(19)
    found = []
    for n in range(COUNT):
        values: dict[str, Any] = {
            k: round(chance.uniform(*ends), 2) for k, ends in NUMBERS.items() if n and chance.random() < 0.35
        }
        if n % 5 == 1:
            values["curve.points"] = [[0, 0], [0.3, 0.22], [0.7, 0.8], [1, 1]]
        if n % 4 == 2:
            values |= {"crop.left": 0.1, "crop.right": 0.83, "crop.top": 0.05, "crop.bottom": 0.9}
        if n % 6 == 3:
            values["noise.method"] = "quick"
        found.append(values)
    return found


def pictures(source: Source, values: dict[str, Any]) -> dict[str, np.ndarray]:
    development = develop(defaults(raw=source.facts.is_raw, lens=source.lens is not None) | values)
    w, h = full_size(source, development)
    share = 800 / max(w, h)
    small = max(8, round(w * share)), max(8, round(h * share))
    return {
        "small": render(source, development, small, bits=16),
        "kept": render(source, development, small, bits=8, keep=True),
        "full": render(source, development, (w, h), bits=16, fine=True),
        "wide": render(source, development, small, bits=16, space="prophoto"),
    }


def main() -> int:
    folder = Path(sys.argv[1])
    folder.mkdir(parents=True, exist_ok=True)
    files = sorted(DEMO.glob("*.DNG"))
    worst = 0
    for n, values in enumerate(developments()):
        path = files[(n * 7) % len(files)]
        for name, pixels in pictures(read(path), values).items():
            kept = folder / f"{n:02d}-{name}.npy"
            if not kept.exists():
                np.save(kept, pixels)
                continue
            before = np.load(kept).astype(np.int64)
            step = 257 if pixels.dtype == np.uint8 else 1
            off = np.abs(before - pixels) * step
            worst = max(worst, int(off.max()))
            if off.max():
                print(
                    f"{n:02d} {name:6} {path.name} differs by {off.max()} in {np.count_nonzero(off.max(-1)):,} px",
                    values,
                )
    print(f"largest difference: {worst} of 65,535")
    return 0


if __name__ == "__main__":
    sys.exit(main())
