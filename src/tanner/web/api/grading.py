"""ASC CDL on a frame: a file's correction as curves of the channels; channels and three-way balance as a file."""

from pathlib import Path
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import Response

from tanner.catalogue.development import set_each
from tanner.catalogue.resolver import Resolver
from tanner.core.adjust.registry import develop
from tanner.core.colour.balance import Balance
from tanner.core.colour.cdl import read_cdl, to_curves, write_cdl
from tanner.core.stages.as_cdl import said
from tanner.core.tone.curve import Curve
from tanner.core.tone.levels import Levels
from tanner.web.api.common import WithServices, attachment, done, frame_of
from tanner.web.api.kit import body_of

router = APIRouter(prefix="/api")


@router.post("/frames/{frame_id}/cdl")
async def bring_in_cdl(request: Request, frame_id: int, name: str, services: WithServices) -> dict[str, Any]:
    """Set the first correction of a .cdl, .ccc or .cc file as the curves of red, green and blue; what is not carried is said."""
    corrections = read_cdl(await body_of(request), name)
    first = corrections[0]
    notes = (
        []
        if first.saturation == 1
        else [f"Its saturation of {first.saturation:g} is not carried: set it under Colour."]
    )
    if len(corrections) > 1:
        notes.append(f"The first of {len(corrections)} corrections was taken.")
    with services.catalogue.write() as session:
        frame = frame_of(session, frame_id)
        resolver = Resolver(session, frame.shoot_id)
        values = {f"curve.{c}": [list(p) for p in points] for c, points in to_curves(first).items()}
        action = set_each(session, resolver, [(frame, values)], f"Correction {first.name or name}")
        return {**done(action), "notes": notes}


@router.get("/frames/{frame_id}/cdl.cc")
def give_out_cdl(frame_id: int, services: WithServices) -> Response:
    """Levels and curves of the frame's channels and its three-way balance as an ASC CDL file.

    Headers say how far it is off at most on greys and on the colours of sRGB, in % of the scale.
    """
    with services.catalogue.read() as session:
        frame = frame_of(session, frame_id)
        development = develop(Resolver(session, frame.shoot_id).resolve(frame).values)
        stem = Path(frame.name).stem
    found = said(development.group(Levels), development.group(Curve), development.group(Balance), stem)
    headers = {
        **attachment(f"{stem}.cc"),
        "x-tanner-off": f"{100 * found.greys:.2f}",
        "x-tanner-off-colours": f"{100 * found.colours:.2f}",
    }
    return Response(write_cdl(found.correction), media_type="application/xml", headers=headers)
