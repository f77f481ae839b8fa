"""Collects every text of the screens into one catalogue: `make texts`. `--check` tells a stale one and writes nothing.

From templates what `pages` finds and what `_()` and `plural()` mark, from the scripts what t`…` and `plural()` mark,
from the declarations of adjustments all that they say of themselves, from what ships its names and what it is for,
and from Python whatever reads like a sentence and is no comment: what the program tells of its work and its errors.
"""

import ast
import json
import re
import sys
from collections.abc import Iterator
from io import BytesIO
from pathlib import Path
from typing import NamedTuple

from babel.messages.catalog import Catalog
from babel.messages.pofile import write_po

from tanner.catalogue.models import LABELS
from tanner.catalogue.search.counts import GROUPS as COUNTS
from tanner.core.adjust.items import name_of
from tanner.core.adjust.registry import GROUPS, LISTS, adjustments, declared
from tanner.core.colour.spaces import SPACES
from tanner.core.output.captions import FIELDS
from tanner.core.output.files import write_whole
from tanner.core.output.mark import PLACES
from tanner.core.output.naming import TOKENS
from tanner.core.output.spec import FORMATS
from tanner.core.profile.chart import SETS
from tanner.web.language.catalogue import ALL_TEXTS
from tanner.web.language.pages import texts

HERE = Path(__file__).parents[2]
TELLS = ("core", "catalogue", "jobs", "web")
"""Packages whose sentences reach the screens; the command line and the demo's maker speak English."""
INSIDE = {
    "core/adjust/document.py", "core/stages/path.py", "core/stages/stage.py", "core/tiff/ifd.py", "core/warm.py",
    "core/colour/spectra.py", "web/serving/guard.py", "web/serving/serve.py", "web/serving/described.py",
}  # fmt: skip
"""What these say is for makers, or is read from a terminal."""
ENGLISH = ("parts.html", "api.html")
"""Pages for makers."""


class Collected(NamedTuple):
    text: str
    plural: str
    where: str


def of_templates() -> Iterator[Collected]:
    folder = HERE / "web" / "templates"
    for path in sorted(folder.rglob("*.html")):
        if path.name in ENGLISH:
            continue
        source, where = path.read_text(), f"templates/{path.relative_to(folder)}"
        for text in texts(source):
            yield Collected(text.message, "", where)
        for marked in re.findall(r"\b_\(\"([^\"]+)\"\)", source):
            yield Collected(marked, "", where)
        yield from _counted(source, where)


def _counted(source: str, where: str) -> Iterator[Collected]:
    """plural(n, "frame") and plural(n, "entry", "entries"), whatever n is."""
    for start in re.finditer(r"\bplural\(", source):
        depth, at = 1, start.end()
        while depth and at < len(source):
            depth += {"(": 1, ")": -1}.get(source[at], 0)
            at += 1
        words = re.search(r",\s*\"([^\"]+)\"(?:,\s*\"([^\"]+)\")?\s*$", source[start.end() : at - 1])
        if words:
            yield Collected(f"{{0}} {words[1]}", f"{{0}} {words[2] or words[1] + 's'}", where)


def tagged(source: str) -> Iterator[str]:
    """The texts of t`…` in a script, with {0} {1} for what is put into them; those inside of others, too."""
    for start in re.finditer(r"(?<![\w$])t`", source):
        text, at, holes = "", start.end(), 0
        while source[at] != "`":
            if source.startswith("${", at):
                at = _past(source, at + 2)
                text += f"{{{holes}}}"
                holes += 1
            elif source[at] == "\\":
                text += {"n": "\n"}.get(source[at + 1], source[at + 1])
                at += 2
            else:
                text += source[at]
                at += 1
        yield text


def _past(source: str, at: int) -> int:
    """Behind the brace that ends what began here; templates and strings inside are passed over."""
    depth = 1
    while depth:
        sign = source[at]
        if sign == "`":
            at += 1
            while source[at] != "`":
                at = _past(source, at + 2) if source.startswith("${", at) else at + 1 + (source[at] == "\\")
        elif sign in "\"'":
            at += 1
            while source[at] != sign:
                at += 1 + (source[at] == "\\")
        depth += {"{": 1, "}": -1}.get(sign, 0)
        at += 1
    return at


def of_scripts() -> Iterator[Collected]:
    folder = HERE / "web" / "static" / "js"
    for path in sorted(folder.rglob("*.js")):
        source, where = path.read_text(), f"js/{path.relative_to(folder)}"
        for text in tagged(source):
            yield Collected(text, "", where)
        yield from _counted(source, where)


def of_declarations() -> Iterator[Collected]:
    """What groups, adjustments and kinds of items say of themselves."""
    for group in GROUPS.values():
        for text in (group.section, group.title, group.about):
            yield Collected(text, "", f"group {group.key}")
    of_items = [
        declared(name_of(listed.key, "00000000", name))
        for listed in LISTS.values()
        for name in (*listed.parts.model_fields, *listed.adjustments)
    ]
    for listed in LISTS.values():
        yield Collected(listed.title, "", f"adjustments of {listed.key}")
    for a in [*adjustments().values(), *(item for item in of_items if item)]:
        for text in (a.spec.label, a.spec.full, a.spec.help, a.spec.tab, *(a.choices or ())):
            yield Collected(text, "", f"adjustments of {a.group}")


def of_lists() -> Iterator[Collected]:
    """Words that stand alone in lists."""
    from tanner.web.screens.pages import IN_PICKED, TERMS

    for where, some in {
        "colour labels": LABELS,
        "what there is": [group.title for group in COUNTS],
        "captions": [field.label for field in FIELDS],
        "formats": list(FORMATS.values()),
        "places of a watermark": list(PLACES),
        "tokens": list(TOKENS.values()),
        "colour spaces": [space.title for space in SPACES.values()],
        "charts": [title for title, _ in SETS.values()],
        "what a search can say": [about for _, about in TERMS],
        "picked ranges": list(IN_PICKED),
    }.items():
        for text in some:
            yield Collected(text, "", where)


def of_shipped() -> Iterator[Collected]:
    """Names of what ships and what it is for."""
    for path in sorted((HERE / "shipped").rglob("*.json")):
        given = json.loads(path.read_text())
        for key in ("name", "folder", "about") if "values" in given else ("title",):
            if isinstance(given.get(key), str):
                yield Collected(given[key], "", f"shipped/{path.parent.name}/{path.name}")


_SENTENCE = re.compile(r"[A-Za-z’“”{}0-9]+\S* .*?[A-Za-z’]{2}|[A-Za-z’]{2}\S* ", re.DOTALL)
_CODE = re.compile(
    r"[=<>_\\]\S|^\s*(SELECT|CREATE|PRAGMA|WHERE|BEGIN|INSERT|UPDATE|DELETE)\b|\bMATCH :|[{}]:|^%|^\s{2}|^\[|\.(json|sqlite|zip|xml)$",
)


class _Sentences(ast.NodeVisitor):
    """Strings that read like something told."""

    def __init__(self) -> None:
        self.found: list[str] = []

    def visit_Expr(self, node: ast.Expr) -> None:
        if not isinstance(node.value, ast.Constant):  # what stands alone documents
            self.generic_visit(node)

    def visit_Call(self, node: ast.Call) -> None:
        name = node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "")
        of = getattr(getattr(node.func, "value", None), "id", "")
        if of in ("log", "logging", "re", "warnings") or name in ("compile", "text", "getLogger", "execute", "Slot"):
            return
        self.generic_visit(node)

    def visit_AnnAssign(self, node: ast.AnnAssign) -> None:
        if node.value:
            self.visit(node.value)

    def visit_arg(self, node: ast.arg) -> None:
        return  # what is quoted there is a type

    def visit_Assert(self, node: ast.Assert) -> None:
        return

    def visit_Constant(self, node: ast.Constant) -> None:
        if isinstance(node.value, str):
            self._take(node.value)

    def visit_JoinedStr(self, node: ast.JoinedStr) -> None:
        text, holes = "", 0
        for part in node.values:
            if isinstance(part, ast.Constant):
                text += str(part.value)
            else:
                text += f"{{{holes}}}"
                holes += 1
                self.visit(part.value)  # type: ignore[attr-defined]
        self._take(text)

    def _take(self, text: str) -> None:
        plain = re.sub(r"\{\d+\}", "", text)
        if _SENTENCE.search(plain) and not _CODE.search(plain):
            self.found.append(text)


def of_python() -> Iterator[Collected]:
    for package in TELLS:
        for path in sorted((HERE / package).rglob("*.py")):
            where = path.relative_to(HERE)
            if "migrations" in path.parts or path.parent == Path(__file__).parent or str(where) in INSIDE:
                continue
            sentences = _Sentences()
            sentences.visit(ast.parse(path.read_text()))
            for text in sentences.found:
                yield Collected(text, "", str(where))


def collected() -> str:
    """The catalogue of all texts as it is written: each once, sorted, with where it stands."""
    catalogue = Catalog(project="Tanner", charset="utf-8", fuzzy=False, header_comment="# Every text of the screens.")
    for of in (of_templates, of_scripts, of_declarations, of_lists, of_shipped, of_python):
        for text, plural, where in of():
            if text.strip() and re.search("[A-Za-z]{2}", re.sub(r"\{\d+\}", "", text)):
                catalogue.add((text, plural) if plural else text, locations=[(where, 0)])
    stream = BytesIO()
    write_po(stream, catalogue, width=0, sort_output=True, omit_header=True, include_lineno=False)
    return stream.getvalue().decode()


if __name__ == "__main__":
    if "--check" not in sys.argv:
        write_whole(ALL_TEXTS, collected().encode(), replace=True)
    elif ALL_TEXTS.read_text() != collected():
        sys.exit(f"{ALL_TEXTS.name} is stale: `make texts` writes it again")
