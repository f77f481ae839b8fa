"""Size rules: from the size that a crop keeps to the size that is written.

Rules are short texts, the same on the command line, in specs and on screen:
`original`, `long:2048`, `short:1200`, `box:1600x1200`, `percent:50`.
The edge that a rule names is met exactly; the other is rounded half up and is at least 1 px. A picture is
not enlarged by `long`, `short` and `box` unless it is asked for; `percent` does what it says, from 1 to 600.
"""

import math
import re
from dataclasses import dataclass

from tanner.core.errors import FormatError

_FORM = re.compile(r"^(?:(original)|(long|short):(\d{1,5})|box:(\d{1,5})x(\d{1,5})|percent:(\d{1,3}(?:\.\d+)?))$")


@dataclass(frozen=True)
class SizeRule:
    """A parsed rule: its kind, and one or two numbers."""

    kind: str
    first: float = 0
    second: float = 0

    def __str__(self) -> str:
        if self.kind == "original":
            return self.kind
        if self.kind == "box":
            return f"box:{self.first:.0f}x{self.second:.0f}"
        return f"{self.kind}:{self.first:g}"


def parse_size(text: str) -> SizeRule:
    """Read a rule.

    Raises:
        FormatError: for anything that is not one of the five forms, or is out of range.
    """
    match = _FORM.match(text.strip().lower())
    if not match:
        raise FormatError(f"“{text}” is no size. Use original, long:2048, short:1200, box:1600x1200 or percent:50.")
    original, edge, length, box_w, box_h, percent = match.groups()
    if original:
        return SizeRule("original")
    if edge:
        rule = SizeRule(edge, float(length))
    elif box_w:
        rule = SizeRule("box", float(box_w), float(box_h))
    else:
        rule = SizeRule("percent", float(percent))
        if not 1 <= rule.first <= 600:
            raise FormatError(f"“{text}”: per cent goes from 1 to 600.")
        return rule
    if not all(1 <= v <= 60000 for v in (rule.first, rule.second or 1)):
        raise FormatError(f"“{text}”: an edge goes from 1 to 60000 px.")
    return rule


def _round(value: float) -> int:
    return max(1, math.floor(value + 0.5))


def output_size(rule: SizeRule, width: int, height: int, enlarge: bool = False) -> tuple[int, int]:
    """Width and height that are written for a kept area of width x height px; `enlarge`: rules may enlarge too."""
    if rule.kind == "original":
        return width, height
    if rule.kind == "percent":
        return _round(width * rule.first / 100), _round(height * rule.first / 100)
    if rule.kind == "box":
        if width <= rule.first and height <= rule.second and not enlarge:
            return width, height
        # Compared as products of whole numbers: a ratio that fits exactly must not lose a pixel.
        if width * rule.second >= height * rule.first:
            return int(rule.first), min(int(rule.second), _round(height * rule.first / width))
        return min(int(rule.first), _round(width * rule.second / height)), int(rule.second)
    edge = max(width, height) if rule.kind == "long" else min(width, height)
    if edge <= rule.first and not enlarge:
        return width, height
    n = int(rule.first)
    if (width == edge) if rule.kind == "long" else (width == edge and width != height):
        return n, _round(height * n / width)
    return _round(width * n / height), n
