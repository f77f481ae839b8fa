"""Kit: presets and output specs as files of their own, brought in, given out and removed."""

from typing import Annotated, Any

from fastapi import APIRouter, Query, Request
from fastapi.responses import Response
from pydantic import BaseModel, ConfigDict

from tanner.core.colour.spaces import SPACES
from tanner.core.errors import TannerError
from tanner.core.optics.database import search
from tanner.core.output.spec import OutputSpec, said
from tanner.web.api.common import Desk, attachment

router = APIRouter(prefix="/api", tags=["kit"])


class SaveSpec(BaseModel):
    model_config = ConfigDict(extra="forbid")
    spec: OutputSpec
    replace: bool = False


@router.get("/presets")
def presets(desk: Desk) -> dict[str, Any]:
    """All presets, and what is wrong with files that could not be read."""
    found, problems = desk.library.presets()
    return {
        "presets": [
            {
                "key": k,
                "name": p.name,
                "folder": p.folder,
                "about": p.about,
                "values": p.values,
                "unknown": p.unknown,
                "match": p.match.model_dump(mode="json") if p.match else None,
            }
            for k, p in found.items()
        ],
        "problems": problems,
    }


@router.get("/presets/file")
def preset_file(key: str, desk: Desk) -> Response:
    """One preset as its JSON file."""
    preset = desk.library.preset(key)
    name = key.rpartition("/")[2]
    headers = attachment(f"{name}.json")
    return Response(preset.to_json(), media_type="application/json", headers=headers)


async def _body(request: Request, most: int = 1_000_000) -> bytes:
    data = b""
    async for chunk in request.stream():
        data += chunk
        if len(data) > most:
            raise TannerError("This file is too large for a preset.")
    return data


@router.post("/presets/file")
async def import_preset(request: Request, name: str, desk: Desk) -> dict[str, Any]:
    """Bring a preset in from the bytes of its file."""
    return {"key": desk.library.import_preset(await _body(request), name)}


@router.delete("/presets")
def delete_preset(key: str, desk: Desk) -> dict[str, Any]:
    """Delete one of the own presets."""
    desk.library.delete_preset(key)
    return {"deleted": key}


@router.get("/lenses")
def lenses(desk: Desk, q: Annotated[str, Query(max_length=100)] = "") -> dict[str, Any]:
    """Lenses of the open database, and of the user's files, that a search finds."""
    return {"lenses": search(q, [desk.profiles.folder]), "files": desk.profiles.others(".xml")}


@router.get("/specs")
def specs(desk: Desk) -> dict[str, Any]:
    """All output specs, with all that each does in words."""
    found, problems = desk.library.specs()
    titles = {k: s.title for k, s in SPACES.items()}
    rows = [{"key": k, **s.model_dump(), "said": said(s, titles)} for k, s in found.items()]
    return {"specs": rows, "problems": problems}


@router.get("/specs/file")
def spec_file(key: str, desk: Desk) -> Response:
    """A spec as its file, to be given out."""
    spec = desk.library.spec(key)
    headers = attachment(f"{key.rpartition('/')[2]}.json")
    return Response(spec.model_dump_json(indent=2) + "\n", media_type="application/json", headers=headers)


@router.post("/specs")
def save_spec(body: SaveSpec, desk: Desk) -> dict[str, Any]:
    """Keep an output spec; its key."""
    return {"key": desk.library.save_spec(body.spec, replace=body.replace)}


@router.delete("/specs")
def delete_spec(key: str, desk: Desk) -> dict[str, Any]:
    """Delete one of the own output specs."""
    desk.library.delete_spec(key)
    return {"deleted": key}
