"""Output specs: one kind of finished file, complete and readable."""

from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator

from tanner.core.colour.printing import Intent
from tanner.core.errors import FormatError
from tanner.core.noise.sharpen import Destination
from tanner.core.output.naming import check_template
from tanner.core.output.sizing import parse_size

Format = Literal["jpeg", "tiff8", "tiff16", "png"]
SUFFIX: dict[str, str] = {"jpeg": ".jpg", "tiff8": ".tif", "tiff16": ".tif", "png": ".png"}


class OutputSpec(BaseModel):
    """What is written for each frame.

    Attributes:
        size: a size rule, see `sizing`.
        quality: of JPEG, 1 to 100.
        space: output colour space; its ICC profile is embedded.
        icc: key of a user's ICC profile from Kit; it then stands in for `space`, with its intent and black point
            compensation.
        name: template of the file name, without its ending.
        subfolder: template of a folder below the target, or empty.
        exists: what happens when the name is taken: a new number, leave it out, or replace.
        ppi: a label; besides, output sharpening for paper goes by it.
        sharpen, sharpen_strength: for which medium the picture is sharpened last, and how strongly in % of what is usual.
        enlarge: whether a size rule may enlarge, and how; `percent` beyond 100 always does.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    title: str = Field(default="Output", min_length=1, max_length=60)
    size: str = "original"
    format: Format = "jpeg"
    quality: int = Field(default=92, ge=1, le=100)
    space: Literal["srgb", "p3", "widegamut1998", "prophoto"] = "srgb"
    icc: str = Field(default="", max_length=200)
    intent: Intent = "relative"
    black_point: bool = True
    name: str = Field(default="{name}", min_length=1, max_length=200)
    subfolder: str = Field(default="", max_length=200)
    exists: Literal["number", "skip", "replace"] = "number"
    ppi: int = Field(default=300, ge=1, le=10000)
    sharpen: Destination = "none"
    sharpen_strength: float = Field(default=100, ge=0, le=200)
    enlarge: Literal["never", "lanczos", "edges"] = "never"

    @field_validator("size")
    @classmethod
    def _size_is_a_rule(cls, value: str) -> str:
        return str(parse_size(value))

    @field_validator("name", "subfolder")
    @classmethod
    def _template_is_known(cls, value: str) -> str:
        check_template(value)
        return value

    @property
    def bits(self) -> int:
        return 16 if self.format == "tiff16" else 8

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
