"""The files of an import, and how far each is."""

import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from tanner.catalogue.importing import FoundFile, shots
from tanner.core.raw.reader import FINISHED
from tanner.jobs.bring_in.recipe import Recipe


@dataclass
class ImportItem:
    """One file of an import. States: waiting, working, in, copied (no picture, or a companion), already, failed, left.

    Attributes:
        number: its place in the import, from 1; companions: files that are copied with it; other: it is no picture.
    """

    path: Path
    number: int = 1
    companions: tuple[Path, ...] = ()
    other: bool = False
    state: str = "waiting"
    message: str = ""
    frame_id: int | None = None
    changed: int = 0

    def as_dict(self) -> dict[str, Any]:
        return {
            "path": str(self.path),
            "name": self.path.name,
            "state": self.state,
            "message": self.message,
            "frame": self.frame_id,
        }


@dataclass
class ImportJob:
    """A running or ended import of files into one shoot.

    It needs no record of its own: what is in is known by content, so the same import started again goes
    on where it was broken off.
    """

    shoot_id: int
    items: list[ImportItem]
    recipe: Recipe = field(default_factory=Recipe)
    shoot_name: str = ""
    stage: str = "files"  # files, pictures, matching, done
    cancelled: threading.Event = field(default_factory=threading.Event)
    ruled: str = ""
    with_sidecar: set[int] = field(default_factory=set)
    lock: threading.Lock = field(default_factory=threading.Lock)
    changes: int = 0
    announce: Callable[[], None] = lambda: None

    def touch(self, item: ImportItem) -> None:
        """An item changed: who asks for what is new is told of it."""
        with self.lock:
            self.changes += 1
            item.changed = self.changes
        self.announce()

    @property
    def done(self) -> int:
        """Files that are dealt with, well or not."""
        return sum(i.state not in ("waiting", "working") for i in self.items)

    def as_dict(self, since: int = 0) -> dict[str, Any]:
        """How far it is, with the items that changed after `since`."""
        with self.lock:
            changed, at = [i for i in self.items if i.changed > since], self.changes
        return {
            "at": at,
            "into": sum(i.state == "in" for i in self.items),
            "already": sum(i.state == "already" for i in self.items),
            "failed": sum(i.state == "failed" for i in self.items),
            "stage": self.stage,
            "total": len(self.items),
            "done": self.done,
            "cancelled": self.cancelled.is_set(),
            "ruled": self.ruled,
            "sidecars": len(self.with_sidecar),
            "items": [i.as_dict() for i in (changed if since else self.items)],
        }


def items_of(paths: Sequence[Path], recipe: Recipe, others: Sequence[Path] = ()) -> list[ImportItem]:
    """The files of an import: raw files with their companions, as the recipe wants them, then what is no picture."""
    found = [FoundFile(p, 0) for p in paths]
    if recipe.companions != "apart":
        # Only what is beside them counts, whether it was named or not.
        beside = [FoundFile(p, 0) for path in {p.parent for p in paths} for p in _pictures_in(path)]
        groups = {f.path: f.companions for f in shots(list({f.path: f for f in [*found, *beside]}.values()))}
        found = [FoundFile(p, 0, companions=groups[p]) for p in paths if p in groups]
    keep = recipe.companions == "with"
    items = [ImportItem(f.path, n, f.companions if keep else ()) for n, f in enumerate(found, 1)]
    return items + [
        ImportItem(p, n, other=True) for n, p in enumerate(others if recipe.copy_to else (), len(items) + 1)
    ]


def _pictures_in(folder: Path) -> list[Path]:
    try:
        return [
            p for p in folder.iterdir() if p.suffix.lower() in FINISHED and not p.name.startswith(".") and p.is_file()
        ]
    except OSError:
        return []
