"""Lens, crop and the one resampling, against positions that are known."""

from pathlib import Path

import numpy as np
import pytest

from tanner.core.adjust.registry import defaults, develop
from tanner.core.optics import database
from tanner.core.optics.crop import Crop
from tanner.core.optics.geometry import build
from tanner.core.optics.lens import Lens, OpcodeLens, Optics, corrected
from tanner.core.optics.perspective import Perspective
from tanner.core.optics.resample import box, lanczos, sensor_range, warp
from tanner.core.optics.view import View
from tanner.core.raw.facts import FrameFacts
from tanner.core.raw.source import Source
from tanner.core.render import render


def bent(size: tuple[int, int] = (600, 400), k: float = -0.05) -> OpcodeLens:
    planes = np.array([[1.0 + s, k, 0.01, 0.0, 0.0, 0.0] for s in (-0.0004, 0.0, 0.0005)])
    return OpcodeLens(planes, np.array([0.3, 0.1, 0.0, 0.0, 0.0]), size)


def optics(**values: float) -> Optics:
    result: Optics = develop({f"optics.{k}": v for k, v in values.items()}).group(Optics)
    return result


def view(
    lens: Lens | None = None, optics: Optics | None = None, perspective: Perspective | None = None, *,
    size: tuple[int, int] = (600, 400), orientation: int = 1, focal: float = 500.0, drawn: str = "rectilinear",
) -> View:  # fmt: skip
    return View(size, orientation, optics or Optics(), perspective or Perspective(), lens, drawn, focal)


def test_strength_is_linear_in_the_shift() -> None:
    lens = bent()
    x, y = np.array([30.0, 300.0, 580.0]), np.array([20.0, 250.0, 390.0])
    none, _ = corrected(lens, optics(), (600, 400), x, y)
    full, _ = corrected(lens, optics(distortion=100.0), (600, 400), x, y)
    half, _ = corrected(lens, optics(distortion=50.0), (600, 400), x, y)
    double, _ = corrected(lens, optics(distortion=200.0), (600, 400), x, y)
    assert np.allclose(none, np.broadcast_to(np.stack([x, y]), (3, 2, 3)))
    assert np.allclose(half - none, (full - none) / 2)
    assert np.allclose(double - none, (full - none) * 2)


def test_lateral_colour_moves_red_and_blue_against_green() -> None:
    lens = bent()
    x, y = np.array([580.0]), np.array([390.0])
    at, _ = corrected(lens, optics(lateral_colour=100.0), (600, 400), x, y)
    assert np.allclose(at[1], np.stack([x, y]))
    assert (at[0] < at[1]).all() and (at[2] > at[1]).all()


def test_the_formula_of_warp_rectilinear() -> None:
    """The DNG specification's formula worked by hand at one corner (source: dng17, WarpRectilinear)."""
    lens = OpcodeLens(np.array([[1.0, 0.1, 0.0, 0.0, 0.0, 0.0]]), None, (600, 400))
    # The corner is at radius 1 exactly: the factor is 1 + 0.1.
    at = lens.positions(np.array([600.0]), np.array([400.0]))
    assert at[0, :, 0] == pytest.approx([300 + 300 * 1.1, 200 + 200 * 1.1])
    tangential = OpcodeLens(np.array([[1.0, 0.0, 0.0, 0.0, 0.01, 0.0]]), None, (600, 400))
    at = tangential.positions(np.array([300.0]), np.array([400.0]))
    far = np.hypot(300, 200)
    dy = 200 / far
    assert at[0, 0, 0] == pytest.approx(300)
    assert at[0, 1, 0] == pytest.approx(400 + far * 0.01 * 3 * dy * dy)


def test_fall_off_gain_of_the_specification() -> None:
    """1 + k0 r² + k1 r⁴ ... (source: dng17, FixVignetteRadial)."""
    lens = OpcodeLens(None, np.array([0.3, 0.1, 0.0, 0.0, 0.0]), (600, 400))
    assert lens.gain(np.array([600.0]), np.array([400.0]))[0] == pytest.approx(1.4)
    assert lens.gain(np.array([300.0]), np.array([200.0]))[0] == pytest.approx(1.0)


def test_no_corrected_corner_is_empty() -> None:
    for k in (-0.2, -0.05, 0.08, 0.2):
        lens = bent(k=k)
        geometry = build(view(lens, optics(distortion=100.0, lateral_colour=100.0)), Crop(), (600, 400))
        inner = geometry.grid[:6, 1:-2, 1:-2].reshape(3, 2, -1)
        assert inner[:, 0].min() > -20 and inner[:, 0].max() < 620
        corners = geometry.grid[2:4, 1, 1]
        assert corners.min() > -1.5


def test_an_identity_map_gives_the_picture_back() -> None:
    rng = np.random.default_rng(1)
    planes = rng.random((3, 64, 96), dtype=np.float32)
    geometry = build(view(size=(96, 64)), Crop(), (96, 64))
    out = np.empty((3, 64, 96), dtype=np.float32)
    warp(
        planes,
        np.array([0, planes.shape[1], 0, planes.shape[2]]),
        np.zeros(2, np.float32),
        np.float32(1),
        np.zeros((3, 2), np.float32),
        geometry.grid,
        0,
        0,
        lanczos(1.0),
        out,
    )
    assert np.abs(out - planes)[:, 4:-4, 4:-4].max() < 1e-4


def test_a_smooth_picture_is_resampled_where_it_lies() -> None:
    """A linear ramp has a known value everywhere: half a pixel of error would show."""
    yy, xx = np.mgrid[0:400, 0:600].astype(np.float32)
    planes = np.stack([xx + 0.5, yy + 0.5, xx - yy])
    geometry = build(view(), Crop(left=0.25, right=0.75, top=0.25, bottom=0.75), (300, 200))
    out = np.empty((3, 200, 300), dtype=np.float32)
    warp(
        planes,
        np.array([0, planes.shape[1], 0, planes.shape[2]]),
        np.zeros(2, np.float32),
        np.float32(1),
        np.zeros((3, 2), np.float32),
        geometry.grid,
        0,
        0,
        lanczos(1.0),
        out,
    )
    ideal_y, ideal_x = np.mgrid[0:200, 0:300]
    assert np.abs(out[0] - (150.5 + ideal_x)).max() < 0.02
    assert np.abs(out[1] - (100.5 + ideal_y)).max() < 0.02


@pytest.mark.parametrize("stretch", [1.0, 1.3])
def test_a_block_goes_by_nothing_that_lies_beside_what_it_needs(stretch: float) -> None:
    """The ends of rows are done in vectors, too, which read on there: nothing of it comes into the picture."""
    rng = np.random.default_rng(2)
    planes = rng.random((3, 90, 120), dtype=np.float32)
    geometry = build(
        view(bent((120, 90)), optics(distortion=80.0), size=(120, 90)),
        Crop(),
        (round(120 / stretch), round(90 / stretch)),
    )
    found = []
    for beside in (0, 40):
        wider = np.pad(planes, ((0, 0), (0, 0), (0, beside)), constant_values=np.nan)
        out = np.empty((3, 30, 53), dtype=np.float32)
        window, nowhere = np.array([0, 90, 0, 120]), np.zeros((3, 2), np.float32)
        warp(
            np.ascontiguousarray(wider),
            window,
            np.zeros(2, np.float32),
            np.float32(1),
            nowhere,
            geometry.grid,
            20,
            round(120 / stretch) - 53,
            lanczos(stretch),
            out,
        )
        found.append(out)
    assert np.isfinite(found[0]).all() and np.abs(found[0] - found[1]).max() < 1e-6


@pytest.mark.parametrize("k", [2, 3, 4, 5, 7])
def test_means_of_blocks(k: int) -> None:
    """Against NumPy; rows and columns that fill no block are left out."""
    planes = np.random.default_rng(k).random((3, 61, 95), dtype=np.float32)
    out = np.empty((3, 61 // k, 95 // k), dtype=np.float32)
    box(planes, 0, 0, k, out, 0, 0, *out.shape[1:])
    whole = planes[:, : 61 // k * k, : 95 // k * k]
    assert np.abs(out - whole.reshape(3, 61 // k, k, 95 // k, k).mean(axis=(2, 4))).max() < 1e-6


@pytest.mark.parametrize("block", [(0, 128, 0, 600), (37, 61, 203, 219), (-2, 5, -2, 9), (380, 402, 590, 602)])
def test_the_range_of_a_block_holds_all_its_positions(block: tuple[int, int, int, int]) -> None:
    """Neither less (pixels would be missing) nor more than the map says at every single pixel."""
    full = optics(distortion=200.0, lateral_colour=200.0)
    grid = build(view(bent(k=-0.2), full), Crop(straighten=7.0), (600, 400)).grid
    y0, y1, x0, x1 = block
    reach = np.empty(4, dtype=np.float32)
    sensor_range(grid, y0, y1, x0, x1, reach)
    v, u = np.mgrid[y0:y1, x0:x1] / 16 + 0.5 / 16 + 1
    i, j = v.astype(int), u.astype(int)
    f, g = v - i, u - j
    at = (grid[:6, i, j] * (1 - g) + grid[:6, i, j + 1] * g) * (1 - f)
    at = at + (grid[:6, i + 1, j] * (1 - g) + grid[:6, i + 1, j + 1] * g) * f
    xs, ys = at[0::2], at[1::2]
    # Nodes lie between the pixels' centres, so the range may reach a little further than they do.
    beyond = np.array([xs.min() - reach[0], reach[1] - xs.max(), ys.min() - reach[2], reach[3] - ys.max()])
    assert (beyond > -1e-3).all() and (beyond < 0.1).all()


def test_correction_undoes_the_simulated_lens(source: Source) -> None:
    """The simulated camera bent and darkened the picture by its lens; the file's own data undo it."""
    from made import exposure

    from tanner.core.raw.source import Source as Kind
    from tanner.studio.camera import mosaic

    wanted = {**defaults(raw=False, lens=True), "white.temperature": 5500.0}
    fixed = render(source, develop(wanted), (300, 200)).astype(np.float32)
    plain = render(source, develop({"white.temperature": 5500.0}), (300, 200)).astype(np.float32)
    # The same exposure through a lens without faults, as truth.
    from tanner.studio import exposure as taking

    flat = taking._lens("flat", 55, 8.0, 0.0, 0.0)
    taking.LENSES["flat"] = taking.LensModel(
        "flat", 55, 8.0, tuple((1.0, 0, 0, 0, 0, 0) for _ in range(3)), flat.vignette
    )
    try:
        numbers, _ = mosaic(exposure(lens="flat"))
    finally:
        del taking.LENSES["flat"]
    truth = Kind(source.facts.model_copy(update={"warp": None, "vignette": None}), numbers)
    ideal = render(truth, develop({"white.temperature": 5500.0}), (300, 200)).astype(np.float32)
    corner = np.s_[:30, :40]
    assert np.abs(fixed[corner].mean() - ideal[corner].mean()) < 3
    assert ideal[corner].mean() - plain[corner].mean() > 8


def test_the_open_database_knows_a_lens_and_leaves_unknown_ones() -> None:
    """A lens that the database lists is found by its names there; a made-up one is not."""
    import lensfunpy

    db = lensfunpy.Database(load_common=False)
    camera = next(c for c in db.cameras if c.crop_factor < 1.1 and db.find_lenses(c))
    lens = next(x for x in db.find_lenses(camera) if x.max_focal - x.min_focal < 1 and x.crop_factor < 1.1)

    def facts(**more: object) -> FrameFacts:
        known = {"path": "x", "kind": "bayer", "width": 600, "height": 400, "make": camera.maker, "model": camera.model,
                 "lens": lens.model, "focal_length_mm": lens.min_focal, "aperture": 8.0, "distance_m": 5.0}  # fmt: skip
        return FrameFacts(**(known | more))  # type: ignore[arg-type]

    found = database.find(facts())
    assert found is not None and found.source == "open lens database"
    assert database.find(facts(make="Alder", model="Alder One", lens="Finch 55 mm")) is None
    assert database.find(facts(lens="")) is None
    chosen = database.by_name(database.key_of(lens), facts(lens=""))
    x, y = np.array([20.0, 300.0]), np.array([30.0, 200.0])
    assert np.allclose(chosen.positions(x, y), found.positions(x, y))
    for key, more, words in (
        ("no such lens", {}, "not in the database"),
        (_zoom(db), {"focal_length_mm": None}, "is a zoom"),
    ):
        with pytest.raises(database.LensError, match=words):
            database.by_name(key, facts(**more))


def _zoom(db: object) -> str:
    return database.key_of(next(x for x in db.lenses if x.max_focal > x.min_focal and x.calib_distortion))  # type: ignore[attr-defined]


def test_lenses_are_searched_and_own_files_count(tmp_path: Path) -> None:
    found = database.search("24-70")
    assert found and all("24" in e["model"] or "24" in e["focal"] for e in found) and all(e["has"] for e in found)
    xml = """<lensdatabase version="1"><mount><name>Alder</name></mount><lens><maker>Finch</maker><model>Finch 24 mm own</model>
      <mount>Alder</mount><cropfactor>1</cropfactor><calibration>
      <distortion model="poly3" focal="24" k1="-0.03"/></calibration></lens></lensdatabase>"""
    assert database.check_file(xml.encode(), "own.xml") == 1
    (tmp_path / "own.xml").write_text(xml)
    (own,) = database.search("finch own", [tmp_path])
    facts = FrameFacts(path="x", kind="bayer", width=600, height=400, focal_length_mm=24)
    lens = database.by_name(own["key"], facts, [tmp_path])
    middle_to_edge = lens.positions(np.array([300.0]), np.array([0.5]))[1, :, 0]
    corner = lens.positions(np.array([0.5]), np.array([0.5]))[1, :, 0]
    # Barrel distortion: measured from the middle, the corner is drawn in more than the edge.
    edge_share, corner_share = (200 - middle_to_edge[1]) / 199.5, (300 - corner[0]) / 299.5
    assert corner_share < edge_share - 0.001
    for wrong in (b"hello", b"<lensdatabase/>", b"\xff\xfe"):
        with pytest.raises(database.LensError, match=r"own\.xml"):
            database.check_file(wrong, "own.xml")
