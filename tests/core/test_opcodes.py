"""DNG opcodes against the specification's formulas, worked in float64 here (source: dng17, chapter 7)."""

import struct
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from tanner.core.adjust.registry import defaults, develop
from tanner.core.optics.lens import OpcodeLens
from tanner.core.raw.dng import DngTags, write_bayer_dng
from tanner.core.raw.opcodes import lens_fields
from tanner.core.raw.opcodes_applied import STORED, Scale, apply_list
from tanner.core.raw.reader import read
from tanner.core.raw.source import LENSES, Source
from tanner.core.render import render_planes
from tanner.core.tiff.ifd import entry

W, H, BLACK, WHITE = 96, 64, 512, 16383


def opcode(number: int, payload: bytes) -> bytes:
    return struct.pack(">IIII", number, 0x01060000, 0, len(payload)) + payload


def listed(*codes: bytes) -> bytes:
    return struct.pack(">I", len(codes)) + b"".join(codes)


def gain_map(
    area: tuple[int, ...], gains: np.ndarray, spacing: tuple[float, float], origin: tuple[float, float]
) -> bytes:
    down, across, planes = gains.shape
    head = struct.pack(">10I", *area, down, across) + struct.pack(">4dI", *spacing, *origin, planes)
    return opcode(9, head + gains.astype(">f4").tobytes())


@pytest.fixture
def written(tmp_path: Path) -> Callable[..., Source]:
    mosaic = np.random.default_rng(4).integers(2000, 9000, (H, W)).astype(np.uint16)

    def write(lists: dict[int, bytes] | None = None, xmp: str = "", data: np.ndarray | None = None) -> Source:
        codes = {1: 51008, 2: 51009, 3: 51022}
        extra = {codes[n]: entry(7, d) for n, d in (lists or {}).items() if n != 3}
        if xmp:
            extra[700] = entry(1, xmp.encode())
        tags = DngTags(
            "Alder", "Alder One", BLACK, WHITE, (0, 1, 1, 2), (0.5, 1.0, 0.6), (np.eye(3),), (21,),
            opcodes3=(lists or {}).get(3, b""), lens="Finch 55 mm", focal_length=55, extra=extra,
        )  # fmt: skip
        path = tmp_path / "a.dng"
        path.write_bytes(write_bayer_dng(mosaic if data is None else data, tags, compress=False))
        return read(path)

    write.mosaic = mosaic  # type: ignore[attr-defined]
    return write


def test_warp_fisheye() -> None:
    """x' = cx + m f(r) dx with f = (kr0 t + kr1 t^3 + kr2 t^5 + kr3 t^7) / r and t = atan r."""
    k = (1.02, -0.11, 0.03, -0.004)
    payload = struct.pack(">I", 1) + struct.pack(">6d", *k, 0.5, 0.5)
    found, odd = lens_fields(listed(opcode(2, payload)))
    assert not odd and found["warp_kind"] == "fisheye"
    lens = OpcodeLens(np.array(found["warp"]), None, (600, 400), kind="fisheye")
    far = float(np.hypot(300, 200))
    for x, y in ((10.0, 20.0), (300.0, 390.0), (599.5, 0.5), (300.0, 200.0)):
        dx, dy = (x - 300) / far, (y - 200) / far
        r = float(np.hypot(dx, dy))
        t = np.arctan(r)
        f = (k[0] * t + k[1] * t**3 + k[2] * t**5 + k[3] * t**7) / r if r else k[0]
        at = lens.positions(np.array([x]), np.array([y]))[1, :, 0]
        assert at == pytest.approx((300 + far * f * dx, 200 + far * f * dy), abs=1e-9)


@pytest.mark.parametrize("reciprocal", [0, 1])
def test_warp_rectilinear_2(reciprocal: int) -> None:
    """A polynomial of all powers up to 14, held within its valid radii; tangential terms as in the first kind."""
    rng = np.random.default_rng(2)
    k = [1.0, *rng.uniform(-0.02, 0.02, 14)]
    t0, t1, low, high = 0.002, -0.003, 0.05, 0.9
    payload = (
        struct.pack(">I", 1) + struct.pack(">21d", *k, t0, t1, low, high, 0.5, 0.5) + struct.pack(">I", reciprocal)
    )
    found, odd = lens_fields(listed(opcode(14, payload)))
    assert not odd and found["warp_reciprocal"] == bool(reciprocal)
    lens = OpcodeLens(np.array(found["warp"]), None, (600, 400), kind="polynomial", reciprocal=bool(reciprocal))
    far = float(np.hypot(300, 200))
    for x, y in ((10.0, 20.0), (310.0, 205.0), (450.0, 300.0)):
        dx, dy = (x - 300) / far, (y - 200) / far
        r2 = dx * dx + dy * dy
        held = min(max(np.sqrt(r2), low), high)
        f = sum(c * held**n for n, c in enumerate(k))
        f = 1 / f if reciprocal else f
        tx, ty = t0 * 2 * dx * dy + t1 * (r2 + 2 * dx * dx), t1 * 2 * dx * dy + t0 * (r2 + 2 * dy * dy)
        at = lens.positions(np.array([x]), np.array([y]))[1, :, 0]
        assert at == pytest.approx((300 + far * (f * dx + tx), 200 + far * (f * dy + ty)), abs=1e-9)


def test_gain_maps_of_list_2_multiply_their_own_pixels(written: Callable[..., Source]) -> None:
    """Bilinear between points in shares of the picture, for every second pixel of one colour, clipped at white."""
    gains = np.array([[1.0, 1.2, 1.5], [1.1, 1.3, 4.0]], np.float32)[..., None]
    source = written({2: listed(gain_map((0, 0, H, W, 0, 1, 2, 2), gains, (1.0, 0.5), (0.0, 0.0)))})
    mosaic = written.mosaic  # type: ignore[attr-defined]
    assert np.array_equal(source.data[1::2], mosaic[1::2]) and np.array_equal(
        source.data[0::2, 1::2], mosaic[0::2, 1::2]
    )
    for y, x in ((0, 0), (10, 40), (62, 94), (30, 70)):
        v, u = (y + 0.5) / H, (x + 0.5) / W * 2
        iu, f = min(int(u), 1), u - min(int(u), 1)
        top, low = ((1 - f) * gains[i, iu, 0] + f * gains[i, iu + 1, 0] for i in (0, 1))
        wanted = min((mosaic[y, x] - BLACK) * ((1 - v) * top + v * low) + BLACK, WHITE)
        assert source.data[y, x] == pytest.approx(wanted, abs=0.51)


def test_bad_pixels_are_filled_from_their_own_colour(written: Callable[..., Source]) -> None:
    data = np.full((H, W), 3000, np.uint16)
    data[0::2, 0::2] = 5000
    data[20, 30], data[21, 31], data[40:44, 50:54] = 16383, 0, 1
    points = struct.pack(">III", 1, 2, 1) + struct.pack(">4I", 20, 30, 21, 31) + struct.pack(">4I", 40, 50, 44, 54)
    source = written({1: listed(opcode(5, points))}, data=data)
    clean = np.full((H, W), 3000, np.uint16)
    clean[0::2, 0::2] = 5000
    assert np.array_equal(source.data, clean)
    data[7, 9] = 123
    marked, odd = apply_list(data, listed(opcode(4, struct.pack(">II", 123, 1))), "list 1", STORED)
    assert not odd and marked[7, 9] == 3000
    same, odd = apply_list(clean, listed(opcode(4, struct.pack(">II", 3000, 1))), "list 1", STORED)
    assert same is clean and "tenth of the picture" in odd[0]


def test_trimmed_pictures_keep_their_mosaic(written: Callable[..., Source]) -> None:
    source = written({3: listed(opcode(6, struct.pack(">4I", 3, 4, 61, 90)))})
    mosaic = written.mosaic  # type: ignore[attr-defined]
    assert source.size == (86, 56) and source.facts.pattern == (0, 0)
    assert np.array_equal(source.data, mosaic[4:60, 4:90])
    whole = written({3: listed(opcode(6, struct.pack(">4I", 60, 4, 10, 90)))})
    assert whole.size == (W, H)


def test_a_gain_map_of_list_3_evens_the_light_out(written: Callable[..., Source]) -> None:
    gains = np.array([[1.0, 1.4], [1.2, 2.0]], np.float32)[..., None]
    source = written({3: listed(gain_map((0, 0, H, W, 0, 3, 1, 1), gains, (1.0, 1.0), (0.0, 0.0)))})
    assert source.lens is not None
    assert source.lens.gain(np.array([W / 2]), np.array([H / 2]))[0] == pytest.approx(1.4, abs=1e-4)


@pytest.mark.parametrize(
    "payload",
    [b"", struct.pack(">10I", *[0] * 10) + bytes(36), struct.pack(">10I", 0, 0, H, W, 0, 1, 1, 1, 1, 1) + bytes(32) + struct.pack(">If", 1, float("nan"))],
)  # fmt: skip
def test_damaged_maps_are_left_out_with_a_word(payload: bytes, written: Callable[..., Source]) -> None:
    source = written({2: listed(opcode(9, payload)), 1: listed(opcode(5, payload[:8]))})
    assert np.array_equal(source.data, written.mosaic)  # type: ignore[attr-defined]
    assert sum("cannot be used" in w for w in source.facts.warnings) >= 1


def test_what_is_not_applied_is_said(written: Callable[..., Source]) -> None:
    warp = opcode(1, struct.pack(">I", 1) + struct.pack(">8d", 1, 0, 0, 0, 0, 0, 0.5, 0.5))
    even = opcode(3, struct.pack(">7d", 0.1, 0, 0, 0, 0, 0.5, 0.5))
    source = written({1: listed(warp), 2: listed(opcode(8, b"")), 3: listed(opcode(12, b""), warp, warp, even, even)})
    said = " ".join(source.facts.warnings)
    for words in (
        "WarpRectilinear of list 1 is not applied", "MapPolynomial of the file cannot be used", "ScalePerRow of the file",
        "a second warp", "FixVignetteRadial: a second one",
    ):  # fmt: skip
        assert words in said, words


def area(*box: int, pitch: tuple[int, int] = (1, 1)) -> bytes:
    return struct.pack(">8I", *(box or (0, 0, H, W)), 0, 1, *pitch)


LIST_2 = Scale((float(BLACK),) * 4, (float(WHITE - BLACK),) * 4, float(WHITE))


@pytest.mark.parametrize("list_", [1, 2])
def test_values_through_tables_polynomials_and_lines(written: Callable[..., Source], list_: int) -> None:
    """MapTable, MapPolynomial, Delta and Scale by row and column, against the formulas on values from 0 to 1."""
    mosaic = written.mosaic.astype(np.float64)  # type: ignore[attr-defined]
    low, span = (0.0, 65535.0) if list_ == 1 else (float(BLACK), float(WHITE - BLACK))
    values = (mosaic - low) / span
    table = np.arange(20000, dtype=np.float64)[::-1] / 4
    rows, columns = np.linspace(-0.01, 0.01, H // 2), np.linspace(0.9, 1.1, W)
    floats = ">{}f".format
    cases = [
        (opcode(7, area() + struct.pack(">I", 20000) + table.astype(">u2").tobytes()),
         np.floor(table)[np.minimum(np.rint(values * 65535), 19999).astype(int)] / 65535),
        (opcode(8, area() + struct.pack(">I3d", 2, 0.01, 0.8, 0.1)), 0.01 + 0.8 * values + 0.1 * values**2),
        (opcode(10, area(0, 0, H, W, pitch=(2, 1)) + struct.pack(">I", H // 2) + struct.pack(floats(H // 2), *rows)),
         values + np.where(np.arange(H) % 2 == 0, np.repeat(rows, 2), 0)[:, None]),
        (opcode(13, area() + struct.pack(">I", W) + struct.pack(floats(W), *columns)), values * columns[None]),
        (opcode(12, area(0, 10, H, 20) + struct.pack(">I", H) + struct.pack(floats(H), *([0.5] * H))),
         np.where((np.arange(W) >= 10) & (np.arange(W) < 20), 0.5, 1.0) * values),
    ]  # fmt: skip
    for code, wanted in cases:
        source = written({list_: listed(code)})
        assert source.facts.warnings == ()
        expected = np.clip(np.rint(wanted * span + low), 0, 65535 if list_ == 1 else WHITE)
        assert np.abs(source.data.astype(np.float64) - expected).max() <= 1
    # In order: a delta, then a scale, is not a scale, then a delta.
    delta = opcode(10, area() + struct.pack(">I", H) + struct.pack(floats(H), *([0.05] * H)))
    scale = opcode(12, area() + struct.pack(">I", H) + struct.pack(floats(H), *([1.5] * H)))
    one, other = (written({2: listed(*pair)}).data.astype(float) for pair in ((delta, scale), (scale, delta)))
    assert np.median(one - other) == pytest.approx(0.025 * (WHITE - BLACK), abs=2)
    wrong = written({2: listed(opcode(12, area() + struct.pack(">I", 3) + bytes(12)))})
    assert any("3 values for" in w for w in wrong.facts.warnings)
    assert apply_list(wrong.data, listed(opcode(6, bytes(16))), "list 2", LIST_2)[0] is wrong.data


def test_bad_pixels_of_list_1_count_from_the_stored_picture(tmp_path: Path) -> None:
    """A file with masked borders: 60 dead pixels told by their places in the stored picture are all filled."""
    rng = np.random.default_rng(8)
    stored = rng.integers(3000, 3010, (H + 20, W + 24)).astype(np.uint16)
    top, left = 12, 16
    places = [(int(rng.integers(top + 2, top + H - 2)), int(rng.integers(left + 2, left + W - 2))) for _ in range(60)]
    for y, x in places:
        stored[y, x] = 16000
    points = struct.pack(">III", 1, len(places), 0) + b"".join(struct.pack(">2I", *p) for p in places)
    tags = DngTags(
        "Alder", "Alder One", BLACK, WHITE, (0, 1, 1, 2), (0.5, 1.0, 0.6), (np.eye(3),), (21,),
        extra={51008: entry(7, listed(opcode(5, points))), 50829: entry(4, (top, left, top + H, left + W))},
    )  # fmt: skip
    path = tmp_path / "a.dng"
    path.write_bytes(write_bayer_dng(stored, tags))
    source = read(path)
    assert source.size == (W, H) and source.data.max() < 3011


@pytest.mark.parametrize("first", ["gains", "warp"])
def test_gains_of_list_3_work_where_they_stand(written: Callable[..., Source], first: str) -> None:
    """A vignette and a map before the warp are read at recorded places, after it at places of the warped picture."""
    warp = opcode(1, struct.pack(">I", 1) + struct.pack(">8d", 0.9, 0.08, 0, 0, 0, 0, 0.5, 0.5))
    even = opcode(3, struct.pack(">7d", 0.6, 0.2, 0, 0, 0, 0.5, 0.5))
    gains = np.array([[1.0, 1.5], [1.0, 1.5]], np.float32)[..., None]
    grid = gain_map((0, 0, H, W, 0, 3, 1, 1), gains, (1.0, 1.0), (0.0, 0.0))
    codes = (even, grid, warp) if first == "gains" else (warp, even, grid)
    lens = written({3: listed(*codes)}).lens
    assert isinstance(lens, OpcodeLens)
    x, y = np.array([5.0, 90.0]), np.array([4.0, 60.0])
    recorded = lens.positions(x, y)
    at = recorded[1] if first == "gains" else np.stack([x, y])
    r2 = ((at[0] - W / 2) ** 2 + (at[1] - H / 2) ** 2) / ((W / 2) ** 2 + (H / 2) ** 2)
    wanted = (1 + 0.6 * r2 + 0.2 * r2**2) * (1 + 0.5 * at[0] / W)
    found = lens.gains(recorded, x, y)
    assert found.shape == (3, 2) and found[1] == pytest.approx(wanted, abs=1e-5)
    assert np.abs(recorded[1, 0] - x).max() > 1


def test_gain_maps_of_list_3_by_plane_and_area(written: Callable[..., Source]) -> None:
    """A map of three planes has factors for each; one of blue alone, and for a part, leaves the rest."""
    gains = np.ones((2, 2, 3), np.float32) * np.array([1.2, 1.5, 1.9], np.float32)
    part = np.full((2, 2, 1), 2.0, np.float32)
    source = written({
        3: listed(
            gain_map((0, 0, H, W, 0, 3, 1, 1), gains, (1.0, 1.0), (0.0, 0.0)),
            gain_map((0, 0, H, W // 2, 2, 1, 1, 1), part, (1.0, 1.0), (0.0, 0.0)),
        )
    })  # fmt: skip
    from tanner.core.render import linear_of

    plan = linear_of(source, develop({"optics.fall_off": 100.0}), source.size)
    left, right = plan.geometry.grid[6:, 2, 1], plan.geometry.grid[6:, 2, -3]
    assert left == pytest.approx([1.2, 1.5, 3.8], abs=1e-4) and right == pytest.approx([1.2, 1.5, 1.9], abs=1e-4)
    # The picture shows it: red, green and blue of a plain patch by these factors.
    flat = written({}, data=np.full((H, W), 3000, np.uint16))
    lit = Source(flat.facts, flat.data)
    lit.memory.put(LENSES, "", (source.lens, ""))
    plain, evened = (render_planes(linear_of(lit, develop({"optics.fall_off": v}), lit.size)) for v in (0.0, 100.0))
    ratio = (evened / plain)[:, H // 2]
    assert ratio[:, 8] == pytest.approx([1.2, 1.5, 3.8], abs=0.01)
    assert ratio[:, -8] == pytest.approx([1.2, 1.5, 1.9], abs=0.01)


def test_framing_that_is_not_followed_is_said(tmp_path: Path) -> None:
    """DefaultCrop, DefaultScale and BestQualityScale; a crop of a few px at the borders goes without a word."""
    mosaic = np.full((H, W), 3000, np.uint16)

    def said(crop: tuple[int, int, int, int], scale: tuple[float, float], best: float) -> Source:
        extra = {
            50719: entry(4, crop[:2]), 50720: entry(4, crop[2:]), 50718: entry(5, scale), 50780: entry(5, best),
        }  # fmt: skip
        tags = DngTags("A", "B", BLACK, WHITE, (0, 1, 1, 2), (0.5, 1.0, 0.6), (np.eye(3),), (21,), extra=extra)
        path = tmp_path / "a.dng"
        path.write_bytes(write_bayer_dng(mosaic, tags))
        return read(path)

    quiet = said((1, 0, W - 1, H), (1, 1), 1)
    assert quiet.facts.warnings == () and quiet.facts.default_crop == (1, 0, W - 1, H)
    words = " ".join(said((8, 4, 60, 40), (1, 2), 1.5).facts.warnings)
    assert "60 × 40 px at 8, 4" in words and "Stretch to 100.0 %" in words and "1.50 times" in words


def test_corrections_that_are_in_the_pixels_are_not_due_again(written: Callable[..., Source]) -> None:
    xmp = (
        '<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">'
        '<rdf:Description rdf:about="" xmlns:aux="http://ns.adobe.com/exif/1.0/aux/" '
        'aux:DistortionCorrectionAlreadyApplied="True" aux:VignetteCorrectionAlreadyApplied="False"/></rdf:RDF></x:xmpmeta>'
    )
    source = written(xmp=xmp)
    assert source.facts.applied == ("distortion",)
    due = defaults(raw=True, lens=True, applied=source.facts.applied)
    assert "optics.distortion" not in due and due["optics.fall_off"] == 100.0
