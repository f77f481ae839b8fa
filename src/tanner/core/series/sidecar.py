"""Sidecars: a frame's development as an XMP file beside its original (source: iso16684-1).

Rating, label and keywords stand in their standard properties; what is Tanner's own stands in a namespace of its own, values
as JSON text. `shown` holds the whole resolved development, for a machine that lacks the lead.
"""

import glob
import json
import math
import xml.etree.ElementTree as ET
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from pydantic import BaseModel

from tanner import __version__
from tanner.core.adjust.registry import declared, develop
from tanner.core.errors import FormatError, SettingsError
from tanner.core.output.captions import SPACES, TEXT_FIELDS, Captions, xmp_properties
from tanner.core.series.resolve import known_offsets
from tanner.core.texts import in_xml, json_in_xml

NS = "https://tanner.invalid/ns/development/1/"
"""Ours; a name only, nothing is there to be fetched."""
RDF = "http://www.w3.org/1999/02/22-rdf-syntax-ns#"
XMP = "http://ns.adobe.com/xap/1.0/"
DC = "http://purl.org/dc/elements/1.1/"
ENDING = ".tanner.xmp"
"""After the original's whole name: what other programs keep beside it is never touched."""
MOST_BYTES = 1_000_000
LABELS = ("none", "red", "yellow", "green", "blue", "violet")


@dataclass(frozen=True)
class Sidecar:
    """What a sidecar holds.

    Attributes:
        own, offsets, worn, follows: the frame's own layer; shown: all values as resolved when it was written.
        words: what the frame itself says (see `core.output.words`); said: the same over its shoot's words, for others.
        content: hash of the original; changed: when it was written; group: name of the frame's set; lead: it leads it.
    """

    own: dict[str, Any] = field(default_factory=dict)
    offsets: dict[str, Any] = field(default_factory=dict)
    worn: list[Any] = field(default_factory=list)
    follows: bool = True
    shown: dict[str, Any] = field(default_factory=dict)
    content: str = ""
    changed: datetime | None = None
    group: str = ""
    lead: bool = False
    stars: int = 0
    label: str = "none"
    keywords: tuple[str, ...] = ()
    words: dict[str, str] = field(default_factory=dict)
    said: dict[str, str] = field(default_factory=dict)

    def same_development(self, other: "Sidecar") -> bool:
        """Whether two say the same about a frame, whenever they were written."""
        mine, theirs = (
            (s.own, s.offsets, s.follows, s.stars, s.label, s.keywords, s.words, [w.get("key") for w in s.worn])
            for s in (self, other)
        )
        return mine == theirs


class _Beneath(BaseModel):
    own: dict[str, Any] = {}
    offsets: dict[str, Any] = {}


class _AppliedPreset(BaseModel):
    """A preset that lies on a frame, as `series.applied_presets` keeps it."""

    key: str
    name: str
    amount: float
    values: dict[str, Any]
    beneath: _Beneath = _Beneath()


def sidecar_bytes(sidecar: Sidecar) -> bytes:
    """The file: an XMP packet without a wrapper, as beside originals."""
    values = {
        "Own": sidecar.own, "Offsets": sidecar.offsets, "Worn": sidecar.worn, "Follows": sidecar.follows,
        "Shown": sidecar.shown, "Words": sidecar.words, "Content": sidecar.content, "Set": sidecar.group, "Lead": sidecar.lead,
    }  # fmt: skip
    lines = [
        f"   <tanner:{k}>{json_in_xml(json.dumps(v, ensure_ascii=False, sort_keys=True))}</tanner:{k}>"
        for k, v in values.items()
    ]
    changed = (sidecar.changed or datetime.now(UTC)).isoformat(timespec="seconds")
    words = "".join(f"<rdf:li>{in_xml(k)}</rdf:li>" for k in sidecar.keywords)
    subject = f"   <dc:subject><rdf:Bag>{words}</rdf:Bag></dc:subject>\n" if words else ""
    label = f"   <xmp:Label>{in_xml(sidecar.label)}</xmp:Label>\n" if sidecar.label != "none" else ""
    said = xmp_properties(Captions.model_validate(sidecar.said))
    body = "\n".join(lines + ([f"   {said}"] if said else []))
    spaces = "".join(f' xmlns:{k}="{v}"' for k, v in SPACES.items() if k not in ("xmp", "dc"))
    return (
        f'<?xml version="1.0" encoding="UTF-8"?>\n<x:xmpmeta xmlns:x="adobe:ns:meta/">\n <rdf:RDF xmlns:rdf="{RDF}">\n'
        f'  <rdf:Description rdf:about="" xmlns:xmp="{XMP}" xmlns:dc="{DC}" xmlns:tanner="{NS}"{spaces}>\n'
        f"   <xmp:CreatorTool>Tanner {__version__}</xmp:CreatorTool>\n   <xmp:MetadataDate>{changed}</xmp:MetadataDate>\n"
        f"   <xmp:Rating>{sidecar.stars}</xmp:Rating>\n{label}{subject}{body}\n"
        "  </rdf:Description>\n </rdf:RDF>\n</x:xmpmeta>\n"
    ).encode()


def beside(original: Path, alternate: int = 0) -> Path:
    """Where an original's sidecar lies, or that of one of its alternates."""
    return original.with_name(f"{original.name}{f'.alternate-{alternate}' if alternate else ''}{ENDING}")


def alternates_beside(original: Path) -> dict[int, Path]:
    """Sidecars of alternates by their number."""
    start = f"{original.name}.alternate-"
    found = {}
    for path in original.parent.glob(f"{glob.escape(start)}*{glob.escape(ENDING)}"):
        number = path.name[len(start) : -len(ENDING)]
        if number.isascii() and number.isdigit() and 0 < int(number) < 100 and not path.is_symlink():
            found[int(number)] = path
    return dict(sorted(found.items()))


def found_beside(original: Path) -> Path | None:
    """The sidecar that there is: ours, else one of another program, of which the marks are taken."""
    names = (beside(original), original.with_name(original.name + ".xmp"), original.with_suffix(".xmp"))
    return next((p for p in names if p.is_file() and not p.is_symlink()), None)


def parse_sidecar(data: bytes, where: str) -> Sidecar | None:
    """What a sidecar says; None when it is an XMP file that holds nothing of ours and no marks either.

    Raises:
        FormatError: it is no XMP, is damaged, or holds values that the declarations refuse.
    """
    if len(data) > MOST_BYTES:
        raise FormatError(f"{where}: is too large for a sidecar.")
    if b"<!DOCTYPE" in data or b"<!ENTITY" in data:
        raise FormatError(f"{where}: declares entities, which no sidecar needs; it is left alone.")
    try:
        root = ET.fromstring(data.decode("utf-8-sig").strip("\x00\n\r\t "))
    except (ET.ParseError, UnicodeDecodeError, ValueError) as error:
        raise FormatError(f"{where}: is damaged ({error}).") from None
    found = _properties(root)
    try:
        return _sidecar(found)
    except (ValueError, TypeError, AttributeError, SettingsError) as error:
        raise FormatError(f"{where}: holds values that make no sense ({error}).") from None


def _properties(root: ET.Element) -> dict[str, Any]:
    """Properties of all descriptions, by namespace and name; elements and attributes alike."""
    found: dict[str, Any] = {}
    for description in root.iter(f"{{{RDF}}}Description"):
        found |= {k: v for k, v in description.attrib.items() if not k.startswith(f"{{{RDF}}}")}
        for child in description:
            items = [li.text or "" for li in child.iter(f"{{{RDF}}}li")]
            found[child.tag] = items if items else (child.text or "").strip()
    return found


def _sidecar(found: dict[str, Any]) -> Sidecar | None:
    def ours(name: str, otherwise: Any) -> Any:
        text = found.get(f"{{{NS}}}{name}")
        return otherwise if text is None else json.loads(text)

    rating = found.get(f"{{{XMP}}}Rating")
    stars = int(min(5, max(0, float(rating)))) if rating and math.isfinite(float(rating)) else 0
    label = str(found.get(f"{{{XMP}}}Label", "none")).lower()
    keywords = found.get(f"{{{DC}}}subject", [])
    marks = rating is not None or f"{{{XMP}}}Label" in found or bool(keywords)
    if not marks and not any(k.startswith(f"{{{NS}}}") for k in found):
        return None
    date = found.get(f"{{{XMP}}}MetadataDate")
    own, shown = _known(ours("Own", {})), _known(ours("Shown", {}))
    offsets = known_offsets(ours("Offsets", {}))
    applied = [_AppliedPreset.model_validate(w).model_dump() for w in ours("Worn", [])]
    return Sidecar(
        own=own, offsets=offsets, worn=applied, follows=bool(ours("Follows", True)), shown=shown,
        content=str(ours("Content", "")), changed=_when(date), group=str(ours("Set", "")), lead=bool(ours("Lead", False)),
        stars=stars, label=label if label in LABELS else "none",
        keywords=tuple(keywords if isinstance(keywords, list) else [keywords]),
        words={k: str(v) for k, v in ours("Words", {}).items() if k in TEXT_FIELDS},
    )  # fmt: skip


def _known(values: dict[str, Any]) -> dict[str, Any]:
    """Values that this version knows, checked; those of a newer one are left out."""
    known = {k: v for k, v in values.items() if declared(k)}
    develop(known)
    return known


def _when(text: Any) -> datetime | None:
    try:
        found = datetime.fromisoformat(str(text))
    except ValueError:
        return None
    return found if found.tzinfo else found.replace(tzinfo=UTC)
