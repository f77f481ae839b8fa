"""Noise: methods side by side, work done ahead, and quiet copies."""

from typing import Annotated, Any

from fastapi import APIRouter, Query
from fastapi.responses import Response

from tanner.catalogue.resolver import Resolver
from tanner.core.adjust.registry import develop
from tanner.core.errors import TannerError
from tanner.core.noise.controls import Method, Noise
from tanner.core.noise.stage import done_before, method_for
from tanner.jobs.denoise.denoising import CopyOptions
from tanner.web.api.common import WithServices, frame_of, frames_of, one_shoot
from tanner.web.api.frames import Body

router = APIRouter(prefix="/api")
Share = Annotated[float, Query(ge=0, le=1)]


class Copies(Body):
    options: CopyOptions


@router.get("/frames/{frame_id}/piece")
def piece(
    frame_id: int,
    services: WithServices,
    method: Method,
    x: Share,
    y: Share,
    w: Annotated[int, Query(ge=64, le=1600)],
    h: Annotated[int, Query(ge=64, le=1600)],
) -> Response:
    """A piece of the frame at 100 % by a method: at most w x h px around a place in shares of the picture."""
    with services.catalogue.read() as session:
        frame = frame_of(session, frame_id)
        values = Resolver(session, frame.shoot_id).resolve(frame).values
    jpeg = services.viewer.piece(frame.path, values, method, (x, y), (w, h))
    return Response(jpeg, media_type="image/jpeg", headers={"cache-control": "no-store"})


@router.get("/frames/{frame_id}/telling")
def telling(frame_id: int, services: WithServices) -> dict[str, Any]:
    """Where to look first when methods are compared, and which methods there are for this frame."""
    with services.catalogue.read() as session:
        frame = frame_of(session, frame_id)
        values = Resolver(session, frame.shoot_id).resolve(frame).values
    source = services.viewer.source(frame.path)
    if done_before(source):
        raise TannerError(f"{frame.name}: its noise is taken out already, so there is nothing to compare.")
    noise = develop(values).group(Noise)
    known = [m for m in ("quick", "fine", "learned") if method_for(source, noise.model_copy(update={"method": m})) == m]
    x, y = services.viewer.sample_region(frame.path, values)
    return {"x": x, "y": y, "methods": ["none", *known], "full": services.viewer.full(frame.path, values)}


@router.get("/quiet/options")
def options(services: WithServices) -> dict[str, Any]:
    """The options of the last quiet copies."""
    last, some = services.denoising.last()
    return {"options": last.model_dump(), "again": some}


@router.post("/quiet/copies")
def copies(body: Copies, services: WithServices) -> dict[str, Any]:
    """Begin to write quiet copies beside their originals, or into a folder."""
    if body.options.folder:
        folder = services.folders.allow(body.options.folder)
        if not folder.is_dir():
            raise TannerError(f"{folder}: is no folder.")
    with services.catalogue.read() as session:
        frames = frames_of(session, body.frames)
        one_shoot(frames)
        return services.denoising.copies(frames, body.options).as_dict()


@router.post("/quiet/ahead")
def ahead(body: Body, services: WithServices) -> dict[str, Any]:
    """Work out the methods of frames ahead of time, so that they need not be waited for."""
    with services.catalogue.read() as session:
        frames = frames_of(session, body.frames)
        resolver = Resolver(session, one_shoot(frames))
        wishes = [(f, develop(resolver.resolve(f).values).group(Noise)) for f in frames]
    wanted = [(f, n) for f, n in wishes if n.method in ("fine", "learned")]
    if not wanted:
        raise TannerError(
            "None of these frames has its noise taken out by fine or learned: nothing is to be done ahead."
        )
    return services.denoising.ahead(wanted).as_dict()


@router.get("/quiet/{number}")
def state(number: int, services: WithServices) -> dict[str, Any]:
    return services.denoising.job(number).as_dict()


@router.post("/quiet/{number}/cancel")
def cancel(number: int, services: WithServices) -> dict[str, Any]:
    services.denoising.cancel(number)
    return {"cancelled": number}
