"""Noise taken out of a raw file before anything else, into a raw file of its own."""

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.errors import NameTaken, TannerError
from tanner.core.noise.methods import BLACK, Strength, cleaned
from tanner.core.noise.model import noise_model
from tanner.core.noise.planes import cleaned_planes
from tanner.core.output.files import free_name, write_whole
from tanner.core.raw.copies import raw_copy
from tanner.core.raw.reader import read


class NoiseError(TannerError):
    """A file whose noise cannot be taken out, with the reason."""


def target_of(path: Path, folder: Path | None, suffix: str, method: str) -> Path:
    """Where the quiet copy goes: beside its original, or in a folder; never over a file that is there."""
    try:
        stem = suffix.format(name=path.stem, method=method)
    except (KeyError, IndexError, ValueError):
        raise NoiseError(f"The name {suffix} cannot be used. Write {{name}} and {{method}} for what changes.") from None
    if not stem or "/" in stem or "\0" in stem or stem == path.stem:
        raise NoiseError(f"The name {suffix} gives no name of its own. Write for example {{name}}-quiet.")
    return free_name((folder or path.parent) / f"{stem}.dng")


def denoise_file(
    path: Path,
    method: str,
    strength: Strength,
    folder: Path | None = None,
    suffix: str = "{name}-quiet",
    say: Callable[[float], None] | None = None,
    threads: int = 1,
) -> dict[str, Any]:
    """Write the quiet copy of a raw file, marked so that nothing is done twice.

    Quick and fine write a mosaic of a Bayer file; linear colour is written by the learned method, and for other sensors.

    Returns:
        target, and the noise model: where it is from, and the deviation at a middle grey before.

    Raises:
        NoiseError: no raw file, one that is quiet already, or a sensor that the method does not know.
    """
    source = read(path)
    if "noise" in source.facts.applied:
        raise NoiseError(f"{path.name} says that its noise is taken out already. Take its original.")
    if source.facts.kind == "finished":
        raise NoiseError(f"{path.name} is a finished picture; quiet copies are made of raw files.")
    if method == "learned" and source.facts.kind != "bayer":
        raise NoiseError(f"{path.name} holds no Bayer mosaic, which the learned method needs. Take quick or fine.")
    target = target_of(path, folder, suffix, method)
    if source.facts.kind == "bayer":
        model = noise_model(source)
        model_used: dict[str, Any] = {"model": model.source, "sigma_at_18_percent": round(model.sigma(0.18), 6)}
        quiet = cleaned(source, method, strength, say, threads)
    else:
        model_used = {"model": "frame", "sigma_at_18_percent": None}
        quiet = cleaned_planes(source, method, strength, say, threads)
    pixels = quiet.data if quiet.data.ndim == 2 else _numbers(quiet.data)
    # Planes are twice as large as their numbers, and no longer asked for.
    del quiet
    data = raw_copy(pixels, source.facts, black=BLACK, quiet=True)
    while True:
        try:
            write_whole(target, data, replace=False)
            break
        except NameTaken:
            # Another copy of the same name was made meanwhile.
            target = target_of(path, folder, suffix, method)
    return {
        "path": str(path),
        "target": str(target),
        "method": method,
        **model_used,
        "width": source.size[0],
        "height": source.size[1],
    }


def _numbers(planes: NDArray[np.float32]) -> NDArray[np.uint16]:
    """Linear colour (3, H, W) as 16-bit numbers (H, W, 3), 0 at BLACK."""
    numbers = np.empty((*planes.shape[1:], 3), np.uint16)
    for top in range(0, len(numbers), 256):
        rows = planes[:, top : top + 256] * np.float32(65535 - BLACK) + np.float32(BLACK)
        numbers[top : top + 256] = np.moveaxis(np.clip(np.rint(rows), 0, 65535), 0, -1)
    return numbers
