"""The watched folder: begin, look, end."""

from typing import Any

from fastapi import APIRouter

from tanner.jobs.bring_in.watching import Watch
from tanner.web.api.common import WithServices

router = APIRouter(prefix="/api", tags=["watching"])


@router.get("/watch")
def report(services: WithServices) -> dict[str, Any]:
    """What is watched, how many frames came in, and what could not be read."""
    return services.watching.report()


@router.post("/watch")
def begin(body: Watch, services: WithServices) -> dict[str, Any]:
    """Watch a folder: what appears is brought in, developed by the rules, and delivered."""
    paths = {n: str(services.folders.allow(getattr(body, n))) for n in ("folder", "copy_to", "to") if getattr(body, n)}
    services.watching.begin(body.model_copy(update={**paths, "delivery": None}))
    return services.watching.report()


@router.delete("/watch")
def end(services: WithServices) -> dict[str, Any]:
    """Stop watching the folder."""
    services.watching.end()
    return services.watching.report()
