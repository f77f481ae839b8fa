"""Exact colours of frames, and picked ranges: a sample from the picture, a colour as people write it, and how it came out over a set."""

import tempfile
from pathlib import Path
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Request
from pydantic import BaseModel, ConfigDict, Field

from tanner.catalogue.development import remove_things
from tanner.catalogue.resolver import Resolver
from tanner.core.adjust.items import ID
from tanner.core.adjust.registry import LISTS, develop
from tanner.core.colour.exact import MOST, described, hex_of, parse_colour
from tanner.core.errors import TannerError
from tanner.core.measure import xyz_to_lab
from tanner.core.profile.chart import read_cgats
from tanner.core.series.exactness import exact_pairs
from tanner.jobs.measure.tasks import exact_of, range_of, sample_of
from tanner.web.api.common import WithServices, done, frame_of, frames_of, one_shoot
from tanner.web.api.frames import Body
from tanner.web.api.kit import body_of
from tanner.web.serving.services import Services

router = APIRouter(prefix="/api", tags=["exact colours"])
Share = Annotated[float, Field(ge=0, le=1)]


class TargetsGone(Body):
    """Exact colours or picked ranges of frames."""

    of: Literal["exact", "picked"]
    ids: list[Annotated[str, Field(pattern=f"^{ID.pattern}$")]] = Field(min_length=1, max_length=MOST)


class PlaceAsked(BaseModel):
    """A place of the developed picture: shares of its width and height."""

    model_config = ConfigDict(extra="forbid")
    x: Share
    y: Share


class TargetsWish(BaseModel):
    model_config = ConfigDict(extra="forbid")
    text: str = Field(min_length=1, max_length=80)


class ExactFrames(BaseModel):
    model_config = ConfigDict(extra="forbid")
    frames: list[int] = Field(min_length=1, max_length=500)


def _developed(services: Services, frame_id: int) -> tuple[str, dict[str, Any]]:
    """A frame's file and its settings."""
    with services.catalogue.read() as session:
        frame = frame_of(session, frame_id)
        return frame.path, dict(Resolver(session, frame.shoot_id).resolve(frame).values)


@router.post("/colours/remove")
def remove(body: TargetsGone, services: WithServices) -> dict[str, Any]:
    """Remove exact colours or picked ranges from frames; a lead's own go for its set, followed ones on that frame only."""
    with services.catalogue.write() as session:
        frames = frames_of(session, body.frames)
        return done(remove_things(session, Resolver(session, one_shoot(frames)), frames, LISTS[body.of], body.ids))


@router.post("/exact/read")
def read(body: TargetsWish) -> dict[str, Any]:
    """A colour as people write it, as L*a*b* and sRGB."""
    lab = parse_colour(body.text)
    return {"lab": lab, "hex": hex_of(lab)}


@router.post("/exact/list")
async def bring_in_list(request: Request, name: str) -> dict[str, Any]:
    """The client's colours from a CGATS.17 file, by name, as L*a*b* (D50) and sRGB."""
    data = await body_of(request)
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "list.txt"
        file.write_bytes(data)
        try:
            chart = read_cgats(file, laid_out=False)
        except TannerError as error:
            raise TannerError(str(error).replace("list.txt", name)) from None
    colours = xyz_to_lab(chart.under(None)[:2000])
    rows = [
        {"name": n, "lab": (lab := [round(float(v), 3) for v in row]), "hex": hex_of(lab)}
        for n, row in zip(chart.patches, colours, strict=False)
    ]
    return {"title": Path(name).stem, "colours": rows}


@router.post("/frames/{frame_id}/exact/sample")
def sample(frame_id: int, body: PlaceAsked, services: WithServices) -> dict[str, Any]:
    """The colour of the developed picture around a place, before exact colours."""
    lab = services.workers.soon(sample_of, *_developed(services, frame_id), (body.x, body.y)).result()
    return {"lab": lab, "hex": hex_of(lab)}


@router.post("/frames/{frame_id}/picked/sample")
def range_sample(frame_id: int, body: PlaceAsked, services: WithServices) -> dict[str, Any]:
    """The middle of a range that is picked in the developed picture: Oklab's lightness, chroma and hue in degrees."""
    middle = services.workers.soon(range_of, *_developed(services, frame_id), (body.x, body.y)).result()
    return {"middle": middle}


@router.get("/frames/{frame_id}/exact")
def pairs(frame_id: int, services: WithServices) -> dict[str, Any]:
    """What is said of a frame's exact colours: differences before and after at the samples, and how far each reaches."""
    _, values = _developed(services, frame_id)
    there = exact_pairs(develop(values))
    said = described([pair for _, pair in there])
    return {"pairs": [{"id": ident, **row} for (ident, _), row in zip(there, said, strict=True)]}


@router.post("/exact/measure")
def measure(body: ExactFrames, services: WithServices) -> dict[str, Any]:
    """How exact colours came out in frames: of what has the sample's colour, CIEDE2000 from the target before and after."""
    with services.catalogue.read() as session:
        frames = frames_of(session, body.frames)
        resolver = Resolver(session, one_shoot(frames))
        asked = [(f.id, f.name, f.path, dict(resolver.resolve(f).values)) for f in frames]
    futures = [(i, name, services.workers.submit(exact_of, path, values)) for i, name, path, values in asked]
    rows = []
    for i, name, future in futures:
        try:
            rows.append({"frame": i, "name": name, **future.result()})
        except TannerError as error:
            rows.append({"frame": i, "name": name, "rows": [], "trouble": str(error)})
    return {"frames": rows}
