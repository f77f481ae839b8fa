"""Presets on frames: tried, put on, taken out, moved, kept; rules that put them on; and putting adjustments back."""

from typing import Annotated, Any

from fastapi import APIRouter, Query
from fastapi.responses import Response
from pydantic import BaseModel, ConfigDict, Field

from tanner.catalogue.development import apply_presets, rearrange, reset
from tanner.catalogue.resolver import Resolver, about_of
from tanner.catalogue.ruling import apply_rules, would_apply
from tanner.core.adjust.registry import GROUPS, blend
from tanner.core.areas.shapes import held_to_subject
from tanner.core.errors import SettingsError, TannerError
from tanner.core.raw.facts import FrameFacts
from tanner.core.series.conditional import About
from tanner.core.series.kinds import LookedFor, What
from tanner.core.series.preset import Preset, StoredMatch
from tanner.core.series.resolve import computed
from tanner.core.series.rules import FrameRule
from tanner.jobs.match.matching import Reference, figures_of
from tanner.jobs.tasks import read_facts
from tanner.web.api.common import WithServices, done, frame_of, frames_of, one_shoot
from tanner.web.api.frames import Body

router = APIRouter(prefix="/api", tags=["presets"])
Groups = Annotated[list[str], Field(max_length=len(GROUPS))]


class Apply(Body):
    """A preset at an amount in %; groups in `leave` stay as they are."""

    key: str
    amount: float = Field(default=100, ge=0, le=150)
    leave: Groups = []


class KeepPreset(Body):
    """The presets that frames keep, by their keys, the lowest first."""

    keys: list[str] = Field(max_length=100)


class Reset(Body):
    """Groups that are put back to how frames start; all of them without any."""

    groups: Groups | None = None


class SaveMatch(BaseModel):
    model_config = ConfigDict(extra="forbid")
    kind: LookedFor = "backdrop"
    what: What = "both"
    tone: bool = False


class Save(BaseModel):
    """A preset made of the current values of chosen groups, and of the frame as a reference to be matched to."""

    model_config = ConfigDict(extra="forbid")
    name: str = Field(min_length=1, max_length=80)
    folder: str = Field(default="Own", min_length=1, max_length=80)
    about: str = Field(default="", max_length=300)
    groups: list[str] = []
    match: SaveMatch | None = None
    replace: bool = False


class RulesWish(BaseModel):
    model_config = ConfigDict(extra="forbid")
    rules: list[FrameRule] = Field(max_length=200)


class Files(BaseModel):
    model_config = ConfigDict(extra="forbid")
    files: list[str] = Field(min_length=1, max_length=200)


@router.get("/frames/{frame_id}/try")
def try_preset(
    frame_id: int,
    key: str,
    services: WithServices,
    amount: Annotated[float, Query(ge=0, le=150)] = 100,
    edge: Annotated[int, Query(ge=64, le=800)] = 160,
    leave: Annotated[str, Query(max_length=200)] = "",
) -> Response:
    """The frame with a preset on it, small, without changing anything; leave: groups with commas."""
    preset = services.library.preset(key)
    with services.catalogue.read() as session:
        frame = frame_of(session, frame_id)
        values = Resolver(session, frame.shoot_id).resolve(frame).values
    put = preset.at(amount / 100, about_of(frame), leave.split(","))
    jpeg = services.viewer.picture(frame.path, {**values, **put}, edge)
    return Response(jpeg, media_type="image/jpeg", headers={"cache-control": "no-store"})


@router.post("/apply")
def apply(body: Apply, services: WithServices) -> dict[str, Any]:
    """Put a preset on top of those of frames; one with a stored reference begins to match them to it."""
    preset = services.library.preset(body.key)
    with services.catalogue.write() as session:
        frames = frames_of(session, body.frames)
        resolver = Resolver(session, one_shoot(frames))
        label = f"Preset {preset.name} at {body.amount:g} %"
        wanted = [
            (f, body.key, preset.name, body.amount, preset.at(body.amount / 100, about_of(f), body.leave))
            for f in frames
        ]
        answer = done(apply_presets(session, resolver, wanted, label))
    return {**answer, "match": begin_match(services, body.frames, preset)}


def begin_match(services: WithServices, ids: list[int], preset: Preset) -> int | None:
    """The number of the match to a preset's stored reference; None when it has none."""
    if preset.match is None:
        return None
    with services.catalogue.read() as session:
        frames = frames_of(session, ids)
        resolver = Resolver(session, one_shoot(frames))
        return services.matching.start_stored(preset.match, preset.name, frames, resolver).number


@router.post("/worn")
def rearrange_presets(body: KeepPreset, services: WithServices) -> dict[str, Any]:
    """Another order of the presets of frames, or some taken out."""
    with services.catalogue.write() as session:
        frames = frames_of(session, body.frames)
        resolver = Resolver(session, one_shoot(frames))
        gone = {e["name"] for f in frames for e in f.worn if e["key"] not in body.keys}
        label = f"Removed: {', '.join(sorted(gone))}" if gone else "Presets in another order"
        return done(rearrange(session, resolver, frames, body.keys, label))


@router.post("/reset")
def put_back(body: Reset, services: WithServices) -> dict[str, Any]:
    """Put groups of frames, or all of them, back to how they begin."""
    with services.catalogue.write() as session:
        frames = frames_of(session, body.frames)
        return done(reset(session, Resolver(session, one_shoot(frames)), frames, body.groups))


@router.post("/frames/{frame_id}/preset")
def save_preset(frame_id: int, body: Save, services: WithServices) -> dict[str, Any]:
    """Keep chosen groups of a frame's development as a preset, and its area's figures where it is to be matched to."""
    with services.catalogue.read() as session:
        frame = frame_of(session, frame_id)
        values = Resolver(session, frame.shoot_id).resolve(frame).values
    chosen = {k: v for k, v in values.items() if (k.split("/")[0] if "/" in k else k.split(".")[0]) in body.groups}
    # Only areas that find their place in any frame: what was drawn on a subject means nothing elsewhere.
    bound = {k.removesuffix("shapes") for k, v in chosen.items() if k.endswith("/shapes") and held_to_subject(v)}
    chosen = {k: v for k, v in chosen.items() if not computed(k) and not (bound and k.startswith(tuple(bound)))}
    if bound and not chosen and not body.match:
        raise SettingsError(
            "Areas that hold to the subject of this frame mean nothing in others, so that no preset can keep them. "
            "Carry them over, or let them hold to the frame."
        )
    if not chosen and not body.match:
        raise SettingsError("These groups are all at their neutral values: there is nothing to keep.")
    stored = None
    if body.match:
        found = services.workers.soon(figures_of, Reference(frame.path, values, kind=body.match.kind)).result()
        stored = StoredMatch(
            kind=body.match.kind, lab=found["lab"], scale=found["scale"], what=body.match.what, tone=body.match.tone,
            of=frame.name,
        )  # fmt: skip
    preset = Preset(
        name=body.name.strip(), folder=body.folder.strip(), about=body.about.strip(), values=blend(chosen, 1.0), match=stored
    )  # fmt: skip
    return {"key": services.library.save_preset(preset, replace=body.replace)}


# --- rules ---------------------------------------------------------------------------------------


@router.get("/rules")
def rules(services: WithServices) -> dict[str, Any]:
    """Rules that put presets on frames, in their order."""
    return {"rules": [{**r.model_dump(), "words": r.when.words()} for r in services.library.rules()]}


@router.post("/rules")
def save_rules(body: RulesWish, services: WithServices) -> dict[str, Any]:
    """Keep these rules in this order."""
    for rule in body.rules:
        services.library.preset(rule.preset)
    services.library.save_rules(body.rules)
    return {"saved": len(body.rules)}


@router.post("/rules/dry")
def dry_run(body: Body, services: WithServices) -> dict[str, Any]:
    """What the rules would put on frames, and how many adjustments that would change; nothing is done."""
    with services.catalogue.read() as session:
        frames = frames_of(session, body.frames)
        resolver = Resolver(session, one_shoot(frames))
        return {"rows": would_apply(resolver, frames, services.library)}


@router.post("/rules/apply")
def by_rules(body: Body, services: WithServices) -> dict[str, Any]:
    """Put presets on frames by the rules, as one step."""
    with services.catalogue.write() as session:
        frames = frames_of(session, body.frames)
        action, presets = apply_rules(session, Resolver(session, one_shoot(frames)), frames, services.library)
    matches = [m for p, ids in presets if (m := begin_match(services, ids, p))]
    return {**done(action), "match": matches[-1] if matches else None}


@router.post("/rules/files")
def dry_files(body: Files, services: WithServices) -> dict[str, Any]:
    """What the rules would put on files that are not in yet."""
    waiting = []
    for text in body.files:
        path = services.folders.allow(text)
        waiting.append((path, services.workers.submit(read_facts, str(path))))
    rows: list[dict[str, Any]] = []
    seen = []
    for path, future in waiting:
        row: dict[str, Any] = {"name": path.name, "presets": []}
        rows.append(row)
        try:
            facts = future.result()
        except TannerError as error:
            row["error"] = str(error)
            continue
        known = FrameFacts(**{k: v for k, v in facts.items() if k in FrameFacts.model_fields})
        turned = known.orientation >= 5
        upright = (known.width > known.height) if turned else (known.height > known.width)
        seen.append((row, About(known.iso, facts["as_shot"][0], known.camera_name, known.lens, upright)))
    given = services.library.by_rules((about, row["name"]) for row, about in seen)
    for (row, _), presets in zip(seen, given, strict=True):
        row["presets"] = presets
    return {"rows": rows}
