"""Output specs: one kind of finished file, complete and readable."""

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator, model_validator

from tanner.core.colour.printing import Intent
from tanner.core.errors import FormatError, problem
from tanner.core.noise.sharpen import Destination
from tanner.core.output.mark import Mark
from tanner.core.output.naming import check_template
from tanner.core.output.sizing import Layout, layout, parse_size

Format = Literal["jpeg", "tiff8", "tiff16", "png", "png16", "webp", "avif", "avif10", "avif12", "jxl", "jxl16", "dng"]
SUFFIX: dict[str, str] = {
    "jpeg": ".jpg", "tiff8": ".tif", "tiff16": ".tif", "png": ".png", "png16": ".png", "webp": ".webp", "avif": ".avif",
    "avif10": ".avif", "avif12": ".avif", "jxl": ".jxl", "jxl16": ".jxl", "dng": ".dng",
}  # fmt: skip
LOSSY = ("jpeg", "webp", "avif", "avif10", "avif12", "jxl", "jxl16")
"""Formats with a quality, and with a most of kB."""
CAN = {"png": "PNG", "tiff": "TIFF", "webp": "WebP"}
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
        cut: what is made of an area of the frame instead of the whole picture: cut out with alpha, on the plain ground, its
            mask in grey, or its outline as SVG. cut_area: subject, backdrop, people, skin, or an area by its name.
        shadow: on a plain ground, the subject's shadow stays.
        alternates: alternates of frames become files of their own, too.
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
    cut: Literal["none", "alpha", "ground", "mask", "outline"] = "none"
    cut_area: str = Field(default="subject", min_length=1, max_length=80)
    shadow: bool = True
    alternates: bool = True
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

    @model_validator(mode="after")
    def _a_format_that_can(self) -> "OutputSpec":
        can = {"alpha": ("png", "tiff", "webp"), "mask": ("png", "tiff")}.get(self.cut)
        if can and self.family not in can:
            raise ValueError(
                f"{'alpha' if self.cut == 'alpha' else 'a mask'} is written as {' or '.join(CAN[c] for c in can)}"
            )
        if self.cut == "ground" and self.icc:
            raise ValueError("a cut-out on a ground is made in a colour space, not for an ICC profile")
        if self.cut != "none" and self.format == "dng":
            raise ValueError("nothing is cut out of a linear DNG")
        return self

    @property
    def bits(self) -> int:
        """Of the pixels that are rendered for it."""
        return 16 if self.format in ("tiff16", "png16", "dng", "avif10", "avif12", "jxl16") else 8

    @property
    def family(self) -> str:
        """The format, whatever its bits."""
        return self.format.rstrip("0123456789")

    def layout(self, kept: tuple[int, int]) -> Layout:
        """Where a picture of a kept size stands in its file."""
        rule, border = parse_size(self.size), self.border
        if self.format == "dng":
            # Camera colour has no plain ground around it.
            rule, border = replace(rule, kind="box" if rule.kind == "pad" else rule.kind), 0
        return layout(rule, *kept, self.enlarge != "never", self.ppi, border)

    @property
    def colour(self) -> tuple[int, int, int]:
        """The ground in 8 bits."""
        return int(self.ground[1:3], 16), int(self.ground[3:5], 16), int(self.ground[5:], 16)

    @property
    def suffix(self) -> str:
        return ".svg" if self.cut == "outline" else SUFFIX[self.format]


FORMATS = {
    "jpeg": "JPEG", "tiff8": "TIFF, 8 bit", "tiff16": "TIFF, 16 bit", "png": "PNG, 8 bit", "png16": "PNG, 16 bit",
    "webp": "WebP", "avif": "AVIF, 8 bit", "avif10": "AVIF, 10 bit", "avif12": "AVIF, 12 bit", "jxl": "JPEG XL, 8 bit",
    "jxl16": "JPEG XL, 16 bit", "dng": "linear DNG, 16 bit",
}  # fmt: skip


def size_words(text: str, ppi: int) -> str:
    """A size rule for people."""
    rule = parse_size(text)
    if rule.kind == "original":
        return "original size"
    if rule.kind in ("percent", "mp"):
        return f"{rule.first:g} {'%' if rule.kind == 'percent' else 'megapixels'}"
    size = f"{rule.first:g}{f' × {rule.second:g}' if rule.second else ''} {rule.unit or 'px'}"
    size += f" at {ppi} ppi" if rule.unit else ""
    return {
        "long": f"long edge {size}", "short": f"short edge {size}", "width": f"width {size}", "height": f"height {size}",
        "box": f"inside {size}", "crop": f"cut to {size}", "pad": f"on a ground of {size}",
    }[rule.kind]  # fmt: skip


def said(spec: OutputSpec, spaces: Mapping[str, str]) -> list[str]:
    """All that a spec does, in a few lines: nothing that changes the result is left out.

    Args:
        spaces: titles of colour spaces.
    """
    size = size_words(spec.size, spec.ppi)
    if spec.enlarge != "never":
        size += {"lanczos": ", enlarged plainly", "edges": ", enlarged along edges"}[spec.enlarge]
    how = "SVG" if spec.cut == "outline" else FORMATS[spec.format]
    if spec.format in LOSSY and spec.cut != "outline":
        how += f" {spec.quality}"
        if spec.family in ("jpeg", "avif") and spec.chroma != "auto":
            how += f" 4:{spec.chroma[1]}:{spec.chroma[2]}"
        if spec.most_kb:
            how += f", at most {spec.most_kb:g} kB"
    if spec.family == "tiff" and spec.compression != "none" and spec.cut != "outline":
        how += f", {spec.compression}"
    lines = [f"{size}, {how}"]
    if spec.format == "dng":
        lines.append("camera colour, without colour and tone")
    else:
        pictured = spec.cut not in ("mask", "outline")
        black = "" if spec.black_point else ", no black point compensation"
        icc = f"ICC {spec.icc.rsplit('-', 1)[0]}, {spec.intent}{black}"
        colour = icc if spec.icc else spaces[spec.space]
        media = {"none": "not sharpened", "screen": "sharpened for a screen", "matte": "sharpened for matte paper"}
        sharp = media.get(spec.sharpen, "sharpened for glossy paper")
        if spec.sharpen != "none" and spec.sharpen_strength != 100:
            sharp += f" at {spec.sharpen_strength:g} %"
        lines += [f"{colour}, {sharp}"] if pictured else []
        more = []
        if spec.border:
            more.append(f"border {spec.border:g} %")
        if pictured and (spec.border or spec.size.startswith("pad")):
            more.append(f"ground {spec.ground}")
        if pictured and spec.mark.kind != "none":
            what = f"“{spec.mark.text}”" if spec.mark.kind == "text" else spec.mark.picture.rsplit("-", 1)[0]
            more.append(f"watermark {what}, {spec.mark.place}, {spec.mark.size:g} % at {spec.mark.opacity:g} %")
        lines += [", ".join(more)] if more else []
    if spec.cut != "none":
        whole = {
            "alpha": "cut out, with alpha",
            "ground": f"cut out, on a ground of {spec.ground}",
            "mask": "its mask in grey",
            "outline": "its outline as SVG",
        }
        kept = ", its shadow kept" if spec.cut == "ground" and spec.shadow else ""
        lines.append(f"{spec.cut_area[:1].upper()}{spec.cut_area[1:]}: {whole[spec.cut]}{kept}")
    words = {"all": "all metadata", "contact": "author, rights and contact only", "none": "no metadata"}[spec.metadata]
    if spec.metadata == "all":
        words += ("" if spec.place else ", no place") + ("" if spec.keywords else ", no keywords")
    lines.append(f"{spec.ppi} ppi, {words}")
    taken = {
        "number": "if the file exists, with a number",
        "skip": "left out if the file exists",
        "replace": "replaces a file of that name",
    }
    if not spec.alternates:
        lines.append("without alternates")
    lines.append(f"{spec.subfolder + '/' if spec.subfolder else ''}{spec.name}; {taken[spec.exists]}")
    return lines


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
    return problem(error.errors()[0]) if isinstance(error, ValidationError) else str(error)
