"""Captions of frames: what the photographer says of them (IPTC Photo Metadata), for one or many."""

from typing import Any

from fastapi import APIRouter
from pydantic import Field

from tanner.catalogue.captions import said_of, say_of_frames, shoot_captions, written_captions
from tanner.catalogue.models import Shoot
from tanner.core.output.captions import FIELDS, Captions
from tanner.core.output.naming import TOKENS, name_values
from tanner.jobs.delivery.planning import tokens_of
from tanner.web.api.common import WithServices, done, frames_of, one_shoot
from tanner.web.api.frames import Body

router = APIRouter(prefix="/api", tags=["captions"])


class CaptionsWish(Body):
    """Own captions of frames by field; an empty text leaves what the shoot says. Texts may hold tokens of names. Keywords: all of them."""

    words: dict[str, str] = Field(max_length=40)
    keywords: list[str] | None = Field(default=None, max_length=200)


@router.post("/words/read")
def read(body: Body, services: WithServices) -> dict[str, Any]:
    """Own captions of frames (None where they differ), their shoot's, and how the first frame's would be written."""
    with services.catalogue.read() as session:
        frames = frames_of(session, body.frames)
        shoot = session.get_one(Shoot, one_shoot(frames))
        first = frames[0]
        values = name_values(name=first.name.rsplit(".", 1)[0], **tokens_of(first, 1, shoot.name, "", ""))
        keywords = {tuple(f.keywords) for f in frames}
        written = Captions(**written_captions(session, shoot, first)).with_tokens(values)
        return {
            "fields": [{"name": f.name, "label": f.label, "part": f.part} for f in FIELDS],
            "own": {**said_of(frames), "keywords": ", ".join(keywords.pop()) if len(keywords) == 1 else None},
            "shoot": shoot_captions(shoot),
            "written": {k: v for k, v in written.model_dump().items() if v},
            "name": first.name,
            "tokens": TOKENS,
        }


@router.post("/words")
def say(body: CaptionsWish, services: WithServices) -> dict[str, Any]:
    """Say something of frames, one step for all."""
    with services.catalogue.write() as session:
        frames = frames_of(session, body.frames)
        one_shoot(frames)
        return done(say_of_frames(session, frames, body.words, body.keywords))
