"""What the photographer says of a frame: IPTC Photo Metadata, one declaration a field.

Names, XMP properties, datasets and their lengths: (source: iptcpm2023); IIM records: (source: iim4); tags: (source: exif30);
which of them stand for the same: (source: mwg2010). Text is UTF-8 everywhere, which IIM says by its coded character set.
"""

import struct
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from tanner.core.output.naming import filled
from tanner.core.texts import in_xml

Kind = Literal["text", "lang", "seq", "bag", "contact"]
"""How XMP holds it: plain, with a language, in order, in any order, or inside the creator's contact."""
Part = Literal["contact", "picture", "place", "keywords"]


@dataclass(frozen=True)
class CaptionField:
    """One field: its name here and on screen, its XMP property, IIM dataset of record 2 with most bytes, EXIF tag."""

    name: str
    label: str
    part: Part
    xmp: str
    kind: Kind = "text"
    iim: int = 0
    most: int = 0
    exif: int = 0


FIELDS = (
    CaptionField("creator", "Author", "contact", "dc:creator", "seq", 80, 32, 315),
    CaptionField("rights", "Rights", "contact", "dc:rights", "lang", 116, 128, 33432),
    CaptionField("usage", "Usage terms", "contact", "xmpRights:UsageTerms", "lang"),
    CaptionField("email", "E-mail", "contact", "Iptc4xmpCore:CiEmailWork", "contact"),
    CaptionField("phone", "Telephone", "contact", "Iptc4xmpCore:CiTelWork", "contact"),
    CaptionField("web", "Web address", "contact", "Iptc4xmpCore:CiUrlWork", "contact"),
    CaptionField("address", "Postal address", "contact", "Iptc4xmpCore:CiAdrExtadr", "contact"),
    CaptionField("headline", "Headline", "picture", "ipm:Headline", "text", 105, 256),
    CaptionField("caption", "Caption", "picture", "dc:description", "lang", 120, 2000, 270),
    CaptionField("keywords", "Keywords", "keywords", "dc:subject", "bag", 25, 64),
    CaptionField("sublocation", "Place: street, building", "place", "Iptc4xmpCore:Location", "text", 92, 32),
    CaptionField("city", "Place: city", "place", "ipm:City", "text", 90, 32),
    CaptionField("region", "Place: region", "place", "ipm:State", "text", 95, 32),
    CaptionField("country", "Place: country", "place", "ipm:Country", "text", 101, 64),
    CaptionField("country_code", "Place: country code", "place", "Iptc4xmpCore:CountryCode", "text", 100, 3),
)
TEXT_FIELDS = tuple(f.name for f in FIELDS if f.name != "keywords")
Line = Field(default="", max_length=5000)


class Captions(BaseModel):
    """The captions of one frame; texts may hold tokens of names until they are filled."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    creator: str = Line
    rights: str = Line
    usage: str = Line
    email: str = Line
    phone: str = Line
    web: str = Line
    address: str = Line
    headline: str = Line
    caption: str = Line
    keywords: tuple[str, ...] = ()
    sublocation: str = Line
    city: str = Line
    region: str = Line
    country: str = Line
    country_code: str = Line
    stars: int = 0
    paths: tuple[tuple[str, ...], ...] = ()
    """The way to each keyword that lies below others in the tree, from its top."""
    taken: datetime | None = None
    """When it was taken, where the file's own time is wrong."""

    def over(self, values: Mapping[str, Any]) -> "Captions":
        """These with others over them; what is empty there does not count."""
        return self.model_copy(update={k: v for k, v in values.items() if v and k in type(self).model_fields})

    def with_tokens(self, values: Mapping[str, object]) -> "Captions":
        """Tokens in braces filled; braces that are none stay as they are."""
        return self.model_copy(update={n: filled(getattr(self, n), values) for n in TEXT_FIELDS if getattr(self, n)})

    def only(self, *, contact_only: bool, place: bool, keywords: bool) -> "Captions":
        """What a spec's policy lets through."""
        drop = {f.name for f in FIELDS if contact_only and f.part != "contact"}
        drop |= {f.name for f in FIELDS if not place and f.part == "place"}
        drop |= set() if keywords else {"keywords"}
        kept = {f.name: getattr(self, f.name) for f in FIELDS if f.name not in drop}
        paths = () if contact_only or not keywords else self.paths
        return Captions(**kept, stars=0 if contact_only else self.stars, paths=paths, taken=self.taken)


SPACES = {
    "dc": "http://purl.org/dc/elements/1.1/",
    "xmp": "http://ns.adobe.com/xap/1.0/",
    "xmpRights": "http://ns.adobe.com/xap/1.0/rights/",
    # So named by the IPTC standard, like the image resource block below; the prefix is free.
    "ipm": "http://ns.adobe.com/photoshop/1.0/",
    "Iptc4xmpCore": "http://iptc.org/std/Iptc4xmpCore/1.0/xmlns/",
    "mwg-kw": "http://www.metadataworkinggroup.com/schemas/keywords/",
}


def hierarchy(paths: Iterable[Sequence[str]]) -> str:
    """Keywords below others, as the tree that MWG's guidelines write (source: mwg2010, "Keywords")."""
    tree: dict[str, Any] = {}
    for path in paths:
        here = tree
        for name in path:
            here = here.setdefault(name, {})

    def written(nodes: Mapping[str, Any]) -> str:
        rows = ""
        for name, below in nodes.items():
            children = f"<mwg-kw:Children>{written(below)}</mwg-kw:Children>" if below else ""
            rows += (
                f'<rdf:li rdf:parseType="Resource"><mwg-kw:Keyword>{in_xml(name)}</mwg-kw:Keyword>{children}</rdf:li>'
            )
        return f"<rdf:Bag>{rows}</rdf:Bag>"

    if not tree:
        return ""
    return (
        '<mwg-kw:Keywords rdf:parseType="Resource">'
        f"<mwg-kw:Hierarchy>{written(tree)}</mwg-kw:Hierarchy></mwg-kw:Keywords>"
    )


def xmp_properties(captions: Captions) -> str:
    """The fields as XMP elements, for a description that declares `SPACES`."""
    out, contact = "", ""
    for f in FIELDS:
        value = getattr(captions, f.name)
        if not value:
            continue
        if f.kind == "contact":
            contact += f"<{f.xmp}>{in_xml(value)}</{f.xmp}>"
        elif f.kind == "text":
            out += f"<{f.xmp}>{in_xml(value)}</{f.xmp}>"
        else:
            items = [v for v in value if v] if f.kind == "bag" else [value]
            lang = ' xml:lang="x-default"' if f.kind == "lang" else ""
            box = {"lang": "Alt", "seq": "Seq", "bag": "Bag"}[f.kind]
            listed = "".join(f"<rdf:li{lang}>{in_xml(v)}</rdf:li>" for v in items)
            out += f"<{f.xmp}><rdf:{box}>{listed}</rdf:{box}></{f.xmp}>"
    if contact:
        name = "Iptc4xmpCore:CreatorContactInfo"
        out += f'<{name} rdf:parseType="Resource">{contact}</{name}>'
    if captions.rights:
        out += "<xmpRights:Marked>True</xmpRights:Marked>"
    return out + hierarchy(captions.paths)


def _dataset(record: int, number: int, data: bytes) -> bytes:
    return struct.pack(">BBBH", 0x1C, record, number, len(data)) + data


def _cut(text: str, most: int) -> bytes:
    """UTF-8 of at most so many bytes, never in the middle of a character."""
    return text.encode()[:most].decode(errors="ignore").encode()


def iim_record(captions: Captions, taken: datetime | None = None) -> bytes:
    """The fields as IIM datasets, or b"" where there is nothing to say."""
    sets = []
    for f in FIELDS:
        value = getattr(captions, f.name)
        if f.iim and value:
            sets += [(f.iim, _cut(v, f.most)) for v in (value if isinstance(value, tuple) else (value,)) if v]
    if not sets:
        return b""
    if taken:
        sets += [(55, taken.strftime("%Y%m%d").encode()), (60, taken.strftime("%H%M%S+0000").encode())]
    head = _dataset(1, 90, b"\x1b%G") + _dataset(2, 0, struct.pack(">H", 4))
    return head + b"".join(_dataset(2, number, data) for number, data in sorted(sets, key=lambda s: s[0]))


def iim_resource(iim: bytes) -> bytes:
    """IIM as the image resource block in which JPEG files hold it (APP13)."""
    body = b"8BIM" + struct.pack(">HHI", 0x0404, 0, len(iim)) + iim + b"\0" * (len(iim) % 2)
    return b"Photoshop 3.0\0" + body


def exif_texts(captions: Captions) -> dict[int, str]:
    """The fields that EXIF has tags for."""
    return {f.exif: getattr(captions, f.name) for f in FIELDS if f.exif and getattr(captions, f.name)}
