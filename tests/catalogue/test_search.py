"""Searches: what expressions take, against a reading of the same in Python; counts, pages, and what makes no sense."""

import re
import unicodedata
from collections import Counter
from collections.abc import Callable, Iterator
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from made import downgrade
from sqlalchemy import select, text
from sqlalchemy.dialects import sqlite
from sqlalchemy.orm import Session

from tanner.catalogue.models import WITH_GONE, Delivery, DeliveryItem, Facet, Frame, FrameSet, Keyword, Shoot
from tanner.catalogue.search import kept
from tanner.catalogue.search.counts import Counts, facets
from tanner.catalogue.search.find import SORTS, condition, count, ids_of, ordered, page, take
from tanner.catalogue.search.language import parse
from tanner.catalogue.store import Catalogue
from tanner.core.errors import FormatError, TannerError

CAMERAS, LENSES = ("Alder One", "Heron Fünf", ""), ("Wren 35 mm", "Rook 85 mm")
WORDS = ("lamp", "lampshade", "évening", "Blue lamp", "wool")
VERDICTS, LABELS = ("keep", "drop", "undecided"), ("none", "red", "green")


def _frame(n: int) -> Frame:
    """Frames that differ in everything a search asks, with numbers that have no common measure."""
    return Frame(
        id=n, shoot_id=1 + n % 3 // 2, set_id=(None, 1, 2)[n % 3], path=f"/p/{n}", name=f"{('AF', 'Bär')[n % 2]}{n:04d}.DNG",
        content=str(n), taken=None if n % 11 == 0 else datetime(2026, 1, 1) + timedelta(days=n * 7), camera=CAMERAS[n % len(CAMERAS)],
        lens=LENSES[n % len(LENSES)], iso=None if n % 7 == 0 else (100, 400, 1600)[n % 3],
        facts={"focal_length_mm": (35.0, 85.0)[n % 2], "aperture": (5.657, 8.0)[n % 5 % 2], "exposure_s": (0.008, 1 / 60, 2.0)[n % 3]},
        starting={}, as_shot=[5000.0, 0.0], width=600, height=(400, 900)[n % 4 == 1], error="gone" if n % 13 == 0 else "",
        stars=n % 6, label=LABELS[n % 3], verdict=VERDICTS[n % 5 % 3], keywords=[WORDS[n % 5], WORDS[n * 3 % 5]][: n % 3],
        own={1: {"light.exposure": 1.0}, 2: {"areas/7f3a91c2/shapes": []}, 3: {"profile.camera": "own/alder"}}.get(n % 7, {}),
        worn=[{"name": "Warm"}] if n % 8 == 0 else [], words={"headline": "a lamp", "city": "Ashby"} if n % 9 == 0 else {},
        seen={"chart": True} if n % 17 == 0 else {}, alternate=n % 19 == 0, gone=n % 23 == 0, follows=n % 10 != 3,
    )  # fmt: skip


@pytest.fixture(scope="module")
def many(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Catalogue]:
    """A hundred and twenty frames in two shoots."""
    catalogue = Catalogue(tmp_path_factory.mktemp("many"))
    with catalogue.write() as session:
        session.add_all([Shoot(name="Spring évening", words={"city": "Northwick"}), Shoot(name="Other", away=True)])
        session.flush()
        session.add_all(
            [FrameSet(shoot_id=1, name="Lamp, evening", lead_id=1), FrameSet(shoot_id=2, name="Wool", lead_id=2)]
        )
        session.flush()
        session.add_all(_frame(n) for n in range(1, 121))
        session.flush()
        session.add(Delivery(shoot_id=1, folder="/out", specs=[]))
        session.flush()
        for n, state in ((3, "done"), (4, "failed"), (5, "done")):
            session.add(DeliveryItem(delivery_id=1, frame_id=n, spec=0, number=1, target="x", settings={}, state=state))
        session.add_all([Keyword(name="light", synonyms=["Lumière"]), Keyword(name="evening", parent_id=1)])
    yield catalogue
    catalogue.close()


def plain(value: str) -> str:
    return "".join(c for c in unicodedata.normalize("NFD", value.casefold()) if not unicodedata.combining(c))


def has_words(value: str, *texts: str | None) -> bool:
    """The words of `value` follow one another in one of the texts, the last as the beginning of a word."""
    wanted = re.findall(r"[^\W_]+", plain(value))
    for found in (re.findall(r"[^\W_]+", plain(t or "")) for t in texts):
        for at in range(len(found) - len(wanted) + 1):
            part = found[at : at + len(wanted)]
            if wanted and part[:-1] == wanted[:-1] and part[-1].startswith(wanted[-1]):
                return True
    return False


Test = Callable[[Frame, FrameSet | None, Shoot, Frame | None], bool]
PLACES = ("sublocation", "city", "region", "country")
near = lambda a, b: a is not None and abs(a - b) <= abs(b) / 64  # noqa: E731
TERMS: dict[str, Test] = {
    "keep": lambda f, g, s, lead: f.verdict == "keep",
    "undecided": lambda f, g, s, lead: f.verdict == "undecided",
    "lead": lambda f, g, s, lead: f.id in (1, 2),
    "developed": lambda f, g, s, lead: bool(f.own or f.worn or f.offsets),
    "delivered": lambda f, g, s, lead: f.id in (3, 5),
    "error": lambda f, g, s, lead: bool(f.error),
    "upright": lambda f, g, s, lead: f.height > f.width,
    "wide": lambda f, g, s, lead: f.height <= f.width,
    "chart": lambda f, g, s, lead: bool(f.seen),
    "alternate": lambda f, g, s, lead: bool(f.alternate),
    "archived": lambda f, g, s, lead: s.away,
    "areas": lambda f, g, s, lead: any("areas/" in k for k in f.own)
    or bool(f.follows and lead and any("areas/" in k for k in lead.own)),
    "stars>=3": lambda f, g, s, lead: f.stars >= 3,
    "stars!=2": lambda f, g, s, lead: f.stars != 2,
    "iso<=400": lambda f, g, s, lead: f.iso is not None and f.iso <= 400,
    "iso!=400": lambda f, g, s, lead: f.iso is not None and f.iso != 400,
    "focal=85mm": lambda f, g, s, lead: near(f.facts["focal_length_mm"], 85),
    "aperture:f/5.6": lambda f, g, s, lead: near(f.facts["aperture"], 5.6),
    "shutter=1/125": lambda f, g, s, lead: near(f.facts["exposure_s"], 1 / 125),
    "shutter>1/60": lambda f, g, s, lead: f.facts["exposure_s"] > 1 / 59,
    "label:RED": lambda f, g, s, lead: f.label == "red",
    "set:EVEN": lambda f, g, s, lead: g is not None and "even" in g.name.casefold(),
    "shoot:evening": lambda f, g, s, lead: "evening" in plain(s.name),
    "camera:funf": lambda f, g, s, lead: "funf" in plain(f.camera),
    "lens:85": lambda f, g, s, lead: "85" in f.lens,
    "name:af00": lambda f, g, s, lead: "af00" in f.name.lower(),
    'keyword:"blue lamp"': lambda f, g, s, lead: "Blue lamp" in f.keywords,
    "keyword:lumiere": lambda f, g, s, lead: "évening" in f.keywords,  # by the tree: evening is under light
    "keyword!=wool": lambda f, g, s, lead: "wool" not in f.keywords,
    "preset:war": lambda f, g, s, lead: bool(f.worn),
    "profile:alder": lambda f, g, s, lead: "profile.camera" in f.own
    or bool(f.follows and lead and "profile.camera" in lead.own),
    "place:north": lambda f, g, s, lead: has_words("north", *(f.words.get(p) for p in PLACES), *(s.words.get(p) for p in PLACES)),
    "caption:lamp": lambda f, g, s, lead: has_words("lamp", f.words.get("headline")),
    "taken:2026-03": lambda f, g, s, lead: f.taken is not None and (f.taken.year, f.taken.month) == (2026, 3),
    "taken<=2026-02": lambda f, g, s, lead: f.taken is not None and f.taken < datetime(2026, 3, 1),
    "taken>2026-06-01": lambda f, g, s, lead: f.taken is not None and f.taken >= datetime(2026, 6, 2),
    "taken!=2026": lambda f, g, s, lead: f.taken is not None and f.taken.year != 2026,
    **{
        word: lambda f, g, s, lead, word=word: has_words(  # type: ignore[misc]
            word.strip('"'),
            f.name, f.words.get("headline"), f.words.get("city"), f"{f.camera} {f.lens}", " ".join(f.keywords),
            s.name, s.words.get("city"), g.name if g else "",
        )
        for word in ("lamp", "even", "bar0", '"keep"', "rook", "heron", "northw", '"wren 35"', "zebra")
    },
}  # fmt: skip
Tree = Any
TREES = st.recursive(
    st.sampled_from(sorted(TERMS)),
    lambda inner: st.one_of(
        st.tuples(st.just("not"), inner),
        st.tuples(st.sampled_from(["and", "or", "beside"]), st.lists(inner, min_size=2, max_size=3)),
    ),
    max_leaves=8,
)


def written(tree: Tree) -> str:
    if isinstance(tree, str):
        return tree
    if tree[0] == "not":
        return f"not ({written(tree[1])})"
    joint = {"and": " and ", "or": " OR ", "beside": " "}[tree[0]]
    return "(" + joint.join(written(t) for t in tree[1]) + ")"


def holds(tree: Tree, *of: Any) -> bool:
    if isinstance(tree, str):
        return TERMS[tree](*of)
    if tree[0] == "not":
        return not holds(tree[1], *of)
    return (any if tree[0] == "or" else all)(holds(t, *of) for t in tree[1])


@given(TREES)
def test_the_database_takes_what_python_takes(many: Catalogue, tree: Tree) -> None:
    with many.read() as session:
        shoots, sets = ({x.id: x for x in session.scalars(select(of))} for of in (Shoot, FrameSet))
        frames = {f.id: f for f in session.scalars(select(Frame))}
        wanted = []
        for frame in frames.values():
            group = sets.get(frame.set_id or 0)
            if holds(tree, frame, group, shoots[frame.shoot_id], frames.get(group.lead_id or 0) if group else None):
                wanted.append(frame.id)
        said = written(tree)
        assert sorted(session.scalars(ordered(condition(said)))) == wanted
        assert count(session, condition(said)) == len(wanted)
        # The three ways to the same: in order a part at a time, as a list of ids, and within shoots.
        pages = [i for at in range(0, 125, 50) for i in page(session, said, "-taken", at, most=50)]
        assert pages == list(session.scalars(ordered(condition(said), "-taken")))
        assert ids_of(session, said).tolist() == wanted
        assert sorted(f.id for s in (1, 2) for f in take(session, s, said)) == wanted


@given(TREES, st.lists(st.integers(1, 120), max_size=12))
def test_counts_are_what_is_there_after_any_change(many: Catalogue, tree: Tree, changed: list[int]) -> None:
    counts = Counts()
    with many.write() as session:
        counts.bring_up(session)
        for n in changed:
            frame = session.get(Frame, n, execution_options=WITH_GONE)
            assert frame is not None
            frame.stars, frame.keywords, frame.gone = (
                (frame.stars + 1) % 6,
                [*frame.keywords[-1:], "new"],
                not frame.gone,
            )
        session.flush()
        counts.bring_up(session)
        ids = ids_of(session, written(tree))
        frames = [session.get_one(Frame, int(i)) for i in ids]
        found = counts.of(ids)
        assert dict(found["stars"]) == Counter(f.stars for f in frames)
        assert dict(found["keywords"]) == Counter(k for f in frames for k in set(f.keywords))
        assert dict(found["camera"]) == Counter(f.camera for f in frames if f.camera)
        assert dict(found["month"]) == Counter(f"{f.taken:%Y-%m}" for f in frames if f.taken)
        # Every choice that is offered takes as many frames as it says.
        for group in facets(found):
            for value in group["values"]:
                both = f"({written(tree)}) {value['term']}"
                if group["title"] not in ("Camera", "Lens", "Keywords", "Preset", "Profile", "Areas", "Spots"):
                    assert count(session, condition(both)) == value["count"], both
        session.rollback()


@pytest.mark.parametrize(
    ("said", "why"),
    [
        ("(", "character 2, something is missing"),
        (")", "character 1, something is missing before"),
        ("keep)", "character 5, a bracket is closed that was not opened"),
        ("(keep", "character 1, a bracket is opened and not closed"),
        ("keep and", "character 9, something is missing at its end"),
        ("or keep", "something is missing before “or”"),
        ("not", "something is missing"),
        ("foo:3", "there is no field “foo”"),
        ("keep stars>=x", "character 6, “stars>=x” needs a number"),
        ("stars>=1e400", "needs a number"),
        ("shutter=1/0", "needs a number"),
        ("label:purple", "needs a colour label"),
        ("label>red", "is compared with : or !="),
        ("taken:yesterday", "needs a date"),
        ('keep "lamp', "character 6, quotation marks are opened and not closed"),
        (" ".join(["keep"] * 201), "too long"),
    ],
)
def test_what_makes_no_sense_is_told_with_its_place(said: str, why: str) -> None:
    with pytest.raises(FormatError, match=r"^Search: at character") as told:
        condition(said)
    assert why in str(told.value)


@given(st.text(alphabet='keepdrorstaniso><=!:()"3 -é%_\\', max_size=40))
def test_nothing_but_a_message_comes_of_any_text(many: Catalogue, said: str) -> None:
    try:
        asked = condition(said)
    except FormatError as error:
        assert str(error).startswith("Search: at character")
        return
    with many.read() as session:
        assert 0 <= count(session, asked) <= 120
    again = str(parse(said))
    assert str(parse(again)) == again, "an expression written out means the same"


def test_main_questions_are_answered_by_an_index(many: Catalogue) -> None:
    """By SQLite's own word: no question goes through the wide rows of frames, and none of the commonest through all rows."""
    with many.read() as session:
        for said in (
            "",
            "lamp",
            "keep stars>=3",
            "taken:2026-03",
            "not delivered",
            "areas",
            "keyword:lamp",
            "camera:one",
        ):
            query = ordered(condition(said), "-taken").limit(100)
            sql = str(query.compile(dialect=sqlite.dialect(), compile_kwargs={"literal_binds": True}))
            plan = [row[3] for row in session.execute(text("EXPLAIN QUERY PLAN " + sql.replace(":", "\\:")))]
            assert plan[0].startswith("SEARCH frame_facet USING"), (said, plan)
            assert not any(re.match(r"(SCAN|SEARCH) frame\b", line) for line in plan), (said, plan)


@pytest.mark.parametrize("sort", [s for s in SORTS if s != "hand"])
def test_orders(many: Catalogue, sort: str) -> None:
    with many.read() as session:
        found = [session.get_one(Frame, i) for i in session.scalars(ordered(condition(""), sort))]
        keys = {
            "-taken": [f.taken.timestamp() if f.taken else 0 for f in reversed(found)],
            "taken": [f.taken.timestamp() if f.taken else 1e12 for f in found],
            "name": [f.name for f in found],
            "-stars": [-f.stars for f in found],
            "-sharp": [0],
        }[sort]
        assert keys == sorted(keys) and len(found) == 115
    with pytest.raises(TannerError, match="no order"), many.read() as session:
        ordered(condition(""), "size")


def test_narrow_rows_follow_whatever_is_written(many: Catalogue) -> None:
    """Also what is written past the models: by hand, in bulk, or by a program that was there before."""
    with many.write() as session:
        session.execute(text("UPDATE frame SET name = 'Zebra.DNG', keywords = '[\"horse\"]' WHERE id = 8"))
        assert (
            list(session.scalars(ordered(condition("zebra"))))
            == [8]
            == list(session.scalars(ordered(condition("keyword:horse"))))
        )
        session.execute(text("UPDATE shoot SET name = 'Zoo' WHERE id = 2"))
        session.execute(text("UPDATE frame_set SET name = 'Giraffe' WHERE id = 2"))
        assert count(session, condition("zoo")) > 0 and count(session, condition("giraffe")) > 0
        assert count(session, condition("other")) == 0
        session.execute(text("DELETE FROM frame WHERE id = 8"))
        assert count(session, condition("zebra")) == 0 and session.get(Facet, 8) is None
        session.rollback()


def test_what_a_change_touches_is_all_that_it_changes(many: Catalogue) -> None:
    """Triggers write the part of a narrow row that a change touches: the same as if all of it were written."""
    changes = (
        "stars = 5, label = 'blue', verdict = 'keep'",
        """own = '{"areas/0a1b2c3d/kind": "x", "profile.camera": "p", "spots/0a1b2c3d/kind": "y"}', follows = 0""",
        """worn = '[{"name": "One"}, {"name": "Two"}]', offsets = '{"ev": 0.2}'""",
        """seen = '{"chart": true, "bracket": [1, 3]}', measured = '{"sharp": 0.5}'""",
        "place = 3.5, iso = 3200, stars = 1",
        "own = '{}', worn = '[]', offsets = '{}', measured = '{}'",
    )
    with many.write() as session:
        for change in changes:
            tick = session.execute(text("SELECT max(tick) FROM frame_facet")).scalar_one()
            session.execute(text(f"UPDATE frame SET {change.replace(':', chr(92) + ':')} WHERE id IN (3, 4)"))
            told = session.execute(text("SELECT frame_id FROM frame_facet WHERE tick > :t"), {"t": tick}).scalars()
            assert sorted(told) == [3, 4], change
            _same_as_written_now(session)
        session.rollback()


def test_a_search_is_kept_and_a_collection_is_ordered_by_hand(many: Catalogue) -> None:
    with many.write() as session:
        first = kept.keep_search(session, " Best ", "keep stars>=3")
        assert kept.keep_search(session, "Best", "keep stars>=4") == first
        (found,) = kept.standing(session)
        assert found["name"] == "Best" and found["count"] == count(session, condition("keep stars>=4", archived=False))
        with pytest.raises(FormatError):
            kept.keep_search(session, "Wrong", "stars>=x")
        made = kept.begin_collection(session, "Folio")
        # However many are named: what is no frame, or gone, is left out.
        assert kept.gather(session, made, [5, 3, 9, 3, 23, *range(10_000, 10_600)]) == 3
        assert kept.gather(session, made, [9, 4]) == 1

        def order() -> list[int]:
            return list(session.scalars(ordered(condition("", collection=made), "hand", made)))

        assert order() == [5, 3, 9, 4]
        kept.put_before(session, made, [4, 9], 5)
        session.flush()
        assert order() == [4, 9, 5, 3]
        kept.put_before(session, made, [4], None)
        kept.scatter(session, made, [9])
        session.flush()
        assert order() == [5, 3, 4]
        assert list(session.scalars(ordered(condition("collection:fol")))) == list(
            session.scalars(ordered(condition("", collection=made)))
        )
        with pytest.raises(TannerError, match="already"):
            kept.begin_collection(session, "Folio")
        with pytest.raises(TannerError, match="Only a collection"):
            ordered(condition(""), "hand")
        assert kept.collections(session) == [{"id": made, "name": "Folio", "count": 3}]
        kept.drop_collection(session, made)
        kept.drop_search(session, first)
        assert kept.collections(session) == [] == kept.standing(session)
        session.rollback()


def test_a_catalogue_from_before_is_found_in(many: Catalogue, tmp_path: Path) -> None:
    """The rows of a catalogue of the version before are written when it is opened."""
    older = Catalogue(tmp_path / "older")
    with older.write() as session:
        session.add(Shoot(name="Spring"))
        session.flush()
        session.add_all(_frame(n) for n in (4, 6) if n)
        for frame in session.new:
            if isinstance(frame, Frame):
                frame.shoot_id, frame.set_id = 1, None
    downgrade(older, "0007")
    again = Catalogue(tmp_path / "older")
    with again.read() as session:
        assert sorted(session.scalars(ordered(condition("spring")))) == [4, 6]
        _same_as_written_now(session)
    again.close()


def _same_as_written_now(session: Session) -> None:
    before = session.execute(text("SELECT * FROM frame_facet ORDER BY frame_id")).all()
    session.execute(text("UPDATE frame SET name = name"))
    after = session.execute(text("SELECT * FROM frame_facet ORDER BY frame_id")).all()
    assert [r[2:] for r in before] == [r[2:] for r in after]
