"""Raw files of our own that stand for another raw file: denoised, or joined from several."""

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.raw.dng import DngTags, write_dng
from tanner.core.raw.facts import FrameFacts
from tanner.core.raw.tags import MARKS, dng_tags

RATIONAL, BYTE, ASCII = 5, 1, 2


def raw_copy(
    pixels: NDArray[np.uint16],
    facts: FrameFacts,
    *,
    black: int = 0,
    applied: Sequence[str] = (),
    quiet: bool = False,
    original: Path | None = None,
    upright: bool = False,
    xmp: str = "",
    texts: Mapping[int, str] | None = None,
) -> bytes:
    """A DNG with the colour data and the taking data of a frame.

    Args:
        pixels: (H, W) the mosaic, or (H, W, 3) linear camera numbers; from `black` to 65535, in 16 bits.
        applied: lens corrections that are in the pixels: marked, so that they are not done again.
        quiet: noise is taken out: marked by NoiseReductionApplied.
        original: the file that this stands for: its lens data and camera profiles come along where it is a DNG.
        upright: the pixels are turned and cropped already, so that the file's opcodes no longer fit them.
        xmp: a further rdf:Description to stand in its XMP; texts: by EXIF tag.
    """
    extra: list[tuple[int, int, int, Any]] = []
    if applied or xmp:
        packet = _xmp(applied, xmp)
        extra.append((700, BYTE, len(packet), packet))
    for code, text in (texts or {}).items():
        data = text.encode() + b"\0"
        extra.append((code, ASCII, len(data), data))
    if quiet:
        extra.append((50935, RATIONAL, 1, (1, 1)))
    inside = dng_tags(original) if original is not None and original.suffix.lower() == ".dng" else {}
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
        opcodes3=bytes(inside.get("OpcodeList3", b"")) if not (applied or upright) else b"",
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
