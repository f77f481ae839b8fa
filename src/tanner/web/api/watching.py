"""The watched folder: begin, look, end."""

from typing import Any

from fastapi import APIRouter

from tanner.jobs.bring_in.watching import Watch
from tanner.web.api.common import Desk

router = APIRouter(prefix="/api", tags=["watching"])


@router.get("/watch")
def told(desk: Desk) -> dict[str, Any]:
    """What is watched, how many frames came in, and what could not be read."""
    return desk.watching.told()


@router.post("/watch")
def begin(body: Watch, desk: Desk) -> dict[str, Any]:
    """Watch a folder: what appears is brought in, developed by the rules, and delivered."""
    paths = {n: str(desk.folders.allow(getattr(body, n))) for n in ("folder", "copy_to", "to") if getattr(body, n)}
    desk.watching.begin(body.model_copy(update={**paths, "delivery": None}))
    return desk.watching.told()


@router.delete("/watch")
def end(desk: Desk) -> dict[str, Any]:
    """Stop watching the folder."""
    desk.watching.end()
    return desk.watching.told()
