"""What a process does to find a lead's areas in another frame."""

from collections.abc import Mapping, Sequence
from functools import lru_cache
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.registry import develop
from tanner.core.areas.find import faces_in
from tanner.core.areas.follow import EDGE, Features, again, by_faces, faces_of, features
from tanner.core.areas.place import SURE
from tanner.core.noise.kept import KEPT
from tanner.core.raw.reader import read
from tanner.core.render.guide import look_of
from tanner.core.render.masking import masking_frame, whole_mask

F32 = NDArray[np.float32]
SMALL = 512
"""Long edge of the lead's masks that are kept in a process."""
KEPT_AS = "features-1"


@lru_cache(maxsize=8)
def _lead(key: tuple[str, int, str], values: str) -> tuple[Features, F32]:
    """Features in and around an area of a lead, and its mask."""
    import json

    path, _, ident = key
    source = read(Path(path))
    settings = json.loads(values)
    # Where it was drawn, whatever was found for this frame itself.
    settings.pop(f"areas/{ident}/found", None)
    development = develop(settings)
    frame = masking_frame(source, development, (64, 64))
    mask = whole_mask(frame, development, ident)
    h, w = mask.shape
    share = SMALL / max(h, w)
    small = np.asarray(cv2.resize(mask, (round(w * share), round(h * share)), interpolation=cv2.INTER_AREA))
    return features(look_of(source), mask), small


def _here(path: str) -> Features:
    """Features of a frame, kept on disk: looking again costs no decoding."""
    kept = KEPT.find(path, KEPT_AS)
    if kept is not None and kept.ndim == 1:
        return Features.unpacked(np.asarray(kept))
    found = features(look_of(read(Path(path))))
    KEPT.keep(path, KEPT_AS, found.packed())
    return found


def found_again(lead: str, values: str, idents: Sequence[str], path: str) -> Mapping[str, list[float]]:
    """Where areas of a lead lie in a frame: by id, see `place.Again`.

    Args:
        lead: path of the lead; values: its settings as JSON; path: of the frame.
    """
    here = _here(path)
    changed = Path(lead).stat().st_mtime_ns
    found: dict[str, Any] = {}
    faces = None
    for ident in idents:
        there, mask = _lead((lead, changed, ident), values)
        found[ident] = again(there, here, mask)
        if found[ident][8] < SURE:
            # People move their heads: by the points of their faces.
            own = faces_of(_picture(lead), mask)
            if own is not None:
                faces = faces_in(_picture(path)) if faces is None else faces
                found[ident] = by_faces(own, faces, _picture(path).shape, found[ident])
    return found


@lru_cache(maxsize=4)
def _picture(path: str) -> NDArray[np.uint8]:
    return look_of(read(Path(path))).picture(EDGE)
