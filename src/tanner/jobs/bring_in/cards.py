"""Cards of cameras: folders with a DCIM folder (source: dcf2010), under opened folders and where the system shows media."""

import os
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

MARK = "DCIM"


def places() -> list[Path]:
    """Where systems show what is plugged in, for this user."""
    user = os.environ.get("USER") or os.environ.get("LOGNAME") or ""
    return [Path("/media"), Path("/media") / user, Path("/run/media") / user, Path("/mnt"), Path("/Volumes")]


def cards(roots: Iterable[Path], media: Iterable[Path] | None = None) -> list[dict[str, Any]]:
    """Cards that are there now: {path, name, opened}; those in opened folders first.

    Args:
        roots: folders that are opened; media: where the system shows what is plugged in.
    """
    found: dict[Path, bool] = {}
    for root in roots:
        for card in _in(root):
            found.setdefault(card, True)
    for place in places() if media is None else media:
        for card in _in(place):
            found.setdefault(card, False)
    opened = [r.resolve() for r in roots]
    result = []
    for card, known in found.items():
        real = card.resolve()
        inside = known or any(real == r or r in real.parents for r in opened)
        result.append({"path": str(real), "name": card.name, "opened": inside})
    return result


def _in(place: Path) -> Iterator[Path]:
    """The place itself, or a folder in it, that is a card."""
    try:
        if (place / MARK).is_dir():
            yield place
            return
        for below in sorted(place.iterdir()):
            if not below.name.startswith(".") and (below / MARK).is_dir():
                yield below
    except OSError:
        return
