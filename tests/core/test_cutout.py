"""Cut-outs: alpha and edges against a subject and grounds that are known, the ground with its shadow, masks and outlines."""

import io
import re
from pathlib import Path
from typing import Any

import cv2
import imagecodecs
import numpy as np
import pytest
from PIL import Image
from pydantic import ValidationError

from tanner.core.adjust.registry import defaults, develop
from tanner.core.areas.find import NotFound
from tanner.core.errors import SettingsError
from tanner.core.output.cutout import on_ground, svg, without_fringe
from tanner.core.output.develop import encode
from tanner.core.output.spec import OutputSpec, said
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.render.masking import found_area, mask_of
from tanner.jobs.delivery.planning import estimate
from tanner.studio.camera import take
from tanner.studio.demo import frames

A = "areas/7f3a91c2/"
DISC = {
    A + "kind": "area", A + "name": "Disc",
    A + "shapes": [{"kind": "round", "at": [0, 0], "radii": [0.2, 0.2], "softness": 0.1}],
}  # fmt: skip


@pytest.fixture(scope="module")
def product(tmp_path_factory: pytest.TempPathFactory) -> Source:
    path = tmp_path_factory.mktemp("cut") / "lamp.dng"
    path.write_bytes(take(next(s for s in frames() if s.scene == "lamp-1"), compress=False))
    return read(path)


def made(source: Source, values: dict[str, Any], **spec: Any) -> tuple[bytes, tuple[int, int]]:
    return encode(source, develop(values), OutputSpec(**{"size": "long:600", "format": "png", **spec}))


def test_edges_have_no_fringe_of_the_backdrop() -> None:
    """A known subject over a known backdrop: what is found under the edge, laid over black and white, against the truth."""
    y, x = np.mgrid[0:300, 0:300]
    alpha = np.clip(
        (90 + 6 * np.sin(np.arctan2(y - 150, x - 150) * 9) - np.hypot(x - 150, y - 150)) / 6 + 0.5, 0, 1
    ).astype(np.float32)
    own = np.stack([0.75 + 0.1 * np.sin(x / 40), 0.25 + 0.05 * np.cos(y / 30), np.full(x.shape, 0.15)], -1)
    green = np.array([0.2, 0.8, 0.3])
    seen = np.rint((alpha[..., None] * own + (1 - alpha[..., None]) * green) * 255).astype(np.uint8)
    found = without_fringe(seen.copy(), alpha) / 255
    edge = (alpha > 0.1) & (alpha < 0.9)
    for ground in (0.0, 1.0):
        wanted = alpha[..., None] * own + (1 - alpha[..., None]) * ground
        a = alpha[..., None]
        plain, better = (np.abs(a * p + (1 - a) * ground - wanted)[edge].mean() for p in (seen / 255, found))
        assert better < 0.02 and better < plain / 4


def test_a_cut_out_has_alpha_in_each_format(source: Source) -> None:
    whole = np.asarray(Image.open(io.BytesIO(made(source, DISC)[0])).convert("RGB")).astype(int)
    mask = mask_of(source, develop(DISC), "7f3a91c2", (whole.shape[1], whole.shape[0]))
    for form, bits in (("png", 8), ("png16", 16), ("tiff8", 8), ("tiff16", 16), ("webp", 8)):
        data, size = made(source, DISC, format=form, cut="alpha", cut_area="disc", quality=100)
        if form == "webp":
            pixels = np.asarray(Image.open(io.BytesIO(data)))
        else:
            pixels = imagecodecs.png_decode(data) if form.startswith("png") else imagecodecs.tiff_decode(data)
        assert pixels.shape == (size[1], size[0], 4) and pixels.dtype == (np.uint8 if bits == 8 else np.uint16)
        scale = 1 if bits == 8 else 257
        assert np.abs(pixels[..., 3] / (255 * scale) - mask).max() < 0.01
        inside = mask > 0.999
        assert np.abs(pixels[..., :3][inside] / scale - whole[inside]).mean() < (4 if form == "webp" else 1)


def test_masks_and_outlines_are_files_of_their_own(source: Source) -> None:
    data, size = made(source, DISC, cut="mask", cut_area="Disc", format="png16")
    pixels = imagecodecs.png_decode(data)
    mask = mask_of(source, develop(DISC), "7f3a91c2", size)
    assert pixels.dtype == np.uint16 and pixels.shape == size[::-1] and np.abs(pixels / 65535 - mask).max() < 1e-3
    text = made(source, DISC, cut="outline", cut_area="Disc")[0].decode()
    (path,) = re.findall(r' d="([^"]+)"', text)
    points = np.array([[float(v) for v in p.split()] for p in re.split(r"[ML]", path.rstrip("Z"))[1:]])
    # Half way up a soft disc of radius 0.2 and softness 0.1: 0.19 of the long edge.
    assert np.abs(np.hypot(*(points - np.array(size) / 2).T) - 0.19 * max(size)).max() < 1.2
    assert OutputSpec(cut="outline").suffix == ".svg" and f'width="{size[0]}"' in text
    assert b"evenodd" in svg(np.zeros((4, 4), np.float32), "a < b") and b"a &lt; b" in svg(
        np.zeros((4, 4), np.float32), "a < b"
    )


def test_a_mask_has_the_size_and_place_of_the_picture(source: Source) -> None:
    """Cut to a square with a border: the mask stands where the picture does."""
    spec = {"size": "crop:300x300", "border": 10}
    whole, size = made(source, DISC | {A + "light.exposure": -4.0}, **spec)
    data, other = made(source, DISC, **spec, cut="mask", cut_area="Disc")
    assert size == other
    dark = np.asarray(Image.open(io.BytesIO(whole)).convert("L")).astype(float)
    light = np.asarray(Image.open(io.BytesIO(made(source, DISC, **spec)[0])).convert("L")).astype(float)
    mask = imagecodecs.png_decode(data)
    changed = (light - dark) > 0.5 * (light - dark).max()
    assert mask[changed].mean() > 200 and mask[:20].max() == 0


def test_a_product_on_white_keeps_its_shadow(product: Source) -> None:
    values = defaults(raw=True, lens=True) | {"light.exposure": 0.5}
    pictures = {}
    for shadow in (True, False):
        data, size = made(product, values, cut="ground", shadow=shadow)
        pictures[shadow] = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_COLOR).astype(int)
    mask = mask_of(product, develop(values), found_area("subject"), size)
    away = cv2.dilate((mask > 0.01).astype(np.uint8), np.ones((9, 9))) == 0
    assert (pictures[False][away] == 255).all()
    shaded = (255 - pictures[True][away]).max(axis=-1)
    # A shadow beside the foot, and white nearly everywhere else.
    assert shaded.max() > 40 and (shaded < 12).mean() > 0.85
    # The lamp itself is the same.
    assert np.abs(pictures[True] - pictures[False])[mask > 0.999].max() <= 1


def test_on_a_ground_by_its_formula() -> None:
    spec = OutputSpec(cut="ground", ground="#804020", format="png16")
    pixels = np.full((2, 2, 3), 40000, np.uint16)
    alpha = np.array([[0.0, 1.0], [0.5, 0.0]], np.float32)
    got = on_ground(
        pixels,
        alpha,
        spec,
        np.array(
            [
                [
                    1.0,
                    1,
                    1,
                ],
                [1.0, 1, 0.0],
            ],
            np.float32,
        )[:, :2],
    )
    ground = np.array([0x80, 0x40, 0x20]) * 257
    assert np.abs(got[0, 0] - ground).max() <= 2 and (got[0, 1] == 40000).all()
    assert np.abs(got[1, 0] - (40000 + ground) / 2).max() <= 2


@pytest.mark.parametrize(
    ("spec", "said"),
    [
        ({"cut": "alpha", "format": "jpeg"}, "PNG or TIFF or WebP"),
        ({"cut": "mask", "format": "webp"}, "PNG or TIFF"),
        ({"cut": "ground", "icc": "paper-1", "format": "png"}, "colour space"),
        ({"cut": "outline", "format": "dng"}, "linear DNG"),
    ],
)
def test_what_a_format_cannot_hold_is_refused(spec: dict[str, Any], said: str) -> None:
    with pytest.raises(ValidationError, match=said):
        OutputSpec(**spec)


def test_what_is_not_there_is_said(source: Source, tmp_path: Path) -> None:
    with pytest.raises(SettingsError, match=r"no area called Sky\. There are: Disc"):
        made(source, DISC, cut="alpha", cut_area="Sky")
    with pytest.raises(NotFound, match="Nobody is found"):
        made(source, {}, cut="mask", cut_area="people")
    lines = said(OutputSpec(cut="ground", format="png"), {"srgb": "sRGB"})
    assert "Subject: cut out, on a ground of #ffffff, its shadow kept" in lines


@pytest.mark.parametrize(
    ("cut", "form", "compression"),
    [("mask", "png", "none"), ("mask", "tiff16", "none"), ("outline", "png", "none"), ("alpha", "png", "none"),
     ("alpha", "tiff8", "none")],
)  # fmt: skip
def test_a_delivery_says_about_how_large_a_cut_out_is(product: Source, cut: str, form: str, compression: str) -> None:
    """Within half and twice: what is told before anything is written."""
    spec = {"size": "long:1200", "format": form, "cut": cut, "compression": compression}
    data, size = made(product, {}, **spec)
    assert 0.5 < estimate(OutputSpec(**spec), size, None, None) / len(data) < 2
