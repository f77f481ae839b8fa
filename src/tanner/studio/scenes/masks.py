"""Masks of what stands before the backdrop, with soft edges, as truth beside the scenes: `python -m tanner.studio.scenes.masks lamp-1`.

Only where rays meet something is traced, no light: a minute or two a scene. Needs what `make scenes` needs.
"""

import time
from pathlib import Path
from typing import Annotated

import imagecodecs
import numpy as np
import typer

from tanner.core.output.files import write_whole
from tanner.studio.bands import PICTURES
from tanner.studio.scenes.render import HEIGHT, WIDTH
from tanner.studio.scenes.shots import SHOTS
from tanner.studio.scenes.stage import Stage

SCALE = 0.5
"""Of the scenes' own size."""


def mask(name: str, samples: int) -> "np.typing.NDArray[np.uint8]":
    """How much of each px is before the backdrop, (h, w), 255 for all."""
    import drjit as dr
    import mitsuba as mi

    build, turn, upright = SHOTS[name]
    w, h = round(WIDTH * SCALE / 2) * 2, round(HEIGHT * SCALE / 2) * 2
    stage = Stage(h, w) if upright else Stage(w, h)
    build(stage, turn)
    scene, sensor = stage.scene(optimize=False), stage.sensor(False)  # shapes stay apart
    what = mi.load_dict({"type": "aov", "aovs": "s:shape_index"})
    # What a ray meets is told by its number in the renderer's registry.
    number = {s.id(): int(dr.reinterpret_array(mi.UInt32, mi.ShapePtr(s))[0]) for s in scene.shapes()}
    subject = np.ones(max(number.values()) + 2, bool)
    subject[[0, *(n for i, n in number.items() if i in stage.behind or i.startswith("light"))]] = False
    hit = np.zeros((stage.size[1], stage.size[0]), np.float32)
    for n in range(samples):
        index = np.rint(np.array(mi.render(scene, sensor=sensor, integrator=what, spp=1, seed=n))[..., 0]).astype(int)
        hit += subject[np.clip(index, 0, len(subject) - 1)]
    return np.rint(hit / samples * 255).astype(np.uint8)


def main(names: Annotated[list[str], typer.Argument()], samples: int = 32, into: Path = PICTURES) -> None:
    """Render the masks of scenes."""
    import mitsuba as mi

    mi.set_variant("llvm_ad_spectral")
    mi.set_log_level(mi.LogLevel.Error)
    for name in names:
        start = time.time()
        found = mask(name, samples)
        write_whole(into / f"{name}.mask.png", bytes(imagecodecs.png_encode(found, level=9)), replace=True)
        print(f"{name}: {time.time() - start:.0f} s, {found.mean() / 2.55:.1f} %", flush=True)


if __name__ == "__main__":
    typer.run(main)
