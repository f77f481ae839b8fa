"""Small things that the screens' modules share."""

from collections.abc import Sequence
from typing import Annotated, Any

from fastapi import Depends, Request
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from tanner.catalogue.models import Frame
from tanner.catalogue.search.find import loaded
from tanner.core.errors import TannerError
from tanner.web.serving.services import Services


def _services(request: Request) -> Services:
    result: Services = request.app.state.services
    return result


WithServices = Annotated[Services, Depends(_services)]


def frame_of(session: Session, frame_id: int) -> Frame:
    frame = session.get(Frame, frame_id)
    if frame is None:
        raise TannerError("This frame is no longer there.")
    return frame


def frames_of(session: Session, ids: Sequence[int]) -> list[Frame]:
    """Frames in the order that was asked for.

    Raises:
        TannerError: none was named, or one is not there.
    """
    unique = list(dict.fromkeys(ids))
    found = loaded(session, unique)
    _all_there(unique, len(found))
    return found


def check_there(session: Session, ids: Sequence[int]) -> None:
    """The same without loading them.

    Raises:
        TannerError: none was named, or one is not there.
    """
    unique = list(dict.fromkeys(ids))
    parts = [unique[at : at + 500] for at in range(0, len(unique), 500)]
    counts = [session.scalar(select(func.count(Frame.id)).where(Frame.id.in_(part))) or 0 for part in parts]
    _all_there(unique, sum(counts))


def _all_there(asked: Sequence[int], found: int) -> None:
    if not asked:
        raise TannerError("Choose at least one frame.")
    if found != len(asked):
        raise TannerError("Some of these frames are no longer there. Load the page again.")


def one_shoot(frames: Sequence[Frame]) -> int:
    """The shoot that all frames belong to."""
    shoots = {f.shoot_id for f in frames}
    if len(shoots) != 1:
        raise TannerError("Choose frames of one shoot.")
    return shoots.pop()


def done(action: Any) -> dict[str, Any]:
    """The answer to a change: what was done, or that nothing differed."""
    return {"done": action.label if action else None}


def attachment(name: str) -> dict[str, str]:
    """Headers of an answer that is kept as a file of this name."""
    clean = "".join(c if c.isprintable() and c not in '"\\' else "_" for c in name).encode("ascii", "replace").decode()
    return {"content-disposition": f'attachment; filename="{clean}"'}
