"""Compiles every kernel once, at set-up, so that no user waits for it: `python -m tanner.core.warm`."""

import importlib
import sys
import time
from pathlib import Path

import numpy as np

from tanner.core.adjust.registry import defaults, develop
from tanner.core.areas.strokes import written
from tanner.core.measure import histogram, mark_clipping
from tanner.core.raw.facts import FrameFacts
from tanner.core.raw.source import Source
from tanner.core.render import render
from tanner.core.render.masking import mask_of


def synthetic(width: int = 512, height: int = 384) -> Source:
    """A small made-up Bayer source that has everything: matrices, a lens, noise."""
    facts = FrameFacts(
        path="warm",
        kind="bayer",
        width=width,
        height=height,
        black=(512, 512, 512, 512),
        white=16383,
        pattern=(0, 0),
        neutral=(0.5, 1.0, 0.6),
        colour_matrices=((0.9, -0.3, -0.1, -0.4, 1.2, 0.2, -0.05, 0.2, 0.6),),
        illuminants=(21,),
        warp=((1.0, -0.02, 0, 0, 0, 0), (1.0, -0.021, 0, 0, 0, 0), (1.0, -0.022, 0, 0, 0, 0)),
        vignette=(0.2, 0.1, 0.0, 0.0, 0.0),
    )
    yy, xx = np.mgrid[0:height, 0:width]
    data = 4000 + 2000 * np.sin(xx / 9) * np.cos(yy / 7)
    return Source(facts, data.astype(np.uint16))


def forget_stale(folder: Path) -> int:
    """Delete what was compiled before any file with kernels changed; says how many files.

    The compiler's cache looks at a kernel's own file only, but what it calls from others is compiled into it.
    """
    marks = ("@kernel", "@intrinsic", "llvmlite import")
    changed = [p.stat().st_mtime for p in folder.rglob("*.py") if any(mark in p.read_text() for mark in marks)]
    stale = [p for p in folder.rglob("__pycache__/*.nb[ci]") if p.stat().st_mtime < max(changed, default=0.0)]
    for path in stale:
        path.unlink(missing_ok=True)
    return len(stale)


def main() -> int:
    started = time.perf_counter()
    forget_stale(Path(__file__).parent)
    print("Compiling the kernels, once …", flush=True)
    source = synthetic()
    full = defaults(raw=True, lens=True) | {
        "light.shadows": 10.0,
        "colour.saturation": 10.0,
        "detail.amount": 50.0,
        "noise.method": "quick",
        "noise.luminance": 80.0,
        "noise.hot_pixels": True,
        "noise.moire": 50.0,
        "finish.grain": 20.0,
    }
    for size in ((512, 384), (360, 270), (240, 180), (100, 75)):
        for bits in (8, 16):
            render(source, develop(full), size, bits=bits)
    shape = {"kind": "round", "at": [0, 0], "radii": [0.2, 0.2]}
    area = {"areas/00000000/kind": "area", "areas/00000000/shapes": [shape], "areas/00000000/light.exposure": 0.5}
    render(source, develop(full | area), (100, 75))
    # Masks on a grid, and spots: their kernels are asked for by a hand that waits.
    brush = {"kind": "brush", "strokes": [{"path": written([(0, 0), (0.1, 0.1)]), "size": 0.05}]}
    corners = {"kind": "outline", "points": [{"at": [0, 0]}, {"at": [0.2, 0]}, {"at": [0, 0.2]}], "combine": "subtract"}
    grid = area | {"areas/00000000/shapes": [shape, brush, corners], "areas/00000000/detail.amount": 50.0}
    grid |= {"areas/00000000/light.contrast": 10.0, "areas/00000000/blur": 20.0}
    spot = {"spots/00000000/kind": "spot", "spots/00000000/path": [[0.1, 0.1]], "spots/00000000/size": 0.02}
    render(source, develop(full | grid | spot), (100, 75))
    mask_of(source, develop(grid), "00000000", (100, 75))
    pair = {"exact/00000000/kind": "pair", "exact/00000000/target": [55.0, 0.0, 0.0]}
    render(source, develop(full | pair), (100, 75))
    render(source, develop(full | spot | {"spots/00000000/way": "fill"}), (100, 75))
    for method in ("fine", "learned"):
        render(source, develop(full | {"noise.method": method}), (512, 384))
    render(source, develop(full), (100, 75), draft=True)
    rgb = Source(source.facts.model_copy(update={"kind": "camera"}), np.full((3, 384, 512), 0.2, np.float32))
    pixels = render(rgb, develop(full), (300, 200), keep=True)
    render(rgb, develop(full | {"noise.method": "fine"}), (300, 200))
    histogram(pixels)
    mark_clipping(pixels)
    importlib.import_module("tanner.core.areas.matting")  # compiles its two as it is imported
    print(f"Done in {time.perf_counter() - started:.0f} s.")
    return 0


if __name__ == "__main__":
    sys.exit(main())
