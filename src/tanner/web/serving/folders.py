"""Which folders a browser may name paths in: those that were opened at the start, and what lies below."""

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from tanner.core.errors import NotAllowed


class Folders:
    """The folders that were opened."""

    def __init__(self, roots: Sequence[Path]) -> None:
        self.roots = list(dict.fromkeys(r.expanduser().resolve() for r in roots))

    def allow(self, text: str | Path) -> Path:
        """The real path, when it lies in an opened folder.

        Raises:
            NotAllowed: it does not, or it leaves one through a link or "..".
        """
        if not text or "\0" in str(text):
            raise NotAllowed("No folder was named.")
        try:
            path = Path(text).expanduser()
        except RuntimeError:
            raise NotAllowed(f"{text}: there is no such user's folder.") from None
        if not path.is_absolute():
            raise NotAllowed(f"{text}: a full path is needed.")
        real = path.resolve()
        if not any(real == root or root in real.parents for root in self.roots):
            named = ", ".join(str(r) for r in self.roots) or "none"
            raise NotAllowed(
                f"{text}: is not in a folder that was opened ({named}). Start Tanner with --folder to open it."
            )
        return real

    def listing(self, text: str) -> dict[str, Any]:
        """Folders below an opened one (or the opened ones themselves), for choosing."""
        if not text:
            return {"path": "", "up": None, "folders": [str(r) for r in self.roots]}
        here = self.allow(text)
        try:
            below = sorted(
                str(p) for p in here.iterdir() if p.is_dir() and not p.name.startswith(".") and not p.is_symlink()
            )
        except OSError as error:
            raise NotAllowed(f"{here}: cannot be read ({error.strerror}). Is the drive connected?") from None
        up = "" if here in self.roots else str(here.parent)
        return {"path": str(here), "up": up, "folders": below}
