"""The order by hand of a shoot: a frame stands where its time puts it until it is moved; each move names frames and a neighbour."""

from collections.abc import Sequence
from datetime import UTC, datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from tanner.catalogue.models import Action, Frame
from tanner.catalogue.steps import record
from tanner.core.errors import TannerError

UNTIMED = 1e10
"""Where frames without a time stand: after all others."""
STEP = 1e-3
"""Seconds between frames that must be told apart."""


def standing(taken: datetime | None, place: float | None) -> float:
    """Where a frame stands, in seconds."""
    if place is not None:
        return place
    return UNTIMED if taken is None else taken.replace(tzinfo=UTC).timestamp()


def move(session: Session, shoot_id: int, ids: Sequence[int], before: int | None) -> Action | None:
    """Put frames of a shoot, in the order they are named, in front of another, or at the end; one step.

    Only frames that must move get a place: those named, and neighbours of the same moment on which they would fall.

    Raises:
        TannerError: one of them is not of this shoot.
    """
    query = select(Frame.id, Frame.taken, Frame.place, Frame.name).where(Frame.shoot_id == shoot_id)
    line = sorted((standing(taken, place), name, i) for i, taken, place, name in session.execute(query))
    at = {i: seconds for seconds, _, i in line}
    named = list(dict.fromkeys(ids))
    if any(i not in at for i in named) or (before is not None and before not in at):
        raise TannerError("Some of these frames are no longer there. Load the page again.")
    rest = [i for _, _, i in line if i not in set(named)]
    while before in named:  # in front of one that moves itself: of the next that stays
        later = [i for _, _, i in line[[x for _, _, x in line].index(before) + 1 :]]
        before = next((i for i in later if i not in named), None)
    where = rest.index(before) if before is not None else len(rest)
    low = at[rest[where - 1]] if where else (at[rest[0]] - 60 if rest else 0.0)
    high = at[rest[where]] if where < len(rest) else low + STEP * (len(named) + 1)
    moved = list(named)
    # Where there is no room between the neighbours, those that stand on the same moment are spread as well.
    end = where
    while high - low < STEP * 1e-2 * (len(moved) + 1):
        moved.append(rest[end])
        end += 1
        high = at[rest[end]] if end < len(rest) else low + STEP * (len(moved) + 1)
    share = min((high - low) / (len(moved) + 1), STEP)
    places = {i: low + share * (n + 1) for n, i in enumerate(moved)}
    frames = {
        f.id: f
        for begin in range(0, len(moved), 500)
        for f in session.scalars(select(Frame).where(Frame.id.in_(moved[begin : begin + 500])))
    }
    label = f"{frames[named[0]].name} placed by hand" if len(named) == 1 else f"{len(named)} frames placed by hand"
    return record(session, shoot_id, label, [(frames[i], {"place": places[i]}) for i in moved])
