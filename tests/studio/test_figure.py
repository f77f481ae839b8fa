"""What the portraits are made by, against worked examples: subdivision, pigments in six bands, scattering, clothes."""

import numpy as np
import pytest

from tanner.studio.bands import bands
from tanner.studio.scenes.figure import glasses, knit, mesh, noise, passes, skin
from tanner.studio.scenes.figure.person import FaceMarks, Figure, Skin, placed
from tanner.studio.scenes.shapes import rotation
from tanner.studio.scenes.stage import srgb_of

CUBE = np.array([[x, y, z] for x in (-1.0, 1) for y in (-1, 1) for z in (-1, 1)])
SIDES = np.array([[0, 1, 3, 2], [4, 6, 7, 5], [0, 4, 5, 1], [2, 3, 7, 6], [0, 2, 6, 4], [1, 5, 7, 3]])


def test_a_cube_is_rounded_as_catmull_and_clark_have_it() -> None:
    """Corners of the cube of side 2 go to 5/9, middles of edges to 3/4 of their distance (worked by hand from the rules)."""
    points, quads, _ = mesh.refine(CUBE, SIDES, np.zeros((8, 0)), 1)
    assert len(points) == 8 + 12 + 6 and len(quads) == 24
    assert np.abs(points[:8]) == pytest.approx(5 / 9)
    assert np.sort(np.abs(points[8:20]), axis=1) == pytest.approx(np.tile([0, 0.75, 0.75], (12, 1)))
    assert np.sort(np.abs(points[20:]), axis=1) == pytest.approx(np.tile([0, 0, 1.0], (6, 1)))
    n = mesh.normals(points, quads)
    assert np.linalg.norm(n, axis=1) == pytest.approx(1) and ((n * points).sum(axis=1) > 0).all()


def test_an_open_edge_is_a_curve_of_its_own() -> None:
    square = np.array([[0.0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]])
    step, quads = mesh.subdivide(np.array([[0, 1, 2, 3]]), 4)
    assert np.asarray(step.sum(axis=1)).ravel() == pytest.approx(1)  # weights of each new point
    points = step @ square
    # A corner of the rim is drawn to its two neighbours: 1/2 of itself and 1/4 of the middle of each edge, twice.
    assert points[0] == pytest.approx([0.125, 0.125, 0]) and points[2] == pytest.approx([0.875, 0.875, 0])
    assert len(quads) == 4 and points[:, 2] == pytest.approx(0)


def test_three_channels_tell_the_six_bands_of_skin() -> None:
    """Skins between those that the fit saw, by their spectra: each band within 8 % of itself, greys exact."""
    to = passes.to_bands()
    assert to.sum(axis=1) == pytest.approx(1)
    for melanin, blood in ((0.07, 0.5), (0.33, 0.9), (0.9, 0.35)):
        exact = bands() @ skin.reflectance(melanin, blood)
        found = to @ srgb_of(skin.reflectance(melanin, blood))[0]
        assert found == pytest.approx(exact, rel=0.08, abs=0.004)


def test_more_melanin_is_darker_and_more_blood_redder() -> None:
    pale, dark, red = skin.colour(np.array([0.1, 0.8, 0.1], np.float32), np.array([0.5, 0.5, 1.5], np.float32))
    assert (dark < pale).all() and red[0] / red[1] > 1.1 * pale[0] / pale[1]


def test_scattering_moves_light_and_makes_none() -> None:
    """Even light over skin of one colour comes back as it came; a lit half bleeds red over its edge, little blue."""
    h, w = 48, 96
    cover, albedo = np.ones((h, w, 3), np.float32), np.full((h, w, 3), passes.RELATIVE, np.float32)
    gloss = np.full((h, w, 3), 0.02, np.float32)
    even = {"full": gloss + 0.5, "gloss": gloss, "cover": cover, "albedo": albedo}
    assert passes.composed(even, 5.0) == pytest.approx(0.52, abs=2e-3)
    half = gloss + np.where(np.arange(w)[None, :, None] < w // 2, 0.5, 0.0).astype(np.float32)
    bled = passes.composed({**even, "full": half}, 5.0)[h // 2, w // 2 + 5] - 0.02
    assert bled[0] > 3 * bled[2] > 0


def test_noise_has_no_lattice_and_scattered_places_keep_their_distance() -> None:
    rng = np.random.default_rng(3)
    points = rng.random((20_000, 3)) * 4
    values = noise.noise(points, 0.3, 5)
    assert abs(values.mean()) < 0.1 and 0.4 < values.std() < 0.8
    assert noise.noise(points, 0.3, 5) == pytest.approx(values)
    plane = np.stack(np.meshgrid(np.arange(11.0), np.arange(11.0)), -1).reshape(-1, 2)
    flat = np.column_stack([plane, np.zeros(121)])
    i = (np.arange(10)[:, None] * 11 + np.arange(10)).ravel()
    quads = np.stack([i, i + 1, i + 12, i + 11], 1)
    at = noise.scattered(flat, quads, 1.0, rng)
    apart = np.linalg.norm(at[:, None] - at[None], axis=2) + 9 * np.eye(len(at))
    assert apart.min() > 0.6 and len(at) > 60


def test_stitches_repeat_and_clothes_go_with_the_head() -> None:
    u, v = np.meshgrid(np.linspace(0, 4, 200), np.linspace(0, 3, 200))
    high = knit.stitches(u, v)
    assert high.min() >= 0 and high.max() <= 1.01
    assert knit.stitches(u + 0.42, v) == pytest.approx(high, abs=1e-6)
    rng = np.random.default_rng(1)
    rest = rng.random((50, 3)) * 10
    c, s = np.cos(0.4), np.sin(0.4)
    turn = np.array([[c, -s, 0], [s, c, 0], [0, 0, 1]])
    posed = rest @ turn.T + [1, 2, 3]
    wearer = knit.Wearer(
        posed, rest, {"helper-hair": np.arange(50)}, 0, 0, posed, rest, np.zeros(50), np.array([0.0, -1.0])
    )
    where = rng.random((5, 3))
    assert knit.with_head(wearer, where) == pytest.approx(where @ turn.T + [1, 2, 3])


def test_rims_stand_around_the_eyes_and_close() -> None:
    """On a turned head: each rim before its eye, its ends together, the bridge between the rims, temples behind them."""
    turn = rotation(2, 30)
    facing, up, across = turn @ [0, -1.0, 0], np.array([0, 0, 1.0]), turn @ [1.0, 0, 0]
    eyes = [-3.1 * across, 3.1 * across]
    lines, radii = glasses.glasses(eyes, facing, up)
    assert lines.shape == (5, glasses.STEPS, 3) and (radii == glasses.ROD).all()
    for rim, temple, eye in ((lines[0], lines[1], eyes[0]), (lines[2], lines[3], eyes[1])):
        off = rim - eye
        assert np.abs(np.ptp(off @ across) - 2 * glasses.WIDE) < 0.05
        assert np.abs(np.ptp(off @ up) - 2 * glasses.HIGH) < 0.05
        assert (off @ facing > 1.5).all() and np.linalg.norm(rim[0] - rim[-3]) < 0.2
        assert np.abs((temple[-1] - eye) @ across) > np.abs((temple[0] - eye) @ across)
        assert (temple[-1] - eye) @ facing < -5
    bridge = lines[4] @ across
    assert np.abs(bridge).max() < 3.1 - glasses.WIDE + 0.05


def test_a_person_who_sits_elsewhere_is_the_same_person() -> None:
    n = np.zeros((1, 3))
    hairs = np.zeros((1, 2, 3)), np.ones(1)
    one = Figure(
        [Skin(n, np.zeros((1, 4), int), n, n, n[:, 0], n[:, 0])], [], [n[0], n[0]], 120.0, n[0], n[0], {"brows": hairs},
        {}, {"cap": hairs}, n[0], FaceMarks(["mole"], n, n, n[:, 0]), hairs,
    )  # fmt: skip
    there = placed(one, np.array([5.0, 0, 2.0]))
    assert there.level == 122 and there.skin[0].points.tolist() == [[5, 0, 2]] and there.eye_at[1].tolist() == [5, 0, 2]
    assert there.marks.points.tolist() == [[5, 0, 2]] and there.marks.kinds == ["mole"]
    for moved in (there.hairs["brows"], there.fuzz["cap"], there.glasses):
        assert moved is not None and (moved[0] == [5, 0, 2]).all() and (moved[1] == 1).all()
    assert one.level == 120 and not one.skin[0].points.any()
