"""Turns, upright lines and lenses made from frames."""

from typing import Annotated, Any, Literal

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict, Field

from tanner.catalogue.development import set_each
from tanner.catalogue.resolver import Resolver
from tanner.core.adjust.registry import develop
from tanner.core.errors import SettingsError, TannerError
from tanner.core.optics.turn import turned
from tanner.core.upright import automatic, drawn
from tanner.jobs.measure.tasks import made_lens, upright_by_itself
from tanner.web.api.common import WithServices, done, frame_of, frames_of, one_shoot
from tanner.web.api.frames import Body

router = APIRouter(prefix="/api")
Share = Annotated[float, Field(ge=-1, le=2)]


class Turn(Body):
    by: Literal["90", "180", "270", "mirror"]


class Lines(BaseModel):
    """Lines in shares of the picture as it is shown; without any the picture's own are looked for."""

    model_config = ConfigDict(extra="forbid")
    lines: list[tuple[Share, Share, Share, Share]] = Field(default=[], max_length=8)
    values: dict[str, Any] = {}
    limit: float = Field(default=15, ge=1, le=30)


class UprightMany(Body):
    limit: float = Field(default=15, ge=1, le=30)


class LensFrames(Body):
    """Frames to measure a lens from; `even` is one of an even surface."""

    even: int | None = None


@router.post("/turn")
def turn(body: Turn, services: WithServices) -> dict[str, Any]:
    """Turn or mirror frames as they are seen; what is kept of each stays the same."""
    with services.catalogue.write() as session:
        frames = frames_of(session, body.frames)
        resolver = Resolver(session, one_shoot(frames))
        changes = [(f, turned(resolver.resolve(f).values, body.by)) for f in frames]
        label = "Mirrored" if body.by == "mirror" else f"Turned by {body.by}°"
        return done(set_each(session, resolver, changes, label))


@router.post("/frames/{frame_id}/upright")
def upright(frame_id: int, body: Lines, services: WithServices) -> dict[str, Any]:
    """Settings of perspective and straightening that make lines upright or level; nothing is changed yet."""
    with services.catalogue.read() as session:
        frame = frame_of(session, frame_id)
        values = {**Resolver(session, frame.shoot_id).resolve(frame).values, **body.values}
        path = frame.path
    source = services.viewer.source(path)
    try:
        if body.lines:
            return drawn(source, develop(values), body.lines)
        return automatic(source, develop(values), body.limit)
    except ValueError as error:
        raise SettingsError(str(error)) from None


@router.post("/upright")
def upright_many(body: UprightMany, services: WithServices) -> dict[str, Any]:
    """Make the own lines of each of several frames stand, as one step; frames where that fails are named."""
    with services.catalogue.read() as session:
        frames = frames_of(session, body.frames)
        resolver = Resolver(session, one_shoot(frames))
        work = [(f.id, f.name, f.path, dict(resolver.resolve(f).values)) for f in frames]
    jobs = [services.workers.submit(upright_by_itself, path, values, body.limit) for _, _, path, values in work]
    found: dict[int, dict[str, Any]] = {}
    trouble: list[str] = []
    for (frame_id, name, _, _), job in zip(work, jobs, strict=True):
        try:
            result = job.result()
        except TannerError as error:
            result = {"trouble": str(error)}
        if "trouble" in result:
            trouble.append(f"{name}: {result['trouble']}")
        else:
            found[frame_id] = result["values"]
    with services.catalogue.write() as session:
        frames = [f for f in frames_of(session, body.frames) if f.id in found]
        if not frames:
            return {"done": None, "changed": 0, "trouble": trouble}
        resolver = Resolver(session, one_shoot(frames))
        action = set_each(session, resolver, [(f, found[f.id]) for f in frames], "Made upright by their own lines")
        return {**done(action), "changed": len(frames), "trouble": trouble}


@router.post("/lens/make")
def make_lens(body: LensFrames, services: WithServices) -> dict[str, Any]:
    """Measure the lens of frames from their straight edges, keep it in Kit, and say how straight they became."""
    with services.catalogue.read() as session:
        frames = frames_of(session, body.frames)
        one_shoot(frames)
        paths = [f.path for f in frames]
        even = frame_of(session, body.even).path if body.even else None
    xml, report = services.workers.submit(made_lens, paths, even).result()
    key = services.catalogue.profiles.keep_lens(xml, report["name"])
    services.catalogue.touch()
    return {**report, "file": key, "key": report["key"]}
