"""What finished files say about themselves: EXIF and XMP, from the facts and the user's words."""

import struct
from fractions import Fraction
from xml.sax.saxutils import escape

from pydantic import BaseModel, ConfigDict

from tanner import __version__
from tanner.core.raw.facts import FrameFacts


class Words(BaseModel):
    """What the photographer says about a frame."""

    model_config = ConfigDict(frozen=True)

    creator: str = ""
    rights: str = ""
    keywords: tuple[str, ...] = ()
    stars: int = 0


def xmp_packet(facts: FrameFacts, words: Words) -> bytes:
    """An XMP packet with dc and xmp properties (source: iso16684-1)."""

    def bag(name: str, kind: str, values: tuple[str, ...]) -> str:
        lang = ' xml:lang="x-default"' if kind == "Alt" else ""
        items = "".join(f"<rdf:li{lang}>{escape(v)}</rdf:li>" for v in values if v)
        return f"<dc:{name}><rdf:{kind}>{items}</rdf:{kind}></dc:{name}>" if items else ""

    body = bag("creator", "Seq", (words.creator,)) + bag("rights", "Alt", (words.rights,))
    body += bag("subject", "Bag", words.keywords)
    rating = f"<xmp:Rating>{words.stars}</xmp:Rating>" if words.stars else ""
    taken = f"<xmp:CreateDate>{facts.taken.isoformat()}</xmp:CreateDate>" if facts.taken else ""
    return (
        '<?xpacket begin="\ufeff" id="W5M0MpCehiHzreSzNTczkc9d"?><x:xmpmeta xmlns:x="adobe:ns:meta/">'
        '<rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description rdf:about=""'
        ' xmlns:dc="http://purl.org/dc/elements/1.1/" xmlns:xmp="http://ns.adobe.com/xap/1.0/">'
        f"<xmp:CreatorTool>Tanner {__version__}</xmp:CreatorTool>{taken}{rating}{body}"
        '</rdf:Description></rdf:RDF></x:xmpmeta><?xpacket end="w"?>'
    ).encode()


def exif_block(facts: FrameFacts, words: Words, size: tuple[int, int], ppi: int) -> bytes:
    """A small EXIF block (TIFF structure, little endian): camera, exposure, date; upright."""
    Entry = tuple[int, int, int, bytes]

    def text(tag: int, value: str) -> list[Entry]:
        data = value.encode("ascii", "replace") + b"\0"
        return [(tag, 2, len(data), data)] if value else []

    def rational(tag: int, value: float | None) -> list[Entry]:
        if not value or value <= 0 or value > 4e9:
            return []
        f = Fraction(value).limit_denominator(100000)
        return [(tag, 5, 1, struct.pack("<II", f.numerator, f.denominator))]

    main: list[Entry] = [
        *text(271, facts.make),
        *text(272, facts.model),
        (274, 3, 1, struct.pack("<H", 1)),
        *rational(282, ppi),
        *rational(283, ppi),
        (296, 3, 1, struct.pack("<H", 2)),
        *text(305, f"Tanner {__version__}"),
        *text(315, words.creator),
        *text(33432, words.rights),
    ]
    sub: list[Entry] = [
        *rational(33434, facts.exposure_s),
        *rational(33437, facts.aperture),
        *([(34855, 3, 1, struct.pack("<H", min(facts.iso, 65535)))] if facts.iso else []),
        (36864, 7, 4, b"0232"),
        *text(36867, facts.taken.strftime("%Y:%m:%d %H:%M:%S") if facts.taken else ""),
        *rational(37386, facts.focal_length_mm),
        (40962, 4, 1, struct.pack("<I", size[0])),
        (40963, 4, 1, struct.pack("<I", size[1])),
        *text(42036, facts.lens),
    ]

    def block(entries: list[Entry], at: int) -> bytes:
        entries = sorted(entries)
        head, body, after = struct.pack("<H", len(entries)), b"", at + 6 + 12 * len(entries)
        for tag, kind, count, data in entries:
            if len(data) <= 4:
                value = data.ljust(4, b"\0")
            else:
                value = struct.pack("<I", after + len(body))
                body += data + b"\0" * (len(data) % 2)
            head += struct.pack("<HHI", tag, kind, count) + value
        return head + b"\0\0\0\0" + body

    placeholder: Entry = (34665, 4, 1, b"\0\0\0\0")
    at = 8 + len(block([*main, placeholder], 8))
    return b"II*\0\x08\0\0\0" + block([*main, (34665, 4, 1, struct.pack("<I", at))], 8) + block(sub, at)
