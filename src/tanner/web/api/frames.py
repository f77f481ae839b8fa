"""Frames: their picture, their state, and every change to their development and marks."""

from pathlib import Path
from typing import Annotated, Any, Literal

from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import BaseModel, ConfigDict, Field

from tanner.catalogue.alternates import make_alternates, take_out
from tanner.catalogue.development import carry, carry_list, give_up, set_values
from tanner.catalogue.originals import find_again, take_over
from tanner.catalogue.resolver import Resolver
from tanner.catalogue.steps import history, mark, record, state_after
from tanner.core.adjust.registry import develop
from tanner.core.areas.shapes import held_to_subject
from tanner.core.colour.profile_store import PROFILE_STORE
from tanner.core.colour.white import picked
from tanner.core.errors import TannerError
from tanner.core.output.files import file_hash
from tanner.core.render import camera_numbers
from tanner.core.series.applied_presets import described
from tanner.jobs.pictures import wish_for
from tanner.jobs.tasks import read_facts
from tanner.web.api.common import WithServices, done, frame_of, frames_of, one_shoot
from tanner.web.api.sheet import frame_row

router = APIRouter(prefix="/api", tags=["frames"])
Ids = Annotated[list[int], Field(min_length=1, max_length=20_000)]


class Body(BaseModel):
    model_config = ConfigDict(extra="forbid")
    frames: Ids


class Edit(Body):
    """Values by full name; `relative` ones become offsets where a frame follows."""

    values: dict[str, Any] = Field(max_length=100)
    relative: list[str] = []


class GiveUp(Body):
    keys: list[str] | None = None


class Marks(Body):
    stars: int | None = Field(default=None, ge=0, le=5)
    label: Literal["none", "red", "yellow", "green", "blue", "violet"] | None = None
    verdict: Literal["undecided", "keep", "drop"] | None = None
    follows: bool | None = None


class Carry(Body):
    source: int
    keys: list[str] = Field(min_length=1, max_length=2000)


@router.get("/frames/{frame_id}/picture", response_model=None)
def picture(frame_id: int, services: WithServices, v: str = "") -> Response:
    """The frame's small picture; an older one until the version asked for is ready."""
    exact = services.pictures.read(services.pictures.file(frame_id, v)) if v.isalnum() else None
    if exact:
        return _jpeg(exact, "private, max-age=31536000, immutable")
    with services.catalogue.read() as session:
        frame = frame_of(session, frame_id)
        services.pictures.want([wish_for(Resolver(session, frame.shoot_id), frame)])
    # An older picture may be taken away at any moment, when a newer one is ready.
    for _ in range(3):
        data = services.pictures.read(services.pictures.best(frame_id))
        if data:
            return _jpeg(data, "no-store")
    return Response(status_code=404, headers={"cache-control": "no-store"})


def _jpeg(data: bytes, keep: str) -> Response:
    return Response(data, media_type="image/jpeg", headers={"cache-control": keep})


@router.get("/frames/{frame_id}")
def state(frame_id: int, services: WithServices) -> dict[str, Any]:
    """All that the Bench shows of a frame besides its picture."""
    with services.catalogue.read() as session:
        frame = frame_of(session, frame_id)
        resolver = Resolver(session, frame.shoot_id)
        resolved = resolver.resolve(frame)
        lead = resolver.lead_of(frame)
        group = resolver.sets.get(frame.set_id or 0)
        row = frame_row(resolver, frame)
        facts = {
            k: frame.facts.get(k)
            for k in (
                "make",
                "model",
                "lens",
                "iso",
                "exposure_s",
                "aperture",
                "focal_length_mm",
                "mosaic",
                "warnings",
                "lens_found",
                "lens_source",
            )
        }
        return {
            **row,
            "values": resolved.values,
            "below": resolved.below,
            "layers": resolved.layers,
            "ownKeys": sorted(frame.own),
            "starting": frame.starting,
            "as_shot": frame.as_shot,
            "leadName": lead.name if lead else None,
            "setName": group.name if group else None,
            "facts": facts,
            "path": frame.path,
            "history": history(session, frame),
            "wornPresets": described(frame.worn, resolved.values),
        }


@router.post("/edit")
def edit(body: Edit, services: WithServices) -> dict[str, Any]:
    """Set values on frames, as one step; see the declarations of adjustments for names and ranges."""
    with services.catalogue.write() as session:
        frames = frames_of(session, body.frames)
        resolver = Resolver(session, one_shoot(frames))
        return done(set_values(session, resolver, frames, body.values, relative=body.relative))


@router.post("/giveup")
def give_up_values(body: GiveUp, services: WithServices) -> dict[str, Any]:
    """Let frames follow their lead, or their beginning, again: in these values, or in all."""
    with services.catalogue.write() as session:
        frames = frames_of(session, body.frames)
        return done(give_up(session, Resolver(session, one_shoot(frames)), frames, body.keys))


@router.post("/marks")
def marks(body: Marks, services: WithServices) -> dict[str, Any]:
    """Stars, label, verdict, and whether frames follow their lead; frames of several shoots get a step in each."""
    fields = body.model_dump(exclude={"frames"}, exclude_none=True)
    said = ", ".join(f"{k} {v}" for k, v in fields.items())
    with services.catalogue.write() as session:
        return done(next(iter(mark(session, body.frames, said, fields)), None))


@router.post("/alternates")
def alternates(body: Body, services: WithServices) -> dict[str, Any]:
    """One more development of each frame, beside it in its set; their ids in the order of the frames."""
    with services.catalogue.write() as session:
        frames = frames_of(session, body.frames)
        one_shoot(frames)
        action, made = make_alternates(session, frames)
        return {**done(action), "made": made}


@router.post("/take-out")
def take_out_frames(body: Body, services: WithServices) -> dict[str, Any]:
    """Take frames out of their shoot. Their files stay where they are, and undo brings the frames back."""
    with services.catalogue.write() as session:
        frames = frames_of(session, body.frames)
        one_shoot(frames)
        return done(take_out(session, frames))


@router.get("/frames/{frame_id}/carry")
def carry_choices(frame_id: int, services: WithServices) -> dict[str, Any]:
    """The values of a frame that can be carried over, by group."""
    with services.catalogue.read() as session:
        frame = frame_of(session, frame_id)
        resolver = Resolver(session, frame.shoot_id)
        found = carry_list(resolver, frame)
    for row in found:
        # A profile by its name, as everywhere on the screen, instead of its key.
        if row["key"] == "profile.camera" and (profile := PROFILE_STORE.find(row["value"])):
            row["value"] = profile.name
    return {"name": frame.name, "adjustments": found}


@router.post("/carry")
def carry_over(body: Carry, services: WithServices) -> dict[str, Any]:
    """Carry chosen values of a frame over to others, as one step."""
    with services.catalogue.write() as session:
        source = frame_of(session, body.source)
        frames = frames_of(session, body.frames)
        resolver = Resolver(session, source.shoot_id)
        shown = resolver.resolve(source).values
        action, changed = carry(session, resolver, source, frames, body.keys)
    held = [k.split("/")[1] for k in body.keys if k.endswith("/shapes") and held_to_subject(shown.get(k, ()))]
    if held:
        services.following.carried(body.source, body.frames, held)
    return {**done(action), "changed": changed}


@router.post("/frames/{frame_id}/restore/{action_id}")
def restore(frame_id: int, action_id: int, services: WithServices) -> dict[str, Any]:
    """Go back to how the frame was after a step (0: before the first)."""
    with services.catalogue.write() as session:
        frame = frame_of(session, frame_id)
        fields = state_after(session, frame, action_id)
        return done(record(session, frame.shoot_id, "Back to an earlier step", [(frame, fields)]))


class Pick(BaseModel):
    model_config = ConfigDict(extra="forbid")
    x: float = Field(ge=0, le=1)
    y: float = Field(ge=0, le=1)
    radius: float = Field(default=0.006, gt=0, le=0.1)


@router.post("/frames/{frame_id}/pick")
def pick(frame_id: int, body: Pick, services: WithServices) -> dict[str, Any]:
    """Temperature and tint that make a place of the shown picture neutral."""
    with services.catalogue.read() as session:
        frame = frame_of(session, frame_id)
        values = Resolver(session, frame.shoot_id).resolve(frame).values
    entry = services.viewer.entry(frame.path)
    source = entry.future.result()
    with entry.lock:
        numbers = camera_numbers(source, develop(values), body.x, body.y, body.radius)
    if numbers.min() <= 0.0005:
        raise TannerError("This place is too dark to tell its colour. Pick a lighter neutral one.")
    if (numbers * (1 if source.facts.is_raw else 0)).max() >= 0.98:
        raise TannerError("This place is clipped, so its colour is not known. Pick a darker neutral one.")
    return {"values": picked(source.colour_by(values.get("profile.camera", ""))[0], numbers)}


@router.post("/frames/{frame_id}/locate")
def locate(frame_id: int, services: WithServices) -> dict[str, Any]:
    """Try a frame again whose file could not be read, after it was put back or the drive connected."""
    with services.catalogue.write() as session:
        frame = frame_of(session, frame_id)
        if not Path(frame.path).exists():
            raise TannerError(f"{frame.name}: is not at {frame.path}. Put it back or connect its drive.")
        frame.error = ""
        services.pictures.retry(frame_id)
        services.pictures.want([wish_for(Resolver(session, frame.shoot_id), frame)])
    return {"done": "tried again"}


@router.post("/frames/{frame_id}/file")
def take_file(frame_id: int, services: WithServices) -> dict[str, Any]:
    """The file that lies under the frame's name is the frame's from now on, though another came in."""
    with services.catalogue.read() as session:
        path = Path(frame_of(session, frame_id).path)
    content = file_hash(path)
    take_over(services.catalogue, frame_id, services.workers.soon(read_facts, str(path)).result(), content)
    services.pictures.retry(frame_id)
    return {"done": f"{path.name} is this frame's file now"}


@router.post("/frames/{frame_id}/find")
def find_file(frame_id: int, services: WithServices) -> dict[str, Any]:
    """Look for the file that came in, by its content: beside the frame's place first, then in the opened folders."""
    with services.catalogue.read() as session:
        beside = Path(frame_of(session, frame_id).path).parent
    folders = [f for f in (beside, *services.folders.roots) if f.is_dir()]
    found = find_again(services.catalogue, frame_id, folders)
    services.pictures.retry(frame_id)
    return {"done": f"found again as {found.name}", "path": str(found)}
