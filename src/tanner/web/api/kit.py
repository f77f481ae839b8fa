"""Kit: presets and output specs as files of their own, brought in, given out and removed."""

from typing import Annotated, Any

from fastapi import APIRouter, Query, Request
from fastapi.responses import Response
from pydantic import BaseModel, ConfigDict, Field

from tanner.core.colour.spaces import SPACES
from tanner.core.errors import TannerError
from tanner.core.optics.database import search
from tanner.core.output.spec import OutputSpec, said
from tanner.web.api.common import WithServices, attachment

router = APIRouter(prefix="/api", tags=["kit"])


class SaveSpec(BaseModel):
    model_config = ConfigDict(extra="forbid")
    spec: OutputSpec
    replace: bool = False


class ChangePreset(BaseModel):
    model_config = ConfigDict(extra="forbid")
    key: str = Field(max_length=300)
    name: str = Field(min_length=1, max_length=80)
    folder: str = Field(min_length=1, max_length=80)
    about: str = Field(default="", max_length=300)
    without: list[str] = Field(default=[], max_length=1000)


@router.get("/presets")
def presets(services: WithServices) -> dict[str, Any]:
    """All presets, and what is wrong with files that could not be read."""
    found, problems = services.library.presets()
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
def preset_file(key: str, services: WithServices) -> Response:
    """One preset as its JSON file."""
    preset = services.library.preset(key)
    name = key.rpartition("/")[2]
    headers = attachment(f"{name}.json")
    return Response(preset.to_json(), media_type="application/json", headers=headers)


async def body_of(request: Request, most: int = 1_000_000) -> bytes:
    """The bytes of a small file that was sent.

    Raises:
        TannerError: it is larger than `most`.
    """
    data = b""
    async for chunk in request.stream():
        data += chunk
        if len(data) > most:
            raise TannerError("This file is too large to be one of these.")
    return data


@router.post("/presets/file")
async def import_preset(request: Request, name: str, services: WithServices) -> dict[str, Any]:
    """Bring a preset in from the bytes of its file."""
    return {"key": services.library.import_preset(await body_of(request), name)}


@router.post("/presets/change")
def change_preset(body: ChangePreset, services: WithServices) -> dict[str, Any]:
    """Give one of the own presets another name, folder and text, and leave adjustments out of it."""
    return {"key": services.library.change_preset(body.key, body.name, body.folder, body.about, body.without)}


@router.delete("/presets")
def delete_preset(key: str, services: WithServices) -> dict[str, Any]:
    """Delete one of the own presets."""
    services.library.delete_preset(key)
    return {"deleted": key}


@router.get("/lenses")
def lenses(services: WithServices, q: Annotated[str, Query(max_length=100)] = "") -> dict[str, Any]:
    """Lenses of the open database, and of the user's files, that a search finds."""
    return {"lenses": search(q, [services.profiles.folder]), "files": services.profiles.others(".xml")}


@router.get("/specs")
def specs(services: WithServices) -> dict[str, Any]:
    """All output specs, with all that each does in words."""
    found, problems = services.library.specs()
    titles = {k: s.title for k, s in SPACES.items()}
    rows = [{"key": k, **s.model_dump(), "said": said(s, titles)} for k, s in found.items()]
    return {"specs": rows, "problems": problems}


@router.get("/specs/file")
def spec_file(key: str, services: WithServices) -> Response:
    """A spec as its file, to be given out."""
    spec = services.library.spec(key)
    headers = attachment(f"{key.rpartition('/')[2]}.json")
    return Response(spec.model_dump_json(indent=2) + "\n", media_type="application/json", headers=headers)


@router.post("/specs")
def save_spec(body: SaveSpec, services: WithServices) -> dict[str, Any]:
    """Keep an output spec; its key."""
    return {"key": services.library.save_spec(body.spec, replace=body.replace)}


@router.delete("/specs")
def delete_spec(key: str, services: WithServices) -> dict[str, Any]:
    """Delete one of the own output specs."""
    services.library.delete_spec(key)
    return {"deleted": key}
