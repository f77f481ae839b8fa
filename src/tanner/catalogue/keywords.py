"""Keywords over all shoots: a tree with other words for the same, suggestions, renaming and merging, in and out as indented text."""

from collections.abc import Iterable, Sequence
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from tanner.catalogue.models import Action, Facet, Frame, FrameKeyword, Keyword
from tanner.catalogue.steps import record
from tanner.core.errors import FormatError, TannerError
from tanner.core.texts import folded

MOST_NAME, MOST_TEXT, DEEPEST = 200, 20_000, 30
SUGGESTED = 9
LIKE = 70.0
"""Least likeness (of 100) of a suggestion that does not begin so, for words that are mistyped."""


def checked(name: str) -> str:
    name = " ".join(name.split())
    if not name or len(name) > MOST_NAME or any(c in name for c in ",|="):
        raise TannerError(f"A keyword has 1 to {MOST_NAME} characters, and no commas, bars or equals signs.")
    return name


def counts(session: Session) -> dict[str, int]:
    """How many frames have each keyword."""
    query = (
        select(FrameKeyword.keyword, func.count())
        .join(Facet, Facet.frame_id == FrameKeyword.frame_id)
        .where(Facet.gone.is_(False))
    )
    return dict(session.execute(query.group_by(FrameKeyword.keyword)).all())


def tree(session: Session) -> list[dict[str, Any]]:
    """All keywords, those in the tree and those that frames have: {name, parent, synonyms, count}, by name."""
    used = counts(session)
    nodes = {k.id: k for k in session.scalars(select(Keyword))}
    rows = [
        {
            "name": k.name,
            "parent": nodes[k.parent_id].name if k.parent_id in nodes else None,
            "synonyms": list(k.synonyms),
            "count": used.pop(k.name, 0),
        }
        for k in nodes.values()
    ]
    rows += [{"name": name, "parent": None, "synonyms": [], "count": n} for name, n in used.items()]
    return sorted(rows, key=lambda r: folded(str(r["name"])))


def _node(session: Session, name: str) -> Keyword | None:
    return session.scalar(select(Keyword).where(Keyword.name == name))


def _made(session: Session, name: str) -> Keyword:
    found = _node(session, name)
    if found is None:
        found = Keyword(name=name)
        session.add(found)
        session.flush()
    return found


def put_under(session: Session, name: str, parent: str | None) -> None:
    """Give a keyword its place in the tree; None: at its top.

    Raises:
        TannerError: it would lie below itself, or too deep.
    """
    child = _made(session, checked(name))
    above = _made(session, checked(parent)) if parent else None
    step, steps = above, 0
    while step is not None:
        if step.id == child.id:
            raise TannerError(f"{name} cannot lie below {parent}, which lies below it.")
        step, steps = session.get(Keyword, step.parent_id) if step.parent_id else None, steps + 1
    if steps + _height(session, child.id) > DEEPEST:
        raise TannerError(f"{name} would lie deeper than {DEEPEST} steps.")
    child.parent_id = above.id if above else None


def _height(session: Session, node: int) -> int:
    """Steps of the tree from a keyword down to the lowest below it, itself among them."""
    steps, here = 0, [node]
    while here:
        steps += 1
        here = list(session.scalars(select(Keyword.id).where(Keyword.parent_id.in_(here))))
    return steps


def say_also(session: Session, name: str, synonyms: Iterable[str]) -> None:
    """Other words for a keyword: it is found and suggested by them, too."""
    _made(session, checked(name)).synonyms = list(dict.fromkeys(checked(s) for s in synonyms if s.strip()))


def rename(session: Session, old: str, new: str) -> list[Action]:
    """Call a keyword otherwise in all shoots, one step in each; a name that is there already takes the frames of both.

    Its place in the tree, what lies below it and the other words for it go along.
    """
    new = checked(new)
    if new == old:
        return []
    query = select(Frame).join(FrameKeyword, FrameKeyword.frame_id == Frame.id).where(FrameKeyword.keyword == old)
    by_shoot: dict[int, list[Frame]] = {}
    for frame in session.scalars(query):
        by_shoot.setdefault(frame.shoot_id, []).append(frame)
    done = []
    for shoot, frames in by_shoot.items():
        changes = [(f, {"keywords": list(dict.fromkeys(new if k == old else k for k in f.keywords))}) for f in frames]
        action = record(session, shoot, f"Keyword {old} is {new}", changes)
        done += [action] if action else []
    node, there = _node(session, old), _node(session, new)
    if node is not None and there is None:
        node.name = new
    elif node is not None and there is not None:
        for child in session.scalars(select(Keyword).where(Keyword.parent_id == node.id)):
            if child.id != there.id:
                child.parent_id = there.id
        if there.parent_id == node.id:
            there.parent_id = node.parent_id
        there.synonyms = list(dict.fromkeys([*there.synonyms, *node.synonyms]))
        session.flush()
        session.delete(node)
    return done


def leave_out(session: Session, name: str) -> None:
    """Take a keyword out of the tree; frames keep it, and what lay below it goes up a step."""
    node = _node(session, name)
    if node is None:
        return
    for child in session.scalars(select(Keyword).where(Keyword.parent_id == node.id)):
        child.parent_id = node.parent_id
    session.flush()
    session.delete(node)


def paths(session: Session, names: Sequence[str]) -> list[tuple[str, ...]]:
    """The way from the top of the tree to each keyword that lies in it below another."""
    if not names:
        return []
    nodes = {k.id: k for k in session.scalars(select(Keyword))}
    by_name = {k.name: k for k in nodes.values()}
    found = []
    for name in names:
        way: list[str] = []
        node = by_name.get(name)
        while node is not None and len(way) < DEEPEST:
            way.insert(0, node.name)
            node = nodes.get(node.parent_id or 0)
        if len(way) > 1:
            found.append(tuple(way))
    return found


def suggest(session: Session, text: str, without: Sequence[str] = ()) -> list[str]:
    """Keywords for what is being written: those that begin so, the commonest first, then those with a word like it; or that have a synonym like it."""
    wanted = folded(text.strip())
    known: dict[str, list[str]] = {}
    number: dict[str, int] = {}
    for row in tree(session):
        if row["name"] not in without:
            known[row["name"]] = [folded(s) for s in (row["name"], *row["synonyms"])]
            number[row["name"]] = row["count"]
    order = sorted(known, key=lambda n: (-number[n], folded(n)))
    if not wanted:
        return order[:SUGGESTED]
    begin = [n for n in order if any(s.startswith(wanted) for s in known[n])]
    within = [n for n in order if n not in begin and any(f" {wanted}" in s for s in known[n])]
    rest = {(n, k): s for n in order if n not in begin and n not in within for k, s in enumerate(known[n])}
    from rapidfuzz import fuzz, process

    like = process.extract(wanted, rest, scorer=fuzz.WRatio, score_cutoff=LIKE, limit=3 * SUGGESTED)
    return list(dict.fromkeys([*begin, *within, *(key[0] for _, _, key in like)]))[:SUGGESTED]


def last_used(session: Session, shoot_id: int) -> list[str]:
    """Keywords of the frames of a shoot, of those that were changed last first."""
    query = (
        select(FrameKeyword.keyword)
        .join(Facet, Facet.frame_id == FrameKeyword.frame_id)
        .where(Facet.shoot_id == shoot_id, Facet.gone.is_(False))
        .group_by(FrameKeyword.keyword)
        .order_by(func.max(Facet.tick).desc())
    )
    return list(session.scalars(query.limit(SUGGESTED)))


def as_text(session: Session) -> str:
    """The tree, a keyword a line, one tab deeper below another; other words for it after an equals sign."""
    # What files brought in and no keyword of ours could be called would not come in again.
    rows = [r for r in tree(session) if not set(",|=") & set(r["name"])]
    below: dict[str | None, list[dict[str, Any]]] = {}
    for row in rows:
        below.setdefault(row["parent"], []).append(row)
    lines: list[str] = []

    def write(parent: str | None, depth: int) -> None:
        for row in below.get(parent, []):
            more = f" = {', '.join(row['synonyms'])}" if row["synonyms"] else ""
            lines.append("\t" * depth + row["name"] + more)
            write(row["name"], depth + 1)

    write(None, 0)
    return "\n".join(lines) + ("\n" if lines else "")


def from_text(session: Session, text: str) -> int:
    """Take keywords from such a text into the tree; how many. What is there stays, and gets the place that the text gives it.

    Raises:
        FormatError: with the line that makes no sense; nothing was taken then.
    """
    lines = text.splitlines()
    if len(lines) > MOST_TEXT:
        raise FormatError(f"At most {MOST_TEXT} keywords are taken at once.")
    seen: dict[str, int] = {}
    way: list[tuple[int, str]] = []
    found: list[tuple[str, str | None, list[str]]] = []
    for number, line in enumerate(lines, 1):
        if not line.strip():
            continue
        depth = len(line.expandtabs(4)) - len(line.expandtabs(4).lstrip())
        while way and way[-1][0] >= depth:
            way.pop()
        if depth and not way:
            raise FormatError(f"Line {number}: {line.strip()} is further in than anything above it.")
        name, _, others = line.strip().partition("=")
        try:
            name = checked(name)
            synonyms = [checked(s) for s in others.split(",") if s.strip()]
        except TannerError as error:
            raise FormatError(f"Line {number}: {error}") from None
        if name in seen:
            raise FormatError(
                f"Line {number}: {name} stands in line {seen[name]} already, and has one place in the tree."
            )
        if len(way) >= DEEPEST:
            raise FormatError(f"Line {number}: deeper than {DEEPEST} steps.")
        seen[name] = number
        found.append((name, way[-1][1] if way else None, synonyms))
        way.append((depth, name))
    # Those of the text leave their old places first, or a tree that is turned over would seem to lie below itself.
    for name, _, _ in found:
        _made(session, name).parent_id = None
    session.flush()
    for name, parent, synonyms in found:
        put_under(session, name, parent)
        if synonyms:
            say_also(session, name, synonyms)
        session.flush()
    return len(found)


def change(session: Session, frames: Sequence[Frame], add: Sequence[str], take: Sequence[str]) -> list[Action]:
    """Add keywords to frames and take others away, one step in each shoot."""
    new, gone = [checked(k) for k in add], set(take)
    said = " and ".join(
        filter(None, [f"keywords {', '.join(new)}" if new else "", f"without {', '.join(take)}" if take else ""])
    )
    by_shoot: dict[int, list[Frame]] = {}
    for frame in frames:
        by_shoot.setdefault(frame.shoot_id, []).append(frame)
    done = []
    for shoot, mine in by_shoot.items():
        changes = [
            (f, {"keywords": list(dict.fromkeys([*(k for k in f.keywords if k not in gone), *new]))}) for f in mine
        ]
        action = record(session, shoot, said[:1].upper() + said[1:], changes)
        done += [action] if action else []
    return done
