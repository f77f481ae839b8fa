"""File names from templates with tokens in braces."""

import re
import unicodedata
from collections.abc import Iterable, Mapping
from datetime import datetime
from functools import lru_cache
from pathlib import Path

from tanner.core.errors import FormatError

TOKENS = {
    "name": "name of the original, without its ending",
    "alternate": "number of the alternate, or nothing",
    "number": "place in the delivery; {number:3} with three digits",
    "shoot": "name of the shoot",
    "set": "name of the set",
    "spec": "title of the output spec",
    "text": "the delivery's own text",
    "date": "date taken, 2026-03-01",
    "time": "time taken, 101500",
    "year": "year taken",
    "month": "month taken, 01 to 12",
    "day": "day taken, 01 to 31",
    "hour": "hour taken, 00 to 23",
    "camera": "camera",
    "lens": "lens",
    "iso": "ISO",
    "keyword": "first keyword",
    "stars": "rating, 0 to 5",
    "label": "label",
    "width": "width in px",
    "height": "height in px",
    "size": "width and height, 2048x1365",
}
_TOKEN = re.compile(r"\{([^{}]*)\}")
_FORBIDDEN = re.compile(r'[\x00-\x1f<>:"|?*\\]')
_DEVICES = re.compile(r"^(con|prn|aux|nul|com\d|lpt\d)(\..*)?$", re.IGNORECASE)
LONGEST = 180
"""Bytes of a name; file systems allow 255, and a number and an ending may be added."""
LONGEST_PATH = 1000
"""Bytes of a whole path that are told of; the system itself allows 4,096."""


def check_template(template: str) -> None:
    """Raise FormatError for tokens that do not exist and braces that do not match."""
    for token in _TOKEN.findall(template):
        name, colon, digits = token.partition(":")
        if name not in TOKENS:
            raise FormatError(f"There is no token {{{token}}}. There are: {', '.join(TOKENS)}.")
        if colon and (name != "number" or not re.fullmatch("[1-9]", digits)):
            raise FormatError(f"{{{token}}}: only {{number:1}} to {{number:9}} take digits.")
    if re.search(r"[{}]", _TOKEN.sub("", template)):
        raise FormatError(f"“{template}” has a brace without its other half.")


@lru_cache(4096)
def clean(part: str) -> str:
    """A name that every usual file system takes: no separators, controls, or dots at the ends."""
    part = unicodedata.normalize("NFC", _FORBIDDEN.sub("-", part)).replace("/", "-").strip(" .")
    if _DEVICES.match(part):
        part = f"_{part}"
    while len(part.encode()) > LONGEST:
        part = part[:-1]
    return part or "unnamed"


@lru_cache(256)
def _pieces(template: str) -> tuple[tuple[str, str, str], ...]:
    """A template as (text, token, digits), the last with no token: thousands of names are made of one."""
    parts = _TOKEN.split(template)
    pairs = [(text, *token.partition(":")) for text, token in zip(parts[::2], [*parts[1::2], ""], strict=True)]
    return tuple((text, token, digits) for text, token, _, digits in pairs)


def filled(template: str, values: Mapping[str, object]) -> str:
    """Values put into a template, as they are."""
    said = ""
    for text, token, digits in _pieces(template):
        found = values.get(token, "")
        said += text + (f"{int(str(found)):0{digits or 4}d}" if token == "number" and found != "" else str(found))
    return said


def fill(template: str, values: Mapping[str, object]) -> str:
    """Put values into a template; the result is one clean name."""
    return clean(filled(template, values).replace("/", "-"))


def fill_folder(template: str, values: Mapping[str, object]) -> str:
    """The same for a folder below the target: parts between slashes are cleaned one by one."""
    return "/".join(fill(p, values) for p in folder_parts(template))


def folder_parts(template: str) -> list[str]:
    """The templates between the slashes of a folder's, those that name something."""
    return [p for p in template.split("/") if p.strip(" .")]


def remarks(template: str, values: Mapping[str, object]) -> tuple[str, ...]:
    """What `fill` had to change, told before anything is written."""
    return _remarks(filled(template, values))


@lru_cache(4096)
def _remarks(raw: str) -> tuple[str, ...]:
    said = []
    if "/" in raw or _FORBIDDEN.search(raw):
        said.append("characters that no file name may have were replaced by -")
    elif raw.strip(" .") != raw:
        said.append("dots or spaces at its ends were left out")
    if len(raw.encode()) > LONGEST:
        said.append(f"too long: cut to {LONGEST} bytes")
    if _DEVICES.match(raw.strip(" .")):
        said.append("is the name of a device on some systems: got a _")
    if not raw.strip(" ."):
        said.append("empty: called unnamed")
    return tuple(said)


def key_of(path: Path | str) -> str:
    """One key for all spellings that some file systems take for the same name."""
    return unicodedata.normalize("NFC", str(path)).casefold()


class TakenNames:
    """Names that are taken: by files that are there, and by those that are planned; capitals do not count.

    Paths are plain text here: a delivery of thousands asks for each several times.
    """

    def __init__(self) -> None:
        self._there: dict[str, set[str]] = {}
        self._planned: set[str] = set()

    def there(self, path: str) -> bool:
        """Whether a file is there already, by any spelling."""
        folder, _, name = path.rpartition("/")
        if folder not in self._there:
            try:
                self._there[folder] = {key_of(p.name) for p in Path(folder or "/").iterdir()}
            except OSError:
                self._there[folder] = set()
        names = self._there[folder]
        return bool(names) and key_of(name) in names

    def planned(self, path: str) -> bool:
        return key_of(path) in self._planned

    def add(self, paths: Iterable[str]) -> None:
        self._planned |= {key_of(p) for p in paths}

    def free(self, path: str, there: bool) -> str:
        """The path itself, or with -2, -3 ... before its ending; `there`: files that are there count."""
        candidate, number = path, 1
        while self.planned(candidate) or (there and self.there(candidate)):
            number += 1
            candidate = str(Path(path).with_name(f"{Path(path).stem}-{number}{Path(path).suffix}"))
        return candidate


def name_values(
    *,
    name: str,
    number: int = 1,
    shoot: str = "",
    group: str = "",
    spec: str = "",
    text: str = "",
    taken: datetime | None = None,
    size: tuple[int, int] = (0, 0),
    stars: int = 0,
    label: str = "",
    camera: str = "",
    lens: str = "",
    iso: int | None = None,
    keyword: str = "",
    alternate: int | str = "",
) -> dict[str, object]:
    """Values of all tokens for one file."""
    return {
        "name": name,
        "alternate": alternate,
        "number": number,
        "shoot": shoot,
        "set": group,
        "spec": spec,
        "text": text,
        **_times(taken),
        "camera": camera,
        "lens": lens,
        "iso": iso or "",
        "keyword": keyword,
        "stars": stars,
        "label": "" if label == "none" else label,
        **size_values(size),
    }


def size_values(size: tuple[int, int]) -> dict[str, object]:
    """Values of the tokens of a file's size."""
    return {"width": size[0], "height": size[1], "size": f"{size[0]}x{size[1]}"}


@lru_cache(64)
def _times(taken: datetime | None) -> dict[str, str]:
    """Tokens of the time: a frame is named once for each spec."""
    if taken is None:
        return {"date": "undated", "time": "000000", "year": "0000", "month": "00", "day": "00", "hour": "00"}
    said = taken.strftime("%Y-%m-%d %H%M%S")
    return {
        "date": said[:-7],
        "time": said[-6:],
        "year": said[:-13],
        "month": said[-12:-10],
        "day": said[-9:-7],
        "hour": said[-6:-4],
    }
