"""Camera profiles: chosen on the Bench, listed in Kit, made from chart shots."""

from pathlib import Path
from typing import Annotated, Any, Literal

import numpy as np
from fastapi import APIRouter, Query, Request
from fastapi.responses import Response
from pydantic import BaseModel, ConfigDict, Field

from tanner.catalogue.profiles import Rule
from tanner.catalogue.resolver import Resolver
from tanner.core.adjust.registry import develop
from tanner.core.colour.dcp import read_dcp
from tanner.core.colour.profile_store import fits_names
from tanner.core.colour.spaces import SPACES, icc_profile
from tanner.core.errors import TannerError
from tanner.core.render import development_cube
from tanner.jobs.measure.tasks import chart_preview, find_chart, made_profile, white_by
from tanner.web.api.common import WithServices, attachment, frame_of
from tanner.web.serving.services import MadeBehind

router = APIRouter(prefix="/api", tags=["profiles"])
Corner = Annotated[
    list[Annotated[float, Field(ge=-0.5, le=1.5, allow_inf_nan=False)]], Field(min_length=2, max_length=2)
]


class ChartShot(BaseModel):
    model_config = ConfigDict(extra="forbid")
    frame: int
    light: str = Field(min_length=1, max_length=20)
    corners: list[Corner] | None = Field(default=None, min_length=4, max_length=4)


class Make(BaseModel):
    model_config = ConfigDict(extra="forbid")
    shots: list[ChartShot] = Field(min_length=1, max_length=2)
    name: str = Field(min_length=1, max_length=80)
    table: bool = True
    chart: str | None = Field(default=None, max_length=2_000_000)
    chart_set: str = Field(default="", max_length=40)
    aim: Literal["published", "seen"] = "published"


class KeepProfile(BaseModel):
    model_config = ConfigDict(extra="forbid")
    made: int


class ProfileRules(BaseModel):
    model_config = ConfigDict(extra="forbid")
    rules: list[Rule] = Field(max_length=200)


@router.get("/profiles")
def profiles(services: WithServices) -> dict[str, Any]:
    """Camera profiles, ICC profiles and looks, and rules that choose them."""
    found, problems = services.profiles.all()
    return {
        "profiles": found,
        "problems": problems,
        "rules": [r.model_dump() for r in services.profiles.rules()],
        "iccs": [i for i in services.profiles.others(".icc") if i["kind"] == "output"],
        "camera_iccs": [i for i in services.profiles.others(".icc") if i["kind"] == "camera"],
        "looks": services.profiles.others(".cube"),
        "lens_files": services.profiles.others(".xml"),
        "pictures": services.profiles.others(".png"),
    }


@router.delete("/profiles/other")
def delete_other(key: str, ending: str, services: WithServices) -> dict[str, Any]:
    services.profiles.delete_other(key, ending)
    services.catalogue.touch()
    return {"deleted": key}


@router.get("/spaces/{name}.icc")
def space_profile(name: str, version: Annotated[int, Query(ge=2, le=4)] = 4) -> Response:
    """One of the output profiles that are made here, as a file."""
    if name not in SPACES or version == 3:
        raise TannerError("There is no such output profile.")
    headers = {"content-disposition": f'attachment; filename="tanner-{name}-v{version}.icc"'}
    return Response(icc_profile(name, version), media_type="application/vnd.iccprofile", headers=headers)


@router.get("/frames/{frame_id}/look.cube")
def give_out_look(frame_id: int, services: WithServices) -> Response:
    """The global part of the frame's development as a .cube file."""
    with services.catalogue.read() as session:
        frame = frame_of(session, frame_id)
        values = Resolver(session, frame.shoot_id).resolve(frame).values
    entry = services.viewer.entry(frame.path)
    source = entry.future.result()
    with entry.lock:
        text = development_cube(source, develop(values), Path(frame.name).stem)
    headers = attachment(f"{Path(frame.name).stem}.cube")
    return Response(text, media_type="text/plain; charset=utf-8", headers=headers)


@router.post("/frames/{frame_id}/white/{method}")
def white(frame_id: int, method: Literal["auto", "chart"], services: WithServices) -> dict[str, Any]:
    """White balance by itself: from all of the picture, or from the grey patches of a chart in it."""
    with services.catalogue.read() as session:
        frame = frame_of(session, frame_id)
        values = Resolver(session, frame.shoot_id).resolve(frame).values
    wanted = services.workers.soon(white_by, frame.path, method, values.get("profile.camera", "")).result()
    return dict(wanted)


@router.post("/profiles/file")
async def bring_in(request: Request, name: str, services: WithServices) -> dict[str, Any]:
    """Add a .dcp from the bytes of its file."""
    data = b""
    async for chunk in request.stream():
        data += chunk
        if len(data) > 64 << 20:
            raise TannerError(f"{name} is larger than any camera profile.")
    key = services.profiles.add(data, name)
    services.catalogue.touch()
    return {"key": key}


@router.get("/profiles/file")
def give_out(key: str, services: WithServices) -> Response:
    path = services.profiles.path(key)
    headers = attachment(path.name)
    return Response(path.read_bytes(), media_type="application/octet-stream", headers=headers)


@router.get("/profiles/report")
def report(key: str, services: WithServices) -> dict[str, Any]:
    found = services.profiles.report(key)
    if found is None:
        raise TannerError("There is no report for this profile: it was not made here.")
    return found


@router.delete("/profiles")
def delete(key: str, services: WithServices) -> dict[str, Any]:
    services.profiles.delete(key)
    services.catalogue.touch()
    return {"deleted": key}


@router.post("/profiles/rules")
def set_rules(body: ProfileRules, services: WithServices) -> dict[str, Any]:
    for rule in body.rules:
        services.profiles.path(rule.profile)
    services.profiles.save_rules(body.rules)
    services.catalogue.touch()
    return {"rules": len(body.rules)}


@router.get("/frames/{frame_id}/profiles")
def choices(frame_id: int, services: WithServices) -> dict[str, Any]:
    """What the frame can be shown with: what lies in it, what fits its camera, and the rest."""
    with services.catalogue.read() as session:
        frame = frame_of(session, frame_id)
        value = Resolver(session, frame.shoot_id).resolve(frame).values.get("profile.camera", "")
        facts = frame.facts
    inside = list(facts.get("profiles", ()))
    raw = facts.get("kind") != "finished"
    first = (
        inside[0] if inside else "the file's matrices" if facts.get("colour_matrices") else "no colour data: a fallback"
    )
    rows: list[dict[str, Any]] = [{"key": "", "name": "As the file says", "about": first, "fits": True}]
    if inside:
        rows.append({"key": "matrix", "name": "Plain matrix", "about": "the file's matrices alone", "fits": True})
        rows += [
            {"key": f"embedded-{n}", "name": name, "about": "inside the file", "fits": True}
            for n, name in enumerate(inside[1:], 2)
        ]
    for p in services.profiles.all()[0] if raw else []:
        fits = fits_names(p["model"], facts.get("make", ""), facts.get("model", ""), facts.get("unique_model", ""))
        lights = " and ".join(f"{k:,} K" for k in p["lights"])
        about = f"for {lights}" if fits else f"for {p['model']}"
        rows.append({"key": p["key"], "name": p["name"], "about": about, "fits": fits})
    rows += [
        {"key": i["key"], "name": i["name"], "about": "ICC profile of a camera", "fits": True}
        for i in (services.profiles.others(".icc") if raw else [])
        if i["kind"] == "camera"
    ]
    if value and value not in {r["key"] for r in rows}:
        rows.append(
            {"key": value, "name": value, "about": "is no longer there: the file's own colour is used", "fits": True}
        )
    return {"profiles": rows, "value": value, "camera": facts.get("unique_model") or facts.get("model", ""), "raw": raw}


@router.get("/frames/{frame_id}/profiles/try")
def try_profile(
    frame_id: int, services: WithServices, key: str = "", edge: Annotated[int, Query(ge=64, le=640)] = 160
) -> Response:
    """The frame with another profile, small, without changing anything."""
    with services.catalogue.read() as session:
        frame = frame_of(session, frame_id)
        values = Resolver(session, frame.shoot_id).resolve(frame).values
    jpeg = services.viewer.picture(frame.path, {**values, "profile.camera": key}, edge)
    return Response(jpeg, media_type="image/jpeg", headers={"cache-control": "no-store"})


@router.get("/frames/{frame_id}/chart/picture")
def chart_picture(frame_id: int, services: WithServices) -> Response:
    """The upright frame as a chart is looked for in it: white-balanced as shot, without any look."""
    with services.catalogue.read() as session:
        path = frame_of(session, frame_id).path
    jpeg = services.workers.soon(chart_preview, path).result()
    return Response(jpeg, media_type="image/jpeg", headers={"cache-control": "no-store"})


@router.post("/frames/{frame_id}/chart")
def find(frame_id: int, services: WithServices) -> dict[str, Any]:
    """Find the chart by itself; the four corners, or why there is none."""
    with services.catalogue.read() as session:
        path = frame_of(session, frame_id).path
    return {"corners": services.workers.soon(find_chart, path).result()}


@router.post("/profiles/make")
def make(body: Make, services: WithServices) -> dict[str, Any]:
    """Make a profile; it is kept when that is asked for."""
    with services.catalogue.read() as session:
        paths = [frame_of(session, s.frame).path for s in body.shots]
    corners = [np.array(s.corners).tolist() if s.corners else None for s in body.shots]
    lights = [s.light for s in body.shots]
    data, report = services.workers.submit(
        made_profile, paths, lights, corners, body.name.strip(), body.table, body.chart, body.chart_set, body.aim
    ).result()
    made = services.made.add(lambda number: MadeBehind(number, read_dcp(data), report))
    return {"made": made.number, "report": report}


@router.post("/profiles/keep")
def keep(body: KeepProfile, services: WithServices) -> dict[str, Any]:
    made = services.made.get(body.made)
    if made is None:
        raise TannerError("This profile is no longer in memory. Make it again.")
    key = services.profiles.keep(made.profile, made.report)
    services.catalogue.touch()
    return {"key": key}
