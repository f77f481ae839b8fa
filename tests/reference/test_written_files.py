"""Finished files as other programs read them: Pillow, tifffile, libvips, ExifTool, LittleCMS, LibRaw, pypdf."""

import io
import json
import shutil
import subprocess
from pathlib import Path
from typing import Any

import imagecodecs
import numpy as np
import pytest
import pyvips
import rawpy
import tifffile
from PIL import Image, ImageCms

from tanner.core.adjust.registry import defaults, develop
from tanner.core.colour.difference import ciede2000
from tanner.core.colour.spaces import icc_profile
from tanner.core.output.captions import FIELDS, Captions
from tanner.core.output.develop import encode
from tanner.core.output.spec import OutputSpec
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.render import render

WORDS = Captions(
    creator="Alder & Finch", rights="© Alder <2026>", usage="One year, web only", email="hello@alder.example", phone="+1 555 0100",
    web="https://alder.example", address="1 Finch Lane", headline="Lämps", caption="A lamp, “lit”", keywords=("lamp", "blau & grün"),
    sublocation="Studio 2", city="Alderfinch", region="Upper Alder", country="Finchland", country_code="FIN", stars=4,
)  # fmt: skip
FORMATS = ["jpeg", "tiff8", "tiff16", "png", "png16", "webp", "avif", "avif10", "avif12", "jxl", "jxl16"]
BITS = {"tiff16": 16, "png16": 16, "avif10": 16, "avif12": 16}


def written(source: Source, folder: Path, kind: str, **more: Any) -> Path:
    spec = OutputSpec(size="long:300", format=kind, ppi=240, **more)  # type: ignore[arg-type]
    data, size = encode(source, develop({}), spec, WORDS)
    assert size == (300, 200)
    path = folder / f"x{spec.suffix}"
    path.write_bytes(data)
    return path


def exiftool(path: Path) -> dict[str, Any]:
    """All that ExifTool finds, by group and name."""
    assert shutil.which("exiftool"), "exiftool is missing: `make test` installs it"
    done = subprocess.run(["exiftool", "-j", "-G0", "-struct", "-n", str(path)], capture_output=True, check=True)
    found: dict[str, Any] = json.loads(done.stdout)[0]
    return found


@pytest.mark.parametrize("kind", FORMATS)
def test_pillow_reads_size_profile_and_ppi(source: Source, tmp_path: Path, kind: str) -> None:
    if kind.startswith("jxl"):
        import pillow_jxl  # noqa: F401
    with Image.open(written(source, tmp_path, kind, space="p3")) as image:
        image.load()
        assert image.size == (300, 200)
        if kind.startswith("jxl"):
            # A JPEG XL says its colours in its own way; what is read out of it means the same (see below).
            assert b"acsp" in image.info["icc_profile"]
        else:
            assert image.info["icc_profile"] == icc_profile("p3")
        if kind in ("jpeg", "tiff8", "tiff16", "png", "png16"):
            assert image.info["dpi"] == pytest.approx((240, 240), abs=0.1)


@pytest.mark.parametrize("kind", [f for f in FORMATS if not f.startswith("jxl")])
def test_libvips_reads_size_depth_and_profile(source: Source, tmp_path: Path, kind: str) -> None:
    """libvips of the wheel knows no JPEG XL."""
    image = pyvips.Image.new_from_file(str(written(source, tmp_path, kind, space="widegamut1998")))
    assert (image.width, image.height, image.bands) == (300, 200, 3)
    assert image.format == ("ushort" if kind in BITS else "uchar")
    assert image.get("icc-profile-data") == icc_profile("widegamut1998")
    if kind in ("jpeg", "tiff8", "tiff16", "png", "png16"):
        assert image.xres * 25.4 == pytest.approx(240, abs=0.1)


@pytest.mark.parametrize("compression", ["none", "deflate", "lzw"])
@pytest.mark.parametrize("kind", ["tiff8", "tiff16"])
def test_tifffile_reads_every_compression(source: Source, tmp_path: Path, kind: str, compression: str) -> None:
    path = written(source, tmp_path, kind, compression=compression)
    expected = render(source, develop({}), (300, 200), bits=BITS.get(kind, 8), fine=True)
    with tifffile.TiffFile(path) as tiff:
        assert np.array_equal(tiff.pages[0].asarray(), expected)
        assert tiff.pages[0].compression.name == {"none": "NONE", "deflate": "ADOBE_DEFLATE", "lzw": "LZW"}[compression]
    assert np.array_equal(pyvips.Image.new_from_file(str(path)).numpy(), expected)


XMP = {
    "XMP:Creator": ["Alder & Finch"], "XMP:Rights": "© Alder <2026>", "XMP:UsageTerms": "One year, web only",
    "XMP:Description": "A lamp, “lit”", "XMP:Subject": ["lamp", "blau & grün"], "XMP:Headline": "Lämps",
    "XMP:City": "Alderfinch", "XMP:State": "Upper Alder", "XMP:Country": "Finchland",
    "XMP:Location": "Studio 2", "XMP:CountryCode": "FIN", "XMP:Rating": 4,
}  # fmt: skip
CONTACT = {
    "CiEmailWork": "hello@alder.example", "CiTelWork": "+1 555 0100", "CiUrlWork": "https://alder.example",
    "CiAdrExtadr": "1 Finch Lane",
}  # fmt: skip
IIM = {
    "IPTC:By-line": "Alder & Finch", "IPTC:CopyrightNotice": "© Alder <2026>", "IPTC:Headline": "Lämps",
    "IPTC:Caption-Abstract": "A lamp, “lit”", "IPTC:Keywords": ["lamp", "blau & grün"], "IPTC:Sub-location": "Studio 2",
    "IPTC:City": "Alderfinch", "IPTC:Province-State": "Upper Alder", "IPTC:Country-PrimaryLocationName": "Finchland",
    "IPTC:Country-PrimaryLocationCode": "FIN",
}  # fmt: skip
EXIF = {
    "EXIF:Artist": "Alder & Finch", "EXIF:Copyright": "© Alder <2026>", "EXIF:ImageDescription": "A lamp, “lit”", "EXIF:Model": "Alder One",
    "EXIF:ISO": 100, "EXIF:LensModel": "Finch 55 mm", "EXIF:Orientation": 1, "EXIF:XResolution": 240,
}  # fmt: skip


@pytest.mark.parametrize("kind", [*FORMATS, "dng"])
def test_exiftool_reads_the_words(source: Source, tmp_path: Path, kind: str) -> None:
    """Every field in XMP in every format, in EXIF where the format has it, in IIM in JPEG and TIFF."""
    found = exiftool(written(source, tmp_path, kind))
    missing = {
        k: (v, found.get(k)) for k, v in XMP.items() if found.get(k) != v and (kind != "dng" or "Rating" not in k)
    }
    assert not missing
    assert found["XMP:CreatorContactInfo"] == CONTACT
    exif = dict(EXIF)
    if kind == "dng":
        del exif["EXIF:XResolution"]
    if kind.startswith("avif"):
        del exif["EXIF:Orientation"]  # AVIF turns pictures by a property of its own; there is none
    assert not {k: (v, found.get(k)) for k, v in exif.items() if found.get(k) != v}
    if kind in ("jpeg", "tiff8", "tiff16"):
        assert not {k: (v, found.get(k)) for k, v in IIM.items() if found.get(k) != v}


def test_every_field_is_checked_above() -> None:
    assert len(XMP) - 1 + len(CONTACT) == len(FIELDS)


@pytest.mark.parametrize("kind", FORMATS)
@pytest.mark.parametrize(
    ("policy", "there", "gone"),
    [
        ({"metadata": "contact"}, ("Alder & Finch", "1 Finch Lane", "One year"), ("Lämps", "Alderfinch", "lamp", "Alder One", "Tanner")),
        ({"metadata": "none"}, (), ("Alder &", "Finch Lane", "Lämps", "Alderfinch", "Alder One")),
        ({"place": False}, ("Lämps", "blau & grün"), ("Alderfinch", "Studio 2", "Finchland")),
        ({"keywords": False}, ("Lämps", "Alderfinch"), ("blau",)),
    ],
)  # fmt: skip
def test_a_policy_lets_through_what_it_says(
    source: Source, tmp_path: Path, kind: str, policy: dict[str, Any], there: tuple[str, ...], gone: tuple[str, ...]
) -> None:
    path = written(source, tmp_path, kind, **policy)
    found = exiftool(path)
    text = json.dumps(
        {k: v for k, v in found.items() if not k.startswith(("File:", "SourceFile", "ICC", "ExifTool"))},
        ensure_ascii=False,
    )
    assert all(t in text for t in there) and not [g for g in gone if g in text]


def lab_by(pixels: np.ndarray, profile: bytes) -> np.ndarray:
    """Through LittleCMS and a file's own profile."""
    wide = pixels if pixels.dtype == np.uint16 else pixels.astype(np.uint16) * 257
    lab = imagecodecs.cms_transform(
        np.ascontiguousarray(wide), profile, imagecodecs.cms_profile("lab4"), colorspace="rgb", outcolorspace="lab",
        outdtype="float32", intent=1, flags=0x0100,
    )  # fmt: skip
    return np.asarray(lab, np.float64).reshape(-1, 3)


@pytest.mark.parametrize("kind", ["png16", "tiff16"])
def test_colours_mean_the_same_in_every_space(lamp: Path, kind: str) -> None:
    """Through LittleCMS and the profile in the file to Lab: within 0.5 CIEDE2000 of the sRGB file, where sRGB holds them."""
    source = read(lamp)
    labs = {}
    for space in ("srgb", "p3", "widegamut1998", "prophoto"):
        spec = OutputSpec(size="long:120", format=kind, space=space)  # type: ignore[arg-type]
        data, _ = encode(source, develop({}), spec)
        pixels = tifffile.imread(io.BytesIO(data)) if kind == "tiff16" else imagecodecs.png_decode(data)
        labs[space] = lab_by(pixels, icc_profile(space))
        if space == "srgb":
            inside = ((pixels > 400) & (pixels < 65_000)).all(axis=-1).ravel()
    assert inside.mean() > 0.5
    for space in ("p3", "widegamut1998", "prophoto"):
        assert float(ciede2000(labs["srgb"][inside], labs[space][inside]).max()) <= 0.5


def blocks(lab: np.ndarray) -> np.ndarray:
    return lab.reshape(20, 10, 30, 10, 3).mean(axis=(1, 3))


@pytest.mark.parametrize("kind", ["avif", "avif12", "jxl", "jxl16"])
@pytest.mark.parametrize("space", ["srgb", "p3", "widegamut1998", "prophoto"])
def test_small_formats_mean_the_colours_that_were_asked_for(
    source: Source, tmp_path: Path, kind: str, space: str
) -> None:
    """By two readers, each pixel taken for what the file's profile says, against a TIFF of 16 bits in the same space."""
    import pillow_jxl  # noqa: F401

    vivid = develop({"colour.saturation": 60.0})
    spec = OutputSpec(size="long:300", format=kind, space=space, quality=96, chroma="444")  # type: ignore[arg-type]
    path = tmp_path / f"x{spec.suffix}"
    path.write_bytes(encode(source, vivid, spec, WORDS)[0])
    wanted = lab_by(render(source, vivid, (300, 200), space=space, bits=16, fine=True), icc_profile(space))
    with Image.open(path) as image:
        profile, eight = image.info["icc_profile"], np.asarray(image.convert("RGB"))
    decode = imagecodecs.avif_decode if kind.startswith("avif") else imagecodecs.jpegxl_decode
    deep = decode(path.read_bytes())
    if kind == "avif12":
        assert deep.dtype == np.uint16 and 255 < deep.max() <= 4095
        deep = np.rint(deep / 4095 * 65535).astype(np.uint16)
    assert deep.dtype == (np.uint16 if kind in ("avif12", "jxl16") else np.uint8)
    for pixels in (eight, deep):
        # Means of 10 x 10 px: what a lossy format does to noise is not asked here.
        off = ciede2000(blocks(lab_by(pixels, profile)), blocks(wanted))
        # Readers go from luma and chroma to 8 bits by whole steps: a step of blue is gone on the way.
        most = 1.5 if kind.startswith("avif") and pixels.dtype == np.uint8 else 0.4
        assert off.mean() < most and off.max() < most + 1.6, (off.mean(), off.max())


@pytest.mark.parametrize("kind", ["webp", "avif", "jxl"])
def test_lossy_pictures_are_the_picture(source: Source, tmp_path: Path, kind: str) -> None:
    """Read by Pillow and brought to sRGB by LittleCMS through the file's own profile: near the rendered sRGB picture."""
    import pillow_jxl  # noqa: F401

    expected = render(source, develop({}), (300, 200)).astype(np.float64)
    with Image.open(written(source, tmp_path, kind, quality=95, space="p3")) as image:
        profile = ImageCms.ImageCmsProfile(io.BytesIO(image.info["icc_profile"]))
        got = ImageCms.profileToProfile(
            image.convert("RGB"), profile, ImageCms.createProfile("sRGB"), renderingIntent=1
        )
    error = np.mean((np.asarray(got, np.float64) - expected) ** 2)
    assert 10 * np.log10(255**2 / error) > 33


def test_libraw_reads_a_linear_dng_and_it_develops_to_the_same_picture(lamp: Path, tmp_path: Path) -> None:
    source = read(lamp)
    start = defaults(raw=True, lens=source.lens is not None)
    settings = {**start, "crop.left": 0.1, "light.exposure": 0.4}
    path = tmp_path / "x.dng"
    path.write_bytes(encode(source, develop(settings), OutputSpec(format="dng"), WORDS)[0])
    with rawpy.imread(str(path)) as raw:
        assert raw.raw_image.ndim == 3 and raw.raw_image.dtype == np.uint16
        h, w = raw.raw_image.shape[:2]
        assert raw.white_level == 65535 and raw.color_desc.startswith(b"RGB")
    again = read(path)
    assert again.size == (w, h) and set(again.facts.applied) >= {"distortion", "lateral_colour", "fall_off"}
    assert again.facts.taken == source.facts.taken and again.facts.colour_matrices == source.facts.colour_matrices
    # What was baked in is not done again: the same picture as from the raw file.
    expected = render(source, develop(settings), (w, h), bits=16).astype(np.float64)
    rest = {**defaults(raw=True, lens=True, applied=again.facts.applied), "light.exposure": 0.4}
    got = render(again, develop(rest), (w, h), bits=16).astype(np.float64)
    assert 10 * np.log10(65535**2 / np.mean((got - expected) ** 2)) > 45


def test_sheets_are_read_by_a_pdf_library(source: Source, tmp_path: Path) -> None:
    import pypdf

    from tanner.jobs.delivery.sheets import sheet_pdf

    paths = []
    for n in range(5):
        path = tmp_path / f"p{n}.jpg"
        path.write_bytes(encode(source, develop({}), OutputSpec(size=f"long:{120 + n}", space="p3"))[0])
        paths.append((str(path), f"AF{n:04d}, set Lämps 漢"))
    for order in (False, True):
        pdf = pypdf.PdfReader(io.BytesIO(sheet_pdf(paths, "Alder & Finch, spring", (2, 2), order)))
        assert len(pdf.pages) == 2
        texts = [p.extract_text() for p in pdf.pages]
        assert "Alder & Finch, spring" in texts[0] and "AF0003, set Lämps ?" in texts[0] and "AF0004" in texts[1]
        assert "2 of 2" in texts[1] and ("Ordered by" in texts[1]) == order
        assert [len(p.images) for p in pdf.pages] == [4, 1]
        assert pdf.metadata is not None and pdf.metadata.title == "Alder & Finch, spring"
    assert len(pypdf.PdfReader(io.BytesIO(sheet_pdf([], "None", (4, 5), False))).pages) == 1
