"""Finished files: JPEG from strips, PNG, TIFF, their profiles and words, read back by other libraries."""

import io
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pytest
import tifffile
from PIL import Image

from tanner.core.adjust.registry import develop
from tanner.core.colour.spaces import SPACES, icc_profile
from tanner.core.errors import FormatError, NameTaken, WriteFailed
from tanner.core.output.captions import Captions
from tanner.core.output.develop import encode, write_file
from tanner.core.output.jpeg import encode_in_bands, encode_strip, icc_segments, join
from tanner.core.output.metadata import exif_block, xmp_packet
from tanner.core.output.spec import OutputSpec, read_spec
from tanner.core.raw.source import Source
from tanner.core.render import render

WORDS = Captions(creator="Alder & Finch", rights="© <Alder>", keywords=("lamp", "blau & grün"), stars=4)


@pytest.mark.parametrize("quality", [60, 92, 97])
@pytest.mark.parametrize("size", [(640, 400), (333, 257), (16, 16), (17, 129)])
def test_strips_join_to_the_picture_they_were_cut_from(quality: int, size: tuple[int, int]) -> None:
    """Decoded by Pillow: the same as the strips decoded one by one."""
    rng = np.random.default_rng(3)
    w, h = size
    pixels = rng.integers(0, 255, (h // 8 + 1, w // 8 + 1, 3)).astype(np.uint8).repeat(8, 0).repeat(8, 1)[:h, :w]
    strips = [encode_strip(pixels[y : y + 128], quality) for y in range(0, h, 128)]
    whole = np.asarray(Image.open(io.BytesIO(join(iter(strips), w, h, icc_segments(icc_profile("srgb"))))))
    parts = np.concatenate([np.asarray(Image.open(io.BytesIO(s))) for s in strips])
    assert whole.shape == (h, w, 3)
    # Upsampled colour looks across the border of a strip in the whole file only.
    rows = [y for y in range(h) if all(abs(y - b) > 2 for b in range(0, h, 128))]
    assert np.array_equal(whole[rows], parts[rows])


@pytest.mark.parametrize("chroma", ["444", "420"])
@pytest.mark.parametrize("size", [(640, 480), (701, 509), (1200, 171), (90, 60)])
def test_bands_of_two_threads_are_the_picture_of_one(size: tuple[int, int], chroma: str) -> None:
    """Decoded by Pillow: the same px as of one encoder's run over all."""
    rng = np.random.default_rng(4)
    w, h = size
    pixels = rng.integers(0, 255, (h // 5 + 1, w // 5 + 1, 3)).astype(np.uint8).repeat(5, 0).repeat(5, 1)[:h, :w]
    with ThreadPoolExecutor(2) as pool:
        banded = encode_in_bands(pixels, 90, chroma, pool)
    one, two = (np.asarray(Image.open(io.BytesIO(data))) for data in (encode_strip(pixels, 90, chroma), banded))
    assert two.shape == (h, w, 3) and np.array_equal(one, two)


def test_jpeg_carries_profile_exif_and_xmp(source: Source) -> None:
    spec = OutputSpec(size="long:300", space="p3", ppi=240)
    data, size = encode(source, develop({}), spec, WORDS)
    image = Image.open(io.BytesIO(data))
    assert image.size == size == (300, 200)
    assert image.info["icc_profile"] == icc_profile("p3")
    exif = image.getexif()
    assert exif[271] == "Alder" and exif[272] == "Alder One" and exif[274] == 1 and exif[282] == 240
    sub = exif.get_ifd(0x8769)
    assert float(sub[33434]) == pytest.approx(1 / 125) and sub[34855] == 100 and sub[42036] == "Finch 55 mm"
    assert (sub[40962], sub[40963]) == (300, 200)


def test_exiv2_reads_what_was_written(source: Source, tmp_path: Path) -> None:
    import exiv2

    path = tmp_path / "x.jpg"
    path.write_bytes(encode(source, develop({}), OutputSpec(size="long:300"), WORDS)[0])
    image = exiv2.ImageFactory.open(str(path))
    image.readMetadata()
    xmp = {d.key(): d.toString() for d in image.xmpData()}
    assert xmp["Xmp.dc.subject"] == "lamp, blau & grün"
    assert "© <Alder>" in xmp["Xmp.dc.rights"] and xmp["Xmp.xmp.Rating"] == "4"
    assert {d.key() for d in image.exifData()} >= {"Exif.Image.Model", "Exif.Photo.LensModel", "Exif.Image.Artist"}


@pytest.mark.parametrize("space", list(SPACES))
@pytest.mark.parametrize("kind", ["png", "tiff8", "tiff16"])
def test_lossless_files_hold_the_rendered_pixels(source: Source, space: str, kind: str) -> None:
    spec = OutputSpec(size="long:150", format=kind, space=space)  # type: ignore[arg-type]
    data, size = encode(source, develop({}), spec, WORDS)
    expected = render(source, develop({}), size, space=space, bits=spec.bits, fine=True)
    if kind == "png":
        image = Image.open(io.BytesIO(data))
        assert np.array_equal(np.asarray(image), expected)
        assert image.info["icc_profile"] == icc_profile(space)
        assert "Alder" in image.info["XML:com.adobe.xmp"]
    else:
        with tifffile.TiffFile(io.BytesIO(data)) as tiff:
            assert np.array_equal(tiff.pages[0].asarray(), expected)
            assert tiff.pages[0].tags[34675].value == icc_profile(space)
            assert tiff.pages[0].tags[282].value == (300, 1)


def test_words_are_left_out_where_there_are_none(source: Source) -> None:
    assert b"dc:subject" not in xmp_packet(source.facts, Captions())
    assert b"Alder One" in exif_block(source.facts, Captions(), (10, 10), 300)


def test_taken_names(source: Source, tmp_path: Path) -> None:
    target = tmp_path / "x.jpg"
    small = {"size": "long:100"}
    first = write_file(source, develop({}), OutputSpec(**small), target)  # type: ignore[arg-type]
    assert first["path"] == str(target) and first["bytes"] == target.stat().st_size
    before = target.read_bytes()
    second = write_file(source, develop({}), OutputSpec(**small), target)  # type: ignore[arg-type]
    assert second["path"].endswith("x-2.jpg")
    skipped = write_file(source, develop({}), OutputSpec(exists="skip", **small), target)  # type: ignore[arg-type]
    assert skipped["skipped"] and target.read_bytes() == before
    bright = develop({"light.exposure": 1.0})
    write_file(source, bright, OutputSpec(exists="replace", **small), target)  # type: ignore[arg-type]
    assert target.read_bytes() != before


def test_the_original_is_never_the_target(source: Source, lamp: Path) -> None:
    before = lamp.read_bytes()
    with pytest.raises(WriteFailed, match="original"):
        write_file(source, develop({}), OutputSpec(exists="replace"), lamp, original=lamp)
    assert lamp.read_bytes() == before
    with pytest.raises(NameTaken):
        from tanner.core.output.files import write_whole

        write_whole(lamp, b"x")


@pytest.mark.parametrize(
    "text",
    [
        "",
        "[]",
        '{"size": "huge"}',
        '{"format": "gif"}',
        '{"quality": 101}',
        '{"space": "mars"}',
        '{"name": "{x}"}',
        '{"colour": 1}',
        '{"ppi": 0}',
    ],
)
def test_specs_that_make_no_sense(tmp_path: Path, text: str) -> None:
    path = tmp_path / "bad.json"
    path.write_text(text)
    with pytest.raises(FormatError, match=r"bad\.json"):
        read_spec(path)
    with pytest.raises(FormatError, match="cannot be opened"):
        read_spec(tmp_path / "gone.json")


def test_a_spec_reads_back(tmp_path: Path) -> None:
    spec = OutputSpec(title="Web", size="box:1600x1200", format="png", name="{date}-{name}", subfolder="a/{set}")
    path = tmp_path / "s.json"
    path.write_text(spec.model_dump_json())
    assert read_spec(path) == spec
