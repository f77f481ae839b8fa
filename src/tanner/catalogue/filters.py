"""Which frames: short expressions, the same on the command line, in the API and on the Deliver page.

    keep                      not drop                     stars>=3
    label:red or label:green  set:"Lamp, evening"          keyword:lamp and (iso<=800 or camera:finch)

Words: keep, drop, undecided, lead, alternate, developed. With a text after a colon: label, set, keyword, camera, lens, name (a part of
it; capitals do not count). With a number: stars, iso. Joined by and, or, not and brackets; two terms side by side are
joined by and.
"""

import operator
import re
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

from tanner.catalogue.models import Frame, FrameSet
from tanner.core.errors import FormatError

Test = Callable[[Frame, FrameSet | None], bool]
_TOKEN = re.compile(r'\s*(?:(\(|\))|([a-z]+)\s*(?:(>=|<=|!=|=|>|<|:)\s*(?:"([^"]*)"|([^\s()"]+)))?)', re.IGNORECASE)
COMPARED: Mapping[str, Callable[[Any, Any], bool]] = {
    ">=": operator.ge, "<=": operator.le, ">": operator.gt, "<": operator.lt, "=": operator.eq, "!=": operator.ne,
}  # fmt: skip
NUMBERS: Mapping[str, Callable[[Frame], int | None]] = {"stars": lambda f: f.stars, "iso": lambda f: f.iso}
TEXTS: Mapping[str, Callable[[Frame, FrameSet | None], Sequence[str]]] = {
    "label": lambda f, g: [f.label],
    "set": lambda f, g: [g.name] if g else [],
    "keyword": lambda f, g: f.keywords,
    "camera": lambda f, g: [f.camera],
    "lens": lambda f, g: [f.lens],
    "name": lambda f, g: [Path(f.name).stem],
}
WHOLE = ("label", "keyword")
"""Texts that are compared whole; of others a part is enough."""
WORDS: Mapping[str, Test] = {
    "keep": lambda f, g: f.verdict == "keep",
    "drop": lambda f, g: f.verdict == "drop",
    "undecided": lambda f, g: f.verdict == "undecided",
    "lead": lambda f, g: g is not None and g.lead_id == f.id,
    "alternate": lambda f, g: f.alternate > 0,
    "developed": lambda f, g: bool(f.own or f.worn or f.offsets),
    "all": lambda f, g: True,
}


def parse_filter(text: str) -> Test:
    """What an expression asks of a frame and its set; an empty one takes all.

    Raises:
        FormatError: with the place that makes no sense.
    """
    tokens: list[tuple[str, str, str, str]] = []
    at = 0
    while text[at:].strip():
        match = _TOKEN.match(text, at)
        if match is None:
            raise FormatError(f"Filter: “{text[at:].strip()}” makes no sense. For example: keep and stars>=3.")
        bracket, name, how, quoted, bare = match.groups()
        tokens.append((bracket or "", (name or "").lower(), how or "", quoted if quoted is not None else bare or ""))
        at = match.end()
    if not tokens:
        return WORDS["all"]
    test, rest = _either(tokens, 0)
    if rest != len(tokens):
        raise FormatError("Filter: a bracket is closed that was not opened.")
    return test


def _either(tokens: Sequence[tuple[str, str, str, str]], at: int) -> tuple[Test, int]:
    tests = []
    while True:
        test, at = _both(tokens, at)
        tests.append(test)
        if at >= len(tokens) or tokens[at][1:3] != ("or", ""):
            return (lambda f, g: any(t(f, g) for t in tests)) if len(tests) > 1 else test, at
        at += 1


def _both(tokens: Sequence[tuple[str, str, str, str]], at: int) -> tuple[Test, int]:
    tests = []
    while True:
        test, at = _one(tokens, at)
        tests.append(test)
        if at < len(tokens) and tokens[at][1:3] == ("and", ""):
            at += 1
        elif at >= len(tokens) or tokens[at][0] == ")" or tokens[at][1:3] == ("or", ""):
            return (lambda f, g: all(t(f, g) for t in tests)) if len(tests) > 1 else test, at


def _one(tokens: Sequence[tuple[str, str, str, str]], at: int) -> tuple[Test, int]:
    if at >= len(tokens):
        raise FormatError("Filter: something is missing at its end.")
    bracket, name, how, value = tokens[at]
    if bracket == "(":
        test, at = _either(tokens, at + 1)
        if at >= len(tokens) or tokens[at][0] != ")":
            raise FormatError("Filter: a bracket is not closed.")
        return test, at + 1
    if name == "not" and not how:
        inner, at = _one(tokens, at + 1)
        return (lambda f, g: not inner(f, g)), at
    return _term(name, how, value), at + 1


def _term(name: str, how: str, value: str) -> Test:
    if not how and name in WORDS:
        return WORDS[name]
    if name in NUMBERS and how in COMPARED:
        try:
            wanted = float(value)
        except ValueError:
            raise FormatError(f"Filter: {name}{how}{value} needs a number.") from None
        number, compare = NUMBERS[name], COMPARED[how]
        return lambda f, g: number(f) is not None and compare(number(f), wanted)
    if name in TEXTS and how in (":", "="):
        texts, part = TEXTS[name], value.casefold()
        if name in WHOLE:
            return lambda f, g: any(t.casefold() == part for t in texts(f, g))
        return lambda f, g: any(part in t.casefold() for t in texts(f, g))
    known = ", ".join([*WORDS, *(f"{t}:…" for t in TEXTS), *(f"{n}>=…" for n in NUMBERS)])
    raise FormatError(f"Filter: “{name}{how}{value}” makes no sense. There are: {known}.")
