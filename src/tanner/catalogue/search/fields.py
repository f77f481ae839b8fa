"""What the terms of an expression ask of frames: each field once, as SQL that an index answers."""

import operator
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any as Anything

from sqlalchemy import (
    ColumnElement,
    Integer,
    Select,
    String,
    and_,
    bindparam,
    false,
    func,
    literal_column,
    or_,
    select,
    text,
    true,
    type_coerce,
    union_all,
)
from sqlalchemy.orm import InstrumentedAttribute, aliased

from tanner.catalogue.models import (
    LABELS,
    Collection,
    DeliveryItem,
    Facet,
    FrameKeyword,
    FrameSet,
    Gathered,
    Keyword,
    Shoot,
)
from tanner.catalogue.search.language import All, Any, Not, Term, Tree, wrong
from tanner.core.texts import folded

Clause = ColumnElement[bool]
Asked = ColumnElement[bool] | InstrumentedAttribute[bool]
COMPARED: Mapping[str, Callable[[Anything, Anything], Anything]] = {
    ">=": operator.ge, "<=": operator.le, ">": operator.gt, "<": operator.lt, "=": operator.eq, "!=": operator.ne,
}  # fmt: skip
_lead = aliased(Facet)


def _lead_has(column: InstrumentedAttribute[bool]) -> Clause:
    """The frame itself has it, or its set's lead has and it follows."""
    of_lead: InstrumentedAttribute[bool] = getattr(_lead, column.key)
    sets = select(FrameSet.id).join(_lead, _lead.frame_id == FrameSet.lead_id).where(of_lead)
    return or_(column, Facet.follows & Facet.set_id.in_(sets))


WORDS: Mapping[str, tuple[str, Callable[[], Asked]]] = {
    "keep": ("judged keep", lambda: Facet.verdict == "keep"),
    "drop": ("judged drop", lambda: Facet.verdict == "drop"),
    "undecided": ("not judged yet", lambda: Facet.verdict == "undecided"),
    "lead": ("leads its set", lambda: Facet.frame_id.in_(select(FrameSet.lead_id).where(FrameSet.lead_id.is_not(None)))),
    "alternate": ("one more development of a file", lambda: Facet.alternate > 0),
    "developed": ("has a development of its own", lambda: Facet.developed),
    "delivered": (
        "was written by a delivery",
        lambda: Facet.frame_id.in_(select(DeliveryItem.frame_id).where(DeliveryItem.state == "done")),
    ),
    "areas": ("has areas, of its own or from its lead", lambda: _lead_has(Facet.has_areas)),
    "spots": ("has spots, of its own or from its lead", lambda: _lead_has(Facet.has_spots)),
    "error": ("its file is missing or cannot be read", lambda: Facet.error),
    "upright": ("held upright", lambda: Facet.upright),
    "wide": ("held wide", lambda: ~Facet.upright),
    "chart": ("shows a colour chart", lambda: Facet.chart),
    "bracket": ("one of a bracket", lambda: Facet.bracket),
    "archived": ("its shoot is archived", lambda: Facet.shoot_id.in_(select(Shoot.id).where(Shoot.away))),
    "all": ("every frame", lambda: true()),
}  # fmt: skip


@dataclass(frozen=True)
class Number:
    """A field with a number: its column, what it means, and how its values are read."""

    about: str
    column: Callable[[], ColumnElement[Anything]]
    read: Callable[[str], float] = float


def _fraction(value: str) -> float:
    """1/125, or 0.008."""
    above, _, below = value.removesuffix("s").partition("/")
    return float(above) / float(below) if below else float(above)


NUMBERS: Mapping[str, Number] = {
    "stars": Number("stars, 0 to 5", lambda: Facet.stars.expression),
    "iso": Number("ISO speed", lambda: Facet.iso.expression),
    "focal": Number("focal length in mm", lambda: Facet.focal.expression, lambda v: float(v.removesuffix("mm"))),
    "aperture": Number("f-number", lambda: Facet.aperture.expression, lambda v: float(v.lower().removeprefix("f/"))),
    "shutter": Number("exposure time in s, as 1/125 or 0.008", lambda: Facet.shutter.expression, _fraction),
}
_SAME = 1 / 64
"""Numbers of cameras are rounded (1/125 is 0.008, f/5.6 is 5.657): equal means by no more than this share."""


def _number(field: Number, how: str, value: str) -> Clause:
    wanted = field.read(value)
    if not abs(wanted) < 1e12:
        raise ValueError
    column = field.column()
    if how in ("=", ":", "!="):
        near = column.between(wanted - abs(wanted) * _SAME, wanted + abs(wanted) * _SAME)
        return column.is_not(None) & ~near if how == "!=" else near
    slack = abs(wanted) * _SAME if column.key != "stars" else 0.0
    edge = wanted - slack if how in (">=", "<") else wanted + slack
    compared: Clause = COMPARED[how](column, edge)
    return compared


def values_like(column: Anything, value: str, *, whole: bool = False) -> Clause:
    """Rows whose text has a part that is `value`, capitals and accents aside; whole: is it."""
    wanted = folded(value)
    mine = func.folded(column)
    return mine == wanted if whole else func.instr(mine, wanted) > 0


def _different(column: InstrumentedAttribute[str]) -> Select[Anything]:
    """The different values of an indexed column: the least, then the least above it, and so on; the index is not read through."""
    least: Anything = select(func.min(column).label("value")).cte(recursive=True)
    return select(least.union_all(_above(column, least)).c.value)


def _above(column: InstrumentedAttribute[str], found: Anything) -> Select[Anything]:
    above = select(func.min(column)).where(column > found.c.value).scalar_subquery()
    return select(above).where(found.c.value.is_not(None))


def _few(column: InstrumentedAttribute[str], asked: Callable[[Anything], Clause]) -> Clause:
    """As `asked` of an indexed column with few different values."""
    other: InstrumentedAttribute[str] = getattr(aliased(column.class_), column.key)
    values = _different(other).subquery()
    return column.in_(select(values.c[0]).where(values.c[0].is_not(None), asked(values.c[0])))


def _keyword(value: str) -> Clause:
    """The keyword, another word for it, or one below it in the tree."""
    names = select(Keyword.id).where(
        or_(
            values_like(Keyword.name, value, whole=True),
            _sql("EXISTS (SELECT 1 FROM json_each(keyword.synonyms) s WHERE folded(s.value) = :it)", folded(value)),
        )
    )
    tree = names.cte(recursive=True)
    below = aliased(Keyword)
    tree = tree.union(select(below.id).where(below.parent_id == tree.c.id))
    in_tree = select(func.folded(Keyword.name)).where(Keyword.id.in_(select(tree.c.id)))
    same = _few(FrameKeyword.keyword, lambda k: or_(values_like(k, value, whole=True), func.folded(k).in_(in_tree)))
    matching = select(FrameKeyword.frame_id).where(same)
    return Facet.frame_id.in_(matching)


def _preset(value: str) -> Clause:
    of_shoots = select(Shoot.id).where(values_like(Shoot.preset["name"].as_string(), value))
    return or_(Facet.presets.is_not(None) & values_like(Facet.presets, value), Facet.shoot_id.in_(of_shoots))


def _profile(value: str) -> Clause:
    mine = values_like(func.coalesce(Facet.profile, ""), value)
    sets = (
        select(FrameSet.id)
        .join(_lead, _lead.frame_id == FrameSet.lead_id)
        .where(values_like(func.coalesce(_lead.profile, ""), value))
    )
    return or_(mine, Facet.profile.is_(None) & Facet.follows & Facet.set_id.in_(sets))


def _label(value: str) -> Clause:
    if value.casefold() not in LABELS:
        raise ValueError
    return Facet.label == value.casefold()


TEXTS: Mapping[str, tuple[str, Callable[[str], Clause]]] = {
    "label": (f"colour label: {', '.join(LABELS)}", _label),
    "set": (
        "a part of the set's name",
        lambda v: Facet.set_id.in_(select(FrameSet.id).where(values_like(FrameSet.name, v))),
    ),
    "shoot": ("a part of the shoot's name", lambda v: Facet.shoot_id.in_(select(Shoot.id).where(values_like(Shoot.name, v)))),
    "keyword": ("a whole keyword, another word for it, or one below it", _keyword),
    "camera": ("a part of the camera's name", lambda v: _few(Facet.camera, lambda c: values_like(c, v))),
    "lens": ("a part of the lens's name", lambda v: _few(Facet.lens, lambda c: values_like(c, v))),
    "name": ("a part of the file's name; capitals of A to Z do not count", lambda v: Facet.name.icontains(v, autoescape=True)),
    "preset": ("a part of the name of a preset that it wears", _preset),
    "profile": ("a part of its camera profile's name", _profile),
    "place": ("words of where it was taken: street, city, region, country", lambda v: in_text(v, "place")),
    "caption": ("words of its headline or caption", lambda v: in_text(v, "caption")),
    "collection": (
        "a part of the name of a collection that it is in",
        lambda v: Facet.frame_id.in_(
            select(Gathered.frame_id)
            .join(Collection, Collection.id == Gathered.collection_id)
            .where(values_like(Collection.name, v))
        ),
    ),
}  # fmt: skip
_DATE = re.compile(r"\d{4}(-\d{2}(-\d{2}(T\d{2}(:\d{2}(:\d{2})?)?)?)?)?$")


def _taken(how: str, value: str) -> Clause:
    """A date, or the year or month alone; as far as it is said, so `taken<=2026-03` takes all of March."""
    if not _DATE.match(value):
        raise ValueError
    begins = value.replace("T", " ")
    ends = begins + "~"  # after every text that begins so
    column = type_coerce(Facet.taken, String)
    inside = column.between(begins, ends)
    return {
        "=": inside,
        "!=": ~inside & column.is_not(None),
        ">=": column >= begins,
        "<": column < begins,
        ">": column > ends,
        "<=": column <= ends,
    }["=" if how == ":" else how]


def _words(value: str) -> list[str]:
    """The words in a text, as the database's tokens are made: letters and digits."""
    return re.findall(r"[^\W_]+", value)


def _asked(value: str, column: str = "") -> str:
    """How the words of a value are asked for in full text; "" without any."""
    words = _words(value)
    return ((f"{column} : " if column else "") + f'"{" ".join(words)}" *') if words else ""


def in_text(value: str, column: str = "") -> Clause:
    """Frames in whose text the words of `value` follow one another, the last as the beginning of a word.

    Args:
        column: of the frame's and its shoot's words; "": everything, and the name of its set.
    """
    asked = _asked(value, column)
    if not asked:
        return false()
    found = or_(Facet.frame_id.in_(_matching("frame_text", asked)), Facet.shoot_id.in_(_matching("shoot_text", asked)))
    return found if column else or_(found, Facet.set_id.in_(_matching("set_text", asked)))


def with_words(value: str) -> Anything:
    """The ids of frames that `in_text` takes, some of them twice and in no order: found without looking at the others."""
    asked, other = _asked(value), aliased(Facet)
    if not asked:
        return select(other.frame_id).where(false())
    return union_all(
        _matching("frame_text", asked),
        select(other.frame_id).where(other.shoot_id.in_(_matching("shoot_text", asked))),
        select(other.frame_id).where(other.set_id.in_(_matching("set_text", asked))),
    )


def is_text(term: Term) -> bool:
    """Whether a term is looked for in the text of frames."""
    return not term.how and (term.text or term.name.lower() not in WORDS)


def _matching(table: str, asked: str) -> Select[Anything]:
    return (
        select(literal_column("rowid", Integer).label("id"))
        .select_from(text(table))
        .where(_sql(f"{table} MATCH :it", asked))
    )


def _sql(condition: str, it: str) -> Anything:
    """A condition that is written out, with one value in it."""
    return text(condition).bindparams(bindparam("it", it, unique=True))


def clause(tree: Tree) -> Clause:
    """What an expression asks, as a condition on frames.

    Raises:
        FormatError: a term makes no sense: where, and why.
    """
    match tree:
        case All(parts):
            return and_(true(), *(clause(p) for p in parts))
        case Any(parts):
            return or_(*(clause(p) for p in parts))
        case Not(inner):
            return ~func.coalesce(clause(inner), False)
        case Term():
            return _term(tree)


def _term(term: Term) -> Clause:
    name = term.name.lower()
    if not term.how:
        return in_text(term.name) if is_text(term) else and_(WORDS[name][1]())
    try:
        if name in NUMBERS:
            return _number(NUMBERS[name], term.how, term.value)
        if name == "taken":
            return _taken(term.how, term.value)
        if name in TEXTS and term.how in (":", "=", "!="):
            found = TEXTS[name][1](term.value)
            return ~func.coalesce(found, False) if term.how == "!=" else found
    except (ValueError, ZeroDivisionError):
        raise wrong(f"“{term}” needs {_needs(name)}.", term.at) from None
    if name in TEXTS:
        raise wrong(f"“{term}”: {name} is compared with : or !=.", term.at)
    raise wrong(f"there is no field “{name}”. There are: {', '.join(known())}.", term.at)


def _needs(name: str) -> str:
    if name == "taken":
        return "a date as 2026-03-12, or a month or year"
    return f"a number ({NUMBERS[name].about})" if name in NUMBERS else f"a {TEXTS[name][0]}"


def known() -> list[str]:
    """All that an expression can say, for messages and help."""
    return [*WORDS, *(f"{t}:…" for t in TEXTS), *(f"{n}>=…" for n in NUMBERS), "taken>=…"]
