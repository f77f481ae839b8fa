"""Sidecars of a catalogue's frames: written when development changes, read at import, never written over what others changed."""

import hashlib
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from tanner.catalogue.captions import captions_of
from tanner.catalogue.development import set_each
from tanner.catalogue.models import Action, Frame, FrameSet, Patch
from tanner.catalogue.resolver import Resolver
from tanner.catalogue.steps import record
from tanner.core.adjust.items import with_things_of
from tanner.core.adjust.registry import LISTS, declared
from tanner.core.errors import TannerError
from tanner.core.output.captions import TEXT_FIELDS
from tanner.core.output.files import write_whole
from tanner.core.series.sidecar import (
    ENDING,
    Sidecar,
    alternates_beside,
    beside,
    found_beside,
    parse_sidecar,
    sidecar_bytes,
)

FIELDS = ("own", "offsets", "worn", "follows", "stars", "label", "words")


def mark_of(data: bytes) -> str:
    """A short name for a sidecar's bytes."""
    return hashlib.sha256(data).hexdigest()[:16]


def sidecar_of(resolver: Resolver, frame: Frame) -> Sidecar:
    """What a frame's sidecar should say now; without a date."""
    group = resolver.sets.get(frame.set_id or 0)
    return Sidecar(
        own=frame.own, offsets=frame.offsets, worn=frame.worn, follows=frame.follows,
        shown=resolver.resolve(frame).values, content=frame.content, group=group.name if group else "",
        lead=resolver.is_lead(frame), stars=frame.stars, label=frame.label, keywords=tuple(frame.keywords),
        words=frame.words, said={k: v for k, v in captions_of(resolver.shoot, frame).items() if k in TEXT_FIELDS},
    )  # fmt: skip


def _read(path: Path) -> bytes | None:
    try:
        return path.read_bytes()
    except OSError:
        return None


@dataclass(frozen=True)
class Written:
    """How the sidecar of one frame fared: its new mark, or in words why it was not written."""

    mark: str = ""
    trouble: str = ""
    conflict: bool = False


def write(frame: Frame, wanted: Sidecar) -> Written:
    """Write a frame's sidecar, unless the one that is there was changed by somebody else.

    A damaged one is kept aside under another name.
    """
    path = beside(Path(frame.path), frame.alternate)
    if not Path(frame.path).exists():
        return Written(trouble=f"{frame.name} is not where it was, so its sidecar is not written")
    there = _read(path)
    trouble = ""
    if there is not None and mark_of(there) != frame.sidecar:
        try:
            theirs = parse_sidecar(there, path.name)
            if theirs and not theirs.same_development(wanted):
                return Written(conflict=True)
        except TannerError as error:
            aside = _aside(path, "damaged")
            path.rename(aside)
            trouble = f"{error} It is kept as {aside.name}."
    data = sidecar_bytes(replace(wanted, changed=datetime.now(UTC)))
    try:
        write_whole(path, data, replace=True)
    except (OSError, TannerError) as error:
        return Written(trouble=f"{path.name}: {error}")
    return Written(mark_of(data), trouble)


def _aside(path: Path, what: str) -> Path:
    """A free name beside a sidecar for a version that is kept."""
    stem = path.name.removesuffix(ENDING)
    day = datetime.now(UTC).strftime("%Y%m%d-%H%M%S")
    number = 1
    while (found := path.with_name(f"{stem}.{what}-{day}{f'-{number}' if number > 1 else ''}.xmp")).exists():
        number += 1
    return found


def conflicts(session: Session, resolver: Resolver) -> list[dict[str, Any]]:
    """Frames whose sidecar and catalogue both changed: both dates, and what differs."""
    result = []
    query = select(Frame).where(Frame.shoot_id == resolver.shoot.id).order_by(Frame.taken, Frame.name)
    for frame in session.scalars(query):
        data = _read(beside(Path(frame.path), frame.alternate))
        if data is None or mark_of(data) == frame.sidecar:
            continue
        try:
            theirs = parse_sidecar(data, frame.name)
        except TannerError as error:
            result.append({"frame": frame.id, "name": frame.name, "damaged": str(error)})
            continue
        mine = sidecar_of(resolver, frame)
        if theirs is None or theirs.same_development(mine):
            continue
        result.append(
            {
                "frame": frame.id,
                "name": frame.name,
                "mine": _last_change(session, frame),
                "theirs": theirs.changed.isoformat() if theirs.changed else None,
                "differs": _differs(mine, theirs),
            }
        )
    return result


def _last_change(session: Session, frame: Frame) -> str | None:
    query = (
        select(func.max(Action.at))
        .join(Patch, Patch.action_id == Action.id)
        .where(Patch.kind == "frame", Patch.target == frame.id, Action.state == "done")
    )
    found = session.scalar(query)
    return found.replace(tzinfo=UTC).isoformat() if found else None


def _differs(mine: Sidecar, theirs: Sidecar) -> list[dict[str, Any]]:
    """What two say differently: label, mine, theirs."""
    rows = []
    for key in sorted(set(mine.shown) | set(theirs.shown)):
        entry = declared(key)
        if entry is None:
            continue
        a, b = (s.shown.get(key, entry.neutral) for s in (mine, theirs))
        if a != b:
            rows.append({"label": entry.spec.title, "mine": a, "theirs": b})
    for name in ("stars", "label", "follows"):
        if getattr(mine, name) != getattr(theirs, name):
            rows.append({"label": name, "mine": getattr(mine, name), "theirs": getattr(theirs, name)})
    if set(mine.keywords) != set(theirs.keywords):
        rows.append({"label": "keywords", "mine": ", ".join(mine.keywords), "theirs": ", ".join(theirs.keywords)})
    for name in sorted(set(mine.words) | set(theirs.words)):
        if mine.words.get(name) != theirs.words.get(name):
            rows.append({"label": name, "mine": mine.words.get(name, ""), "theirs": theirs.words.get(name, "")})
    return rows


def settle(session: Session, resolver: Resolver, frame: Frame, take: str) -> Action | None:
    """End a conflict: "mine" or "theirs" holds; the other version is kept aside as a file.

    Listed things (areas) that only one of the two has stay either way: two machines that both added some lose none.
    """
    path = beside(Path(frame.path), frame.alternate)
    data = _read(path)
    if data is None:
        raise TannerError(f"{frame.name}: its sidecar is no longer there. Nothing was changed.")
    action = None
    if take == "theirs":
        theirs = parse_sidecar(data, path.name)
        if theirs is None:
            raise TannerError(f"{path.name}: says nothing of this frame's development.")
        mine = sidecar_bytes(replace(sidecar_of(resolver, frame), changed=datetime.now(UTC)))
        write_whole(_aside(path, "mine"), mine, replace=False)
        fields = {k: getattr(theirs, k) for k in FIELDS} | {"keywords": list(theirs.keywords)}
        fields["own"] = with_things_of(theirs.own, frame.own, LISTS)
        action = record(session, frame.shoot_id, f"{frame.name} as its sidecar says", [(frame, fields)])
    else:
        write_whole(_aside(path, "theirs"), data, replace=False)
        try:
            theirs = parse_sidecar(data, path.name)
        except TannerError:  # damaged: kept aside, and nothing of it is taken
            theirs = None
        own = with_things_of(frame.own, theirs.own if theirs else {}, LISTS)
        action = record(session, frame.shoot_id, f"{frame.name}: areas of its sidecar", [(frame, {"own": own})])
    frame.sidecar = mark_of(data)
    return action


def read_for_import(original: Path) -> tuple[Sidecar | None, str, str]:
    """The sidecar beside a file that is brought in, the mark of its bytes, and what is wrong with it, in words."""
    path = found_beside(original)
    data = _read(path) if path else None
    if path is None or data is None:
        return None, "", ""
    try:
        found = parse_sidecar(data, path.name)
    except TannerError as error:
        return None, "", f"{error} The file itself is brought in without it."
    return found, mark_of(data) if path == beside(original) else "", ""


def alternates_for_import(original: Path) -> list[tuple[int, Sidecar, str]]:
    """Alternates that a file's sidecars tell of: number, what it says, its mark. Damaged ones are left where they are."""
    result = []
    for number, path in alternates_beside(original).items():
        data = _read(path)
        try:
            found = parse_sidecar(data, path.name) if data is not None else None
        except TannerError:
            continue
        if data is not None and found is not None:
            result.append((number, found, mark_of(data)))
    return result


def take_over(frame: Frame, sidecar: Sidecar, mark: str) -> None:
    """Give a frame that was just brought in what its sidecar says; its set follows in `sets_by_sidecar`."""
    for name in FIELDS:
        setattr(frame, name, getattr(sidecar, name))
    frame.keywords = list(dict.fromkeys([*frame.keywords, *sidecar.keywords]))
    frame.sidecar = mark
    if sidecar.group:
        frame.seen = {**frame.seen, "group": sidecar.group, "lead": sidecar.lead, "shown": sidecar.shown}


def sets_by_sidecar(session: Session, shoot_id: int) -> None:
    """Put frames that were brought in with sidecars into the sets that these name.

    Where a set's lead was not brought in along with them, each frame keeps what it showed as its own.
    """
    waiting = select(Frame).where(Frame.shoot_id == shoot_id, Frame.set_id.is_(None)).order_by(Frame.taken, Frame.name)
    named: dict[str, list[Frame]] = {}
    for frame in session.scalars(waiting):
        if frame.seen.get("group"):
            named.setdefault(frame.seen["group"], []).append(frame)
    for name, frames in named.items():
        query = select(FrameSet).where(FrameSet.shoot_id == shoot_id, FrameSet.name == name)
        group = session.scalars(query).first()
        leads = [f for f in frames if f.seen.get("lead")]
        whole = bool(leads) or (group is not None and group.lead_id is not None)
        if group is None:
            group = FrameSet(shoot_id=shoot_id, name=name, reason="as its sidecars say")
            session.add(group)
            session.flush()
        if group.lead_id is None:
            group.lead_id = (leads or frames)[0].id
        shown = {f.id: dict(f.seen.get("shown", {})) for f in frames}
        for frame in frames:
            frame.set_id = group.id
            frame.seen = {k: v for k, v in frame.seen.items() if k not in ("group", "lead", "shown")}
            if not whole:
                frame.own, frame.offsets, frame.worn = {}, {}, []
        session.flush()
        if not whole:
            set_each(session, Resolver(session, shoot_id), [(f, shown[f.id]) for f in frames], "As sidecars say")
