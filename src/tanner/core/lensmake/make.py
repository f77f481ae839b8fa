"""A lens file in the open database's form, measured from frames."""

import re
import xml.etree.ElementTree as ElementTree
from collections.abc import Sequence
from dataclasses import asdict
from typing import Any
from xml.sax.saxutils import escape

import numpy as np
from numpy.typing import NDArray

from tanner.core.lensmake.edges import Chain, chains
from tanner.core.lensmake.fit import Distortion, FallOff, MakeError, Samples, Seams, distortion, fall_off, seams
from tanner.core.optics import database
from tanner.core.raw.facts import FrameFacts
from tanner.core.raw.source import Source
from tanner.core.render import plain_planes

F32 = NDArray[np.float32]
EDGE = 3200
"""Long edge in px at which edges are measured; places are exact to a few hundredths of that."""
FULL_FRAME = 43.2666


def make_lens(sources: Sequence[Source], even: Source | None = None) -> tuple[str, dict[str, Any]]:
    """Measure a lens from frames with straight edges, and its fall-off from one of an even surface.

    Args:
        sources: one or several frames of one lens at one focal length; may be empty where `even` is given.

    Returns:
        The XML, and a report: name, key, and per correction what it was before and is after (px at the frame's own
        size, EV).

    Raises:
        MakeError: with what is wrong with the frames and what to do.
    """
    if not sources and even is None:
        raise MakeError("No frames to measure a lens from.")
    facts = (sources[0] if sources else even).facts  # type: ignore[union-attr]
    _same(facts, [s.facts for s in (*sources, *([even] if even else []))])
    report: dict[str, Any] = {"frames": len(sources), "focal_length_mm": facts.focal_length_mm}
    bent: Distortion | None = None
    coloured: Seams | None = None
    scale = 1.0
    if sources:
        frames: list[tuple[list[Chain], tuple[int, int]]] = []
        best: tuple[int, Any] = (-1, None)
        for source in sources:
            planes = plain_planes(source, EDGE)
            scale = max(source.size) / max(planes.shape[1:])
            roots = np.sqrt(np.maximum(planes, 0))
            found = chains(np.ascontiguousarray(roots[0] * 0.25 + roots[1] * 0.5 + roots[2] * 0.25))
            frames.append((found, (planes.shape[2], planes.shape[1])))
            if len(found) > best[0]:
                best = len(found), (_colours(source, roots, scale), frames[-1][1], found)
        bent = distortion(frames)
        report["distortion"] = {
            **asdict(bent), "before": round(bent.before * scale, 3), "after": round(bent.after * scale, 3),
        }  # fmt: skip
        try:
            coloured = seams(*best[1])
            report["lateral_colour"] = {
                **asdict(coloured), "before": round(coloured.before * scale, 3), "after": round(coloured.after * scale, 3),
            }  # fmt: skip
        except MakeError as error:
            report["lateral_colour"] = {"left_out": str(error)}
    lit: FallOff | None = None
    if even is not None:
        lit = fall_off(np.ascontiguousarray(plain_planes(even, 480)[1]))
        report["fall_off"] = {**asdict(lit), "before": round(lit.before, 3), "after": round(lit.after, 3)}
    crop = _crop(facts)
    name = facts.lens or f"Lens of {facts.camera_name or 'an unknown camera'}"
    lens_name = name if facts.lens else f"{name}, {facts.focal_length_mm or 0:g} mm"
    report |= {"name": lens_name, "key": f"{database.OWN}: {lens_name} ({crop:.3g})"}
    return _xml(facts, lens_name, crop, bent, coloured, lit), report


def _colours(source: Source, roots: F32, scale: float) -> list[list[Samples]]:
    """The colours as the sensor sampled them: a Bayer mosaic's four, else the planes themselves."""
    if source.facts.kind != "bayer" or source.facts.pattern is None:
        return [[Samples(np.ascontiguousarray(p), 1.0, 0.5, 0.5)] for p in roots]
    ry, rx = source.facts.pattern
    black = np.array(source.facts.black).reshape(2, 2)

    def part(y: int, x: int) -> Samples:
        level = source.data[y::2, x::2].astype(np.float32) - np.float32(black[y, x])
        values = np.sqrt(np.maximum(level / np.float32(source.facts.white - black[y, x]), 0))
        return Samples(values, 2 / scale, (x + 0.5) / scale, (y + 0.5) / scale)

    return [[part(ry, rx)], [part(ry, 1 - rx), part(1 - ry, rx)], [part(1 - ry, 1 - rx)]]


def _same(facts: FrameFacts, others: Sequence[FrameFacts]) -> None:
    for other in others:
        if (other.lens, other.focal_length_mm, other.width, other.height) != (
            facts.lens, facts.focal_length_mm, facts.width, facts.height,
        ):  # fmt: skip
            raise MakeError("The frames are not all of one lens, focal length and size. Measure each for itself.")
        if other.kind == "finished":
            raise MakeError("A finished picture may be corrected already. Measure a lens from raw files.")


def _crop(facts: FrameFacts) -> float:
    if facts.focal_length_35mm and facts.focal_length_mm:
        return facts.focal_length_35mm / facts.focal_length_mm
    return database.crop_factor(facts.make, facts.model) or 1.0


def _ratio(facts: FrameFacts) -> str:
    long, short = max(facts.width, facts.height), min(facts.width, facts.height)
    return f"{long / short:.4f}"


def _xml(
    facts: FrameFacts, name: str, crop: float, bent: Distortion | None, coloured: Seams | None, lit: FallOff | None
) -> str:
    focal = f'focal="{facts.focal_length_mm or 50:g}"'
    rows = []
    if bent:
        rows.append(f'<distortion model="ptlens" {focal} a="{bent.a:.6f}" b="{bent.b:.6f}" c="{bent.c:.6f}"/>')
    if coloured:
        (vr, br), (vb, bb) = coloured.red, coloured.blue
        rows.append(f'<tca model="poly3" {focal} vr="{vr:.7f}" vb="{vb:.7f}" br="{br:.7f}" bb="{bb:.7f}"/>')
    if lit:
        aperture = f'aperture="{facts.aperture or 8:g}"'
        terms = f'k1="{lit.k1:.5f}" k2="{lit.k2:.5f}" k3="{lit.k3:.5f}"'
        # The same at all distances: one is known, and the database interpolates between two.
        rows += [f'<vignetting model="pa" {focal} {aperture} distance="{d}" {terms}/>' for d in ("0.5", "1000")]
    lines = "\n      ".join(rows)
    plain = escape(re.sub(r"[\x00-\x1f]", " ", name))
    return f"""<!DOCTYPE lensdatabase SYSTEM "lensfun-database.dtd">
<lensdatabase version="1">
  <mount><name>Any</name></mount>
  <lens>
    <maker>{database.OWN}</maker>
    <model>{plain}</model>
    <mount>Any</mount>
    <cropfactor>{crop:.4f}</cropfactor>
    <aspect-ratio>{_ratio(facts)}</aspect-ratio>
    <calibration>
      {lines}
    </calibration>
  </lens>
</lensdatabase>
"""


def joined(new: str, old: str) -> str:
    """The XML of a lens with what an older file holds of it at other focal lengths, between which the database interpolates.

    A part (distortion, seams or fall-off) that the new measurement lacks stays as it was. An older file that cannot be
    read counts for nothing.
    """
    try:
        before = ElementTree.fromstring(old).find("lens/calibration")
    except ElementTree.ParseError:
        before = None
    tree = ElementTree.fromstring(new)
    calibration = tree.find("lens/calibration")
    if calibration is None or before is None:
        return new
    measured = {(part.tag, float(part.get("focal", "0"))) for part in calibration}
    for part in before:
        if (part.tag, float(part.get("focal", "0"))) not in measured:
            calibration.append(part)
    ElementTree.indent(tree)
    return ElementTree.tostring(tree, encoding="unicode") + "\n"
