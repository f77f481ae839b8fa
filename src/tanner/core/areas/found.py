"""What is found in a frame: looked for once, remembered with the frame, and kept on disk, where it can be thrown away."""

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.areas import find
from tanner.core.areas.look import AreaLook
from tanner.core.memory import Memory, Slot
from tanner.core.noise.kept import KEPT

FOUND: Slot[Any] = Slot("found masks", keep=5, heavy=True)
"""uint8 (h, w) of what was found, by what it is; a sentence where it was not."""
SEEN: Slot[find.Seen] = Slot("what finders know of a frame", heavy=True)
VERSION = 1
"""Counts up whenever something is found in another way."""


def seen_in(memory: Memory, look: Callable[[], AreaLook]) -> find.Seen:
    """A frame as finders see it, made once."""
    return memory.get(SEEN, None, lambda: find.Seen.of(look()))


def found_in(
    what: str, memory: Memory, look: Callable[[], AreaLook], path: str, size: tuple[int, int]
) -> NDArray[np.uint8]:
    """Subject, backdrop, people or skin of a frame, uint8 (h, w).

    Args:
        memory: of the frame as it was read; look: makes its look; path: of its file; size: (w, h) of the look's grid.

    Raises:
        NotFound: there is none.
    """
    if what == "backdrop":
        return 255 - found_in("subject", memory, look, path, size)

    def make() -> Any:
        kept = KEPT.find(path, f"found-{what}-{VERSION}")
        if kept is not None and kept.shape == size[::-1]:
            return np.asarray(kept)
        try:
            mask = np.asarray(np.rint(find.found(what, seen_in(memory, look)) * 255), np.uint8)
        except find.NotFound as error:
            return str(error)
        KEPT.keep(path, f"found-{what}-{VERSION}", mask)
        return mask

    got = memory.get(FOUND, what, make)
    if isinstance(got, str):
        raise find.NotFound(got)
    return np.asarray(got)
