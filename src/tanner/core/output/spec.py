"""Output specs: one kind of finished file, complete and readable."""

from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator

from tanner.core.colour.printing import Intent
from tanner.core.errors import FormatError
from tanner.core.noise.sharpen import Destination
from tanner.core.output.mark import Mark
from tanner.core.output.naming import check_template
from tanner.core.output.sizing import Layout, layout, parse_size

Format = Literal["jpeg", "tiff8", "tiff16", "png", "png16", "webp", "avif", "jxl", "dng"]
SUFFIX: dict[str, str] = {
    "jpeg": ".jpg", "tiff8": ".tif", "tiff16": ".tif", "png": ".png", "png16": ".png", "webp": ".webp", "avif": ".avif",
    "jxl": ".jxl", "dng": ".dng",
}  # fmt: skip
LOSSY = ("jpeg", "webp", "avif", "jxl")
"""Formats with a quality, and with a most of kB."""
COLOUR = r"^#[0-9a-f]{6}$"


class OutputSpec(BaseModel):
    """What is written for each frame.

    Attributes:
        size: a size rule, see `sizing`.
        enlarge: whether a size rule may enlarge, and how; `percent` beyond 100 always does.
        border: plain ground around the picture in % of the file's short edge; ground: its colour, and that of `pad`.
        format: `dng` is linear camera colour in 16 bits, before all colour and tone.
        quality: of lossy formats, 1 to 100.
        most_kb: of lossy formats: files of at most so many kB (of 1,000 bytes), at the best quality that this allows up
            to `quality`; 0 for no limit.
        chroma: colour samples of JPEG and AVIF; auto goes by quality.
        compression: of TIFF.
        space: output colour space; its ICC profile is embedded.
        icc: key of a user's ICC profile from Kit; it then stands in for `space`, with its intent and black point
            compensation.
        sharpen, sharpen_strength: for which medium the picture is sharpened last, and how strongly in % of what is usual.
        ppi: a label; besides, lengths on paper and output sharpening go by it.
        metadata: all; author, rights and contact only; or none. place, keywords: whether these are written with all.
        mark: a watermark.
        name: template of the file name, without its ending.
        subfolder: template of a folder below the target, or empty.
        exists: what happens when the name is taken: a new number, leave it out, or replace.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    title: str = Field(default="Output", min_length=1, max_length=60)
    size: str = "original"
    enlarge: Literal["never", "lanczos", "edges"] = "never"
    border: float = Field(default=0, ge=0, le=30)
    ground: str = Field(default="#ffffff", pattern=COLOUR)
    format: Format = "jpeg"
    quality: int = Field(default=92, ge=1, le=100)
    most_kb: float = Field(default=0, ge=0, le=1_000_000)
    chroma: Literal["auto", "444", "422", "420"] = "auto"
    compression: Literal["none", "deflate", "lzw"] = "none"
    space: Literal["srgb", "p3", "widegamut1998", "prophoto"] = "srgb"
    icc: str = Field(default="", max_length=200)
    intent: Intent = "relative"
    black_point: bool = True
    sharpen: Destination = "none"
    sharpen_strength: float = Field(default=100, ge=0, le=200)
    ppi: int = Field(default=300, ge=1, le=10000)
    metadata: Literal["all", "contact", "none"] = "all"
    place: bool = True
    keywords: bool = True
    mark: Mark = Mark()
    name: str = Field(default="{name}", min_length=1, max_length=200)
    subfolder: str = Field(default="", max_length=200)
    exists: Literal["number", "skip", "replace"] = "number"

    @field_validator("size")
    @classmethod
    def _size_is_a_rule(cls, value: str) -> str:
        return str(parse_size(value))

    @field_validator("name", "subfolder")
    @classmethod
    def _template_is_known(cls, value: str) -> str:
        check_template(value)
        return value

    @field_validator("mark")
    @classmethod
    def _mark_is_known(cls, value: Mark) -> Mark:
        check_template(value.text)
        return value

    @property
    def bits(self) -> int:
        return 16 if self.format in ("tiff16", "png16", "dng") else 8

    def layout(self, kept: tuple[int, int]) -> Layout:
        """Where a picture of a kept size stands in its file."""
        border = 0 if self.format == "dng" else self.border
        return layout(parse_size(self.size), *kept, self.enlarge != "never", self.ppi, border)

    @property
    def colour(self) -> tuple[int, int, int]:
        """The ground in 8 bits."""
        return int(self.ground[1:3], 16), int(self.ground[3:5], 16), int(self.ground[5:], 16)

    @property
    def suffix(self) -> str:
        return SUFFIX[self.format]


def read_spec(path: Path) -> OutputSpec:
    """Read a spec from its JSON file.

    Raises:
        FormatError: with the file and what is wrong in it.
    """
    try:
        return OutputSpec.model_validate_json(path.read_bytes())
    except OSError as error:
        raise FormatError(f"{path.name}: cannot be opened ({error.strerror}).") from None
    except (ValidationError, FormatError) as error:
        raise FormatError(f"{path.name}: is no output spec: {explain(error)}") from None


def explain(error: Exception) -> str:
    """The first problem of a validation error, in one line."""
    if isinstance(error, ValidationError):
        first = error.errors()[0]
        place = ".".join(str(p) for p in first["loc"])
        return f"{place}: {first['msg']}" if place else str(first["msg"])
    return str(error)
