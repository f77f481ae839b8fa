"""Size rules: from the size that a crop keeps to the size that is written.

Rules are short texts, the same on the command line, in specs and on screen:

    original   long:2048   short:1200   width:1600   height:900   mp:12   percent:50
    box:1600x1200   fits inside          crop:800x1000   fills exactly, cut        pad:800x800   fits, on a plain ground

Lengths are px, or on paper `long:30cm`, `box:8x10in` at the spec's ppi; paper turns with the picture, px boxes do not.
The edge that a rule names is met exactly; the other is rounded half up and is at least 1 px. A picture is not enlarged
unless it is asked for; `percent` does what it says, from 1 to 600.
"""

import math
import re
from dataclasses import dataclass
from functools import lru_cache

from tanner.core.errors import FormatError

EDGES = ("long", "short", "width", "height")
AVERAGES = ("box", "crop", "pad")
UNITS = {"": 0.0, "cm": 2.54, "in": 1.0}
"""Lengths on paper in one inch; 0 for px."""
MOST = 60_000
_NUMBER = r"(\d{1,6}(?:\.\d{1,4})?)"
_FORM = re.compile(rf"^(original|[a-z]+):?(?:{_NUMBER}(?:x{_NUMBER})?(cm|in)?)?$")
HELP = "Use original, long:2048, short:1200, width:1600, height:900, box:1600x1200, crop:800x1000, pad:800x800, mp:12, percent:50, or lengths as long:30cm."


@dataclass(frozen=True)
class SizeRule:
    """A parsed rule: its kind, one or two numbers, and the unit of lengths ("" for px, "cm", "in")."""

    kind: str
    first: float = 0
    second: float = 0
    unit: str = ""

    def __str__(self) -> str:
        if self.kind == "original":
            return self.kind
        second = f"x{self.second:g}" if self.second else ""
        return f"{self.kind}:{self.first:.10g}{second}{self.unit}"

    def in_px(self, ppi: float) -> "SizeRule":
        """The same rule with lengths in px."""
        if not self.unit:
            return self
        one = ppi / UNITS[self.unit]
        second = float(_round(self.second * one)) if self.second else 0
        return SizeRule(self.kind, float(_round(self.first * one)), second)


@dataclass(frozen=True)
class Layout:
    """How a picture comes to stand in its file, in px.

    Attributes:
        drawn: size to which what the crop keeps is drawn.
        cut: left, top, width, height of the part of it that is taken.
        canvas: size of the file.
        place: left and top of that part on the canvas; around it is plain ground.
    """

    drawn: tuple[int, int]
    cut: tuple[int, int, int, int]
    canvas: tuple[int, int]
    place: tuple[int, int] = (0, 0)

    @property
    def plain(self) -> bool:
        """The file is the drawn picture and nothing else."""
        return self.canvas == self.drawn


@lru_cache(256)
def parse_size(text: str) -> SizeRule:
    """Read a rule.

    Raises:
        FormatError: for anything that is not one of the forms, or is out of range.
    """
    match = _FORM.match(text.strip().lower())
    kind, a, b, unit = match.groups() if match else ("", None, None, None)
    two = kind in AVERAGES
    if kind == "original" and a is None:
        return SizeRule("original")
    lengths = kind in EDGES or two
    whole = unit or not any("." in v for v in (a, b) if v)
    if a is None or (b is not None) != two or not (lengths or kind in ("mp", "percent")) or (lengths and not whole):
        raise FormatError(f"“{text}” is no size. {HELP}")
    if unit and not lengths:
        raise FormatError(f"“{text}” is no size: only lengths are in cm or in. {HELP}")
    rule = SizeRule(kind, float(a), float(b or 0), unit or "")
    if kind == "percent" and not 1 <= rule.first <= 600:
        raise FormatError(f"“{text}”: per cent goes from 1 to 600.")
    if kind == "mp" and not 0.01 <= rule.first <= 1000:
        raise FormatError(f"“{text}” is no size: megapixels go from 0.01 to 1000.")
    least = 0.1 if unit else 1
    if lengths and not all(least <= v <= MOST for v in (rule.first, rule.second or least)):
        raise FormatError(f"“{text}”: an edge goes from {least:g} to {MOST} {unit or 'px'}.")
    return rule


def _round(value: float) -> int:
    return max(1, math.floor(value + 0.5))


def _by_width(w: int, h: int, width: int) -> tuple[int, int]:
    return width, _round(h * width / w)


def _by_height(w: int, h: int, height: int) -> tuple[int, int]:
    return _round(w * height / h), height


def _inside(w: int, h: int, box: tuple[int, int]) -> tuple[int, int]:
    """The largest size of the ratio w : h in a box."""
    # Compared as products of whole numbers: a ratio that fits exactly must not lose a pixel.
    if w * box[1] >= h * box[0]:
        return box[0], min(box[1], _round(h * box[0] / w))
    return min(box[0], _round(w * box[1] / h)), box[1]


def _around(w: int, h: int, box: tuple[int, int]) -> tuple[int, int]:
    """The smallest size of that ratio that covers a box."""
    if w * box[1] >= h * box[0]:
        return max(box[0], _round(w * box[1] / h)), box[1]
    return box[0], max(box[1], _round(h * box[0] / w))


def _megapixels(w: int, h: int, most: float) -> tuple[int, int]:
    """The largest size of that ratio with no more pixels."""
    long, short = max(w, h), min(w, h)
    edge = max(1, math.floor(math.sqrt(most * long / short)))
    while edge > 1 and edge * _round(short * edge / long) > most:
        edge -= 1
    return (edge, _round(h * edge / w)) if w >= h else (_round(w * edge / h), edge)


def _turned(rule: SizeRule, w: int, h: int, ppi: float) -> SizeRule:
    """In px, with a box on paper turned to lie as the picture does."""
    plain = rule.in_px(ppi)
    if rule.unit and rule.kind in AVERAGES and (plain.first > plain.second) != (w > h) and w != h:
        return SizeRule(plain.kind, plain.second, plain.first)
    return plain


def output_size(rule: SizeRule, width: int, height: int, enlarge: bool = False, ppi: float = 300) -> tuple[int, int]:
    """Width and height that are written for a kept area of width x height px; `enlarge`: rules may enlarge too."""
    return layout(rule, width, height, enlarge, ppi).canvas


def layout(
    rule: SizeRule, width: int, height: int, enlarge: bool = False, ppi: float = 300, border: float = 0
) -> Layout:
    """Where a picture of width x height px stands in its file.

    Args:
        enlarge: rules may enlarge, too.
        ppi: for lengths on paper.
        border: plain ground on all sides, in % of the short edge of the file without it. It stands inside what a rule
            bounds; around `original` and `percent` it is added.
    """
    rule = _turned(rule, width, height, ppi)
    bare = _bare(rule, width, height, enlarge)
    if border <= 0:
        return bare
    b = _round(min(bare.canvas) * border / 100)
    if rule.kind in ("original", "percent"):
        return _bordered(bare, b)
    if rule.kind == "mp":
        most = rule.first * 1e6
        w, h = bare.drawn
        while w > 1 and h > 1 and (w + 2 * b) * (h + 2 * b) > most:
            w, h = _by_width(width, height, w - 1) if w >= h else _by_height(width, height, h - 1)
        return _bordered(Layout((w, h), (0, 0, w, h), (w, h)), b)
    inner = SizeRule(rule.kind, max(1, rule.first - 2 * b), max(1, rule.second - 2 * b) if rule.second else 0)
    return _bordered(_bare(inner, width, height, enlarge), b)


def _bordered(bare: Layout, b: int) -> Layout:
    return Layout(
        bare.drawn,
        bare.cut,
        (bare.canvas[0] + 2 * b, bare.canvas[1] + 2 * b),
        (bare.place[0] + b, bare.place[1] + b),
    )


def _bare(rule: SizeRule, w: int, h: int, enlarge: bool) -> Layout:
    if rule.kind in ("crop", "pad"):
        return _exact(rule, w, h, enlarge)
    size = _size(rule, w, h, enlarge)
    return Layout(size, (0, 0, *size), size)


def _exact(rule: SizeRule, w: int, h: int, enlarge: bool) -> Layout:
    box = int(rule.first), int(rule.second)
    if rule.kind == "pad":
        size = _inside(w, h, box)
        if not enlarge and (size[0] > w or size[1] > h):
            size = w, h
        return Layout(size, (0, 0, *size), box, ((box[0] - size[0]) // 2, (box[1] - size[1]) // 2))
    size = _around(w, h, box)
    if not enlarge and (size[0] > w or size[1] > h):
        # Too small for the box: the largest part of the picture that has its ratio.
        size, box = (w, h), _inside(box[0], box[1], (w, h))
    return Layout(size, ((size[0] - box[0]) // 2, (size[1] - box[1]) // 2, *box), box)


def _size(rule: SizeRule, w: int, h: int, enlarge: bool) -> tuple[int, int]:
    if rule.kind == "original":
        return w, h
    n = int(rule.first)
    if rule.kind == "percent":
        return _round(w * rule.first / 100), _round(h * rule.first / 100)
    if rule.kind == "mp":
        return (w, h) if w * h <= rule.first * 1e6 and not enlarge else _megapixels(w, h, rule.first * 1e6)
    if rule.kind == "box":
        inside = w <= rule.first and h <= rule.second
        return (w, h) if inside and not enlarge else _inside(w, h, (n, int(rule.second)))
    across = {"width": True, "height": False, "long": w >= h, "short": w < h}[rule.kind]
    edge = w if across else h
    if edge <= n and not enlarge:
        return w, h
    return _by_width(w, h, n) if across else _by_height(w, h, n)
