"""Areas: their masks by formula, what they change against the global controls, where they lie, and refusals."""

import math
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tanner.core.adjust.items import id_from_preset, of_things, renamed, split, things, with_things_of
from tanner.core.adjust.registry import LISTS, adjustments, blend, declared, develop
from tanner.core.areas.declare import AREAS
from tanner.core.areas.masks import mask_row
from tanner.core.areas.place import between, moved, to_places
from tanner.core.areas.raster import masks_of
from tanner.core.areas.raster_row import raster_row
from tanner.core.areas.shapes import Round, Straight
from tanner.core.errors import SettingsError
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.render import full_size, make_plan, render, render_strips
from tanner.core.render.guide import FINER, LAYERS
from tanner.core.render.linear import BINNED
from tanner.core.render.views import places

A = "areas/7f3a91c2/"
ALL_OVER = {"kind": "round", "at": [0.0, 0.0], "radii": [4.0, 4.0], "softness": 0.0}
LEFT = {"kind": "straight", "start": [-0.2, 0.0], "end": [0.2, 0.0]}
PLACE = st.tuples(st.floats(-0.5, 0.5), st.floats(-0.5, 0.5), st.floats(0.3, 3), st.floats(-180, 180))


def area(shape: dict[str, object], **values: object) -> dict[str, object]:
    return {A + "kind": "area", A + "shapes": [shape], **{A + k.replace("__", "."): v for k, v in values.items()}}


def drawn(source: Source, values: dict[str, object], **more: object) -> np.ndarray:
    return render(source, develop(values), (300, 200), bits=16, **more).astype(int)


# --- masks -----------------------------------------------------------------------------------------


def masked(shapes: list[object], u: np.ndarray, v: np.ndarray, **parts: object) -> np.ndarray:
    masks = masks_of([("00000000", AREAS.parts(shapes=shapes, **parts))])
    out, work = np.empty(len(u), np.float32), np.empty(len(u), np.float32)
    mask_row(masks, 0, u.astype(np.float32), v.astype(np.float32), out, work, len(u))
    return out


def smooth(t: np.ndarray) -> np.ndarray:
    t = np.clip(t, 0, 1)
    return t * t * (3 - 2 * t)


POINTS = st.tuples(st.floats(-0.7, 0.7), st.floats(-0.5, 0.5))
STRAIGHT = st.builds(lambda a, b: Straight(start=a, end=b), POINTS, POINTS).filter(
    lambda s: math.dist(s.start, s.end) > 0.05
)
ROUND = st.builds(
    lambda at, a, b, turn, soft: Round(at=at, radii=(a, b), angle=turn, softness=soft),
    POINTS, st.floats(0.05, 1), st.floats(0.05, 1), st.floats(-180, 180), st.floats(0.05, 1),
)  # fmt: skip
COMBINED = st.tuples(st.sampled_from(["add", "subtract", "intersect", "either"]), st.booleans())


def by_hand(shape: Straight | Round, u: np.ndarray, v: np.ndarray) -> np.ndarray:
    """The same in float64."""
    if isinstance(shape, Straight):
        way = np.subtract(shape.end, shape.start)
        return smooth(1 - ((u - shape.start[0]) * way[0] + (v - shape.start[1]) * way[1]) / (way @ way))
    a = math.radians(shape.angle)
    x, y = u - shape.at[0], v - shape.at[1]
    p, q = (math.cos(a) * x + math.sin(a) * y) / shape.radii[0], (math.cos(a) * y - math.sin(a) * x) / shape.radii[1]
    return smooth((1 - np.hypot(p, q)) / max(shape.softness, 1e-3))


@settings(max_examples=60, deadline=None)
@given(parts=st.lists(st.tuples(STRAIGHT | ROUND, COMBINED), min_size=1, max_size=4), whole=st.booleans())
def test_the_algebra_of_masks(parts: list[tuple[Straight | Round, tuple[str, bool]]], whole: bool) -> None:
    u, v = (g.ravel() for g in np.meshgrid(np.linspace(-0.7, 0.7, 9), np.linspace(-0.5, 0.5, 7)))
    wanted = np.zeros(len(u))
    shapes = []
    for shape, (how, inverted) in parts:
        shapes.append(shape.model_copy(update={"combine": how, "inverted": inverted}))
        m = by_hand(shape, u, v)
        m = 1 - m if inverted else m
        wanted = {
            "add": wanted + m - wanted * m, "subtract": wanted * (1 - m), "intersect": wanted * m,
            "either": wanted + m - 2 * wanted * m,
        }[how]  # fmt: skip
    wanted = 1 - wanted if whole else wanted
    assert np.abs(masked(shapes, u, v, inverted=whole) - wanted).max() < 2e-4


@settings(max_examples=100, deadline=None)
@given(place=PLACE, by=PLACE, shape=STRAIGHT | ROUND)
def test_a_moved_mask_is_the_mask_of_moved_places(
    place: tuple[float, ...], by: tuple[float, ...], shape: Straight | Round
) -> None:
    """Moving by an offset and back gives the same, and a mask that is moved is the old one looked at from there."""
    there = moved(place, by)
    assert np.abs(np.subtract(between(place, there), by)).max() < 2e-4 * max(1, 1 / place[2])
    a, s = math.radians(place[3]), place[2]
    rng = np.random.default_rng(1)
    u, v = rng.uniform(-0.5, 0.5, (2, 40))
    x = (math.cos(a) * u - math.sin(a) * v) * s + place[0]
    y = (math.sin(a) * u + math.cos(a) * v) * s + place[1]
    assert np.abs(masked([shape], x, y, place=place) - masked([shape], u, v)).max() < 5e-3


# --- what an area does -----------------------------------------------------------------------------


@pytest.mark.parametrize(
    "quiet",
    [{}, {"light__exposure": 0.0}, {"light__exposure": 2.0, "amount": 0.0}, {"light__exposure": 2.0, "enabled": False}],
)
def test_an_area_that_does_nothing_changes_nothing(source: Source, quiet: dict[str, object]) -> None:
    assert np.array_equal(drawn(source, area(ALL_OVER, **quiet)), drawn(source, {}))


@pytest.mark.parametrize(
    "values",
    [
        {"light.exposure": 0.7}, {"light.highlights": -60.0}, {"light.shadows": 60.0}, {"light.local_contrast": 40.0},
        {"colour.saturation": -60.0}, {"colour.saturation": 50.0}, {"colour.vibrance": 60.0},
        {"light.contrast": 40.0}, {"light.white_point": 30.0, "light.black_point": -20.0},
        {"levels.middle": 15.0, "levels.black_out": 8.0}, {"structure.texture": 60.0}, {"structure.middle": -50.0},
        {"structure.haze": 50.0}, {"structure.haze": -40.0}, {"ranges.orange_hue": 40.0, "ranges.blue_saturation": -80.0},
        {"balance.all_hue": 200.0, "balance.all_strength": 40.0}, {"mono.amount": 100.0}, {"detail.amount": 120.0},
        {"curve.points": [[0.0, 0.0], [0.4, 0.55], [1.0, 1.0]]}, {"curve.lightness": [[0.0, 0.0], [0.5, 0.4], [1.0, 1.0]]},
        {"curve.red": [[0.0, 0.0], [0.5, 0.6], [1.0, 1.0]]},
    ],
)  # fmt: skip
def test_an_area_over_all_is_the_global_control(source: Source, values: dict[str, Any]) -> None:
    """Within 1 of 255, where nothing is clipped (there the picture's own exposure holds white)."""
    below = {"light.exposure": -1.0, "light.contrast": 20.0}
    neutral = {k: 0.0 if isinstance(v, list) else adjustments()[k].neutral for k, v in values.items()}
    there = {**below, **{k: v if isinstance(v, list) else below.get(k, neutral[k]) + v for k, v in values.items()}}
    got = drawn(source, {**below, **area(ALL_OVER, **{k.replace(".", "__"): v for k, v in values.items()})})
    assert np.abs(got - drawn(source, there)).max() <= 257


def test_light_in_an_area_is_that_of_the_picture(source: Source) -> None:
    """30 mired and 8 of tint warmer: as white balance does it, by the same camera."""
    from tanner.core.colour.temperature import mired_shift, xy_to_temperature
    from tanner.core.render import as_shot_white

    kelvin, tint = xy_to_temperature(as_shot_white(source))
    wanted = drawn(source, {"white.temperature": mired_shift(kelvin, 30.0), "white.tint": tint + 8.0})
    got = drawn(source, area(ALL_OVER, white__temperature=30.0, white__tint=8.0))
    assert np.abs(wanted - drawn(source, {})).mean() > 1000
    # The picture's balance also moves the matrix between two lights a little.
    assert np.abs(got - wanted).mean() < 120


def test_half_an_area_works_on_half_the_picture(source: Source) -> None:
    plain, got = drawn(source, {}), drawn(source, area(LEFT, light__exposure=1.0))
    assert np.array_equal(plain[:, 220:], got[:, 220:]) and (got[:, :80] >= plain[:, :80]).all()
    assert (got[:, :80] - plain[:, :80]).mean() > 3000


def test_rows_that_an_area_does_not_touch_are_to_the_bit_as_without_it(source: Source) -> None:
    """Whatever it does: stages that only it has something to do for do not run there."""
    base = {"light.exposure": 0.3, "light.contrast": 20.0}
    small = {"kind": "round", "at": [0.0, 0.0], "radii": [0.1, 0.1]}
    values = {
        "light__exposure": 1.0, "white__temperature": 40.0, "structure__texture": 60.0, "colour__saturation": 50.0,
        "ranges__red_hue": 50.0, "curve__red": [[0, 0.2], [1, 1]], "structure__haze": 30.0,
    }  # fmt: skip
    plain, with_area = drawn(source, base), drawn(source, base | area(small, **values))
    rows = np.r_[0:60, 140:200]
    assert np.array_equal(plain[rows], with_area[rows]) and (plain != with_area).any()


def test_a_layer_that_no_area_wants_is_not_made(lamp: Path) -> None:
    mine = read(lamp)
    drawn(mine, area(LEFT, structure__texture=40.0))
    made = {name for name in LAYERS if any(key[0] == name for key in mine.memory.keys(FINER))}
    assert made == {"texture"}
    # Nor is what it was read from kept: that is larger than the frame.
    assert not [k for k in mine.memory.keys(BINNED) if k == 2]


def test_amount_scales_and_areas_add_up(source: Source) -> None:
    b = {k.replace("7f3a91c2", "00c0ffee"): v for k, v in area(ALL_OVER, light__exposure=0.4).items()}
    whole = drawn(source, area(ALL_OVER, light__exposure=0.8))
    assert np.abs(drawn(source, {**area(ALL_OVER, light__exposure=0.4), **b}) - whole).max() <= 2
    assert np.abs(drawn(source, area(ALL_OVER, light__exposure=0.4, amount=200.0)) - whole).max() <= 2


def test_preview_and_file_are_the_same(lamp: Path) -> None:
    development = develop(area(LEFT, light__exposure=1.0, colour__saturation=-50.0, light__local_contrast=30.0))
    source = read(lamp)
    size = full_size(source, development)
    strips = np.concatenate(list(render_strips(make_plan(read(lamp), development, size))))
    assert np.abs(strips.astype(int) - render(source, development, size, keep=True)).max() <= 1
    region = render(source, development, size, region=(200, 100, 331, 251))
    assert np.abs(region.astype(int) - strips[100:251, 200:331]).max() <= 1


@pytest.mark.parametrize(
    "geometry", [{"crop.left": 0.3}, {"crop.straighten": 5.0}, {"crop.turn": "90"}, {"perspective.vertical": 8.0}]
)
def test_crop_and_perspective_move_the_picture_and_its_masks_together(
    source: Source, geometry: dict[str, object]
) -> None:
    """Where a place of the frame comes to lie, the mask has the value that it had there."""
    development = develop({**geometry, **area(LEFT, light__exposure=1.0)})
    w, h = full_size(source, development)
    size = w // 2, h // 2
    plain = render(source, develop(geometry), size, bits=16).astype(float)
    got = render(source, development, size, bits=16).astype(float)
    lifted = np.clip((got / 65535) / np.maximum(plain / 65535, 1e-4), 0, 9).mean(axis=2)
    found = np.array(places(source, development, size))
    for i in range(2, 15, 3):
        for j in range(2, 15, 3):
            x, y = int(j / 16 * size[0]), int(i / 16 * size[1])
            spot = np.median(lifted[max(0, y - 2) : y + 3, max(0, x - 2) : x + 3])
            mask = float(
                by_hand(Straight(**{k: LEFT[k] for k in ("start", "end")}), *[np.array([c]) for c in found[i, j]])[0]
            )
            if mask < 0.02:
                assert spot < 1.03
            if mask > 0.98:
                assert spot > 1.1


@pytest.mark.parametrize("orientation", range(1, 9))
def test_places_are_upright_whatever_way_the_sensor_lay(orientation: int) -> None:
    to = to_places((600, 400), orientation)
    corners = np.array([[x, y, 1] for x in (0, 600) for y in (0, 400)]) @ to.T
    long, short = (0.5, 1 / 3) if orientation < 5 else (1 / 3, 0.5)
    assert sorted(map(tuple, np.round(np.abs(corners), 5))) == [(round(long, 5), round(short, 5))] * 4
    assert np.allclose(to @ [300, 200, 1], 0, atol=1e-6)


# --- names -----------------------------------------------------------------------------------------


def test_what_is_declared_of_an_area() -> None:
    entry = declared(A + "white.temperature")
    assert entry is not None and entry.key == A + "white.temperature"
    assert (entry.neutral, entry.low, entry.high, entry.spec.unit) == (0.0, -200.0, 200.0, "mired")
    assert declared("areas/xyz/light.exposure") is None and declared("areas/7f3a91c2/crop.left") is None
    assert declared("else/7f3a91c2/light.exposure") is None and split("areas/7f3a91c2/a/b") is None


@pytest.mark.parametrize(
    ("values", "words"),
    [
        (area(ALL_OVER, light__exposure=11.0), "from -5 to 5"),
        (area(ALL_OVER, light__exposure="much"), "from -5 to 5"),
        (area({"kind": "round", "at": [0, 0], "radii": [0, 1]}), "Area 7f3a91c2, shapes"),
        (area({"kind": "star"}), "shapes"),
        (area({"kind": "straight", "start": [0, float("nan")], "end": [0, 1]}), "shapes"),
        (area(ALL_OVER, place=[0, 0, 0, 0]), "place"),
        (area(ALL_OVER, amount=500.0), "amount"),
        ({"areas/7f3a91c2/nothing": 1}, "no adjustment called"),
        ({f"areas/{n:08x}/kind": "area" for n in range(65)}, "a frame holds 64"),
    ],
)
def test_what_makes_no_sense_is_refused_with_a_word(values: dict[str, object], words: str) -> None:
    with pytest.raises(SettingsError, match=words):
        develop(values)


def test_a_line_of_no_length_and_500_parts_draw(source: Source) -> None:
    flat = {"kind": "straight", "start": [0.1, 0.1], "end": [0.1, 0.1]}
    assert np.isfinite(drawn(source, area(flat, light__exposure=1.0))).all()
    many = {A + "kind": "area", A + "shapes": [ALL_OVER] * 500, A + "light.exposure": 1.0}
    assert np.array_equal(drawn(source, many), drawn(source, area(ALL_OVER, light__exposure=1.0)))


def test_a_preset_keeps_what_an_area_is_at_any_amount() -> None:
    values = area(LEFT, light__exposure=1.0, name="Light from left", place=[0.1, 0.0, 1.0, 0.0])
    low = blend(values, 0.2)
    assert low[A + "light.exposure"] == pytest.approx(0.2) and low[A + "shapes"] == [LEFT]
    assert low[A + "kind"] == "area" and low[A + "place"] == [0.1, 0.0, 1.0, 0.0] and set(low) == set(values)


def test_a_preset_put_on_twice_gives_one_area() -> None:
    values = area(LEFT, light__exposure=1.0)
    once, twice = renamed(values, "Warm"), renamed(values, "Warm")
    assert once == twice and set(once) == {k.replace("7f3a91c2", id_from_preset("Warm", "7f3a91c2")) for k in values}
    assert renamed(values, "Cool") != once and renamed({"light.exposure": 1.0}, "Warm") == {"light.exposure": 1.0}


NAMES = st.fixed_dictionaries(
    {"kind": st.just("area"), "order": st.integers(0, 5).map(float), "light.exposure": st.floats(-1, 1)}
)
OWN = st.dictionaries(st.sampled_from([f"{n:08x}" for n in range(6)]), NAMES, max_size=5).map(
    lambda made: {f"areas/{i}/{k}": v for i, values in made.items() for k, v in values.items()}
)


@settings(max_examples=100, deadline=None)
@given(mine=OWN, theirs=OWN)
def test_two_machines_that_both_added_areas_lose_none(mine: dict[str, object], theirs: dict[str, object]) -> None:
    both = with_things_of(mine, theirs, LISTS)
    ids = [t["id"] for t in things(both, "areas")]
    assert set(ids) == {split(k)[1] for k in {**mine, **theirs}}  # type: ignore[index]
    assert of_things(both, "areas", {split(k)[1] for k in mine}) == mine  # type: ignore[index]
    there = things(both, "areas")
    assert there == sorted(there, key=lambda t: (t["order"], t["id"]))
    assert both == with_things_of(both, theirs, LISTS)


# --- stages that are done once more ----------------------------------------------------------------


@pytest.mark.parametrize(
    "values", [{"light.contrast": 60.0}, {"mono.amount": 100.0}, {"curve.red": [[0.0, 0.0], [0.5, 0.7], [1.0, 1.0]]}]
)
def test_a_stage_done_again_is_laid_in_by_the_mask(source: Source, values: dict[str, Any]) -> None:
    """Half way up a mask it is half way, in the linear values that the stage works on; outside nothing changes."""
    plain, whole = (
        drawn(source, {}),
        drawn(source, area(ALL_OVER, **{k.replace(".", "__"): v for k, v in values.items()})),
    )
    half = drawn(source, area(LEFT, **{k.replace(".", "__"): v for k, v in values.items()}))
    assert np.array_equal(half[:, -20:], plain[:, -20:])
    assert np.abs(half[:, :20] - whole[:, :20]).max() <= 2
    assert np.abs(half - plain).max() > 2000


def test_two_areas_add_what_they_do(source: Source) -> None:
    one = area(ALL_OVER, light__contrast=20.0, amount=50.0)
    two = {k.replace("7f3a91c2", "7f3a91c3"): v for k, v in one.items()}
    both = drawn(source, one | two)
    alone = drawn(source, area(ALL_OVER, light__contrast=20.0))
    assert np.abs(both - alone).mean() < 150


def test_blur_works_inside_alone_and_nothing_bleeds_in(source: Source) -> None:
    left = {
        "kind": "outline",
        "points": [{"at": [x, y]} for x, y in ((-0.6, -0.5), (0.0, -0.5), (0.0, 0.5), (-0.6, 0.5))],
        "softness": 0,
    }
    plain, soft = drawn(source, {}), drawn(source, area(left, blur=100.0))
    assert np.array_equal(soft[:, 156:], plain[:, 156:])

    def fine(picture: np.ndarray) -> float:
        part = picture[20:180, 20:130].astype(float)
        return float(np.abs(np.diff(part, axis=1)).mean())

    assert fine(soft) < 0.6 * fine(plain)
    # As light as before on average: what is outside of the area has no part in it.
    assert np.abs(soft[20:180, 20:130].mean() - plain[20:180, 20:130].mean()) < 900
    assert np.array_equal(drawn(source, area(left, blur=100.0, amount=0.0)), plain)


def test_minus_sharpening_softens_inside_alone(source: Source) -> None:
    below = {"detail.amount": 80.0}
    got = drawn(source, below | area(LEFT, detail__amount=-160.0))
    plain, none = drawn(source, below), drawn(source, {})
    assert np.array_equal(got[:, -20:], plain[:, -20:])
    left = slice(10, 190), slice(5, 40)
    sharp, soft, bare = (float(np.abs(np.diff(p[left].astype(float), axis=1)).mean()) for p in (plain, got, none))
    assert soft < bare < sharp


def test_preview_and_file_show_the_same_mask(source: Source) -> None:
    """A painted area at full size, made small, against the same at the small size: 45 dB at least."""
    from tanner.core.areas.strokes import written

    brush = {"kind": "brush", "strokes": [{"path": written([(-0.2, -0.1), (0.2, 0.1)]), "size": 0.1}]}
    development = develop(area(brush, light__exposure=-1.5))
    w, h = full_size(source, development)
    large = render(source, development, (w // 2 * 2, h // 2 * 2), bits=16).astype(float)
    small = render(source, development, (w // 2, h // 2), bits=16).astype(float)
    reduced = large.reshape(h // 2, 2, w // 2, 2, 3).mean(axis=(1, 3))
    plain = render(source, develop({}), (w // 2, h // 2), bits=16).astype(float)
    plain_large = render(source, develop({}), (w // 2 * 2, h // 2 * 2), bits=16).astype(float)
    base = ((plain_large.reshape(h // 2, 2, w // 2, 2, 3).mean(axis=(1, 3)) - plain) ** 2).mean()
    error = ((reduced - small) ** 2).mean()
    # No worse than the picture itself is reduced.
    assert 10 * np.log10(65535**2 / error) > min(45, 10 * np.log10(65535**2 / base) - 0.5)


# --- masks on a grid -------------------------------------------------------------------------------


@settings(max_examples=60, deadline=None)
@given(
    st.integers(0, 2**32 - 1), st.floats(-0.8, 0.8), st.floats(-0.8, 0.8), st.floats(-1, 1), st.floats(-1, 1),
    st.integers(1, 70), st.booleans(),
)  # fmt: skip
def test_a_row_of_a_grid_is_read_between_its_px(
    seed: int, u0: float, v0: float, du: float, dv: float, n: int, jumps: bool
) -> None:
    """Whether sixteen px lie close together, across rows, beyond the grid or anywhere: against the formula in float64."""
    rng = np.random.default_rng(seed)
    h, w = int(rng.integers(2, 60)), int(rng.integers(2, 90))
    plane = rng.integers(0, 65536, (2, h, w)).astype(np.uint16)
    scale = float(max(h, w))
    u, v = (a + d * np.arange(n) / 200 for a, d in ((u0, du), (v0, dv)))
    if jumps:
        u = rng.permutation(u)
    u, v = u.astype(np.float32), v.astype(np.float32)
    out = np.full(n + 16, -1, np.float32)
    raster_row(np.array([1, scale, scale, 0, 0, 0, 0, 0], np.float32), plane, u, v, out, n)
    x, y = (np.clip(a.astype(np.float64) * scale + m / 2 - 0.5, 0, m - 1) for a, m in ((u, w), (v, h)))
    i, j = np.minimum(y.astype(int), h - 2), np.minimum(x.astype(int), w - 2)
    fy, fx = y - i, x - j
    four = plane[1].astype(np.float64)
    wanted = (four[i, j] * (1 - fx) + four[i, j + 1] * fx) * (1 - fy) + (
        four[i + 1, j] * (1 - fx) + four[i + 1, j + 1] * fx
    ) * fy
    assert np.abs(out[:n] - wanted / 65535).max() < 3e-5 and (out[n:] == -1).all()
