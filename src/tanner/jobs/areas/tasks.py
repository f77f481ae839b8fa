"""What a process does to find a lead's areas in another frame."""

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
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
from tanner.core.raw.reader import read
from tanner.core.render.guide import look_of
from tanner.core.render.masking import masking_frame, whole_mask
from tanner.jobs.areas.spots import features_of, spots_found

F32 = NDArray[np.float32]
SMALL = 512
"""Long edge of the lead's masks that are kept in a process."""


@dataclass(frozen=True)
class Lead:
    """An area of a lead: features in and around it, its mask at `SMALL`, and the lead's picture."""

    features: Features
    mask: F32
    picture: NDArray[np.uint8]


@lru_cache(maxsize=8)
def _lead(key: tuple[str, int, str], values: str) -> Lead:
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
    look = look_of(source)
    return Lead(features(look, mask), small, look.picture(EDGE))


@lru_cache(maxsize=8)
def _face(key: tuple[str, int, str], values: str) -> NDArray[np.float64] | None:
    """The face that an area of a lead lies on, looked for once for all its followers."""
    lead = _lead(key, values)
    return faces_of(lead.picture, lead.mask)


def found_again(lead: str, values: str, idents: Sequence[str], spots: Sequence[str], path: str) -> Mapping[str, Any]:
    """Where areas and spots of a lead lie in a frame: names of settings and their values.

    Args:
        lead: path of the lead; values: its settings as JSON; idents, spots: ids of areas and spots; path: of the frame.
    """
    found: dict[str, Any] = spots_found(lead, values, spots, path) if spots else {}
    if not idents:
        return found
    # Spots change often, and no mask with them.
    values = json.dumps({k: v for k, v in json.loads(values).items() if not k.startswith("spots/")}, sort_keys=True)
    here = features_of(path)
    changed = Path(lead).stat().st_mtime_ns
    faces = None
    for ident in idents:
        key = lead, changed, ident
        there = _lead(key, values)
        place = again(there.features, here, there.mask)
        if place[8] < SURE:
            # People move their heads: by the points of their faces.
            own = _face(key, values)
            if own is not None:
                if faces is None:
                    picture = look_of(read(Path(path))).picture(EDGE)
                    faces = faces_in(picture), picture.shape
                place = by_faces(own, *faces, place)
        found[f"areas/{ident}/found"] = place
    return found
