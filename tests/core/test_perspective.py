"""Perspective, projections, quarter turns and what lies beyond the picture, against geometry that is known."""

import math
from pathlib import Path

import numpy as np
import pytest

from tanner.core.adjust.registry import develop
from tanner.core.optics.backdrop import carried_on
from tanner.core.optics.crop import Crop, kept
from tanner.core.optics.geometry import build
from tanner.core.optics.lens import OpcodeLens, Optics
from tanner.core.optics.perspective import Perspective, angles, from_lines, from_picture, rotation
from tanner.core.optics.projection import LENSES, direction, place
from tanner.core.optics.turn import turned
from tanner.core.optics.view import View, orientation_of, to_sensor, upright
from tanner.core.raw import source as sources
from tanner.core.raw.source import Source
from tanner.core.render import full_size, notes, render

W, H, FOCAL = 600, 400, 500.0


def view(optics: Optics | None = None, perspective: Perspective | None = None, **more: object) -> View:
    return View(
        (W, H),
        1,
        optics or Optics(),
        perspective or Perspective(),
        more.get("lens"),
        str(more.get("drawn", "rectilinear")),
        FOCAL,
    )  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("name", "radius"),
    [
        ("rectilinear", lambda t: math.tan(t)),
        ("equidistant", lambda t: t),
        ("stereographic", lambda t: 2 * math.tan(t / 2)),
        ("equisolid", lambda t: 2 * math.sin(t / 2)),
        ("orthographic", lambda t: math.sin(t)),
    ],
)
def test_fisheye_projections_are_the_published_formulas(name: str, radius) -> None:  # type: ignore[no-untyped-def]
    """Radius over the angle off the axis (source: kannala2006, equations 1 to 5)."""
    for degrees in (0.01, 10, 35, 60, 80):
        t = math.radians(degrees)
        for turn in (0.0, 1.1, 4.0):
            at = np.array([math.sin(t) * math.cos(turn), math.sin(t) * math.sin(turn), math.cos(t)])
            x, y = place(at, name)
            assert (x, y) == pytest.approx((radius(t) * math.cos(turn), radius(t) * math.sin(turn)), abs=1e-9)


def test_pannini_is_the_published_formula() -> None:
    """x = S sin a, y = S tan b with S = (d + 1) / (d + cos a) and d = 1 (source: sharpless2010)."""
    for a, b in ((0.3, 0.2), (-1.1, 0.5), (1.4, -0.4)):
        at = np.array([math.sin(a) * math.cos(b), math.sin(b), math.cos(a) * math.cos(b)])
        x, y = place(at, "pannini")
        s = 2 / (1 + math.cos(a))
        assert (x, y) == pytest.approx((s * math.sin(a), s * math.tan(b)))


@pytest.mark.parametrize("name", [*LENSES, "pannini"])
def test_directions_and_places_are_inverses(name: str) -> None:
    x, y = np.meshgrid(np.linspace(-0.7, 0.7, 9), np.linspace(-0.5, 0.5, 7))
    bx, by = place(direction(x, y, name), name)
    assert np.allclose(bx, x, atol=1e-9) and np.allclose(by, y, atol=1e-9)


@pytest.mark.parametrize("angle", [(5.0, 0.0, 0.0), (-12.0, 7.0, 3.0), (0.0, -9.0, -4.0), (20.0, 1.0, 10.0)])
def test_drawn_lines_give_the_tilt_back(angle: tuple[float, float, float]) -> None:
    """Lines that are upright and level in life, seen by a camera with a known tilt."""
    turn = rotation(*angle)

    def seen(x: float, y: float) -> list[float]:
        at = turn @ np.array([x, y, 1.0])
        return [at[0] / at[2], at[1] / at[2]]

    up = [seen(x, -0.3) + seen(x, 0.3) for x in (-0.35, 0.3)]
    level = [seen(-0.35, y) + seen(0.35, y) for y in (-0.25, 0.3)]
    both = from_lines(up, level)
    assert (both.vertical, both.horizontal, both.straighten) == pytest.approx(angle, abs=0.01)
    assert angles(turn) == pytest.approx(angle)
    if angle[1] == 0:
        one = from_lines(up)
        assert (one.vertical, one.straighten) == pytest.approx((angle[0], angle[2]), abs=0.01)
    if angle[0] == 0:
        side = from_lines((), level)
        assert (side.horizontal, side.straighten) == pytest.approx((angle[1], angle[2]), abs=0.5)


def test_one_line_straightens_and_wrong_lines_are_refused() -> None:
    assert from_lines([[0.0, -0.2, 0.02, 0.2]]).straighten == pytest.approx(
        math.degrees(math.atan2(0.02, 0.4)), abs=0.01
    )
    assert from_lines((), [[-0.2, 0.0, 0.2, -0.02]]).straighten == pytest.approx(
        math.degrees(math.atan2(0.02, 0.4)), abs=0.01
    )
    with pytest.raises(ValueError, match="at least one"):
        from_lines([])
    with pytest.raises(ValueError, match="more than"):
        from_lines([[-0.3, -0.3, 0.0, 0.3], [0.3, -0.3, 0.0, 0.2]])


def test_the_pictures_own_lines_are_found_among_others() -> None:
    rng = np.random.default_rng(3)
    turn = rotation(8.0, 0.0, 1.5)

    def seen(points: np.ndarray) -> np.ndarray:
        at = points @ turn.T
        return at[:, :2] / at[:, 2:]

    n = 24
    x = rng.uniform(-0.5, 0.5, n)
    top, end = rng.uniform(-0.35, 0.0, n), rng.uniform(0.05, 0.35, n)
    lines = np.hstack([seen(np.stack([x, y, np.ones(n)], 1)) + rng.normal(0, 4e-4, (n, 2)) for y in (top, end)])
    other = rng.uniform(-0.4, 0.4, (30, 4))
    found = from_picture(np.concatenate([lines, other]))
    assert found.vertical == pytest.approx(8.0, abs=0.4) and found.straighten == pytest.approx(1.5, abs=0.3)
    with pytest.raises(ValueError, match="agree"):
        from_picture(other[:8])
    with pytest.raises(ValueError, match="more than"):
        from_picture(lines, limit=5.0)


def test_a_corrected_frame_holds_no_empty_corner_and_upright_lines_stand() -> None:
    for vertical, horizontal in ((12.0, 0.0), (-20.0, 8.0), (0.0, 25.0)):
        v = view(perspective=Perspective(vertical=vertical, horizontal=horizontal))
        geometry = build(v, Crop(), (W, H))
        inner = geometry.grid[2:4, 1:-2, 1:-2]
        assert inner[0].min() > -2 and inner[0].max() < W + 2 and inner[1].min() > -2 and inner[1].max() < H + 2
        # The frame is as large as it can be: some edge of the sensor is nearly reached.
        room = min(inner[0].min(), W - inner[0].max(), inner[1].min(), H - inner[1].max())
        assert room < 20
    # A plumb line of the ideal picture goes where the tilted camera saw it.
    v = view(perspective=Perspective(vertical=12.0))
    x, y = v.ideal(np.array([100.0, 100.0]), np.array([-80.0, 120.0]))
    turn = rotation(12.0, 0.0)
    for i, py in enumerate((-80.0, 120.0)):
        at = turn @ np.array([100 / FOCAL, py / FOCAL, 1.0])
        assert (x[i], y[i]) == pytest.approx((at[0] / at[2] * FOCAL, at[1] / at[2] * FOCAL))
    back = v.unideal(x, y)
    assert np.allclose(back, ([100.0, 100.0], [-80.0, 120.0]))


@pytest.mark.parametrize("to", ["straight", "stereographic", "Pannini", "cylinder"])
@pytest.mark.parametrize("drawn", ["rectilinear", "equidistant", "equisolid"])
def test_every_projection_fills_its_frame(to: str, drawn: str) -> None:
    v = view(Optics(projection=to), drawn=drawn)  # type: ignore[arg-type]
    geometry = build(v, Crop(), (W, H))
    inner = geometry.grid[2:4, 1:-2, 1:-2]
    assert inner[0].min() > -2 and inner[0].max() < W + 2 and inner[1].min() > -2 and inner[1].max() < H + 2
    assert not v.folds()


def test_straight_lines_of_a_fisheye_become_straight() -> None:
    v = view(Optics(projection="straight"), drawn="equidistant")
    t = np.linspace(-150, 150, 31)
    x, y = v.ideal(np.full(31, 200.0), t)
    # Seen by the fisheye, those places lie on the plane through the eye that a straight line spans.
    at = direction(x / FOCAL, y / FOCAL, "equidistant")
    assert np.allclose(at[0] / at[2], 200.0 / FOCAL)


def test_orientations_and_turns_are_one_of_eight() -> None:
    for exif in range(1, 9):
        for turn in ("0", "90", "180", "270"):
            for mirror in (False, True):
                code = orientation_of(exif, Crop(turn=turn, mirror=mirror))  # type: ignore[arg-type]
                picture = np.arange(12).reshape(3, 4)
                assert np.array_equal(_seen(picture, code), _own(_seen(picture, exif), turn, mirror))


def _seen(picture: np.ndarray, orientation: int) -> np.ndarray:
    size = picture.shape[1], picture.shape[0]
    w, h = upright(size, orientation)
    x, y = np.meshgrid(np.arange(w) + 0.5, np.arange(h) + 0.5)
    sx, sy = to_sensor(x, y, size, orientation)
    return picture[sy.astype(int), sx.astype(int)]


def _own(picture: np.ndarray, turn: str, mirror: bool) -> np.ndarray:
    result = np.rot90(picture, -int(turn) // 90)
    return result[:, ::-1] if mirror else result


@pytest.mark.parametrize("by", ["90", "180", "270", "mirror"])
@pytest.mark.parametrize("mirrored", [False, True])
def test_turning_turns_the_picture_as_it_is_seen(by: str, mirrored: bool, source: Source) -> None:
    """Crop, straightening and perspective included: the developed picture itself is turned."""
    before = {
        "crop.left": 0.1, "crop.top": 0.2, "crop.right": 0.8, "crop.bottom": 0.9, "crop.mirror": mirrored,
        "perspective.vertical": 4.0, "perspective.horizontal": -2.0, "crop.straighten": 3.0, "optics.distortion": 100.0,
    }  # fmt: skip
    after = {**before, **turned(before, by)}  # type: ignore[arg-type]
    sizes = [full_size(source, develop(values)) for values in (before, after)]
    pictures = [
        render(source, develop(v), (max(1, s[0] // 4), max(1, s[1] // 4)))
        for v, s in zip((before, after), sizes, strict=True)
    ]
    wanted = pictures[0][:, ::-1] if by == "mirror" else np.rot90(pictures[0], -int(by) // 90)
    assert pictures[1].shape == wanted.shape
    off = np.abs(pictures[1].astype(int) - wanted)[4:-4, 4:-4]
    assert np.percentile(off, 99) <= 14 and off.mean() < 1.2


def test_a_map_that_folds_over_is_left_out_with_a_word(source: Source) -> None:
    lens = OpcodeLens(np.array([[1.0, -0.9, 0.0, 0.0, 0.0, 0.0]]), None, source.size)
    odd = Source(source.facts, source.data)
    odd.memory.put(sources.LENSES, "", (lens, ""))
    development = develop({"optics.distortion": 200.0})
    assert any("fold" in n for n in notes(odd, development))
    plain = render(odd, develop({}), (150, 100))
    assert np.array_equal(render(odd, development, (150, 100)), plain)


def test_focal_lengths_of_nothing(source: Source) -> None:
    """No focal length: a usual one is taken and that is said; corrections of perspective still work."""
    facts = source.facts.model_copy(update={"focal_length_mm": None, "focal_length_35mm": None})
    odd = Source(facts, source.data)
    focal, known = odd.focal
    assert not known and focal == pytest.approx(35 / 43.2666 * np.hypot(*source.size))
    assert any("focal length" in n for n in notes(odd, develop({"perspective.vertical": 5.0})))


# --- beyond the picture ----------------------------------------------------------------------------


def sweep(height: int = 120, width: int = 180) -> np.ndarray:
    y, x = np.mgrid[0:height, 0:width]
    level = 0.4 * np.exp(0.3 * (x / width - 0.5) - 0.5 * (y / height - 0.5))
    return np.stack([level, level * 0.9, level * 0.7]).astype(np.float32)


def test_a_plain_backdrop_goes_on_without_a_step() -> None:
    found = carried_on(sweep())
    assert max(found.odd) == 0 and found.notes((True,) * 4) == []
    h, w = 120, 180
    my, mx = (found.planes.shape[1] - h) // 2, (found.planes.shape[2] - w) // 2
    green = found.planes[1]
    assert np.allclose(green[my : my + h, mx : mx + w], sweep()[1], rtol=1e-4)
    # Over the border the level goes on by as much as it did before, within a tenth of a per cent.
    middle = my + h // 2
    for edge, step in ((mx, -1), (mx + w - 1, 1)):
        inner, outer = (
            green[middle, edge] - green[middle, edge - step],
            green[middle, edge + step] - green[middle, edge],
        )
        assert abs(inner - outer) < 0.001 * green[middle, edge]
    # Far out it has come to rest.
    assert abs(green[middle, 0] / green[middle, 3] - 1) < 0.005


def test_a_border_that_is_not_plain_is_named() -> None:
    picture = sweep()
    picture[:, 40:100, :30] *= 0.4
    found = carried_on(picture)
    (words,) = found.notes((True, False, True, False))
    assert "left border is not plain" in words
    small = sweep()
    small[:, 60:64, 150:] *= 0.5
    (words,) = carried_on(small).notes((False, False, True, False))
    assert "reaches the right border" in words


def test_the_crop_may_go_beyond_where_it_is_allowed(noisy_lamp: Path) -> None:
    from tanner.core.raw.reader import read

    source = read(noisy_lamp)
    wide = {"crop.left": -0.2, "crop.right": 1.2, "crop.top": -0.1}
    assert full_size(source, develop(wide)) == source.size
    empty, backdrop = ({**wide, "crop.outside": kind} for kind in ("empty", "backdrop"))
    assert full_size(source, develop(empty)) == (round(source.size[0] * 1.4), round(source.size[1] * 1.1))
    size = 420, 220
    black, filled = render(source, develop(empty), size), render(source, develop(backdrop), size)
    assert black[:15].max() == 0 and black[:, :40].max() == 0
    inside = np.s_[40:200, 90:330]
    assert np.array_equal(black[inside], filled[inside])
    # The level goes on over the border, and the noise with it.
    row = filled[60:160].astype(float)
    assert np.abs(row[:, 45:55].mean(axis=(0, 1)) - row[:, 66:76].mean(axis=(0, 1))).max() < 10
    assert row[:, 10:50].std(axis=1).mean() > 0.4 * row[:, 66:100].std(axis=1).mean()
    parts = [render(source, develop(backdrop), size, region=(0, y, 420, min(220, y + 70))) for y in range(0, 220, 70)]
    assert np.array_equal(np.concatenate(parts), filled)


def test_kept_is_as_asked_beyond_and_never_empty_inside() -> None:
    wide = Crop(left=-0.3, right=1.1, straighten=10.0)
    assert kept(Crop(**{**wide.model_dump(), "outside": "empty"}), 600, 400) == pytest.approx((-60, 0, 840, 400))
    _, _, w, h = kept(wide, 600, 400)
    assert w < 600 and h < 400


def facade(yaw: float, seed: int, sloped: float = 0.0) -> np.ndarray:
    """Lines of a front with windows as a camera sees it that looks up by 4 degrees and aside by `yaw`: found with errors of a
    tenth of a degree; `sloped`: a share of level lines that lean by themselves (roofs, awnings), all the same way.
    """
    rng = np.random.default_rng(seed)
    turn = rotation(4.0, yaw)
    rows = []
    for _ in range(90):
        x, y, size = rng.uniform(-0.8, 0.8), rng.uniform(-0.5, 0.5), rng.uniform(0.06, 0.3)
        if rng.random() < 0.5:
            ends = np.array([[x, y - size / 2, 1], [x, y + size / 2, 1]])
        else:
            lean = math.tan(math.radians(4)) * np.sign(y) * size / 2 if rng.random() < sloped else 0.0
            ends = np.array([[x - size / 2, y - lean, 1], [x + size / 2, y + lean, 1]])
        seen = ends @ turn.T
        seen = seen[:, :2] / seen[:, 2:]
        rows.append((seen + rng.normal(0, size * 0.0017, (2, 2))).ravel())
    return np.array(rows)


@pytest.mark.parametrize("seed", range(6))
def test_a_front_seen_straight_on_is_not_turned(seed: int) -> None:
    """Lines that lean by themselves asked for turns of 2.5 and 6 degrees before."""
    for sloped in (0.0, 0.35, 0.45):
        found = from_picture(facade(0.0, seed, sloped))
        assert found.horizontal == 0 and found.vertical == pytest.approx(4.0, abs=0.3)


@pytest.mark.parametrize("yaw", [-9.0, -4.0, 3.0, 7.0])
def test_a_front_seen_at_an_angle_is_turned(yaw: float) -> None:
    found = from_picture(facade(yaw, 3))
    assert found.horizontal == pytest.approx(yaw, abs=0.4) and found.vertical == pytest.approx(4.0, abs=0.3)


@pytest.mark.parametrize(("focal", "said"), [(8.0, True), (24.0, False)])
def test_a_circular_fisheye_says_where_it_ends(source: Source, focal: float, said: bool) -> None:
    """An equidistant lens of 8 mm draws a circle of 12.6 mm radius on 36 x 24 mm, one of 24 mm fills the frame."""
    facts = source.facts.model_copy(update={"focal_length_35mm": focal})
    other = Source(facts, source.data)
    lens = OpcodeLens(None, None, source.size, projection="equidistant")
    other.memory.put(sources.LENSES, "", (lens, ""))
    found = " ".join(notes(other, develop({"optics.distortion": 100.0})))
    assert ("Beyond the circle" in found) == said
