"""Texts in templates: what stands between tags and in titles is found there and replaced as the template is read.

Templates hold their texts in English, where they are seen. In English nothing is changed and nothing is looked up;
in another language each text is replaced before the template is compiled, so that no page is slower for it. Texts
inside expressions are marked by hand: `{{ slider("size", _("Size")) }}`.
"""

import html
import re
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import NamedTuple

from fastapi.templating import Jinja2Templates
from jinja2 import Environment, FileSystemLoader
from jinja2.ext import Extension

from tanner.web.language.catalogue import HOLE, Language, counted, english_day

SAID = ("title", "aria-label", "placeholder", "alt", "label")
"""Attributes that people read or hear."""
UNSEEN = ("script", "style", "code", "kbd")
"""Elements whose content is no language."""
_JINJA = re.compile(r"\{\{.*?\}\}|\{%.*?%\}|\{#.*?#\}", re.DOTALL)
_CLASSES = re.compile(r"\{%-? *block \w+_class\b")
_TAG = re.compile(r"</?([a-zA-Z][a-zA-Z0-9]*)|<!")
_ATTRIBUTE = re.compile(r"([a-zA-Z-]+)\s*=\s*$")
_LETTERS = re.compile(r"[A-Za-zÀ-ÿ]{2}")


class Text(NamedTuple):
    """A text in a template: where it stands, what it says with {0} {1} for its expressions, and those."""

    start: int
    end: int
    message: str
    expressions: tuple[str, ...]


def _runs(source: str) -> Iterator[tuple[int, int]]:
    """What lies between tags, statements and comments, and the values of attributes that are read."""
    at, start, tag, quote, hidden = 0, 0, "", "", ""
    attribute_from = -1
    while at < len(source):
        found = _JINJA.match(source, at)
        if found:
            if _CLASSES.match(found[0]):  # names of classes
                at = start = source.rindex("{%", 0, source.index("endblock", found.end()))
                continue
            if not found[0].startswith("{{"):
                if not tag and not hidden:
                    yield start, at
                elif attribute_from >= 0:
                    yield attribute_from, at
                    attribute_from = found.end()
                start = found.end()
            at = found.end()
            continue
        sign = source[at]
        if not tag:
            opening = _TAG.match(source, at)
            if opening:
                if not hidden:
                    yield start, at
                tag = (opening[1] or "!").lower()
                if hidden == tag and opening[0].startswith("</"):
                    hidden = ""
                elif tag in UNSEEN and not opening[0].startswith("</"):
                    hidden = tag
        elif quote:
            if sign == quote:
                if attribute_from >= 0:
                    yield attribute_from, at
                quote, attribute_from = "", -1
        elif sign == ">":
            tag, start = "", at + 1
        elif sign == '"':
            quote = sign
            name = _ATTRIBUTE.search(source[max(0, at - 40) : at])
            attribute_from = at + 1 if name and name[1] in SAID else -1
        at += 1
    if not tag and not hidden:
        yield start, at


def texts(source: str) -> list[Text]:
    """The texts of a template, in their order; what has no letters of its own is none."""
    result = []
    for start, end in _runs(source):
        part = source[start:end]
        own = _JINJA.sub("", part)
        if not _LETTERS.search(own):
            continue
        start += len(part) - len(part.lstrip())
        end -= len(part) - len(part.rstrip())
        expressions: list[str] = []

        def hole(found: re.Match[str], kept: list[str] = expressions) -> str:
            kept.append(found[0])
            return f"{{{len(kept) - 1}}}"

        message = re.sub(r"\s+", " ", html.unescape(_JINJA.sub(hole, source[start:end])))
        result.append(Text(start, end, message, tuple(expressions)))
    return result


def put(source: str, there: Callable[[str], str]) -> str:
    """The template with each text as a function gives it."""
    for text in reversed(texts(source)):
        said = there(text.message)
        if said != text.message:
            filled = HOLE.sub(lambda h, e=text.expressions: e[int(h[1])], html.escape(said))  # type: ignore[misc]
            source = source[: text.start] + filled + source[text.end :]
    return source


class Worded(Extension):
    """Puts the texts of a template into the environment's language, `environment.there` (None: English)."""

    def preprocess(self, source: str, name: str | None, filename: str | None = None) -> str:
        there: Callable[[str], str] | None = getattr(self.environment, "there", None)
        return put(source, there) if there else source


def templates(folder: Path, language: Language | None) -> Jinja2Templates:
    """The pages of a folder in a language; None: English.

    In templates `_("Size")` marks a text inside an expression, `{{ group.title|worded }}` one that comes from a
    declaration, and `{{ plural(n, "frame") }}` a count.
    """
    environment = Environment(loader=FileSystemLoader(folder), autoescape=True)
    environment.there = language.text if language else None  # type: ignore[attr-defined]
    environment.globals |= {
        "_": language.text if language else str,
        "plural": language.count if language else counted,
        "language": language,
    }
    environment.filters["worded"] = lambda value: language.translated(str(value)) if language else value
    environment.filters["day"] = language.day if language else english_day
    environment.add_extension(Worded)
    return Jinja2Templates(env=environment)
