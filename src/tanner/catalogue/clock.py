"""A camera whose clock was wrong: the times of its frames moved, in the catalogue and in what is delivered; files stay."""

import re
from collections.abc import Sequence
from datetime import timedelta

from sqlalchemy.orm import Session

from tanner.catalogue.models import Action, Frame
from tanner.catalogue.steps import record
from tanner.core.errors import TannerError

_BY = re.compile(
    r"\s*(?P<sign>[+\-−]?)\s*(?:(?P<days>\d{1,5})\s*d\b\s*)?(?:(?P<hours>\d{1,4}):(?P<minutes>[0-5]\d)(?::(?P<seconds>[0-5]\d))?)?\s*$"
)


def parse_shift(text: str) -> timedelta:
    """How far a clock is to be moved: "+1:00", "-0:03:20", "2d", "-1d 12:00".

    Raises:
        TannerError: it makes no sense.
    """
    match = _BY.match(text)
    if match is None or not (match["days"] or match["hours"]):
        raise TannerError(
            f"“{text.strip()}” is no time to move by. Write hours and minutes, as +1:00 or -0:03:20, or days, as 2d."
        )
    by = timedelta(
        days=int(match["days"] or 0),
        hours=int(match["hours"] or 0),
        minutes=int(match["minutes"] or 0),
        seconds=int(match["seconds"] or 0),
    )
    return -by if match["sign"] in ("-", "−") else by


def shift(session: Session, frames: Sequence[Frame], by: timedelta) -> Action | None:
    """Move the times of frames of one shoot, as one step; frames without a time stay so."""
    changes = []
    for frame in frames:
        if frame.taken is not None:
            try:
                changes.append((frame, {"taken": frame.taken + by}))
            except OverflowError:
                raise TannerError("No calendar goes as far as that.") from None
    words = f"{'-' if by < timedelta() else '+'}{abs(by)}"
    return record(session, frames[0].shoot_id, f"Time moved by {words}, {len(changes)} frames", changes)
