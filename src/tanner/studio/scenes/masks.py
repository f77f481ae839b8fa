"""Masks as truth beside the scenes, at their full size: `python -m tanner.studio.scenes.masks lamp-1`.

What stands before the backdrop, each thing of it, and how dark its cast shadow is: the shadow is no part of the
subject. Only where rays meet something is traced, and direct light for the shadow: minutes a scene. Portraits have
theirs from their own passes. Needs what `make scenes` needs.
"""

import json
import time
from pathlib import Path
from typing import Annotated, Any

import cv2
import numpy as np
import typer
from numpy.typing import NDArray

from tanner.core.output.files import write_whole
from tanner.studio.bands import PICTURES
from tanner.studio.scenes.render import HEIGHT, WIDTH, begin, far_away, staged
from tanner.studio.scenes.shots import SHOTS
from tanner.studio.truth import add_depth, zipped

U8 = NDArray[np.uint8]
F32 = NDArray[np.float32]
IN_SUBJECT = 8
"""What is so much of the subject, of 255, has no shadow of it."""
SHADOW_SCALE = 0.25
"""Of the scene's size: shadows of soft light are smooth."""


def things(name: str, samples: int) -> dict[str, U8]:
    """How much of each px is before the backdrop ("subject"), and of each thing, (h, w), 255 for all."""
    import drjit as dr
    import mitsuba as mi

    stage = staged(name, 1.0)
    scene, sensor = stage.scene(optimize=False), stage.sensor(False)  # shapes stay apart
    what = mi.load_dict({"type": "aov", "aovs": "s:shape_index"})
    # What a ray meets is told by its number in the renderer's registry.
    number = {s.id(): int(dr.reinterpret_array(mi.UInt32, mi.ShapePtr(s))[0]) for s in scene.shapes()}
    front = {i: n for i, n in number.items() if i not in stage.behind and not i.startswith("light")}
    names = sorted({stage.things.get(i, "") for i in front} - {""})
    kind = np.full(max(number.values()) + 2, -1)
    for i, n in front.items():
        kind[n] = names.index(stage.things[i]) if stage.things.get(i) else len(names)
    hit = np.zeros((len(names) + 1, stage.size[1], stage.size[0]), np.float32)
    for n in range(samples):
        index = np.rint(np.array(mi.render(scene, sensor=sensor, integrator=what, spp=1, seed=n))[..., 0]).astype(int)
        seen = kind[np.clip(index, 0, len(kind) - 1)]
        for k in range(len(hit)):
            hit[k] += seen == k
    masks = np.rint(hit / samples * 255).astype(np.uint8)
    whole = np.rint(hit.sum(axis=0) / samples * 255).astype(np.uint8)
    return {"subject": whole, **dict(zip(names, masks, strict=False))}  # the last mask is of parts without a name


def depth(name: str) -> F32:
    """How far away in cm what the middle of each px shows is, (h, w); at edges that of one side, never between."""
    stage = staged(name, 1.0)
    return far_away(stage.scene(), stage.sensor(False), stage.size)


def shadow(name: str, samples: int) -> U8:
    """How much of the backdrop's direct light the subject takes, (h, w), 255 for all; 0 where the subject stands."""
    import mitsuba as mi
    from mitsuba_oidn import denoise

    stage = staged(name, SHADOW_SCALE)
    sensor, direct = stage.sensor(False), mi.load_dict({"type": "direct", "emitter_samples": 2, "bsdf_samples": 1})
    whole = dict(stage.parts)
    seen: list[Any] = []
    for parts in (whole, {k: v for k, v in whole.items() if k in stage.behind or not k.startswith("part")}):
        stage.parts = parts
        picture = np.array(mi.render(stage.scene(), sensor=sensor, integrator=direct, spp=samples, seed=1))[..., :3]
        seen.append(denoise(np.ascontiguousarray(picture), hdr=True).mean(axis=-1))
    taken = np.clip(1 - seen[0] / np.maximum(seen[1], 1e-4), 0, 1)
    return np.rint(cv2.resize(taken, _staged_size(name), interpolation=cv2.INTER_LINEAR) * 255).astype(np.uint8)


def _staged_size(name: str) -> tuple[int, int]:
    return (HEIGHT, WIDTH) if SHOTS[name][2] else (WIDTH, HEIGHT)


def at_picture(masks: dict[str, U8], name: str) -> dict[str, U8]:
    """Masks at the size of the picture that ships, where that was rendered smaller: means over the px they were."""
    w, h = json.loads((PICTURES / f"{name}.json").read_text())["size"]
    if all(mask.shape == (h, w) for mask in masks.values()):
        return masks
    small = {k: np.asarray(cv2.resize(m, (w, h), interpolation=cv2.INTER_AREA), np.uint8) for k, m in masks.items()}
    if "shadow" in small:
        small["shadow"][small["subject"] > IN_SUBJECT] = 0
    return small


def main(
    names: Annotated[list[str] | None, typer.Argument()] = None,
    samples: int = 16,
    into: Path = PICTURES,
    depth_only: bool = False,
) -> None:
    """Render the masks of scenes by name, or of all that have none yet."""
    begin("llvm_ad_spectral", into)
    for name in names or [n for n in SHOTS if not (into / f"{n}.masks.zip").exists()]:
        if name not in SHOTS:
            continue
        start = time.time()
        far = depth(name)
        w, h = json.loads((PICTURES / f"{name}.json").read_text())["size"]
        far = np.asarray(cv2.resize(far, (w, h), interpolation=cv2.INTER_NEAREST), np.float32)
        if depth_only:
            add_depth(into / f"{name}.masks.zip", far)
            print(f"{name}: {time.time() - start:.0f} s, depth", flush=True)
            continue
        found = things(name, samples)
        cast = shadow(name, 64)
        cast[found["subject"] > IN_SUBJECT] = 0
        masks = at_picture({**found, "shadow": cast}, name)
        write_whole(into / f"{name}.masks.zip", zipped(masks, far), replace=True)
        print(f"{name}: {time.time() - start:.0f} s, {', '.join(found)}", flush=True)


if __name__ == "__main__":
    typer.run(main)
