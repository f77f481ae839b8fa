"""The form of an expression: words, terms, brackets, and, or, not. What they mean is said in `fields`.

    keep                      not drop                     stars>=3
    label:red or label:green  set:"Lamp, evening"          keyword:lamp and (iso<=800 or camera:finch)

Two terms side by side are joined by and, which binds more closely than or. A word that is no word of the language, and
anything in quotation marks, is looked for in the text of frames.
"""

import re
from dataclasses import dataclass

from tanner.core.errors import FormatError

MOST_TERMS = 200
"""More than anybody writes, and fewer than what the database refuses."""
_TOKEN = re.compile(
    r"\s*(?:(?P<bracket>[()])"
    r'|(?P<name>[^\W\d_]+)\s*(?P<how>>=|<=|!=|=|>|<|:)\s*(?:"(?P<quoted>[^"]*)"|(?P<bare>[^\s()"]+))'
    r'|"(?P<text>[^"]*)"'
    r'|(?P<word>[^\s()"]+))'
)


@dataclass(frozen=True)
class Term:
    """One question: `name` with a comparison and a value, or a word alone (`how` is "").

    Attributes:
        text: it is looked for in the text of frames, whatever words the language has.
        at: where it begins in the expression, from 0.
    """

    name: str
    how: str = ""
    value: str = ""
    text: bool = False
    at: int = 0

    def __str__(self) -> str:
        value = f'"{self.value}"' if re.search(r'^=|[\s()"]', self.value) or not self.value else self.value
        if self.how:
            return f"{self.name}{self.how}{value}"
        # a word with a sign of comparison in it would take its neighbours for a term
        return f'"{self.name}"' if self.text or re.search(r"[<>=:!]", self.name) else self.name


@dataclass(frozen=True)
class Not:
    inner: "Tree"

    def __str__(self) -> str:
        return f"not {_bracketed(self.inner)}"


@dataclass(frozen=True)
class All:
    """Every part holds; of none: everything does."""

    parts: tuple["Tree", ...]

    def __str__(self) -> str:
        return " ".join(map(_bracketed, self.parts))


@dataclass(frozen=True)
class Any:
    """At least one part holds."""

    parts: tuple["Tree", ...]

    def __str__(self) -> str:
        return " or ".join(map(_bracketed, self.parts))


Tree = Term | Not | All | Any
EVERYTHING = All(())


def _bracketed(part: "Tree") -> str:
    return f"({part})" if isinstance(part, All | Any) else str(part)


def wrong(why: str, at: int) -> FormatError:
    """A search that makes no sense: where, and why."""
    return FormatError(f"Search: at character {at + 1}, {why}")


def parse(text: str) -> Tree:
    """The tree of an expression; of an empty one, EVERYTHING.

    Raises:
        FormatError: with the place that makes no sense, and why.
    """
    tokens: list[Term] = []
    at = 0
    while text[at:].strip():
        match = _TOKEN.match(text, at)
        if match is None:
            at += len(text[at:]) - len(text[at:].lstrip())
            raise wrong("quotation marks are opened and not closed.", at)
        begins = match.end() - len(match.group().lstrip())
        parts = match.groupdict()
        if parts["bracket"]:
            tokens.append(Term(parts["bracket"], at=begins))
        elif parts["how"]:
            value = parts["quoted"] if parts["quoted"] is not None else parts["bare"]
            tokens.append(Term(parts["name"].lower(), parts["how"], value, at=begins))
        elif parts["text"] is not None:
            tokens.append(Term(parts["text"], text=True, at=begins))
        else:
            tokens.append(Term(parts["word"], at=begins))
        at = match.end()
    if len(tokens) > MOST_TERMS:
        raise wrong(f"it is too long: at most {MOST_TERMS} terms and brackets.", tokens[MOST_TERMS].at)
    if not tokens:
        return EVERYTHING
    tree, rest = _either(tokens, 0, len(text))
    if rest != len(tokens):
        raise wrong("a bracket is closed that was not opened.", tokens[rest].at)
    return tree


def _is(token: Term, word: str) -> bool:
    return not token.text and not token.how and token.name.lower() == word


def _either(tokens: list[Term], at: int, end: int) -> tuple[Tree, int]:
    parts = []
    while True:
        part, at = _both(tokens, at, end)
        parts.append(part)
        if at >= len(tokens) or not _is(tokens[at], "or"):
            return (Any(tuple(parts)) if len(parts) > 1 else part), at
        at += 1


def _both(tokens: list[Term], at: int, end: int) -> tuple[Tree, int]:
    parts = []
    while True:
        part, at = _one(tokens, at, end)
        parts.append(part)
        if at < len(tokens) and _is(tokens[at], "and"):
            at += 1
        elif at >= len(tokens) or _is(tokens[at], ")") or _is(tokens[at], "or"):
            return (All(tuple(parts)) if len(parts) > 1 else part), at


def _one(tokens: list[Term], at: int, end: int) -> tuple[Tree, int]:
    if at >= len(tokens):
        raise wrong("something is missing at its end.", end)
    token = tokens[at]
    if _is(token, "("):
        tree, after = _either(tokens, at + 1, end)
        if after >= len(tokens) or not _is(tokens[after], ")"):
            raise wrong("a bracket is opened and not closed.", token.at)
        return tree, after + 1
    if _is(token, "not"):
        inner, after = _one(tokens, at + 1, end)
        return Not(inner), after
    for word in ("and", "or", ")"):
        if _is(token, word):
            raise wrong(f"something is missing before “{word}”.", token.at)
    return token, at + 1
