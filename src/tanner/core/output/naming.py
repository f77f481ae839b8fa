"""File names from templates with tokens in braces."""

import re
import unicodedata
from collections.abc import Mapping
from datetime import datetime

from tanner.core.errors import FormatError

TOKENS = {
    "name": "name of the original, without its ending",
    "number": "place in the delivery, four digits",
    "shoot": "name of the shoot",
    "set": "name of the set",
    "spec": "title of the output spec",
    "date": "date taken, 2026-03-01",
    "time": "time taken, 101500",
    "width": "width in px",
    "height": "height in px",
    "stars": "0 to 5",
}
_TOKEN = re.compile(r"\{([^{}]*)\}")
_FORBIDDEN = re.compile(r'[\x00-\x1f<>:"|?*\\]')
LONGEST = 180
"""Bytes of a name; file systems allow 255, and a number and an ending may be added."""


def check_template(template: str) -> None:
    """Raise FormatError for tokens that do not exist and braces that do not match."""
    for token in _TOKEN.findall(template):
        if token not in TOKENS:
            raise FormatError(f"There is no token {{{token}}}. There are: {', '.join(TOKENS)}.")
    if re.search(r"[{}]", _TOKEN.sub("", template)):
        raise FormatError(f"“{template}” has a brace without its other half.")


def clean(part: str) -> str:
    """A name that every usual file system takes: no separators, controls, or dots at the ends."""
    part = unicodedata.normalize("NFC", _FORBIDDEN.sub("-", part)).replace("/", "-").strip(" .")
    while len(part.encode()) > LONGEST:
        part = part[:-1]
    return part or "unnamed"


def fill(template: str, values: Mapping[str, object]) -> str:
    """Put values into a template; the result is one clean name."""
    return clean(_TOKEN.sub(lambda m: str(values.get(m[1], "")).replace("/", "-"), template))


def fill_folder(template: str, values: Mapping[str, object]) -> str:
    """The same for a folder below the target: parts between slashes are cleaned one by one."""
    parts = [fill(p, values) for p in template.split("/") if p.strip(" .")]
    return "/".join(parts)


def name_values(
    *,
    name: str,
    number: int = 1,
    shoot: str = "",
    group: str = "",
    spec: str = "",
    taken: datetime | None = None,
    size: tuple[int, int] = (0, 0),
    stars: int = 0,
) -> dict[str, object]:
    """Values of all tokens for one file."""
    return {
        "name": name,
        "number": f"{number:04d}",
        "shoot": shoot,
        "set": group,
        "spec": spec,
        "date": taken.strftime("%Y-%m-%d") if taken else "undated",
        "time": taken.strftime("%H%M%S") if taken else "000000",
        "width": size[0],
        "height": size[1],
        "stars": stars,
    }
