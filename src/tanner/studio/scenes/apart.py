"""A scene with each of its lights alone: `python -m tanner.studio.scenes.apart --samples 8`.

Light adds up, so the pictures of single lights are weighed and added to any mixture. All have one scale: their sum
is as bright as the scene with all lights. Needs what `make scenes` needs.
"""

import json
import time
from pathlib import Path
from typing import Annotated

import numpy as np
import typer

from tanner.core.output.files import write_whole
from tanner.studio.bands import PICTURES, bands
from tanner.studio.pictures import LIGHTS, write
from tanner.studio.scenes.render import accumulate, begin, denoised, staged

LIT_APART = "lamp-1"


def main(
    names: Annotated[list[str] | None, typer.Argument()] = None,
    samples: int = 8,
    scale: float = 1.0,
    into: Path = PICTURES,
) -> None:
    """Render the lights of the lamp, in the order in which they were set up, unless they are there."""
    name = LIT_APART
    if name not in (names or [name]) or (names is None and (into / f"{name}-lights.json").exists()):
        return
    begin("llvm_ad_spectral", into)
    stage = staged(name, scale)
    whole = dict(stage.parts)
    lights = [part for part in whole if part.startswith("light") or part == "surround"]
    found = {}
    for title, light in zip(LIGHTS, lights, strict=True):
        start = time.time()
        stage.parts = {k: v for k, v in whole.items() if k == light or k not in lights}
        raw, albedo, normal, _ = accumulate(stage, samples, f"{name}, {title}")
        raw /= bands().sum(axis=1).astype(np.float32)
        found[title] = denoised(raw, albedo, normal)
        print(f"{title}: {time.time() - start:.0f} s", flush=True)
    together = np.sum(list(found.values()), axis=0)
    level = float(np.percentile(together.mean(axis=-1), stage.truth.get("white_percentile", 99.0)))
    factor = np.float32(stage.truth.get("white_target", 0.75) / level)
    for title, planes in found.items():
        write(into, f"{name}-{title}", planes * factor)
    write_whole(
        into / f"{name}-lights.json", json.dumps({"lights": list(found), "samples": samples}).encode(), replace=True
    )


if __name__ == "__main__":
    typer.run(main)
