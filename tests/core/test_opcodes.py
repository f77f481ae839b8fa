"""DNG opcodes against the specification's formulas, worked in float64 here (source: dng17, chapter 7)."""

import struct
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from tanner.core.adjust.registry import defaults
from tanner.core.optics.lens import OpcodeLens
from tanner.core.raw.dng import DngTags, write_bayer_dng
from tanner.core.raw.opcodes import apply_to_numbers, lens_fields
from tanner.core.raw.reader import Source, read
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
    marked, odd = apply_to_numbers(data, listed(opcode(4, struct.pack(">II", 123, 1))))
    assert not odd and marked[7, 9] == 3000
    same, odd = apply_to_numbers(clean, listed(opcode(4, struct.pack(">II", 3000, 1))))
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
    source = written({2: listed(opcode(8, b"")), 3: listed(opcode(12, b""))})
    assert any("MapPolynomial" in w for w in source.facts.warnings)
    assert any("ScalePerRow" in w for w in source.facts.warnings)


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
