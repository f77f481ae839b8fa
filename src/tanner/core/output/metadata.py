"""What finished files say about themselves: EXIF, XMP and IIM blocks, from the facts and the user's captions."""

import struct
from dataclasses import dataclass
from fractions import Fraction

from tanner import __version__
from tanner.core.output.captions import SPACES, Captions, exif_texts, iim_record, xmp_properties
from tanner.core.raw.facts import FrameFacts


@dataclass(frozen=True)
class Blocks:
    """Metadata as bytes, each empty where a spec's policy leaves it out."""

    exif: bytes = b""
    xmp: bytes = b""
    iim: bytes = b""


def xmp_packet(facts: FrameFacts, captions: Captions, *, plain: bool = False) -> bytes:
    """An XMP packet (source: iso16684-1); `plain`: nothing but the captions."""
    rating = f"<xmp:Rating>{captions.stars}</xmp:Rating>" if captions.stars else ""
    taken = f"<xmp:CreateDate>{facts.taken.isoformat()}</xmp:CreateDate>" if facts.taken and not plain else ""
    tool = "" if plain else f"<xmp:CreatorTool>Tanner {__version__}</xmp:CreatorTool>"
    spaces = "".join(f' xmlns:{k}="{v}"' for k, v in SPACES.items())
    return (
        '<?xpacket begin="\ufeff" id="W5M0MpCehiHzreSzNTczkc9d"?><x:xmpmeta xmlns:x="adobe:ns:meta/">'
        '<rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description rdf:about=""'
        f"{spaces}>{tool}{taken}{rating}{xmp_properties(captions)}"
        '</rdf:Description></rdf:RDF></x:xmpmeta><?xpacket end="w"?>'
    ).encode()


def exif_block(facts: FrameFacts, captions: Captions, size: tuple[int, int], ppi: int, *, plain: bool = False) -> bytes:
    """A small EXIF block (TIFF structure, little endian): camera, exposure, date; upright. `plain`: captions and ppi only."""
    Entry = tuple[int, int, int, bytes]

    def text(tag: int, value: str) -> list[Entry]:
        data = value.encode() + b"\0"
        return [(tag, 2, len(data), data)] if value else []

    def rational(tag: int, value: float | None) -> list[Entry]:
        if not value or value <= 0 or value > 4e9:
            return []
        f = Fraction(value).limit_denominator(100000)
        return [(tag, 5, 1, struct.pack("<II", f.numerator, f.denominator))]

    main: list[Entry] = [
        *([] if plain else text(271, facts.make)),
        *([] if plain else text(272, facts.model)),
        (274, 3, 1, struct.pack("<H", 1)),
        *rational(282, ppi),
        *rational(283, ppi),
        (296, 3, 1, struct.pack("<H", 2)),
        *([] if plain else text(305, f"Tanner {__version__}")),
    ]
    for tag, value in exif_texts(captions).items():
        main += text(tag, value)
    sub: list[Entry] = [
        (36864, 7, 4, b"0232"),
        (40962, 4, 1, struct.pack("<I", size[0])),
        (40963, 4, 1, struct.pack("<I", size[1])),
    ]
    if not plain:
        sub += [
            *rational(33434, facts.exposure_s),
            *rational(33437, facts.aperture),
            *([(34855, 3, 1, struct.pack("<H", min(facts.iso, 65535)))] if facts.iso else []),
            *text(36867, facts.taken.strftime("%Y:%m:%d %H:%M:%S") if facts.taken else ""),
            *rational(37386, facts.focal_length_mm),
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


def blocks(
    facts: FrameFacts, captions: Captions, size: tuple[int, int], ppi: int, policy: str, place: bool, keywords: bool
) -> Blocks:
    """What a file carries by a policy: "all", "contact" (author, rights and contact only) or "none"."""
    if policy == "none":
        return Blocks()
    plain = policy == "contact"
    let = captions.only(contact_only=plain, place=place, keywords=keywords)
    if captions.taken:
        facts = facts.model_copy(update={"taken": captions.taken})
    return Blocks(
        exif_block(facts, let, size, ppi, plain=plain),
        xmp_packet(facts, let, plain=plain),
        iim_record(let, None if plain else facts.taken),
    )
