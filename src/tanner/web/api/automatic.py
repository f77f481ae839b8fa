"""An automatic start for frames: worked out for all of a set together, and kept as plain values of its lead."""

from typing import Any, Literal

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict, Field

from tanner.catalogue.development import set_each
from tanner.catalogue.models import Frame
from tanner.catalogue.resolver import Resolver
from tanner.core.errors import TannerError
from tanner.core.series.automatic import ALL, What, automatic
from tanner.jobs.measure.tasks import level_ends_of, measured_for_automatic, mono_weights_of, white_by
from tanner.web.api.common import WithServices, done, frame_of, frames_of, one_shoot
from tanner.web.api.frames import Body
from tanner.web.serving.services import Services

router = APIRouter(prefix="/api")
MOST, MOST_WHITE = 24, 5
"""Frames of a set that are measured, evenly over it; and those whose white balance is looked for, which takes longer."""


class Automatic(Body):
    what: list[What] = Field(default=list(ALL), min_length=1)


def _some(frames: list[Frame], most: int) -> list[Frame]:
    return [frames[round(i * (len(frames) - 1) / (most - 1))] for i in range(most)] if len(frames) > most else frames


def _kept(frame: Frame, values: dict[str, Any], what: list[What]) -> float:
    """Exposure that stays: a frame's own offset, or all of it where exposure is not asked for."""
    return float(frame.offsets.get("ev", 0.0) if "exposure" in what else values.get("light.exposure", 0.0))


def _groups(resolver: Resolver, frames: list[Frame]) -> list[tuple[list[Frame], list[Frame]]]:
    """Frames that are measured together, and those that get the values: a lead for its followers, else each itself."""
    chosen = {f.id: f for f in frames}
    led: dict[int, list[Frame]] = {}
    for frame in frames:
        lead = resolver.lead_of(frame)
        led.setdefault(lead.id if lead and lead.id in chosen else frame.id, []).append(frame)
    leads = {id for id in led if any(f.id != id for f in led[id])}
    alone = [f for id, group in led.items() if id not in leads for f in group]
    by_set: dict[int | None, list[Frame]] = {}
    for frame in alone:
        by_set.setdefault(frame.set_id, []).append(frame)
    return [(led[id], [chosen[id]]) for id in leads] + [(group, group) for group in by_set.values()]


def _white(services: Services, frames: list[tuple[Frame, dict[str, Any]]]) -> dict[str, float]:
    """The middle of what is found in some frames; nothing where none has a raw sensor's light."""
    jobs = [services.workers.submit(white_by, f.path, "auto", v.get("profile.camera", "")) for f, v in frames]
    found = []
    for job in jobs:
        try:
            found.append(job.result()["values"])
        except TannerError:
            continue
    if not found:
        return {}
    mired = sorted(1e6 / v["white.temperature"] for v in found)[len(found) // 2]
    tint = sorted(v["white.tint"] for v in found)[len(found) // 2]
    return {"white.temperature": round(1e6 / mired), "white.tint": round(tint, 1)}


@router.post("/automatic")
def automatic_start(body: Automatic, services: WithServices) -> dict[str, Any]:
    """Exposure, ends, contrast, shadows, highlights, white balance and saturation from the pictures, as one step."""
    with services.catalogue.read() as session:
        frames = [f for f in frames_of(session, body.frames) if not f.error]
        if not frames:
            raise TannerError("None of these frames can be read.")
        resolver = Resolver(session, one_shoot(frames))
        values = {f.id: resolver.resolve(f).values for f in frames}
        groups = _groups(resolver, frames)
        session.expunge_all()
    changes: dict[int, dict[str, Any]] = {}
    for group, goals in groups:
        jobs = [
            services.workers.submit(measured_for_automatic, f.path, values[f.id], _kept(f, values[f.id], body.what))
            for f in _some(group, MOST)
        ]
        found: dict[str, Any] = automatic([j.result() for j in jobs], body.what)
        if "white" in body.what:
            found |= _white(services, [(f, values[f.id]) for f in _some(group, MOST_WHITE)])
        changes |= {f.id: found for f in goals}
    with services.catalogue.write() as session:
        frames = frames_of(session, list(changes))
        resolver = Resolver(session, one_shoot(frames))
        action = set_each(session, resolver, [(f, changes[f.id]) for f in frames], "Automatic start")
        return {**done(action), "values": {str(k): v for k, v in changes.items()}}


class Ends(BaseModel):
    """share: of the picture, in %, that may be clipped at each end."""

    model_config = ConfigDict(extra="forbid")
    channel: Literal["all", "red", "green", "blue"] = "all"
    share: float = Field(default=0.1, ge=0, le=10)


@router.post("/frames/{frame_id}/levels")
def levels(frame_id: int, body: Ends, services: WithServices) -> dict[str, Any]:
    """Black and white of levels from the picture; nothing is changed yet."""
    with services.catalogue.read() as session:
        frame = frame_of(session, frame_id)
        path, values = frame.path, Resolver(session, frame.shoot_id).resolve(frame).values
    job = services.workers.soon(level_ends_of, path, values, body.share / 100, body.channel)
    black, white = job.result()
    first = "" if body.channel == "all" else f"{body.channel}_"
    return {"values": {f"levels.{first}black": black, f"levels.{first}white": white}}


@router.post("/frames/{frame_id}/mono")
def mono(frame_id: int, services: WithServices) -> dict[str, Any]:
    """Weights of black and white from the picture; nothing is changed yet."""
    with services.catalogue.read() as session:
        frame = frame_of(session, frame_id)
        path, values = frame.path, Resolver(session, frame.shoot_id).resolve(frame).values
    found = services.workers.soon(mono_weights_of, path, values).result()
    return {"values": {**found, "mono.amount": values.get("mono.amount") or 100.0}}
