"""A watermark: text or a picture from Kit, laid over the finished picture so that it can be read on light and dark."""

import io
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from tanner.core.colour.profile_store import PROFILE_STORE
from tanner.core.errors import TannerError

if TYPE_CHECKING:
    from PIL import Image

FONT = Path(__file__).parents[2] / "shipped" / "fonts" / "ibm-plex-sans-latin.ttf"
PLACES = {
    "top left": (0.0, 0.0), "top": (0.5, 0.0), "top right": (1.0, 0.0),
    "left": (0.0, 0.5), "middle": (0.5, 0.5), "right": (1.0, 0.5),
    "bottom left": (0.0, 1.0), "bottom": (0.5, 1.0), "bottom right": (1.0, 1.0),
}  # fmt: skip
Place = Literal[
    "top left", "top", "top right", "left", "middle", "right", "bottom left", "bottom", "bottom right"
]  # fmt: skip
MOST_BYTES = 20 << 20
HALO = 0.6
"""How strongly the opposite tone around a mark covers what is beneath."""


class MarkError(TannerError):
    """A watermark that cannot be drawn, with the reason."""


class Mark(BaseModel):
    """A watermark.

    Attributes:
        picture: key of a PNG in Kit; text: may hold tokens of names.
        size: its width in % of the picture's short edge; margin in % of the same; opacity in %.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    kind: Literal["none", "text", "picture"] = "none"
    text: str = Field(default="", max_length=200)
    picture: str = Field(default="", max_length=200)
    place: Place = "bottom right"
    size: float = Field(default=25, ge=1, le=100)
    margin: float = Field(default=3, ge=0, le=40)
    opacity: float = Field(default=60, ge=1, le=100)


@dataclass(frozen=True)
class DrawnMark:
    """A mark at its size: what it adds (h, w, 3), 0 to 1, and how much of what is beneath it leaves (h, w, 1)."""

    left: int
    top: int
    adds: NDArray[np.float32]
    leaves: NDArray[np.float32]

    def over(self, strip: NDArray[Any], y0: int) -> NDArray[Any]:
        """Lay it over a strip of a picture that begins at row y0; the strip is changed in place."""
        h, w = self.leaves.shape[:2]
        first, last = max(y0, self.top), min(y0 + strip.shape[0], self.top + h)
        if first >= last:
            return strip
        white = np.float32(np.iinfo(strip.dtype).max)
        part = strip[first - y0 : last - y0, self.left : self.left + w]
        rows = slice(first - self.top, last - self.top)
        part[:] = np.rint(part * self.leaves[rows] + self.adds[rows] * white).astype(strip.dtype)
        return strip


def check_picture(data: bytes, name: str) -> None:
    """Raise MarkError for what is no picture that can be a mark."""
    _opened(data, name)


def _opened(data: bytes, name: str) -> "Image.Image":
    from PIL import Image

    if not data:
        raise MarkError(f"{name} is empty (0 bytes). Add the watermark's picture to Kit again.")
    if len(data) > MOST_BYTES:
        raise MarkError(f"{name} is larger than a watermark needs to be ({MOST_BYTES >> 20} MB).")
    try:
        with Image.open(io.BytesIO(data)) as image:
            if image.format != "PNG" or image.width * image.height > 40_000_000:
                raise MarkError(f"{name} is no PNG of a usable size.")
            return image.convert("RGBA")
    except (OSError, ValueError, Image.DecompressionBombError):
        raise MarkError(f"{name} is no picture that can be read. A watermark is a PNG.") from None


def _lettering(text: str, width: int) -> "Image.Image":
    """Text in white on nothing, as wide as is asked for."""
    from PIL import Image, ImageDraw, ImageFont

    if not FONT.is_file():
        raise MarkError(f"The font {FONT.name} is missing from this installation, so no text can be drawn.")
    lacking = sorted({c for c in text if not c.isspace() and ord(c) not in characters()})
    if lacking:
        raise MarkError(f"The watermark's font has no {' '.join(lacking)}. Use a picture for these.")
    trial = ImageFont.truetype(str(FONT), 100)
    left, top, right, bottom = trial.getbbox(text)
    points = max(4.0, 100 * width / max(1, right - left))
    font = ImageFont.truetype(str(FONT), points)
    left, top, right, bottom = font.getbbox(text)
    image = Image.new("RGBA", (max(1, int(right - left)), max(1, int(bottom - top))), (255, 255, 255, 0))
    ImageDraw.Draw(image).text((-left, -top), text, font=font, fill=(255, 255, 255, 255))
    return image


_known: set[int] = set()


def characters() -> set[int]:
    """What the font has letters for."""
    if not _known:
        from fontTools.ttLib import TTFont

        with TTFont(FONT, lazy=True) as font:
            _known.update(font.getBestCmap())
    return _known


def drawn(mark: Mark, size: tuple[int, int], text: str = "") -> DrawnMark | None:
    """A mark at the size and place that it has on a picture of `size`; None when there is none.

    Args:
        text: the mark's text with its tokens filled.

    Raises:
        MarkError: its picture is missing, empty or no picture; its text cannot be drawn.
    """
    if mark.kind == "none":
        return None
    short = min(size)
    width = max(4, min(size[0], round(short * mark.size / 100)))
    if mark.kind == "text":
        if not text.strip():
            raise MarkError("The watermark has no text.")
        image = _lettering(text, width)
    else:
        data = PROFILE_STORE.picture(mark.picture)
        if data is None:
            raise MarkError(
                f"The watermark {mark.picture or 'without a name'} is not in Kit. Add it there, or choose another."
            )
        image = _opened(data, mark.picture)
        from PIL import Image

        height = max(1, round(image.height * width / image.width))
        image = image.resize((width, height), Image.Resampling.LANCZOS)
    image.thumbnail(size)
    return _placed(image, mark, size)


def _placed(image: "Image.Image", mark: Mark, size: tuple[int, int]) -> DrawnMark:
    """With its halo, so far from the edges as the margin says."""
    from PIL import Image, ImageFilter

    spread = max(1.0, 0.06 * min(image.size))
    room = min(round(3 * spread), (size[0] - image.width) // 2, (size[1] - image.height) // 2)
    room = max(0, room)
    wide = Image.new("RGBA", (image.width + 2 * room, image.height + 2 * room), (0, 0, 0, 0))
    wide.paste(image, (room, room))
    pixels = np.asarray(wide, np.float32) / 255
    own = pixels[..., 3:] * np.float32(mark.opacity / 100)
    blurred = np.asarray(wide.getchannel("A").filter(ImageFilter.GaussianBlur(spread)), np.float32)[..., None] / 255
    halo = np.clip(2.5 * blurred, 0, 1) * np.float32(HALO * mark.opacity / 100)
    weight = pixels[..., 3:]
    tone = float((pixels[..., :3] * weight).sum() / max(1e-6, 3 * weight.sum()))
    around = np.float32(0.0 if tone > 0.5 else 1.0)
    leaves = (1 - halo) * (1 - own)
    adds = around * halo * (1 - own) + pixels[..., :3] * own
    x, y = PLACES[mark.place]
    edge = round(min(size) * mark.margin / 100)
    left = _within(edge + x * (size[0] - 2 * edge - image.width) - room, size[0] - wide.width)
    top = _within(edge + y * (size[1] - 2 * edge - image.height) - room, size[1] - wide.height)
    return DrawnMark(left, top, adds.astype(np.float32), leaves.astype(np.float32))


def _within(value: float, most: int) -> int:
    return int(min(max(0, round(value)), max(0, most)))
