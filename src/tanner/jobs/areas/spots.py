"""What a process does for spots: finds a lead's in another frame, asks frames what a spot holds to, looks for dust."""

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.registry import develop
from tanner.core.areas.find import NotFound
from tanner.core.areas.follow import Features, features
from tanner.core.areas.found import found_in
from tanner.core.areas.place import SURE, homography
from tanner.core.noise.kept import KEPT
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.render.guide import look_of
from tanner.core.spots.apply import healed_frame
from tanner.core.spots.declare import LEFT, SPOTS, SpotParts, stamp
from tanner.core.spots.dust import DustLook, dust_look
from tanner.core.spots.evidence import SpotSeen, own_strengths, seen_in
from tanner.core.spots.follow import SpotLead, spots_again

KEPT_AS = "features-1"


def features_of(path: str, source: Source | None = None) -> Features:
    """Features of a frame, kept on disk: looking again costs no decoding."""
    kept = KEPT.find(path, KEPT_AS)
    if kept is not None and kept.ndim == 1:
        return Features.unpacked(np.asarray(kept))
    here = features(look_of(source or read(Path(path))))
    KEPT.keep(path, KEPT_AS, here.packed())
    return here


@dataclass(frozen=True)
class _Lead:
    lead: SpotLead
    size: tuple[int, int]
    orientation: int


@lru_cache(maxsize=4)
def _lead(path: str, changed: int) -> _Lead:
    source = read(Path(path))
    look = look_of(source)
    try:
        mask = found_in("subject", source.memory, lambda: look, path, look.grid.size)
        subject: NDArray[np.float32] | None = np.asarray(mask, np.float32) / np.float32(255)
    except NotFound:
        subject = None
    return _Lead(SpotLead(features_of(path, source), subject), source.size, source.facts.orientation)


def _lead_of(path: str) -> _Lead:
    return _lead(path, Path(path).stat().st_mtime_ns)


def _spots(values: str, idents: Sequence[str]) -> dict[str, SpotParts]:
    """Spots of a lead as it has them, whatever was found for it itself."""
    own = {k: v for k, v in json.loads(values).items() if not k.endswith(("/found", "/judged"))}
    return {t.id: t.parts for t in develop(own).listed(SPOTS.key) if t.id in set(idents)}  # type: ignore[misc]


def spots_found(lead: str, values: str, idents: Sequence[str], path: str) -> dict[str, Any]:
    """Where spots of a lead lie in a frame, and whether they are left alone there: names of settings and their values.

    Args:
        lead: path of the lead; values: its settings as JSON; path: of the frame.
    """
    spots = _spots(values, idents)
    source = read(Path(path))
    again = spots_again(_lead_of(lead).lead, features_of(path, source), spots)
    settings = json.loads(values)
    tried: dict[str, Any] = {k: v for k, v in settings.items() if k.startswith("spots/") and k.split("/")[1] in spots}
    tried |= {f"spots/{i}/found": again[i][0] for i in spots}
    done = healed_frame(source, develop(tried)).done
    result: dict[str, Any] = {}
    for ident in spots:
        place, why = again[ident]
        if not why and ident in done and done[ident].said == LEFT["seam"]:
            why, place = "seam", [*place[:8], SURE / 2]
        own = {k.split("/")[2]: v for k, v in settings.items() if k.startswith(f"spots/{ident}/")}
        result[f"spots/{ident}/found"] = place
        result[f"spots/{ident}/judged"] = f"{stamp(own)}:{why}"
    return result


def place_in(lead: str, values: str, ident: str, path: str) -> list[float]:
    """How the place of a lead's spot comes to lie in a frame, see `place.Again`; at no confidence where it is not found."""
    here = features_of(path)
    return spots_again(_lead_of(lead).lead, here, _spots(values, [ident]))[ident][0]


def spots_seen(lead: str, values: str, idents: Sequence[str], path: str, same_set: bool) -> dict[str, SpotSeen]:
    """Whether spots of a frame are seen in another one, by what they may hold to."""
    spots = _spots(values, idents)
    own = _own(lead, Path(lead).stat().st_mtime_ns, values, tuple(sorted(spots)))
    about, source = _lead_of(lead), read(Path(path))
    setup, subject = None, {}
    if same_set:
        here = features_of(path, source)
        for holds in ("setup", "subject"):
            asked = {i: s.model_copy(update={"holds": holds}) for i, s in spots.items() if i in own}
            for ident, (place, why) in spots_again(about.lead, here, asked).items():
                if holds == "setup":
                    setup = homography(place)
                elif why != "lost":
                    subject[ident] = homography(place)
    return seen_in(source, spots, own, (about.size, about.orientation), setup, subject)


@lru_cache(maxsize=4)
def _own(path: str, changed: int, values: str, idents: tuple[str, ...]) -> Mapping[str, tuple[float, float]]:
    return own_strengths(read(Path(path)), _spots(values, idents))


def dust_seen(path: str, group: int) -> DustLook:
    """What a frame shows of dust on its sensor."""
    return dust_look(read(Path(path)), group)
