"""Searches that are kept, and collections that are gathered and ordered by hand, over all shoots."""

from collections.abc import Sequence
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from tanner.catalogue.models import Collection, Facet, Gathered, StandingSearch
from tanner.catalogue.search.find import SORTS, collection_of, condition, count, loaded
from tanner.core.errors import FormatError, TannerError

MOST_NAME = 120


def _name(name: str) -> str:
    name = name.strip()
    if not name or len(name) > MOST_NAME:
        raise TannerError(f"A name has 1 to {MOST_NAME} characters.")
    return name


def standing(session: Session) -> list[dict[str, Any]]:
    """Searches that are kept, by name, with how many frames each finds now; one that makes no sense any more says why."""
    result = []
    for each in session.scalars(select(StandingSearch).order_by(StandingSearch.name)):
        row: dict[str, Any] = {"id": each.id, "name": each.name, "expression": each.expression, "sort": each.sort}
        try:
            row["count"] = count(session, condition(each.expression, archived=False))
        except FormatError as error:
            row["error"] = str(error)
        result.append(row)
    return result


def keep_search(session: Session, name: str, expression: str, sort: str = "-taken") -> int:
    """Keep a search by name, in place of one that is called so; its id.

    Raises:
        FormatError: it makes no sense.
    """
    name = _name(name)
    condition(expression)
    if sort not in SORTS or sort == "hand":
        raise TannerError("A kept search cannot be ordered so.")
    there = session.scalar(select(StandingSearch).where(StandingSearch.name == name))
    if there is None:
        there = StandingSearch(name=name, expression=expression, sort=sort)
        session.add(there)
    there.expression, there.sort = expression, sort
    session.flush()
    return there.id


def drop_search(session: Session, search: int) -> None:
    there = session.get(StandingSearch, search)
    if there is not None:
        session.delete(there)


def collections(session: Session) -> list[dict[str, Any]]:
    """Collections by name, with how many frames each has."""
    numbers = (
        select(Gathered.collection_id, func.count())
        .join(Facet, Facet.frame_id == Gathered.frame_id)
        .where(Facet.gone.is_(False))
        .group_by(Gathered.collection_id)
    )
    counts: dict[int, int] = dict(session.execute(numbers).all())
    query = select(Collection).order_by(Collection.name)
    return [{"id": c.id, "name": c.name, "count": counts.get(c.id, 0)} for c in session.scalars(query)]


def begin_collection(session: Session, name: str) -> int:
    name = _name(name)
    if session.scalar(select(Collection.id).where(Collection.name == name)):
        raise TannerError(f"There is a collection called {name} already.")
    made = Collection(name=name)
    session.add(made)
    session.flush()
    return made.id


def rename_collection(session: Session, collection: int, name: str) -> None:
    name = _name(name)
    there = session.scalar(select(Collection.id).where(Collection.name == name))
    if there not in (None, collection):
        raise TannerError(f"There is a collection called {name} already.")
    collection_of(session, collection).name = name


def drop_collection(session: Session, collection: int) -> None:
    """Forget a collection; its frames stay where they are."""
    session.delete(collection_of(session, collection))


def gather(session: Session, collection: int, frames: Sequence[int]) -> int:
    """Put frames at the end of a collection; how many are new in it."""
    collection_of(session, collection)
    there = set(session.scalars(select(Gathered.frame_id).where(Gathered.collection_id == collection)))
    known = {f.id for f in loaded(session, [f for f in dict.fromkeys(frames) if f not in there])}
    last = session.scalar(select(func.max(Gathered.place)).where(Gathered.collection_id == collection)) or 0.0
    new = [f for f in dict.fromkeys(frames) if f in known]
    session.add_all(Gathered(collection_id=collection, frame_id=f, place=last + n) for n, f in enumerate(new, 1))
    return len(new)


def scatter(session: Session, collection: int, frames: Sequence[int]) -> None:
    """Take frames out of a collection."""
    wanted = set(frames)
    for each in session.scalars(select(Gathered).where(Gathered.collection_id == collection)):
        if each.frame_id in wanted:
            session.delete(each)


def put_before(session: Session, collection: int, frames: Sequence[int], before: int | None) -> None:
    """Order by hand: frames, as they are named, before another of the collection; None: at its end."""
    query = select(Gathered).where(Gathered.collection_id == collection).order_by(Gathered.place, Gathered.frame_id)
    there = {g.frame_id: g for g in session.scalars(query)}
    moved = [f for f in dict.fromkeys(frames) if f in there]
    rest = [f for f in there if f not in set(moved)]
    at = rest.index(before) if before in rest else len(rest)
    for place, frame in enumerate([*rest[:at], *moved, *rest[at:]]):
        there[frame].place = float(place)
