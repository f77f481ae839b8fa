"""What worker processes do: plain functions of plain values, one per kind of work."""

import io
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.registry import defaults, develop
from tanner.core.colour.spaces import SPACES
from tanner.core.colour.temperature import xy_to_temperature
from tanner.core.noise.model import measured
from tanner.core.output.sizing import output_size, parse_size
from tanner.core.profile.chart import published24
from tanner.core.profile.detect import shows_chart
from tanner.core.raw.damage import damage_of, tells_damage
from tanner.core.raw.facts import FrameFacts
from tanner.core.raw.reader import FINISHED, RAW, known, read
from tanner.core.raw.source import Source
from tanner.core.render import as_shot_white, full_size, render
from tanner.core.series.conditional import About
from tanner.core.small import read_small

PREVIEW = 512
"""Long edge of the pictures on the Sheet."""


def starting(facts: FrameFacts, *, lens: bool) -> dict[str, Any]:
    """Layer 1 of a frame's settings: defaults by rule."""
    return defaults(raw=facts.is_raw, lens=lens, applied=facts.applied)


def about(source: Source) -> About:
    """What values of a preset may depend on."""
    w, h = full_size(source, develop({}))
    facts = source.facts
    kelvin = xy_to_temperature(as_shot_white(source))[0]
    return About(facts.iso, kelvin, facts.camera_name, facts.lens, h > w)


def read_source(path: str) -> Source:
    return read(Path(path))


def read_facts(path: str) -> dict[str, Any]:
    """Facts of a file with what the catalogue wants to know besides."""
    source = read(Path(path), pixels=False)
    kelvin, tint = xy_to_temperature(as_shot_white(source))
    return {
        **known(source),
        "as_shot": [round(kelvin, 1), round(tint, 2)],
        "starting": starting(source.facts, lens=source.lens is not None),
    }


def embedded_preview(path: str) -> bytes | None:
    """The JPEG that the camera put into a raw file, made small; None when there is none."""
    if Path(path).suffix.lower() not in RAW:
        return None
    try:
        return _small(_embedded(path))
    except Exception:  # no preview, or one that cannot be read: the rendered one follows
        return None


LARGEST = 400 << 20
"""Bytes of a finished file that is read to show it before it is brought in."""
QUICK = 1000
"""Long edge in px from which a camera's own picture serves for a frame shown large."""


def quick_preview(path: str) -> bytes | None:
    """The JPEG that the camera put into a raw file, as it is; None where there is none, or it is small."""
    return file_preview(path, large=True, least=QUICK) if Path(path).suffix.lower() in RAW else None


def file_preview(path: str, large: bool, least: int = 0) -> bytes | None:
    """The picture that is in a file, upright, as JPEG: small, or as large as it is there; None without one."""
    from PIL import Image, ImageOps

    kind = Path(path).suffix.lower()
    if kind not in RAW | FINISHED:
        return None
    try:
        if kind in FINISHED and Path(path).stat().st_size > LARGEST:
            return None
        data = _embedded(path) if kind in RAW else Path(path).read_bytes()
        if not large:
            return _small(data)
        with Image.open(io.BytesIO(data)) as image:
            if max(image.size) < least:
                return None
            if image.format == "JPEG" and image.getexif().get(0x0112, 1) == 1:
                return data
            out = io.BytesIO()
            ImageOps.exif_transpose(image).convert("RGB").save(out, "JPEG", quality=85)
            return out.getvalue()
    except Exception:  # no picture, or one that cannot be read: told by its absence
        return None


def _embedded(path: str) -> bytes:
    import rawpy

    with rawpy.imread(path) as raw:
        thumb = raw.extract_thumb()
    if thumb.format != rawpy.ThumbFormat.JPEG:
        raise ValueError("no JPEG")
    data: bytes = thumb.data
    return data


def _small(data: bytes) -> bytes:
    from PIL import Image, ImageOps

    with Image.open(io.BytesIO(data)) as image:
        image.draft("RGB", (PREVIEW, PREVIEW))  # a large JPEG is decoded at a fraction of its size
        small = ImageOps.exif_transpose(image).convert("RGB")
        small.thumbnail((PREVIEW, PREVIEW))
        out = io.BytesIO()
        small.save(out, "JPEG", quality=82)
        return out.getvalue()


HINTS = 2
"""Raised when hints are measured otherwise: old ones are measured again."""


def hints_of(path: str) -> dict[str, Any]:
    """What helps to choose among frames like this one; see `core.choosing.hints`."""
    from tanner.core.choosing.hints import focused, measured
    from tanner.core.render.guide import look_of

    source = read(Path(path))
    return {**measured(look_of(source), focused(source.facts)).as_dict(), "by": HINTS}


def descriptor(picture: NDArray[np.uint8]) -> list[float]:
    """Likeness of pictures: an 8 x 8 Lab thumbnail as 192 numbers, lightness counted half."""
    small = cv2.resize(picture, (8, 8), interpolation=cv2.INTER_AREA).astype(np.float32) / 255
    lab = cv2.cvtColor(small, cv2.COLOR_RGB2Lab)
    lab[..., 0] *= 0.5
    return [round(float(v), 2) for v in lab.ravel()]


def picture(source: Source, settings: dict[str, Any], edge: int) -> NDArray[np.uint8]:
    """A small developed picture."""
    development = develop(settings)
    size = output_size(parse_size(f"long:{edge}"), *full_size(source, development))
    # Small pictures are drafts: they do not wait for methods that take seconds.
    result: NDArray[np.uint8] = render(source, development, size, draft=True)
    return result


def jpeg(pixels: NDArray[np.uint8], quality: int = 82) -> bytes:
    import simplejpeg

    data: bytes = simplejpeg.encode_jpeg(pixels, quality=quality, colorsubsampling="420", fastdct=True)
    return data


def _damage(source: Source) -> str:
    """What the file's format says against its pixels; a finished picture's was told when it was decoded."""
    if source.facts.kind != "finished":
        return damage_of(Path(source.facts.path))
    return next((w for w in source.facts.warnings if tells_damage(w)), "")


def preview(path: str, settings: dict[str, Any], first: bool = True) -> dict[str, Any]:
    """A rendered preview with what is measured on it; `first`: the frame's noise too, which takes a while."""
    source = read_small(Path(path))
    pixels = picture(source, settings, PREVIEW)
    noise, chart = None, False
    if first:
        small = SPACES["srgb"].decode(pixels / 255).astype(np.float32)
        chart = shows_chart(small, published24())
    if (
        first
        and source.facts.kind == "bayer"
        and not source.facts.noise_profile
        and "noise" not in source.facts.applied
    ):
        # What the file does not say of its noise is learned from the user's own frames.
        found = measured(source)
        noise = [v.tolist() for v in found] if found else None
    return {
        "jpeg": jpeg(pixels),
        "descriptor": descriptor(pixels),
        "size": pixels.shape[1::-1],
        "noise": noise,
        "chart": chart,
        "damage": _damage(source) if first else "",
    }


def ready() -> bool:
    """Loads what a worker process needs, so that its first real item does not wait for it."""
    import rawpy  # noqa: F401

    return True
