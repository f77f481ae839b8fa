"""Masks that are worked out on a grid: brush, outline, ranges, what is found, and what is done to the whole."""

import json
import math
from collections import Counter
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import pytest
import skimage.data
from hypothesis import given, settings
from hypothesis import strategies as st

from tanner.core.adjust.registry import develop
from tanner.core.areas import find, strokes
from tanner.core.areas.declare import AREAS, AreaParts
from tanner.core.areas.drawing import Grid, brush_mask, outline_mask
from tanner.core.areas.edges import matted, settled
from tanner.core.areas.find import NotFound, Seen, found
from tanner.core.areas.look import AreaLook
from tanner.core.areas.place import NOT_YET, backwards
from tanner.core.areas.ranges import of_colour, of_lightness
from tanner.core.areas.raster import Place, lost, mask_on_grid
from tanner.core.areas.shapes import Brush, Colours, LightnessRange, Outline
from tanner.core.errors import SettingsError
from tanner.core.memory import Memory
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.render import full_size, render
from tanner.core.render.guide import look_of
from tanner.core.render.masking import found_area, mask_of, sampled
from tanner.studio.camera import take, true_mask
from tanner.studio.demo import frames
from tanner.studio.exposure import Exposure

GRID = Grid((600, 400), (1.0, 2 / 3))
HERE = backwards((0, 0, 1, 0), [])
A, B = "areas/7f3a91c2/", "areas/0badcafe/"
PLAIN = np.diag([1.0, 1.0, 1.0])


def place(look: AreaLook | None = None) -> Place:
    def asked() -> AreaLook:
        assert look is not None
        return look

    return Place(asked, GRID if look is None else look.grid, Memory(), PLAIN, np.eye(3))


def on_grid(*shapes: dict[str, Any], others: dict[str, AreaParts] | None = None, **parts: Any) -> np.ndarray:
    area = AREAS.parts(kind="area", shapes=list(shapes), **parts)
    return mask_on_grid("7f3a91c2", area, place(), others or {})  # type: ignore[arg-type]


def smooth(t: np.ndarray) -> np.ndarray:
    t = np.clip(t, 0, 1)
    return t * t * (3 - 2 * t)


def places() -> tuple[np.ndarray, np.ndarray]:
    w, h = GRID.size
    x, y = (np.arange(w) - (w - 1) / 2) / w, (np.arange(h) - (h - 1) / 2) / w
    u, v = np.meshgrid(x, y)
    return u, v


# --- brush -----------------------------------------------------------------------------------------


@given(st.lists(st.tuples(st.floats(-0.7, 0.7), st.floats(-0.7, 0.7)), min_size=1, max_size=40))
def test_a_path_is_kept_to_half_a_step(points: list[tuple[float, float]]) -> None:
    assert np.abs(strokes.read(strokes.written(points)) - points).max() <= strokes.STEP / 2 + 1e-12


@pytest.mark.parametrize("path", ["", "no base64 at all", "AAA=", "AAAAAAA="])
def test_what_is_no_path_is_refused(path: str) -> None:
    with pytest.raises(ValueError, match="path is"):
        strokes.read(path)


def test_ten_areas_and_two_hundred_strokes_are_small() -> None:
    rng = np.random.default_rng(3)
    values: dict[str, Any] = {}
    for n in range(10):
        own = []
        for _ in range(20):
            turn = np.cumsum(rng.normal(0, 0.5, 12))
            line = np.cumsum(0.02 * np.stack([np.cos(turn), np.sin(turn)], axis=1), axis=0)
            own.append({"path": strokes.written(line.tolist()), "size": 0.0314, "softness": 0.7})
        shape = {"kind": "brush", "holds": "subject", "strokes": own}
        values |= {
            f"areas/{n:08x}/kind": "area",
            f"areas/{n:08x}/shapes": [shape],
            f"areas/{n:08x}/light.exposure": 0.3,
        }
    develop(values)
    assert len(json.dumps(values)) < 30_000


@pytest.mark.parametrize("softness", [0.0, 0.4, 1.0])
def test_a_stroke_is_what_its_formula_says(softness: float) -> None:
    stroke = {"path": strokes.written([(-0.2, 0.0), (0.2, 0.0)]), "size": 0.1, "softness": softness, "flow": 0.8}
    got = brush_mask(Brush(strokes=[stroke]), HERE, GRID)  # type: ignore[list-item]
    u, v = places()
    far = np.hypot(np.maximum(np.abs(u) - 0.2, 0), v) * GRID.size[0]
    size = 60.0
    wide = softness * size
    wanted = np.clip(size + 0.5 - far, 0, 1) if wide <= 1 else smooth((size - far) / wide)
    # Ends of the path lie on steps of 1/16384.
    assert np.abs(got - 0.8 * wanted).max() < 0.05
    assert np.abs(got - 0.8 * wanted).mean() < 1e-3


def test_strokes_build_up_to_their_strength_and_are_erased() -> None:
    one = {
        "path": strokes.written([(0.0, 0.0), (0.1, 0.0)]),
        "size": 0.1,
        "softness": 0.0,
        "flow": 0.5,
        "strength": 0.7,
    }
    middle = GRID.size[1] // 2, GRID.size[0] // 2

    def after(*which: dict[str, Any]) -> float:
        return float(brush_mask(Brush(strokes=list(which)), HERE, GRID)[middle])

    assert after(one) == pytest.approx(0.35)
    assert after(*[one] * 30) == pytest.approx(0.7, abs=1e-4)
    gone = {**one, "erase": True, "flow": 1.0}
    assert after(one, gone) == 0.0 and after(gone, one) == pytest.approx(0.35)


def test_a_brush_that_stops_at_edges_stays_on_its_side() -> None:
    planes = np.full((3, 400, 600), 0.5, np.float32)
    planes[0, :, 320:] = 0.1
    planes += np.random.default_rng(1).normal(0, 0.004, planes.shape).astype(np.float32)
    look = AreaLook(planes, PLAIN, GRID)
    stroke = {"path": strokes.written([(-0.05, -0.1), (-0.05, 0.1)]), "size": 0.15, "softness": 0.0}
    both = mask_on_grid(
        "7f3a91c2", AREAS.parts(kind="area", shapes=[{"kind": "brush", "strokes": [stroke]}]), place(look), {}
    )  # type: ignore[arg-type]
    held = mask_on_grid(
        "7f3a91c2",
        AREAS.parts(kind="area", shapes=[{"kind": "brush", "strokes": [{**stroke, "alike": 0.3}]}]),
        place(look),
        {},
    )  # type: ignore[arg-type]
    assert both[200, 330] > 0.9 and held[200, 322:].max() < 0.05
    assert held[200, 190:315].min() > 0.9


# --- outline ---------------------------------------------------------------------------------------


def test_an_outline_is_half_at_its_line_and_soft_by_its_formula() -> None:
    square = [{"at": [-0.2, -0.15]}, {"at": [0.2, -0.15]}, {"at": [0.2, 0.15]}, {"at": [-0.2, 0.15]}]
    got = outline_mask(Outline(points=square, softness=0.05), HERE, GRID)  # type: ignore[arg-type]
    u, _ = places()
    row = GRID.size[1] // 2
    wanted = smooth(0.5 + (0.2 - np.abs(u[row])) / 0.1)
    assert np.abs(got[row] - wanted).max() < 0.05
    hard = outline_mask(Outline(points=square, softness=0.0), HERE, GRID)  # type: ignore[arg-type]
    assert hard.sum() == pytest.approx(0.4 * 0.3 * GRID.size[0] ** 2, rel=2e-3)


def test_a_curved_outline_runs_through_its_points_and_is_round() -> None:
    turn = np.arange(12) * (2 * math.pi / 12)
    points = [{"at": [float(0.2 * math.cos(t)), float(0.2 * math.sin(t))], "curved": True} for t in turn]
    got = outline_mask(Outline(points=points, softness=0.0), HERE, GRID)  # type: ignore[arg-type]
    u, v = places()
    circle = np.clip((0.2 - np.hypot(u, v)) * GRID.size[0] + 0.5, 0, 1)
    assert np.abs(got - circle).mean() < 2e-3
    assert got.sum() == pytest.approx(math.pi * 0.04 * GRID.size[0] ** 2, rel=4e-3)


def test_an_outline_that_crosses_itself_is_outside_where_it_lies_twice() -> None:
    star = [{"at": [float(0.25 * math.sin(t)), float(-0.25 * math.cos(t))]} for t in np.arange(5) * (4 * math.pi / 5)]
    got = on_grid({"kind": "outline", "points": star, "softness": 0.0})
    assert got[GRID.size[1] // 2, GRID.size[0] // 2] == 0 and got.max() > 0.99


# --- ranges ----------------------------------------------------------------------------------------


def test_ranges_are_half_at_their_ends() -> None:
    light = np.array([0, 52.5, 60, 67.5, 80], np.float32)
    got = of_lightness(LightnessRange(low=60, high=100, softness=15), light)
    assert got == pytest.approx([0, 0, 0.5, 1, 1], abs=1e-6)
    assert of_lightness(LightnessRange(low=0, high=100), light).min() == 1
    lab = np.array([[0.5, 0.1, 0.0], [0.5, 0.18, 0.0], [0.5, 0.16, 0.0], [0.62, 0.1, 0.0]], np.float32)
    got = of_colour(Colours(samples=[(0.5, 0.1, 0.0)], reach=0.04, softness=0.04), lab)
    # A difference of lightness counts by a third.
    assert got == pytest.approx([1, 0, 0.5, 1], abs=1e-4)


# --- the algebra on the grid -----------------------------------------------------------------------

ROUND = st.builds(
    lambda x, y, r, soft: {"kind": "round", "at": [x, y], "radii": [r, r], "softness": soft},
    st.floats(-0.3, 0.3), st.floats(-0.2, 0.2), st.floats(0.05, 0.3), st.floats(0.1, 1),
)  # fmt: skip
HOW = st.tuples(st.sampled_from(["add", "subtract", "intersect", "either"]), st.booleans())


@settings(max_examples=25, deadline=None)
@given(parts=st.lists(st.tuples(ROUND, HOW), min_size=1, max_size=4), whole=st.booleans(), density=st.floats(0, 100))
def test_the_algebra_of_masks_on_a_grid(parts: list[Any], whole: bool, density: float) -> None:
    u, v = places()
    wanted, shapes = np.zeros(u.shape), []
    for shape, (how, inverted) in parts:
        shapes.append({**shape, "combine": how, "inverted": inverted})
        far = np.hypot(u - shape["at"][0], v - shape["at"][1]) / shape["radii"][0]
        m = smooth((1 - far) / shape["softness"])
        m = 1 - m if inverted else m
        wanted = {
            "add": wanted + m - wanted * m, "subtract": wanted * (1 - m), "intersect": wanted * m,
            "either": wanted + m - 2 * wanted * m,
        }[how]  # fmt: skip
    wanted = (1 - wanted if whole else wanted) * density / 100
    assert np.abs(on_grid(*shapes, inverted=whole, density=density) - wanted).max() < 5e-4


def test_grown_and_softened_by_shares_of_the_frame() -> None:
    square = {
        "kind": "outline",
        "points": [{"at": [x, y]} for x, y in ((-0.1, -0.1), (0.1, -0.1), (0.1, 0.1), (-0.1, 0.1))],
        "softness": 0,
    }
    sides = [float(on_grid(square, grow=g)[200].sum()) / GRID.size[0] for g in (0.0, 20.0, -20.0, 7.5)]
    assert sides == pytest.approx([0.2, 0.24, 0.16, 0.215], abs=3e-3)
    soft = on_grid(square, soften=20.0)[200]
    assert soft[300] > 0.999 and soft[360] == pytest.approx(0.5, abs=0.05) and 0.02 < soft[366] < 0.4


def test_another_area_and_none_that_comes_back_to_itself() -> None:
    ring = AREAS.parts(kind="area", shapes=[{"kind": "round", "at": [0, 0], "radii": [0.2, 0.2]}])
    other = {"kind": "area", "area": "0badcafe"}
    known: dict[str, Any] = {"0badcafe": ring}
    assert np.array_equal(on_grid(other, others=known), on_grid({"kind": "round", "at": [0, 0], "radii": [0.2, 0.2]}))
    known["0badcafe"] = AREAS.parts(kind="area", shapes=[{"kind": "area", "area": "7f3a91c2"}])
    assert on_grid(other, others=known).max() == 0
    assert on_grid({"kind": "area", "area": "12345678"}).max() == 0


@pytest.mark.parametrize(
    ("shapes", "said"),
    [
        ([{"kind": "hologram"}], "hologram"),
        ([{"kind": "brush", "strokes": [{"path": "AAAA!", "size": 0.1}]}], "path"),
        ([{"kind": "outline", "points": [{"at": [0, 0]}, {"at": [1, 1]}]}], "3"),
        ([{"kind": "whole"}] * 501, "500"),
    ],
)
def test_masks_that_make_no_sense_are_refused_with_their_area(shapes: list[Any], said: str) -> None:
    with pytest.raises(SettingsError, match=rf"Area Calm.*{said}"):
        develop({A + "kind": "area", A + "name": "Calm", A + "shapes": shapes})


# --- in the picture --------------------------------------------------------------------------------


def drawn(source: Source, values: dict[str, Any]) -> np.ndarray:
    return render(source, develop(values), (300, 200), bits=16).astype(int)


def test_a_mask_on_a_grid_works_as_its_formula_does(source: Source) -> None:
    shape = {"kind": "round", "at": [0.05, 0.0], "radii": [0.25, 0.2], "softness": 0.6}
    values = {A + "kind": "area", A + "shapes": [shape], A + "light.exposure": 1.5}
    formula = drawn(source, values)
    # A part that adds nothing has the whole worked out on a grid.
    nothing = {"kind": "brush", "strokes": []}
    grid = drawn(source, {**values, A + "shapes": [shape, nothing]})
    assert np.abs(formula - drawn(source, {})).max() > 5000
    assert np.abs(grid - formula).max() < 300


def test_an_area_that_is_not_found_changes_nothing_and_says_so(source: Source) -> None:
    shape = {"kind": "round", "at": [0, 0], "radii": [0.3, 0.3], "holds": "subject"}
    values = {A + "kind": "area", A + "shapes": [shape], A + "light.exposure": 1.5, A + "inverted": True}
    for again, words in ((NOT_YET, "not been looked for"), ([*NOT_YET[:8], 0.1], "is not found")):
        there = {**values, A + "found": again}
        assert np.array_equal(drawn(source, there), drawn(source, {}))
        with pytest.raises(NotFound, match=words):
            mask_of(source, develop(there), "7f3a91c2", (300, 200))
    assert not np.array_equal(drawn(source, {**values, A + "found": [*NOT_YET[:8], 0.9]}), drawn(source, {}))


def test_masks_are_read_from_the_file_alone_whatever_was_asked_first(source: Source) -> None:
    """Noise that is taken out, and spots, move no mask: a file is written as the screen shows it."""
    spot = {"spots/0badcafe/kind": "spot", "spots/0badcafe/path": [[0.0, 0.05]], "spots/0badcafe/size": 0.05}
    shape = {"kind": "lightness", "low": 20, "high": 60, "softness": 5}
    values = {A + "kind": "area", A + "shapes": [shape], A + "light.exposure": 2.0, "noise.method": "quick", **spot}
    fresh = [Source(source.facts, source.data, profiles=source.profiles, gain_maps=source.gain_maps) for _ in range(2)]
    first = drawn(fresh[0], values)
    mask_of(fresh[1], develop({k: v for k, v in values.items() if k.startswith(A)}), "7f3a91c2", (300, 200))
    assert np.array_equal(drawn(fresh[1], values), first)


def test_what_was_found_again_moves_the_mask(source: Source) -> None:
    shape = {"kind": "round", "at": [-0.1, 0], "radii": [0.1, 0.1], "softness": 0.0, "holds": "subject"}
    w, h = full_size(source, develop({}))
    size = (300, round(300 * h / w))

    def middle(**parts: Any) -> np.ndarray:
        area = AREAS.parts(kind="area", shapes=[shape], **parts)
        mask = mask_of(source, develop({}), area, size)  # type: ignore[arg-type]
        ys, xs = np.nonzero(mask > 0.5)
        return np.array([xs.mean(), ys.mean()])

    before, after = middle(), middle(found=[1, 0, 0.2, 0, 1, 0.05, 0, 0, 1.0])
    assert after - before == pytest.approx([60, 15], abs=1)
    # What is moved by hand comes after.
    assert middle(found=[1, 0, 0.2, 0, 1, 0.05, 0, 0, 1.0], place=(0.0, -0.05, 1.0, 0.0)) - before == pytest.approx(
        [60, 0], abs=1
    )
    assert lost(AREAS.parts(kind="area", shapes=[{**shape, "holds": "frame"}], found=NOT_YET)) == ""  # type: ignore[arg-type]


def test_a_part_that_holds_to_the_crop_stays_in_it(source: Source) -> None:
    shape = {"kind": "round", "at": [0.3, 0.0], "radii": [0.05, 0.05], "softness": 0.0, "holds": "crop"}
    area: Any = AREAS.parts(kind="area", shapes=[shape])
    for crop in (
        {},
        {"crop.left": 0.3, "crop.top": 0.2, "crop.right": 0.8, "crop.bottom": 0.7},
        {"crop.straighten": 5.0},
    ):
        development = develop(crop)
        w, h = full_size(source, development)
        size = (400, round(400 * h / w))
        ys, xs = np.nonzero(mask_of(source, development, area, size) > 0.5)
        assert (xs.mean() - size[0] / 2) / 400 == pytest.approx(0.3, abs=0.01)
        assert ys.mean() == pytest.approx(size[1] / 2, abs=4)


def test_a_range_sees_the_frame_with_its_exposure(source: Source) -> None:
    light, lab = sampled(source, develop({}), (0.0, 0.0))
    brighter, _ = sampled(source, develop({"light.exposure": 1.0}), (0.0, 0.0))
    assert brighter > light + 10 and all(abs(v) < 1 for v in lab)
    area: Any = AREAS.parts(
        kind="area", shapes=[{"kind": "lightness", "low": light - 5, "high": light + 5, "softness": 2}]
    )
    masks = [mask_of(source, develop({"light.exposure": ev}), area, (300, 200)) for ev in (0.0, 1.0)]
    assert masks[0][99:101, 149:151].mean() > 0.8 > 0.3 > masks[1][99:101, 149:151].mean()


# --- what is found ---------------------------------------------------------------------------------


def shot_of(scene: str) -> Exposure:
    return next(s for s in frames() if s.scene == scene)


def seen(tmp_path: Path, scene: str) -> tuple[AreaLook, np.ndarray]:
    """A frame of the demo as finders see it, and its true mask on the same grid."""
    shot = shot_of(scene)
    path = tmp_path / "a.dng"
    path.write_bytes(take(shot, compress=False))
    look = look_of(read(path))
    return look, cv2.resize(true_mask(shot), look.grid.size, interpolation=cv2.INTER_AREA)


FINE = {"lamp-1": "cord", "instrument-2": "strings and pegs"}
"""What of a scene is as fine as threads. (Hair lies within the outline of the people, who wear caps.)"""
EDGES = {"lamp-1": 0.18, "instrument-2": 0.13, "wren-1": 0.145, "rowan-1": 0.11}
"""Mean error of alpha in the px of all edges alone; a good part of it lies where the edge itself is taken for another."""


def band_of(mask: np.ndarray, reach: float) -> np.ndarray:
    """What lies within so many thousandths of the long edge of what is set, bool."""
    side = 2 * round(reach * max(mask.shape) / 1000) + 1
    return np.asarray(cv2.dilate(mask.astype(np.uint8), np.ones((side, side), np.uint8)) > 0)


def test_a_person_is_looked_for_once_whatever_asks(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Subject and skin of a portrait each looked for its faces, and for the person: two fifths of their time."""
    look, _ = seen(tmp_path, "wren-1")
    asked = Counter[str]()
    for name in ("faces_in", "_person"):

        def counted(given: Any, name: str = name, real: Any = getattr(find, name)) -> Any:
            asked[name] += 1
            return real(given)

        monkeypatch.setattr(find, name, counted)
    there = place(look)
    for what in ("subject", "skin", "backdrop"):
        there.found(what)
    assert asked == {"faces_in": 1, "_person": 1}


@pytest.mark.parametrize("scene", EDGES)
def test_the_subject_is_found_without_its_shadow(tmp_path: Path, scene: str) -> None:
    """Against the scenes' own masks: products on a sweep, with cast shadows, and people in a room."""
    look, truth = seen(tmp_path, scene)
    got = found("subject", Seen.of(look))
    a, b = got > 0.5, truth > 0.5
    assert (a & b).sum() / (a | b).sum() > 0.98
    soft = (truth > 0.02) & (truth < 0.98)
    assert np.abs(got - truth)[band_of(soft, 0.5)].mean() < EDGES[scene]
    if scene in FINE:
        # The band of strings and threads: as wide as matting is given, 10 px of 1,000.
        fine = cv2.resize(true_mask(shot_of(scene), FINE[scene]), look.grid.size, interpolation=cv2.INTER_AREA) > 0.05
        near = band_of(fine, 10)
        assert np.abs(got - truth)[band_of(soft & near, 10) & near].mean() < 0.05
    if scene == "wren-1":
        skin = found("skin", Seen.of(look))
        # Inside of the person, and not the jumper: the lower third of the frame.
        assert (skin * (truth < 0.02)).sum() < 0.02 * skin.sum()
        assert 0.05 < skin.mean() < 0.3 and skin[int(0.8 * len(skin)) :].mean() < 0.01
    if scene == "lamp-1":
        with pytest.raises(NotFound, match="Nobody"):
            found("people", Seen.of(look))
        with pytest.raises(NotFound, match="No face"):
            found("skin", Seen.of(look))


def test_a_plain_outline_before_a_plain_ground() -> None:
    """The outline of a horse that scikit-image ships, dark brown before uneven grey, with noise."""
    horse = ~skimage.data.horse()
    truth = cv2.resize(horse.astype(np.float32), (900, 738), interpolation=cv2.INTER_AREA)
    y, x = np.mgrid[0:738, 0:900]
    ground = (0.4 + 0.1 * x / 900 + 0.08 * y / 738)[..., None] * np.array([1.0, 1.02, 1.05])
    linear = ground + truth[..., None] * (np.array([0.10, 0.06, 0.04]) - ground)
    linear += np.random.default_rng(2).normal(0, 0.004, linear.shape)
    look = AreaLook(np.ascontiguousarray(np.moveaxis(linear, -1, 0), np.float32), PLAIN, Grid((900, 738), (1.0, 0.82)))
    got = found("subject", Seen.of(look))
    a, b = got > 0.5, truth > 0.5
    assert (a & b).sum() / (a | b).sum() > 0.98


def test_threads_stay_where_an_edge_is_drawn_close() -> None:
    """A dark thing with 260 threads as wide as a px, before a ground with a shade; the mask that is given knows of none."""
    rng, (h, w), fine = np.random.default_rng(1), (400, 600), 4
    drawn = np.zeros((h * fine, w * fine), np.uint8)
    cv2.ellipse(drawn, (w * fine // 2, h * fine // 2), (150 * fine, 110 * fine), 0, 0, 360, 255, -1)
    given = cv2.resize(drawn, (w, h), interpolation=cv2.INTER_AREA).astype(np.float32) / 255
    for _ in range(260):
        angle = rng.uniform(0, 2 * np.pi)
        root = np.array([w / 2 + 150 * np.cos(angle), h / 2 + 110 * np.sin(angle)])
        along = angle + rng.normal(0, 0.5)
        way, long = np.array([np.cos(along), np.sin(along)]), rng.uniform(6, 12)
        line = [root + way * long * u + way[::-1] * (-3, 3) * np.sin(3 * u + angle) for u in np.linspace(-0.3, 1, 8)]
        cv2.polylines(drawn, [np.rint(np.array(line) * fine).astype(np.int32)], False, 255, int(rng.integers(2, 6)))
    truth = cv2.resize(drawn, (w, h), interpolation=cv2.INTER_AREA).astype(np.float32) / 255
    x = np.arange(w, dtype=np.float32) / w
    ground = (0.6 + 0.15 * x)[None, :, None] * np.array([1, 1.01, 1.04])
    picture = truth[..., None] * np.array([0.16, 0.11, 0.08]) + (1 - truth[..., None]) * ground
    picture = (picture + rng.normal(0, 0.008, (h, w, 3))).clip(0, 1).astype(np.float32)
    wide, got = matted(picture, given, 10, 10), settled(picture, given, 10)
    threads = (truth > 0.1) & (given < 0.02)
    assert got[threads].sum() > 0.9 * wide[threads].sum() > 0.4 * truth[threads].sum()


def test_nothing_is_found_where_nothing_is() -> None:
    even = np.full((3, 400, 600), 0.4, np.float32)
    even += np.random.default_rng(4).normal(0, 0.004, even.shape).astype(np.float32)
    for what in ("subject", "people", "skin"):
        with pytest.raises(NotFound):
            found(what, Seen.of(AreaLook(even, PLAIN, GRID)))


def test_areas_of_what_is_found_are_found_anew_in_each_frame(source: Source) -> None:
    area = found_area("subject")
    assert area.name == "Subject" and not lost(area)
    try:
        mask = mask_of(source, develop({}), area, (300, 200))
    except NotFound as error:
        assert str(error).endswith("outline.")
    else:
        assert mask.min() >= 0 and mask.max() <= 1
