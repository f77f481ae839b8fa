"""Alternates: further developments of the same frame, each a row of its own; and frames that are taken out of a shoot.

A frame that is out stays in its table, so that undo brings it back; no query sees it unless it asks for it (see `store`).
Files are never touched.
"""

from collections.abc import Mapping, Sequence
from pathlib import Path

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from tanner.catalogue.models import WITH_GONE, Action, Base, Frame, FrameSet
from tanner.catalogue.resolver import Resolver
from tanner.catalogue.sets import lead_without
from tanner.catalogue.steps import record
from tanner.core.errors import TannerError

MOST = 99
"""Alternates of one frame."""
_OF_THE_FILE = (
    "shoot_id", "path", "content", "taken", "camera", "lens", "iso", "facts", "starting", "as_shot", "descriptor",
    "width", "height", "error", "seen",
)  # fmt: skip
_OF_THE_USER = ("stars", "label", "verdict", "keywords", "words", "set_id", "follows", "offsets", "worn")


def name_of(original: str, number: int) -> str:
    """T0001.DNG is called T0001_alt2.DNG as its second alternate; both then stand side by side by name."""
    path = Path(original)
    return f"{path.stem}_alt{number}{path.suffix}"


def add_alternate(session: Session, source: Frame, number: int, *, gone: bool = False) -> Frame:
    """One more frame of the same file, with the same marks and the same look."""
    query = select(Frame.name).where(
        Frame.shoot_id == source.shoot_id, Frame.content == source.content, Frame.alternate == 0
    )
    original = session.scalar(query, execution_options=WITH_GONE) or source.name
    made = Frame(
        **{k: getattr(source, k) for k in (*_OF_THE_FILE, *_OF_THE_USER)},
        name=name_of(original, number),
        alternate=number,
        accepted="an alternate",
        gone=gone,
    )
    made.seen = {k: v for k, v in source.seen.items() if k in ("chart",)}
    group = session.get(FrameSet, source.set_id or 0)
    # What a lead has as its own its alternate takes from it by following.
    leads = group is not None and group.lead_id == source.id
    made.own = {} if leads else dict(source.own)
    made.follows = source.follows or leads
    session.add(made)
    session.flush()
    if leads:
        resolver = Resolver(session, source.shoot_id)
        wanted, shown = resolver.resolve(source).values, resolver.resolve(made).values
        made.own = {k: v for k, v in wanted.items() if shown.get(k) != v}
    return made


def make_alternates(session: Session, frames: Sequence[Frame]) -> tuple[Action | None, list[int]]:
    """One more alternate of each frame, as one step; ids of the new frames."""
    made: list[tuple[Base, dict[str, object]]] = []
    for frame in frames:
        query = select(func.max(Frame.alternate)).where(
            Frame.shoot_id == frame.shoot_id, Frame.content == frame.content
        )
        last = session.scalar(query, execution_options=WITH_GONE) or 0
        if last < MOST:
            # Made as if it had been taken out, so that undo can take it out again.
            made.append((add_alternate(session, frame, last + 1, gone=True), {"gone": False}))
    if not made:
        raise TannerError(f"{frames[0].name}: has {MOST} alternates already, and more are not kept.")
    what = f"Alternate of {frames[0].name}" if len(frames) == 1 else f"Alternates of {len(frames)} frames"
    action = record(session, frames[0].shoot_id, what, made)
    return action, [f.id for f, _ in made]  # type: ignore[attr-defined]


def take_out(
    session: Session, frames: Sequence[Frame], trashed: Mapping[int, Sequence[Mapping[str, str]]] | None = None
) -> Action | None:
    """Take frames out of their shoot; their files stay. Sets whose lead goes get another one, and keep their look.

    Args:
        trashed: files that were put into the trash, by frame.
    """
    going = {f.id for f in frames}
    changes: list[tuple[Base, dict[str, object]]] = []
    for set_id in {f.set_id for f in frames if f.set_id}:
        group = session.get(FrameSet, set_id)
        if group is not None:
            changes += lead_without(session, group, going)
    for frame in frames:
        fields: dict[str, object] = {"gone": True, "set_id": None}
        if trashed and trashed.get(frame.id):
            fields["trashed"] = list(trashed[frame.id])
        changes.append((frame, fields))
    what = frames[0].name if len(frames) == 1 else f"{len(frames)} frames"
    where = "put into the trash" if trashed else "removed"
    return record(session, frames[0].shoot_id, f"{what} {where}", changes)
