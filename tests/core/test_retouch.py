"""Spots that follow: known movements, what covers them, what they hold to by evidence, dust of a sensor; the newer ways."""

import math
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import pytest
from test_follow import moved, similar
from test_spots import fine, made_up, spot

from tanner.core.adjust.registry import develop
from tanner.core.areas.find import Seen
from tanner.core.areas.find import found as found_mask
from tanner.core.areas.follow import features
from tanner.core.areas.look import AreaLook
from tanner.core.areas.place import SURE
from tanner.core.output.files import write_whole
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.render.guide import look_of
from tanner.core.series.resolve import Layers, resolve
from tanner.core.spots.apply import PATCHES, healed_frame, healed_source
from tanner.core.spots.calm import calmed
from tanner.core.spots.declare import SpotParts, judgement, stamp
from tanner.core.spots.dust import DustLook, dust_look, dust_of, on_frame, on_sensor
from tanner.core.spots.evidence import own_strengths, seen_in, weighed
from tanner.core.spots.follow import SpotLead, spots_again
from tanner.studio.camera import take
from tanner.studio.demo import frames
from tanner.studio.faults import dust, glass
from tanner.studio.series import series, set_names

Taken = Callable[[str, int], Source]


@pytest.fixture(scope="module")
def taken(tmp_path_factory: pytest.TempPathFactory) -> Taken:
    """Frames of the demo's second shoot, by the name of their set and their number in it."""
    folder = tmp_path_factory.mktemp("series")

    def one(name: str, number: int) -> Source:
        shot = [s for s in series() if set_names()[s.name] == name][number]
        path = folder / shot.name
        if not path.exists():
            write_whole(path, take(shot, compress=False), replace=False)
        return read(path)

    return one


@pytest.fixture(scope="module")
def table(tmp_path_factory: pytest.TempPathFactory) -> AreaLook:
    path = tmp_path_factory.mktemp("table") / "table.dng"
    path.write_bytes(take(next(s for s in frames() if s.scene == "table-top"), compress=False))
    return look_of(read(path))


def some_spots(count: int, holds: str, inside: np.ndarray | None = None, seed: int = 4) -> dict[str, SpotParts]:
    """Round spots at random places of the frame's middle, or of a mask (h, w)."""
    rng = np.random.default_rng(seed)
    found: dict[str, SpotParts] = {}
    while len(found) < count:
        x, y = rng.uniform(-0.36, 0.36), rng.uniform(-0.22, 0.22)
        if inside is not None:
            h, w = inside.shape
            if inside[int(y * max(h, w) + h / 2), int(x * max(h, w) + w / 2)] < 0.9:
                continue
        found[f"{len(found):08x}"] = SpotParts(kind="spot", path=[(x, y)], size=0.003, holds=holds)
    return found


def off_by(got: list[float], at: tuple[float, float], wanted: np.ndarray) -> float:
    a, b = ((m @ np.array([*at, 1.0])) for m in (np.append(got[:8], 1).reshape(3, 3), wanted))
    return float(np.hypot(*(a[:2] / a[2] - b[:2] / b[2])))


@pytest.mark.parametrize("way", [similar(0.05, -0.02, 1, 0), similar(0, 0.01, 1.0, 6), similar(-0.02, 0, 1.1, -2)])
def test_spots_of_the_setup_go_along_when_the_camera_moves(table: AreaLook, way: np.ndarray) -> None:
    """Sixty places and a known movement: none is wrong by more than its own radius, and hardly any is left alone."""
    spots = some_spots(60, "setup")
    again = spots_again(SpotLead(features(table), None), features(moved(table, way)), spots)
    off = [off_by(m, spots[i].path[0], way) for i, (m, why) in again.items() if not why]
    assert max(off) < 0.003 and len(off) >= 57


def test_a_camera_that_stands_still_needs_no_features(table: AreaLook) -> None:
    even = replace(table, planes=np.full_like(table.planes, 0.4))
    spots = some_spots(20, "setup")
    for m, why in spots_again(SpotLead(features(even), None), features(even), spots).values():
        assert not why and m[8] > SURE and np.array_equal(m[:8], np.eye(3).ravel()[:8])


def test_what_something_else_covers_is_left_alone(table: AreaLook) -> None:
    planes = table.planes.copy()
    h, w = planes.shape[1:]
    planes[:, : h // 2] = np.linspace(0.05, 0.9, w, dtype=np.float32)  # another thing over the upper half
    spots = some_spots(40, "setup")
    again = spots_again(SpotLead(features(table), None), features(replace(table, planes=planes)), spots)
    wrong = [
        i
        for i, (_, why) in again.items()
        if (spots[i].path[0][1] < -0.02) != (why == "covered") and abs(spots[i].path[0][1] + 0.01) > 0.03
    ]
    assert len(wrong) <= 2
    assert all(m[8] < SURE for m, why in again.values() if why)


def test_spots_of_the_subject_move_with_it_and_no_others(taken: Taken) -> None:
    """The lamp cut out and laid elsewhere, turned and larger: places on it by their own map."""
    look = look_of(taken("Lamp behind glass, twelve turns", 0))
    mask = found_mask("subject", Seen.of(look))
    way = similar(0.06, 0.01, 1.06, 4)
    there = moved(look, way)
    h, w = mask.shape
    long = max(h, w)
    to = np.array([[long, 0, (w - 1) / 2], [0, long, (h - 1) / 2], [0, 0, 1.0]])
    alpha = cv2.warpPerspective(mask, to @ way @ np.linalg.inv(to), (w, h))[None]
    behind = np.median(look.planes, axis=(1, 2), keepdims=True) * np.ones_like(look.planes)
    here = replace(look, planes=(alpha * there.planes / 1.3 + (1 - alpha) * behind).astype(np.float32))
    inner = cv2.erode(mask, np.ones((41, 41), np.uint8))
    spots = some_spots(40, "subject", inner)
    again = spots_again(SpotLead(features(look), mask), features(here), spots)
    kept = {i: m for i, (m, why) in again.items() if not why}
    wrong = [i for i, m in kept.items() if off_by(m, spots[i].path[0], way) > 0.003]
    assert len(kept) >= 32 and len(wrong) <= 0.01 * len(kept)
    # On even ground there is no subject to move with: they are said to be lost.
    even = features(replace(look, planes=np.full_like(look.planes, 0.4)))
    assert {why for _, why in spots_again(SpotLead(features(look), mask), even, spots).values()} == {"lost"}


def test_a_bubble_in_glass_stays_whatever_turns_behind_it(taken: Taken) -> None:
    """The pane before the lamp: its bubbles, drops and scratches lie still while the lamp turns; nearly none is left alone."""
    name = "Lamp behind glass, twelve turns"
    look = look_of(taken(name, 0))
    height = look.grid.size[1]
    spots = {
        f"{n:08x}": SpotParts(
            kind="spot", path=[((t["place"][0] * height - look.grid.size[0] / 2) / look.grid.size[0], (t["place"][1] - 0.5) * height / look.grid.size[0])],
            size=t.get("radius", 0.004) * height / look.grid.size[0],
        )
        for n, t in enumerate(glass())
    }  # fmt: skip
    lead = SpotLead(features(look), found_mask("subject", Seen.of(look)))
    left = 0
    for number in (1, 4, 7):
        again = spots_again(lead, features(look_of(taken(name, number))), spots)
        assert all(off_by(m, spots[i].path[0], np.eye(3)) < 0.001 for i, (m, _) in again.items())
        left += sum(bool(why) for _, why in again.values())
    assert left <= 0.06 * 3 * len(spots)


# --- dust on the sensor ------------------------------------------------------------------------------


def scored(found: list[Any], limit: float, shape: tuple[int, int] = (2640, 1760)) -> tuple[float, float]:
    """Precision and recall against the demo's 25 specks."""
    w, h = shape
    true = np.array([(d["x"] - 0.5, (d["y"] - 0.5) * h / w) for d in dust()])
    at = np.array([(s.x, s.y) for s in found if s.confidence >= limit]).reshape(-1, 2)
    good = sum(bool(np.hypot(*(true - a).T).min() < 0.003) for a in at)
    hit = sum(bool(len(at) and np.hypot(*(at - t).T).min() < 0.003) for t in true)
    return good / max(len(at), 1), hit / len(true)


@pytest.fixture(scope="module")
def dusty(taken: Taken) -> list[DustLook]:
    """The plain frame, then the lamp's five, which are of one set with a camera that moves."""
    first = dust_look(taken("Plain paper, for the sensor's dust", 0), 0)
    return [first, *(dust_look(taken("Lamp, dust on the sensor", n), 1) for n in range(5))]


def test_dust_is_found_in_a_plain_frame(dusty: list[DustLook]) -> None:
    precision, recall = scored(dust_of(dusty[:1]), 0.5)
    assert precision >= 0.97 and recall >= 0.92


def test_dust_is_found_in_frames_that_were_shot_for_something_else(dusty: list[DustLook]) -> None:
    """Four of the 25 lie where the lamp or its rim does: they cannot be seen in these."""
    precision, recall = scored(dust_of(dusty[1:]), 0.5)
    assert precision >= 0.9 and recall >= 0.6


def test_no_dust_is_found_where_there_is_none() -> None:
    """Twenty clean frames, each with other noise, alone and together."""
    looks = []
    for seed in range(20):
        rng = np.random.default_rng(seed)
        y, x = np.mgrid[0:600, 0:900]
        level = (3000 + 3 * x + 2 * y).astype(np.float64)
        facts = made_up().facts.model_copy(update={"width": 900, "height": 600, "neutral": (1.0, 1.0, 1.0)})
        noisy = Source(facts, np.rint(level + rng.normal(0, 1, level.shape) * np.sqrt(level)).astype(np.uint16))
        looks.append(dust_look(noisy, seed // 5))
        assert [s for s in dust_of(looks[-1:]) if s.confidence >= 0.5] == []
    assert [s for s in dust_of(looks) if s.confidence >= 0.5] == []


@pytest.mark.parametrize("orientation", range(1, 9))
def test_places_of_the_sensor_are_the_same_however_the_camera_is_held(orientation: int) -> None:
    path = ((0.3, -0.2), (-0.11, 0.07))
    there = on_frame(path, (360, 240), orientation)
    assert np.allclose(on_sensor(there, (360, 240), orientation), path, atol=1e-5)
    # The px that a spot heals on a frame held that way is the px of the sensor.
    source = made_up()
    data = source.data.copy()
    data[56:64, 284:292] = 16000  # x 288, y 60: 0.3 and -1/6 of 360 from the middle
    spoilt = Source(source.facts.model_copy(update={"orientation": orientation}), data)
    at = on_frame([(0.3, -1 / 6)], (360, 240), orientation)
    got = healed_source(spoilt, develop(spot(path=[list(at[0])], size=9 / 360))).data
    assert np.abs(got[50:70, 278:298].astype(int) - source.data[50:70, 278:298]).max() < 900


# --- what it holds to --------------------------------------------------------------------------------


def with_specks(at: list[tuple[float, float]], seed: int) -> Source:
    """Even ground with dark specks at places of the frame."""
    source = made_up()
    rng = np.random.default_rng(seed)
    data = np.rint(6000 + rng.normal(0, 25, source.data.shape))
    for x, y in at:
        cv2.circle(data, (round(x * 360 + 180), round(y * 360 + 120)), 4, 3000, -1)
    facts = source.facts.model_copy(update={"neutral": (1.0, 1.0, 1.0)})
    return Source(facts, np.clip(data, 0, 16383).astype(np.uint16))


def test_the_other_frames_say_what_a_spot_holds_to() -> None:
    """One speck lies on the sensor, one on the table, one on the thing, one is in this frame alone."""
    places = {"sensor": (-0.3, -0.2), "setup": (0.1, 0.2), "subject": (0.25, -0.1), "frame": (-0.1, 0.05)}
    spots = {f"{n:08x}": SpotParts(kind="spot", path=[p], size=4 / 360) for n, p in enumerate(places.values())}
    lead = with_specks(list(places.values()), 0)
    own = own_strengths(lead, spots)
    assert set(own) == set(spots)
    seen = []
    for n in range(4):
        table, thing = similar(0.03 * n + 0.04, 0.01, 1, 0), similar(-0.05 - 0.02 * n, 0.04, 1, 0)
        at = [places["sensor"], *(tuple((m @ [*places[k], 1])[:2]) for k, m in (("setup", table), ("subject", thing)))]
        seen.append(seen_in(with_specks(at, n + 1), spots, own, ((360, 240), 1), table, dict.fromkeys(spots, thing)))
    # Two frames of another setup: only the sensor is the same.
    seen += [seen_in(with_specks([places["sensor"]], n), spots, own, ((360, 240), 1), None, {}) for n in (7, 8)]
    for (holds, _), ident in zip(places.items(), spots, strict=True):
        found = weighed([s[ident] for s in seen])
        assert found.holds == holds, found
    assert (
        "5 of 5" in weighed([s["00000000"] for s in seen]).said
        or "6 of 6" in weighed([s["00000000"] for s in seen]).said
    )


def test_frames_that_cannot_tell_say_nothing() -> None:
    spots = {"00000000": SpotParts(kind="spot", path=[(0.0, 0.0)], size=4 / 360)}
    own = own_strengths(with_specks([(0.0, 0.0)], 0), spots)
    rng = np.random.default_rng(3)
    lively = made_up()
    rough = Source(lively.facts, rng.integers(500, 12000, lively.data.shape).astype(np.uint16))
    seen = [seen_in(rough, spots, own, ((360, 240), 1), np.eye(3), {}) for _ in range(3)]
    assert weighed([s["00000000"] for s in seen]).holds is None
    assert own_strengths(made_up(), spots) == {}


# --- what followers take -----------------------------------------------------------------------------


def test_followers_do_without_spots_of_one_frame_and_wait_for_those_of_the_subject() -> None:
    lead = (
        spot("00000001", path=[[0, 0]], holds="frame")
        | spot("00000002", path=[[0, 0]], holds="subject")
        | spot("00000003", path=[[0, 0]])
    )
    got = resolve(Layers(lead=lead)).values
    assert not any("00000001" in k for k in got)
    assert got["spots/00000002/found"][8] < 0 and "spots/00000003/found" not in got
    # The lead itself has them all, as they are.
    assert "spots/00000001/path" in resolve(Layers(own=lead)).values


def test_a_follower_leaves_alone_what_is_not_the_same_there() -> None:
    source = made_up()
    here = {"path": [[0.0, 0.0]], "size": 0.02}
    move = [1.0, 0.0, 0.1, 0.0, 1.0, 0.0, 0.0, 0.0]
    plain = healed_source(source, develop(spot(**here))).data
    for found, judged, said in (
        ([*move, 0.1], "00000000:covered", "something else"), ([*move, 0.0], "00000000:lost", "not found"),
        ([*move, 0.1], "00000000:seam", "seam"), ([*move, -1.0], "", "looked for"),
    ):  # fmt: skip
        done = healed_frame(source, develop(spot(**here, found=found, judged=judged)))
        assert said in done.done["7f3a91c2"].said and done.done["7f3a91c2"].left
        assert np.array_equal(done.source.data, source.data)
    found = healed_frame(source, develop(spot(**here, found=[*move, 0.9])))
    assert found.done["7f3a91c2"].path[0] == pytest.approx((0.1, 0.0)) and not np.array_equal(found.source.data, plain)
    assert np.array_equal(found.source.data[:, :190], source.data[:, :190])  # it lies 36 px to the right


def test_what_was_found_is_good_for_the_spot_as_it_lay() -> None:
    values = {"path": [[0.1, 0.0]], "size": 0.01, "holds": "setup"}
    assert stamp(values) == stamp({**values, "opacity": 50.0}) != stamp({**values, "path": [[0.2, 0.0]]})
    assert judgement(f"{stamp(values)}:covered") == (stamp(values), "covered")


# --- ways and shapes ---------------------------------------------------------------------------------


def test_evening_out_calms_one_size_and_keeps_light_and_grain() -> None:
    rng = np.random.default_rng(9)
    y, x = np.mgrid[0:160, 0:160].astype(np.float32)
    light = 100 + 0.3 * x
    blotch = 12 * np.sin(x / 14) * np.sin(y / 14)
    pimples = 10 * np.exp(-(((x % 20) - 10) ** 2 + ((y % 20) - 10) ** 2) / 6)
    grain = rng.normal(0, 1.0, light.shape)
    hole = np.hypot(x - 80, y - 80) < 45
    inner = np.hypot(x - 80, y - 80) < 35

    def made(picture: np.ndarray, size: float, calm: str) -> np.ndarray:
        return calmed(picture[..., None].astype(np.float32), hole, size, calm)[..., 0]

    finer = made(light + pimples + grain, 8.0, "finer")
    assert (finer - light)[inner].std() < 0.6 * (pimples + grain)[inner].std()
    assert abs((finer - light - pimples)[inner].mean()) < 0.3
    quiet = made(light + grain, 8.0, "finer")
    assert 0.6 < fine(quiet)[inner].std() / fine(light + grain)[inner].std() <= 1.01
    coarser = made(light + blotch + grain, 4.0, "coarser")
    assert (coarser - light)[inner].std() < 0.5 * (blotch + grain)[inner].std()
    assert fine(coarser.astype(np.float32))[inner].std() == pytest.approx(
        fine((light + blotch + grain).astype(np.float32))[inner].std(), rel=0.1
    )
    assert np.array_equal(finer[~hole], (light + pimples + grain).astype(np.float32)[~hole])


def test_an_outline_means_all_within() -> None:
    source = made_up()
    data = source.data.copy()
    data[100:140, 150:210] = 15000
    spoilt = Source(source.facts, data)
    box = [[-0.09, -0.065], [0.09, -0.065], [0.09, 0.065], [-0.09, 0.065]]
    got = healed_source(spoilt, develop(spot(path=box, size=0.003, closed=True))).data
    assert np.abs(got[96:144, 146:214].astype(int) - source.data[96:144, 146:214]).mean() < 250
    line = healed_source(spoilt, develop(spot(path=box, size=0.003))).data
    assert (line[110:130, 160:200] > 14000).all()


def test_a_place_is_taken_from_another_frame_where_it_is_clean(tmp_path: Path) -> None:
    """Texture that the own frame has nowhere else: the other one, a third of a stop lighter and moved by 40 px, has it."""
    shot = replace(next(s for s in frames() if s.scene == "lamp-1"), width=900, height=600)
    for name, more in (("a.dng", {}), ("b.dng", {"ev": 0.33, "seed": 9}), ("c.dng", {"width": 450, "height": 300})):
        (tmp_path / name).write_bytes(take(replace(shot, **more), compress=False))
    clean = read(tmp_path / "a.dng")
    data = clean.data.copy()
    part = slice(280, 330), slice(430, 490)
    data[part] = 60000 if data.max() > 20000 else 16000
    spoilt = Source(clean.facts, data, profiles=clean.profiles, gain_maps=clean.gain_maps)
    at = [[(460 - 450) / 900, (305 - 300) / 900]]
    values = {"path": at, "size": 45 / 900, "other": "b.dng"}
    got = healed_frame(spoilt, develop(spot(**values)))
    span = float(clean.data.max() - clean.data.min())
    assert not got.done["7f3a91c2"].said or "seam" in got.done["7f3a91c2"].said
    assert np.abs(got.source.data[part].astype(float) - clean.data[part]).mean() < 0.03 * span
    # The map says where the place lies over there; without it something else would be taken.
    wrong = healed_frame(spoilt, develop(spot(**values, other_at=[1, 0, 0.2, 0, 1, 0.1, 0, 0, 1]))).source.data[part]
    assert (
        np.abs(wrong.astype(float) - clean.data[part]).mean()
        > np.abs(got.source.data[part].astype(float) - clean.data[part]).mean()
    )
    for other, said in (("none.dng", "cannot be read"), ("a.dng", "is the frame"), ("b.dng", "not in b.dng")):
        far = {"other_at": [1, 0, 0.9, 0, 1, 0, 0, 0, 1]} if other == "b.dng" else {}
        done = healed_frame(spoilt, develop(spot(**{**values, "other": other}, **far)))
        assert said in done.done["7f3a91c2"].said and np.array_equal(done.source.data, data)


def test_a_changed_spot_costs_itself_and_gives_what_all_anew_would() -> None:
    def large() -> Source:
        small = made_up()
        return Source(small.facts.model_copy(update={"width": 1440, "height": 960}), np.tile(small.data, (4, 4)))

    source = large()
    many: dict[str, Any] = {}
    rng = np.random.default_rng(6)
    for n in range(30):
        many |= spot(
            f"{n:08x}",
            path=[[float(rng.uniform(-0.45, 0.45)), float(rng.uniform(-0.3, 0.3))]],
            size=0.003,
            order=float(n),
        )
    healed_frame(source, develop(many))
    before = len(source.memory.keys(PATCHES))
    changed = many | {"spots/00000003/another": 1, "spots/00000003/source": []}
    got = healed_frame(source, develop(changed))
    new = len(source.memory.keys(PATCHES)) - before
    anew = healed_frame(large(), develop(changed))
    assert np.array_equal(got.source.data, anew.source.data) and got.done == anew.done
    assert 1 <= new < 8
    fewer = {k: v for k, v in many.items() if "00000005" not in k}
    assert np.array_equal(
        healed_frame(source, develop(fewer)).source.data, healed_frame(large(), develop(fewer)).source.data
    )
    assert math.isfinite(sum(d.seam for d in got.done.values()))


def test_numbers_are_used_again_and_nobody_who_holds_them_sees_it() -> None:
    """One change after another, as at a drag: each is what all anew would be, the frame stays, and so does what is held."""
    source = made_up()
    before = source.data.copy()
    one = spot("00000001", path=[[0.0, 0.0]], size=0.02, order=1.0)
    first = healed_source(source, develop(one))
    mine = first.data.copy()
    places: set[int] = set()
    for n in range(8):
        values = one | spot("00000002", path=[[-0.3 + 0.07 * n, 0.1]], size=0.03, order=2.0)
        got = healed_source(source, develop(values))
        places.add(got.data.ctypes.data)
        assert np.array_equal(got.data, healed_source(made_up(), develop(values)).data)
        del got
    # What somebody holds is left alone; two buffers and theirs serve all of it.
    assert np.array_equal(first.data, mine) and len(places) <= 4
    assert np.array_equal(source.data, before)
