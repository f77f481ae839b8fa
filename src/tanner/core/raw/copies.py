"""Raw files of our own that stand for another raw file: denoised, or joined from several."""

from collections.abc import Mapping, Sequence
from mmap import ACCESS_READ, mmap
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from tanner.core.colour.dcp import embedded as embedded_profiles
from tanner.core.colour.dcp import write_dcp
from tanner.core.raw import opcodes
from tanner.core.raw.dng import DngTags, write_dng
from tanner.core.raw.facts import FrameFacts
from tanner.core.raw.tags import MARKS
from tanner.core.tiff import ifd
from tanner.core.tiff.dng import BY_CODE, CODES
from tanner.core.tiff.ifd import Entry

_COUNTS = {"matrix": 9, "square": 9, "planes": 3}
"""Of a sensor with three colours: what a copy holds."""


def kept(path: Path) -> tuple[dict[int, Entry], tuple[bytes, ...], bytes]:
    """What a DNG says that holds for a copy of it, too.

    Returns:
        Entries by code, as they stand; further camera profiles as .dcp files; list 3 of opcodes. All empty for a file
        that is no DNG, or is damaged.
    """
    if path.suffix.lower() != ".dng":
        return {}, (), b""
    try:
        with path.open("rb") as file, mmap(file.fileno(), 0, access=ACCESS_READ) as data:
            order, at = ifd.byte_order(data)
            main, _ = ifd.read(data, at, order)
            # The raw picture's own directory counts before the main one, where they are two.
            for sub in main[ifd.SUB_IFDS].values[:8] if ifd.SUB_IFDS in main else ():
                inner, _ = ifd.read(data, int(sub), order)
                if inner.get(CODES["NewSubfileType"], ifd.entry(ifd.LONG, 1)).values[0] == 0:
                    main |= inner
        further = embedded_profiles(path)[0]
    except (OSError, ValueError):
        return {}, (), b""
    found = {c: e for c, e in main.items() if c in BY_CODE and BY_CODE[c].kept and e.kind in BY_CODE[c].kinds}
    if any(e.count != _COUNTS.get(str(BY_CODE[c].count), e.count) for c, e in found.items()):
        return {}, (), b""  # a sensor of four colours: its copy has three
    if order == ">":
        found |= {CODES[n]: _light(found[CODES[n]]) for n in _LIGHTS if CODES[n] in found}
    list3 = main.get(CODES["OpcodeList3"])
    # The first profile is in the entries.
    more = further[1:] if _has_profile(found) else further
    return found, tuple(write_dcp(p) for p in more), list3.data if list3 else b""


_LIGHTS = ("IlluminantData1", "IlluminantData2", "IlluminantData3")


def _has_profile(found: Mapping[int, Entry]) -> bool:
    names = ("ProfileHueSatMapData1", "ProfileLookTableData", "ProfileToneCurve", "BaselineExposureOffset")
    return any(CODES[name] in found for name in names)


def _light(stored: Entry) -> Entry:
    """IlluminantData of a big-endian file: a SHORT, then LONGs, whatever its type says."""
    words = np.frombuffer(stored.data[2 : 2 + (len(stored.data) - 2) // 4 * 4], ">u4").astype("<u4")
    return Entry(stored.kind, stored.count, stored.data[1::-1] + words.tobytes())


def raw_copy(
    pixels: NDArray[np.uint16],
    facts: FrameFacts,
    *,
    black: int = 0,
    applied: Sequence[str] = (),
    quiet: bool = False,
    upright: bool = False,
    lens: bool = True,
    ppi: float = 300.0,
    xmp: str = "",
    texts: Mapping[int, str] | None = None,
) -> bytes:
    """A DNG with the colour data and the taking data of a frame.

    What the frame's own file says of its colour, its noise and its lens stands in the copy as it stands there.

    Args:
        pixels: (H, W) the mosaic, or (H, W, 3) linear camera numbers; from `black` to 65535, in 16 bits.
        applied: lens corrections that are in the pixels: marked, so that they are not done again.
        quiet: noise is taken out: marked by NoiseReductionApplied.
        upright: the pixels are turned upright; lens: their places are still the sensor's, so that the file's opcodes of
            the lens fit them.
        ppi: what the file is labelled with.
        xmp: a further rdf:Description to stand in its XMP; texts: by EXIF tag.
    """
    extra: dict[int, Entry] = {}
    if applied or xmp:
        extra[CODES["XMP"]] = ifd.entry(ifd.BYTE, _xmp(applied, xmp))
    for code, text in (texts or {}).items():
        extra[code] = ifd.entry(ifd.ASCII, text)
    if quiet:
        extra[CODES["NoiseReductionApplied"]] = ifd.entry(ifd.RATIONAL, 1.0)
    entries, profiles, list3 = kept(Path(facts.path))
    ry, rx = facts.pattern or (0, 0)
    colours = [1, 1, 1, 1]
    colours[2 * ry + rx], colours[2 * (1 - ry) + 1 - rx] = 0, 2
    tags = DngTags(
        make=facts.make,
        model=facts.model,
        black=black,
        white=65535,
        pattern=(colours[0], colours[1], colours[2], colours[3]),
        neutral=facts.neutral,
        matrices=tuple(np.array(m).reshape(3, 3) for m in facts.colour_matrices),
        illuminants=facts.illuminants,
        forward=tuple(np.array(m).reshape(3, 3) for m in facts.forward_matrices),
        opcodes3=opcodes.without_trim(list3) if lens and not applied else b"",
        lens=facts.lens,
        focal_length=facts.focal_length_mm or 0.0,
        focal_length_35mm=round(facts.focal_length_35mm or 0),
        aperture=facts.aperture or 0.0,
        exposure=facts.exposure_s or 0.0,
        iso=facts.iso or 100,
        taken=facts.taken,
        orientation=1 if applied or upright else facts.orientation,
        serial=facts.serial,
        baseline_exposure=facts.baseline_exposure,
        ppi=ppi,
        noise_profile=facts.noise_profile,
        kept=entries,
        profiles=profiles,
        extra=extra,
    )
    return write_dng(pixels, tags)


def _xmp(applied: Sequence[str], more: str = "") -> bytes:
    rows = " ".join(f'aux:{mark}="True"' for mark, name in MARKS.items() if name in applied)
    return (
        '<?xpacket begin="\ufeff" id="W5M0MpCehiHzreSzNTczkc9d"?><x:xmpmeta xmlns:x="adobe:ns:meta/">'
        '<rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description rdf:about="" '
        f'xmlns:aux="http://ns.adobe.com/exif/1.0/aux/" {rows}/>{more}</rdf:RDF></x:xmpmeta><?xpacket end="w"?>'
    ).encode()
