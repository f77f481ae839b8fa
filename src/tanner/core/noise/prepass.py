"""Noise taken out of a raw file before anything else, into a raw file of its own."""

from collections.abc import Callable
from pathlib import Path
from typing import Any

from tanner.core.errors import TannerError
from tanner.core.noise.methods import BLACK, Strength, cleaned
from tanner.core.noise.model import noise_model
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

    Returns:
        target, and the noise model: where it is from, and the deviation at a middle grey before.

    Raises:
        NoiseError: no raw mosaic, or denoised already.
    """
    source = read(path)
    if "noise" in source.facts.applied:
        raise NoiseError(f"{path.name} says that its noise is taken out already. Take its original.")
    if source.facts.kind != "bayer":
        kind = "is a finished picture" if source.facts.kind == "finished" else "holds no Bayer mosaic"
        raise NoiseError(f"{path.name} {kind}; noise is taken out of raw mosaics only.")
    target = target_of(path, folder, suffix, method)
    model = noise_model(source)
    quiet = cleaned(source, method, strength, say, threads)
    data = raw_copy(quiet.data, source.facts, black=BLACK, quiet=True, original=path)
    write_whole(target, data, replace=False)
    return {
        "path": str(path),
        "target": str(target),
        "method": method,
        "model": model.source,
        "sigma_at_18_percent": round(model.sigma(0.18), 6),
        "width": source.size[0],
        "height": source.size[1],
    }
