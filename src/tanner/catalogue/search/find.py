"""Which frames an expression takes, in what order, a part at a time."""

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import ColumnElement, Select, and_, func, nulls_last, select
from sqlalchemy.orm import Session, defer

from tanner.catalogue.models import Collection, Facet, Frame, Gathered, Shoot
from tanner.catalogue.search.fields import clause, is_text, with_words
from tanner.catalogue.search.language import All, Not, Term, Tree, parse
from tanner.catalogue.search.language import Any as Either
from tanner.core.errors import TannerError

PAGE = 120
"""Frames that are answered at once: two screens full."""
SORTS: Mapping[str, tuple[str, Sequence[Any]]] = {
    "-taken": ("newest first", (Facet.taken.desc(), Facet.name.desc(), Facet.frame_id.desc())),
    "taken": ("oldest first", (nulls_last(Facet.taken), Facet.name)),
    "name": ("by name", (Facet.name, Facet.taken)),
    "-stars": ("most stars first", (Facet.stars.desc(), Facet.taken.desc())),
    "-sharp": ("sharpest first", (nulls_last(Facet.sharp.desc()), Facet.taken.desc())),
    "hand": ("as ordered by hand", ()),
}
"""Orders, by key: what each is called, and the columns; by hand only within a collection."""


def names_archived(tree: Tree) -> bool:
    """Whether an expression itself says what is to become of archived shoots."""
    match tree:
        case All(parts) | Either(parts):
            return any(names_archived(p) for p in parts)
        case Not(inner):
            return names_archived(inner)
        case Term():
            return not tree.how and not tree.text and tree.name.lower() == "archived"


def condition(
    expression: str, *, shoot: int | None = None, collection: int | None = None, archived: bool = True
) -> ColumnElement[bool]:
    """An expression as a condition on `Facet`.

    Args:
        shoot, collection: only frames of it; archived: those of archived shoots too.

    Raises:
        FormatError: the expression makes no sense: where, and why.
    """
    tree = parse(expression)
    parts = _around(collection, archived or names_archived(tree), shoot)
    return and_(*parts, clause(tree))


def _around(collection: int | None, archived: bool, shoot: int | None = None) -> list[ColumnElement[bool]]:
    """Which frames an expression is asked of."""
    parts: list[ColumnElement[bool]] = [Facet.gone.is_(False)]
    if shoot is not None:
        parts.append(Facet.shoot_id == shoot)
    if collection is not None:
        parts.append(Facet.frame_id.in_(select(Gathered.frame_id).where(Gathered.collection_id == collection)))
    if not archived:
        parts.append(Facet.shoot_id.not_in(select(Shoot.id).where(Shoot.away)))
    return parts


def ordered(asked: ColumnElement[bool], sort: str = "taken", collection: int | None = None) -> Select[int]:
    """The ids of frames that meet a condition, in order; frames alike in it lie as they came in.

    Raises:
        TannerError: there is no such order.
    """
    query = select(Facet.frame_id).where(asked)
    if sort == "hand":
        if collection is None:
            raise TannerError("Only a collection has an order by hand.")
        joined = query.join(Gathered, Gathered.frame_id == Facet.frame_id).where(Gathered.collection_id == collection)
        return joined.order_by(Gathered.place, Facet.frame_id)
    if sort not in SORTS:
        raise TannerError(f"There is no order “{sort}”. There are: {', '.join(SORTS)}.")
    return query.order_by(*SORTS[sort][1], Facet.frame_id)


def count(session: Session, asked: ColumnElement[bool]) -> int:
    return session.scalar(select(func.count()).select_from(Facet).where(asked)) or 0


RARE = 3000
"""Frames with a word up to which the database looks at those alone, and not through all in their order."""


def _texts(tree: Tree) -> tuple[list[Term], Tree]:
    """Words that every frame must have, and the rest of an expression."""
    parts = tree.parts if isinstance(tree, All) else (tree,)
    texts = [p for p in parts if isinstance(p, Term) and is_text(p)]
    return texts, All(tuple(p for p in parts if p not in texts))


def page(
    session: Session,
    expression: str,
    sort: str,
    offset: int,
    *,
    collection: int | None = None,
    archived: bool = True,
    most: int = PAGE,
) -> list[int]:
    """A part of what an expression takes, in order.

    Raises:
        FormatError: the expression makes no sense.
    """
    asked = condition(expression, collection=collection, archived=archived)
    for text in _texts(parse(expression))[0]:
        found = list(session.scalars(with_words(text.name).limit(RARE + 1)))
        if len(found) <= RARE:
            asked = Facet.frame_id.in_(found) & asked
            break
    return list(session.scalars(ordered(asked, sort, collection).limit(most).offset(offset)))


def ids_of(
    session: Session, expression: str, *, collection: int | None = None, archived: bool = True, shoot: int | None = None
) -> NDArray[np.int64]:
    """The ids of all frames that an expression takes, rising.

    Words are looked for apart and the lists are cut with one another: over 200,000 frames a fifth of the time.
    """
    texts, rest = _texts(parse(expression))
    parts = _around(collection, archived or names_archived(rest), shoot)
    found = _list(session, select(Facet.frame_id).where(and_(*parts, clause(rest))))
    for text in texts:
        found = np.intersect1d(found, np.unique(_list(session, with_words(text.name))), assume_unique=True)
    return found


def _list(session: Session, query: Any) -> NDArray[np.int64]:
    """Numbers of one column, rising: as one text, which is read ten times as fast as rows."""
    column = query.subquery()
    text = session.scalar(select(func.group_concat(column.c[0])))
    return np.sort(np.fromstring(text, np.int64, sep=",")) if text else np.zeros(0, np.int64)


def take(
    session: Session, shoot: int, expression: str, within: Sequence[int] | None = None, light: bool = False
) -> list[Frame]:
    """Frames of a shoot that an expression takes: in order of time, or as `within` names them.

    Args:
        light: without what was seen and measured in the pictures, which is most of a row; it is read when it is asked for.

    Raises:
        FormatError: the expression makes no sense.
    """
    query = ordered(condition(expression, shoot=shoot))
    taken = list(session.scalars(query))
    if within is not None:
        met = set(taken)
        taken = [i for i in dict.fromkeys(within) if i in met]
    return loaded(session, taken, light)


HEAVY = Frame.descriptor, Frame.seen, Frame.measured, Frame.worn, Frame.trashed
"""What is seen and measured in pictures, as JSON."""


def loaded(session: Session, ids: Sequence[int], light: bool = False) -> list[Frame]:
    """Frames by id, in the order of the ids; those that are gone are left out. light: see `take`."""
    found: dict[int, Frame] = {}
    later = [defer(column) for column in HEAVY] if light else []
    for at in range(0, len(ids), 500):
        query = select(Frame).where(Frame.id.in_(ids[at : at + 500])).options(*later)
        found |= {f.id: f for f in session.scalars(query)}
    return [found[i] for i in ids if i in found]


def collection_of(session: Session, collection: int) -> Collection:
    there = session.get(Collection, collection)
    if there is None:
        raise TannerError("This collection is no longer there.")
    return there
