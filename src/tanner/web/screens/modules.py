"""The scripts of a page, all named at its top: a module names others, which the browser would only ask for one after the other."""

import re
from collections.abc import Iterator
from functools import cache
from pathlib import Path, PurePosixPath

from markupsafe import Markup

SCRIPTS = Path(__file__).parents[1] / "static" / "js"
SHELL = "shell.js"
_NAMED = re.compile(r"""^(?:import|export)\b[^"';]*["'](\.\.?/[\w./-]+\.js)["'];?""", re.M)


def named_by(path: str) -> Iterator[str]:
    """The modules that one names, as paths from the folder of scripts on."""
    here = PurePosixPath(path).parent
    for name in _NAMED.findall((SCRIPTS / path).read_text()):
        parts: list[str] = []
        for part in (here / name).parts:
            if part == "..":
                parts.pop()
            else:
                parts.append(part)
        yield "/".join(parts)


@cache
def with_all(path: str) -> tuple[str, ...]:
    """A module and all that it needs, itself first, then by how soon they are named."""
    found = {path: None}
    waiting = [path]
    while waiting:
        for other in named_by(waiting.pop(0)):
            if other not in found:
                found[other] = None
                waiting.append(other)
    return tuple(found)


@cache
def module(path: str) -> Markup:
    """The lines of a page that load a module, "sheet.js" for example, besides that of every page."""
    known = with_all(SHELL) if path != SHELL else ()
    others = [other for other in with_all(path)[1:] if other not in known]
    early = "".join(f'<link rel="modulepreload" href="/static/js/{other}">\n' for other in others)
    return Markup(f'{early}<script type="module" src="/static/js/{path}"></script>')
