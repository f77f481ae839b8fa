"""Sizes over random inputs, borders and grounds, watermarks, and files of at most so many kB."""

import io

import numpy as np
import pillow_jxl  # noqa: F401  # makes the format known to Pillow
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from tanner.core.adjust.registry import develop
from tanner.core.colour.profile_store import PROFILE_STORE
from tanner.core.errors import SettingsError, TannerError
from tanner.core.output.captions import Captions
from tanner.core.output.develop import encode, prepare
from tanner.core.output.encoding import fitted
from tanner.core.output.mark import FONT, Mark, drawn
from tanner.core.output.sizing import SizeRule, layout, output_size, parse_size
from tanner.core.output.spec import OutputSpec
from tanner.core.raw.source import Source

edges = st.integers(1, 12_000)
px = st.integers(1, 9_000)
rules = st.one_of(
    st.builds(SizeRule, st.sampled_from(["long", "short", "width", "height"]), px.map(float)),
    st.builds(SizeRule, st.sampled_from(["box", "crop", "pad"]), px.map(float), px.map(float)),
    st.builds(SizeRule, st.just("mp"), st.floats(0.01, 60)),
    st.builds(SizeRule, st.just("percent"), st.floats(1, 600)),
    st.just(SizeRule("original")),
)


@settings(deadline=None, max_examples=600)
@given(rules, edges, edges, st.booleans())
def test_ratio_and_bounds_hold_for_any_picture(rule: SizeRule, w: int, h: int, enlarge: bool) -> None:
    """The drawn picture keeps its ratio within half a pixel; no bound is exceeded; nothing is enlarged unasked."""
    found = layout(rule, w, h, enlarge)
    dw, dh = found.drawn
    # One edge decides; the other is the nearest whole number to what the ratio asks for, or 1, or cut off by a box.
    by_width, by_height = abs(dw * h / w - dh), abs(dh * w / h - dw)
    if rule.kind == "percent":
        # Each edge for itself.
        assert abs(dw - w * rule.first / 100) <= 0.5 + 1e-9 or dw == 1
        assert abs(dh - h * rule.first / 100) <= 0.5 + 1e-9 or dh == 1
    else:
        assert min(by_width, by_height) <= 0.5 + 1e-9 or 1 in (dw, dh)
        assert enlarge or (dw <= w and dh <= h)
    cw, ch = found.canvas
    bounds = {
        "long": max(cw, ch) <= rule.first, "short": min(cw, ch) <= rule.first or max(dw, dh) == 1, "width": cw <= rule.first,
        "height": ch <= rule.first, "mp": cw * ch <= max(rule.first * 1e6, 1 if min(cw, ch) > 1 else max(cw, ch)),
    }  # fmt: skip
    if rule.kind in bounds:
        assert bounds[rule.kind]
    if rule.kind in ("box", "crop", "pad"):
        assert cw <= rule.first and ch <= rule.second
    if rule.kind == "pad" or (rule.kind == "crop" and enlarge):
        assert (cw, ch) == (rule.first, rule.second)
    x, y, cut_w, cut_h = found.cut
    assert x >= 0 and y >= 0 and x + cut_w <= dw and y + cut_h <= dh
    left, top = found.place
    assert left >= 0 and top >= 0 and left + cut_w <= cw and top + cut_h <= ch


@settings(deadline=None, max_examples=300)
@given(rules, st.integers(20, 9000), st.integers(20, 9000), st.floats(0.5, 20))
def test_a_border_stands_inside_what_is_bounded(rule: SizeRule, w: int, h: int, border: float) -> None:
    bare, found = layout(rule, w, h), layout(rule, w, h, border=border)
    cw, ch = found.canvas
    assert cw >= found.cut[2] and ch >= found.cut[3]
    if rule.kind in ("original", "percent"):
        assert cw > bare.canvas[0] and found.drawn == bare.drawn
    elif rule.kind in ("box", "crop", "pad") and min(rule.first, rule.second) >= 10:
        assert cw <= max(rule.first, 3) and ch <= max(rule.second, 3)


@pytest.mark.parametrize(
    ("text", "kept", "ppi", "size"),
    [
        ("long:30cm", (6000, 4000), 300, (3543, 2362)),  # 30 / 2.54 * 300 = 3543.3
        ("box:8x10in", (6000, 4000), 100, (1000, 667)),  # paper turns with the picture: 10 x 8
        ("box:8x10in", (4000, 6000), 100, (667, 1000)),
        ("crop:10x15cm", (6000, 4000), 254, (1500, 1000)),
        ("pad:4x4in", (3000, 2000), 100, (400, 400)),
        ("mp:6", (6000, 4000), 300, (3000, 2000)),
        ("mp:1", (3000, 3000), 300, (1000, 1000)),
        ("width:1600", (4000, 6000), 300, (1600, 2400)),
        ("height:900", (6000, 4000), 300, (1350, 900)),
        ("crop:800x1000", (6000, 4000), 300, (800, 1000)),
        ("crop:8000x8000", (6000, 4000), 300, (4000, 4000)),  # too small: its largest square
    ],
)
def test_worked_by_hand(text: str, kept: tuple[int, int], ppi: int, size: tuple[int, int]) -> None:
    assert output_size(parse_size(text), *kept, ppi=ppi) == size
    assert parse_size(str(parse_size(text))) == parse_size(text)


@pytest.mark.parametrize(
    "text", ["mp:0", "mp:5000", "percent:50cm", "long:10.5", "box:3cm", "crop:5", "original:5", "long:1x2", "round:5"]
)
def test_what_is_no_size(text: str) -> None:
    with pytest.raises(TannerError, match=r"size|edge"):
        parse_size(text)


def picture(source: Source, **more: object) -> np.ndarray:
    data, size = encode(source, develop({}), OutputSpec(format="png", **more))  # type: ignore[arg-type]
    pixels = np.asarray(Image.open(io.BytesIO(data)))
    assert pixels.shape[1::-1] == size
    return pixels


def test_ground_border_and_cut(source: Source) -> None:
    whole = picture(source, size="long:300")
    padded = picture(source, size="pad:300x300", ground="#204060")
    assert (
        np.array_equal(padded[50:250], whole)
        and (padded[:50] == (0x20, 0x40, 0x60)).all()
        and (padded[250:] == (0x20, 0x40, 0x60)).all()
    )
    cut = picture(source, size="crop:200x200")
    assert np.array_equal(cut, whole[:, 50:250])
    bordered = picture(source, size="original", border=10, ground="#000000")
    assert bordered.shape == (480, 680, 3) and not bordered[:40].any() and not bordered[:, -40:].any()
    # The same through the formats that are joined from strips.
    jpeg = Image.open(
        io.BytesIO(encode(source, develop({}), OutputSpec(size="pad:300x300", ground="#204060", quality=97))[0])
    )
    assert np.abs(np.asarray(jpeg, int)[5:40] - (0x20, 0x40, 0x60)).max() <= 2


@pytest.mark.parametrize("ground", [0, 255, 128])
@pytest.mark.parametrize("kind", ["text", "picture"])
def test_a_mark_can_be_read_on_light_and_dark(kind: str, ground: int, tmp_path) -> None:  # type: ignore[no-untyped-def]
    """Its lettering against what is right around it: a contrast of 2 : 1 at the least (luminance as WCAG 2 takes it)."""
    mark = Mark(kind="text", text="Alder & Finch", size=60, opacity=80)
    if kind == "picture":
        plain = drawn(mark, (400, 300), mark.text)
        assert plain is not None
        logo = Image.new("RGBA", (200, 80), (0, 0, 0, 0))
        logo.paste((20, 20, 20, 255), (40, 20, 160, 60))
        logo.save(tmp_path / "logo.png")
        PROFILE_STORE.add(tmp_path)
        mark = mark.model_copy(update={"kind": "picture", "picture": "logo"})
    try:
        found = drawn(mark, (400, 300), mark.text)
    finally:
        if kind == "picture":
            PROFILE_STORE.folders.remove(tmp_path)
    assert found is not None
    pixels = found.over(np.full((300, 400, 3), ground, np.uint8), 0)
    y0, x0 = found.top, found.left
    assert (pixels[:y0] == ground).all() and (pixels[:, :x0] == ground).all() and y0 > 150 and x0 > 100
    part = pixels[y0 : y0 + found.leaves.shape[0], x0 : x0 + found.leaves.shape[1]].mean(axis=2) / 255
    light = np.where(part <= 0.04045, part / 12.92, ((part + 0.055) / 1.055) ** 2.4) + 0.05
    assert np.percentile(light, 99) / np.percentile(light, 3) > 2


def test_a_mark_is_the_same_in_strips_and_whole(source: Source) -> None:
    mark = {"kind": "text", "text": "{name} © {shoot}", "place": "middle", "size": 80}
    spec = OutputSpec(quality=100, chroma="444", mark=mark)  # type: ignore[arg-type]
    tokens = {"name": "AF0001", "shoot": "Spring"}
    strips = np.asarray(Image.open(io.BytesIO(encode(source, develop({}), spec, tokens=tokens)[0])), int)
    whole = encode(source, develop({}), spec.model_copy(update={"format": "png"}), tokens=tokens)[0]
    plain = encode(source, develop({}), OutputSpec(format="png"))[0]
    pixels = np.asarray(Image.open(io.BytesIO(whole)), int)
    assert (
        np.abs(strips - pixels).mean() < 1
        and np.abs(pixels - np.asarray(Image.open(io.BytesIO(plain)), int)).max() > 60
    )


def test_marks_that_cannot_be_drawn_are_told(source: Source, tmp_path, monkeypatch: pytest.MonkeyPatch) -> None:  # type: ignore[no-untyped-def]
    def why(**mark: object) -> str:
        with pytest.raises(TannerError) as error:
            prepare(source, develop({}), OutputSpec(mark=mark), Captions())  # type: ignore[arg-type]
        return str(error.value)

    assert "no text" in why(kind="text")
    assert "has no 漢" in why(kind="text", text="漢")
    assert "not in Kit" in why(kind="picture", picture="gone")
    PROFILE_STORE.add(tmp_path)
    try:
        (tmp_path / "empty.png").write_bytes(b"")
        (tmp_path / "odd.png").write_bytes(b"no picture")
        assert "0 bytes" in why(kind="picture", picture="empty") and "no picture" in why(kind="picture", picture="odd")
    finally:
        PROFILE_STORE.folders.remove(tmp_path)
    monkeypatch.setattr("tanner.core.output.mark.FONT", FONT.with_name("gone.ttf"))
    assert "missing" in why(kind="text", text="Alder")


@pytest.mark.parametrize("kind", ["jpeg", "webp", "avif", "jxl"])
def test_a_most_of_kb_is_met_and_used(source: Source, kind: str) -> None:
    """Never more, and nine tenths of it where the best quality would take more (AVIF's steps are too large near its top)."""
    best = 85 if kind == "avif" else 98
    full = len(encode(source, develop({}), OutputSpec(format=kind, quality=best))[0])  # type: ignore[arg-type]
    for share in (0.7, 0.35):
        most = full * share / 1000
        data = encode(source, develop({}), OutputSpec(format=kind, quality=best, most_kb=most))[0]  # type: ignore[arg-type]
        assert 0.9 * most * 1000 <= len(data) <= most * 1000
        Image.open(io.BytesIO(data)).load()
    assert len(encode(source, develop({}), OutputSpec(format=kind, quality=best, most_kb=9999))[0]) == full  # type: ignore[arg-type]
    with pytest.raises(SettingsError, match="too few"):
        encode(source, develop({}), OutputSpec(format=kind, most_kb=0.5))  # type: ignore[arg-type]


@settings(deadline=None, max_examples=200)
@given(st.integers(200, 100_000), st.floats(0.2, 3), st.integers(2, 100))
def test_the_best_quality_that_fits_is_found(most: int, power: float, best: int) -> None:
    """Against trying all of them, for sizes that grow as a power of the quality."""
    tried = []

    def encoded(quality: float) -> bytes:
        tried.append(quality)
        return b"x" * int(150 + 900 * quality**power)

    fitting = [q for q in range(1, best + 1) if int(150 + 900 * q**power) <= most]
    if not fitting:
        with pytest.raises(SettingsError):
            fitted(encoded, most, range(1, best + 1), "t")
    else:
        data, step = fitted(encoded, most, range(1, best + 1), "t")
        assert step == max(fitting) and len(data) == int(150 + 900 * step**power) and len(tried) <= 20
