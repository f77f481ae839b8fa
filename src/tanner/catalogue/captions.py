"""Captions of shoots and frames: what the photographer says of them, with undo."""

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from sqlalchemy.orm import Session

from tanner.catalogue.keywords import paths
from tanner.catalogue.models import Action, Frame, Shoot
from tanner.catalogue.steps import record
from tanner.core.errors import TannerError
from tanner.core.output.captions import FIELDS, TEXT_FIELDS, Captions
from tanner.core.output.naming import check_template

OF_SHOOT = ("creator", "rights")
"""Fields of a shoot that have columns of their own."""


def shoot_captions(shoot: Shoot) -> dict[str, str]:
    """What is said of all frames of a shoot."""
    found = {"creator": shoot.creator, "rights": shoot.rights, **shoot.words}
    return {k: v for k, v in found.items() if v}


def _moved(frame: Frame) -> bool:
    """Whether the frame's time is another than its file says."""
    said = frame.facts.get("taken")
    return frame.taken is not None and (not said or datetime.fromisoformat(said).replace(tzinfo=None) != frame.taken)


def captions_of(shoot: Shoot, frame: Frame) -> dict[str, Any]:
    """What is said of a frame, as fields of `Captions`: its own over its shoot's."""
    own = {k: v for k, v in frame.words.items() if v}
    return {
        **shoot_captions(shoot),
        **own,
        "keywords": tuple(frame.keywords),
        "stars": frame.stars,
        **({"taken": frame.taken} if _moved(frame) else {}),
    }


def written_captions(session: Session, shoot: Shoot, frame: Frame) -> dict[str, Any]:
    """The same as a file of the frame says it: with the way to each keyword that has a place in the tree."""
    return {**captions_of(shoot, frame), "paths": tuple(paths(session, frame.keywords))}


def _checked(fields: Mapping[str, str]) -> dict[str, str]:
    unknown = set(fields) - set(TEXT_FIELDS)
    if unknown:
        raise TannerError(f"There is no field {', '.join(sorted(unknown))}.")
    for text in fields.values():
        if "{" in text or "}" in text:
            check_template(text)
    Captions.model_validate(dict(fields))
    return {k: v.strip() for k, v in fields.items()}


def say_of_shoot(session: Session, shoot: Shoot, fields: Mapping[str, str]) -> Action | None:
    """Set captions of a shoot; an empty text takes one away."""
    given = _checked(fields)
    changes: dict[str, Any] = {k: given[k] for k in OF_SHOOT if k in given}
    rest = {k: v for k, v in given.items() if k not in OF_SHOOT}
    if rest:
        changes["words"] = {k: v for k, v in {**shoot.words, **rest}.items() if v}
    return record(session, shoot.id, "Captions of the shoot", [(shoot, changes)])


def say_of_frames(
    session: Session, frames: Sequence[Frame], fields: Mapping[str, str], keywords: Sequence[str] | None = None
) -> Action | None:
    """Set captions of frames, and all of their keywords, one step for all; an empty text leaves the shoot's."""
    given = _checked(fields)
    changes: list[tuple[Any, dict[str, Any]]] = [
        (f, {"words": {k: v for k, v in {**f.words, **given}.items() if v}}) for f in frames
    ]
    if keywords is not None:
        unique = list(dict.fromkeys(k.strip() for k in keywords if k.strip()))
        changes = [(f, {**c, "keywords": unique}) for f, c in changes]
    names = [f.label.lower() for f in FIELDS if f.name in given or (f.name == "keywords" and keywords is not None)]
    label = f"Captions: {', '.join(names)}" + (f", {len(frames)} frames" if len(frames) > 1 else "")
    return record(session, frames[0].shoot_id, label, changes) if frames else None


def said_of(frames: Sequence[Frame]) -> dict[str, str | None]:
    """Own captions of frames, field by field; None where they differ."""
    found: dict[str, str | None] = {}
    for name in TEXT_FIELDS:
        texts = {f.words.get(name, "") for f in frames}
        found[name] = texts.pop() if len(texts) == 1 else None
    return found
