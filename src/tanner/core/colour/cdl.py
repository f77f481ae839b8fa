"""ASC CDL, read and written: slope, offset and power of each channel as the three channels' curves (source: asccdl2009).

A correction is out = clamp(in * slope + offset) ** power, then saturation. In Tanner that is a curve of each channel, through
sixteen points; saturation is another method's, so it is told and not carried. What other curves and levels do is fitted when
a correction is written, and how far the fit is off is told.
"""

import re
import xml.etree.ElementTree as ET
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from tanner.core.errors import FormatError
from tanner.core.tone.curve import Points
from tanner.core.tone.levels import CHANNELS

F64 = NDArray[np.float64]
MOST_BYTES = 1_000_000
POINTS = 16


class Correction(NamedTuple):
    """
    Attributes:
        slope, offset, power: (3,) each, red, green and blue.
    """

    name: str
    slope: tuple[float, float, float]
    offset: tuple[float, float, float]
    power: tuple[float, float, float]
    saturation: float = 1.0


def corrected(correction: Correction, x: F64) -> F64:
    """Values (..., 3) from 0 to 1 by the published formula, without saturation."""
    slope, offset, power = (np.array(v) for v in (correction.slope, correction.offset, correction.power))
    result: F64 = np.clip(np.clip(x * slope + offset, 0, 1) ** power, 0, 1)
    return result


def read_cdl(data: bytes, where: str) -> list[Correction]:
    """All corrections of a .cdl, .ccc or .cc file.

    Raises:
        FormatError: with the file's name and what is wrong.
    """
    if len(data) > MOST_BYTES:
        raise FormatError(f"{where}: is too large for a file of ASC CDL corrections.")
    if b"\0" in data:
        raise FormatError(f"{where}: is no XML file in UTF-8.")
    if b"<!DOCTYPE" in data or b"<!ENTITY" in data:
        raise FormatError(f"{where}: declares entities of its own, which no ASC CDL file needs.")
    try:
        root = ET.fromstring(data)
    except (ET.ParseError, ValueError, LookupError) as error:
        raise FormatError(f"{where}: is no XML file that can be read ({error}).") from None
    found = [_correction(node, where) for node in root.iter() if _tag(node) == "ColorCorrection"]
    if not found:
        raise FormatError(f"{where}: holds no ColorCorrection.")
    return found


def _tag(node: ET.Element) -> str:
    return node.tag.rpartition("}")[2]


def _correction(node: ET.Element, where: str) -> Correction:
    values = {_tag(n): (n.text or "") for n in node.iter()}
    names = {"Slope": "1 1 1", "Offset": "0 0 0", "Power": "1 1 1"}
    slope, offset, power = (_three(values.get(n, usual), n, where) for n, usual in names.items())
    (saturation,) = _numbers(values.get("Saturation", "1"), 1, "Saturation", where)
    if min(slope) < 0 or min(power) <= 0 or saturation < 0:
        raise FormatError(f"{where}: slope and saturation must not be below 0, and power must be above it.")
    return Correction(node.get("id", "")[:80], slope, offset, power, saturation)


def _three(text: str, name: str, where: str) -> tuple[float, float, float]:
    red, green, blue = _numbers(text, 3, name, where)
    return red, green, blue


def _numbers(text: str, count: int, name: str, where: str) -> list[float]:
    try:
        found = [float(v) for v in text.split()]
    except ValueError:
        found = []
    if len(found) != count or not np.isfinite(found).all() or max(map(abs, found)) > 1000:
        raise FormatError(
            f"{where}: {name} must be {count} {'numbers' if count > 1 else 'number'} (got {text.strip()[:40]!r})."
        )
    return found


def to_curves(correction: Correction) -> dict[str, Points]:
    """The correction as points of the three channels' curves: closest where the function bends, its corners among them."""
    curves = {}
    for k, name in enumerate(CHANNELS):
        slope, offset = correction.slope[k], correction.offset[k]
        black, white = (-offset / slope, (1 - offset) / slope) if slope else (0.0, 1.0)
        low, high = min(max(black, 0.0), 0.98), max(min(white, 1.0), 0.02)
        # A corner is held by a point on either side; powers are steepest where they begin, so points lie closer there.
        corners = [c + d for c in (low, high) for d in (-0.0055, 0.0, 0.0055)]
        spread = low + (high - low) * np.linspace(0, 1, POINTS - 6)[1:-1] ** 2
        xs = [0.0]
        for x in sorted([*corners, *spread]):
            if x - xs[-1] > 0.005 and 1.0 - x > 0.005:
                xs.append(float(x))
        xs.append(1.0)
        ys = corrected(correction, np.repeat(np.array(xs)[:, None], 3, axis=1))[:, k]
        curves[name] = [(round(x, 4), round(float(y), 4)) for x, y in zip(xs, ys, strict=True)]
    return curves


def fitted(outputs: F64, name: str = "") -> tuple[Correction, float]:
    """The correction that comes nearest to channels' functions, and by how much it is off at most.

    Args:
        outputs: (n, 3): what evenly spread values from 0 to 1 become.
    """
    x = np.linspace(0, 1, len(outputs))
    rows = []
    for k in range(3):

        def off(p: F64, k: int = k) -> F64:
            return np.asarray(np.clip(x * p[0] + p[1], 1e-9, 1) ** p[2] - outputs[:, k])

        from scipy.optimize import least_squares  # heavy, and seldom needed

        found = least_squares(off, [1.0, 0.0, 1.0], bounds=([0, -1, 0.1], [10, 1, 10]))
        rows.append([round(float(v), 6) for v in found.x])
    slope, offset, power = zip(*rows, strict=True)
    correction = Correction(name, slope, offset, power)
    worst = np.abs(corrected(correction, np.repeat(x[:, None], 3, axis=1)) - outputs).max()
    return correction, float(worst)


def write_cdl(correction: Correction) -> bytes:
    """A .cc file of one correction."""

    def three(values: tuple[float, ...]) -> str:
        return " ".join(f"{v:.6f}" for v in values)

    name = re.sub(r"[^\w.-]+", "-", correction.name).strip("-") or "tanner"
    root = ET.Element("ColorCorrection", {"id": name, "xmlns": "urn:ASC:CDL:v1.01"})
    node = ET.SubElement(root, "SOPNode")
    for tag, values in (("Slope", correction.slope), ("Offset", correction.offset), ("Power", correction.power)):
        ET.SubElement(node, tag).text = three(values)
    ET.SubElement(ET.SubElement(root, "SatNode"), "Saturation").text = f"{correction.saturation:g}"
    ET.indent(root)
    return b'<?xml version="1.0" encoding="UTF-8"?>\n' + ET.tostring(root, encoding="utf-8") + b"\n"
