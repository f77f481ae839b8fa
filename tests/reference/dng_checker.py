"""A strict reading of DNG files: every directory against the table of tags and the specification's rules (source: dng17).

It reads bytes by itself; only the table is shared with what writes them.
"""

import hashlib
import struct
from pathlib import Path
from typing import Any

import imagecodecs
import numpy as np

from tanner.core.tiff.dng import BY_CODE, CODES

SIZES = {1: 1, 2: 1, 3: 2, 4: 4, 5: 8, 6: 1, 7: 1, 8: 2, 9: 4, 10: 8, 11: 4, 12: 8, 13: 4}
FORMATS = {1: "B", 3: "H", 4: "I", 6: "b", 8: "h", 9: "i", 11: "f", 12: "d", 13: "I"}
Ifd = dict[str, tuple[int, int, Any]]


def problems(path: Path) -> list[str]:
    """What a strict reader would object to; empty for a good file."""
    return Checker(path.read_bytes()).all()


class Checker:
    def __init__(self, data: bytes) -> None:
        self.data, self.found = data, []  # type: ignore[var-annotated]

    def say(self, text: str) -> None:
        self.found.append(text)

    def ifd(self, at: int, where: str) -> Ifd:
        """Entries by name; sorted, known, of the right types, and inside the file; nothing chained behind."""
        data, found, codes = self.data, {}, []
        (count,) = struct.unpack_from("<H", data, at)
        for i in range(count):
            code, kind, number = struct.unpack_from("<HHI", data, at + 2 + 12 * i)
            codes.append(code)
            tag = BY_CODE.get(code)
            if tag is None:
                self.say(f"{where}: tag {code} is not in the table")
                continue
            size = SIZES[kind] * number
            place = at + 10 + 12 * i if size <= 4 else struct.unpack_from("<I", data, at + 10 + 12 * i)[0]
            if place + size > len(data) or (size > 4 and place % 2):
                self.say(f"{where}: {tag.name} lies outside of the file or on an odd byte")
                continue
            raw = data[place : place + size]
            if kind in (2, 7):
                value: Any = raw
            elif kind in (5, 10):
                pairs = struct.unpack(f"<{2 * number}{'I' if kind == 5 else 'i'}", raw)
                if 0 in pairs[1::2]:
                    self.say(f"{where}: {tag.name} divides by zero")
                    continue
                value = tuple(a / b for a, b in zip(pairs[::2], pairs[1::2], strict=True))
            else:
                value = struct.unpack(f"<{number}{FORMATS[kind]}", raw)
            if kind not in tag.kinds:
                self.say(f"{where}: {tag.name} has type {kind}, not one of {tag.kinds}")
            if kind == 2 and not raw.endswith(b"\0"):
                self.say(f"{where}: {tag.name} does not end with a zero")
            if where not in tag.where and not (where == "main" and "raw" in tag.where):
                self.say(f"{where}: {tag.name} belongs to {tag.where}")
            found[tag.name] = (kind, number, value)
        if codes != sorted(set(codes)):
            self.say(f"{where}: tags are not in order, or twice")
        if struct.unpack_from("<I", data, at + 2 + 12 * count)[0]:
            self.say(f"{where}: a directory is chained behind it")
        return found

    def all(self) -> list[str]:
        if self.data[:4] != b"II*\0":
            return ["no TIFF"]
        main = self.ifd(struct.unpack_from("<I", self.data, 4)[0], "main")
        kind = main.get("PhotometricInterpretation", (0, 0, (0,)))[2][0]
        planes = 3
        state = {"always": True, "mosaic": kind == 32803, "linear": kind == 34892, "YCbCr": False}
        self.due(main, {"main", "raw"}, state)
        self.counts(main, main["SamplesPerPixel"][2][0], planes)
        if kind not in (32803, 34892):
            self.say(f"main: PhotometricInterpretation {kind}")
        if main["NewSubfileType"][2] != (0,):
            self.say("main: the first directory is not the full picture")
        self.levels(main)
        self.colour(main)
        self.pixels(main)
        self.versions(main)
        for place in main.get("SubIFDs", (0, 0, ()))[2]:
            self.preview(self.ifd(place, "preview"))
        if "ExifIFD" in main:
            exif = self.ifd(main["ExifIFD"][2][0], "exif")
            self.counts(exif, 1, planes)
        for place in main.get("ExtraCameraProfiles", (0, 0, ()))[2]:
            if self.data[place : place + 4] != b"IIRC" or place % 2:
                self.say("a further camera profile does not begin as one")
        return self.found

    def due(self, ifd: Ifd, where: set[str], state: dict[str, bool]) -> None:
        for tag in BY_CODE.values():
            if tag.due and where & set(tag.where) and state[tag.due] and tag.name not in ifd:
                self.say(f"{'/'.join(sorted(where))}: {tag.name} is missing")

    def counts(self, ifd: Ifd, samples: int, planes: int) -> None:
        meant = {"samples": samples, "planes": planes, "matrix": 3 * planes, "square": planes * planes}
        for name, (_, number, value) in ifd.items():
            wanted = BY_CODE[CODES[name]].count
            wanted = meant.get(str(wanted), wanted)
            if wanted != -1 and number != wanted:
                self.say(f"{name} has {number} values, not {wanted}")
            if not isinstance(value, bytes) and not all(np.isfinite(v) for v in value):
                self.say(f"{name} holds what is no number")

    def levels(self, main: Ifd) -> None:
        bits = main["BitsPerSample"][2]
        if len(set(bits)) != 1 or not 8 <= bits[0] <= 16:
            self.say(f"BitsPerSample {bits}")
        if main["Compression"][2] == (1,) and bits[0] not in (8, 16):
            self.say(f"{bits[0]} bits, not packed")
        samples = main["SamplesPerPixel"][2][0]
        repeat = main.get("BlackLevelRepeatDim", (0, 0, (1, 1)))[2]
        black = main.get("BlackLevel", (0, 0, (0,) * samples))[2]
        if len(black) != repeat[0] * repeat[1] * samples:
            self.say(f"BlackLevel has {len(black)} values")
        for white in main["WhiteLevel"][2]:
            if not max(black) < white <= 2 ** bits[0] - 1:
                self.say(f"WhiteLevel {white} does not fit {bits[0]} bits and black {max(black)}")
        if main["PhotometricInterpretation"][2] == (32803,):
            rows, columns = main["CFARepeatPatternDim"][2]
            if len(main["CFAPattern"][2]) != rows * columns or max(main["CFAPattern"][2]) > 2:
                self.say("CFAPattern does not fit its size")
        if main["Orientation"][2][0] not in range(1, 9):
            self.say("Orientation is none")

    def colour(self, main: Ifd) -> None:
        if ("AsShotNeutral" in main) == ("AsShotWhiteXY" in main):
            self.say("the white as shot must be said in one way")
        for v in main.get("AsShotNeutral", (0, 0, (1,)))[2]:
            if not 0 < v <= 10:
                self.say(f"AsShotNeutral {v}")
        for k in (1, 2, 3):
            if f"ColorMatrix{k}" in main and k > 1 and f"CalibrationIlluminant{k}" not in main:
                self.say(f"ColorMatrix{k} without its light")
            for stem in ("ForwardMatrix", "CameraCalibration", "ReductionMatrix"):
                if f"{stem}{k}" in main and f"ColorMatrix{k}" not in main:
                    self.say(f"{stem}{k} without ColorMatrix{k}")
            if f"ForwardMatrix{k}" in main:
                # Camera white becomes D50 (source: dng17, chapter 6).
                sums = np.reshape(main[f"ForwardMatrix{k}"][2], (3, 3)).sum(axis=1)
                if np.abs(sums - (0.9642, 1, 0.8249)).max() > 0.02:
                    self.say(f"ForwardMatrix{k} takes white to {sums}")
        if "NoiseProfile" in main and main["NoiseProfile"][1] not in (2, 6):
            self.say("NoiseProfile has neither one pair nor one for each plane")
        if "ProfileHueSatMapData1" in main and main["ProfileHueSatMapData1"][1] != 3 * int(
            np.prod(main["ProfileHueSatMapDims"][2])
        ):
            self.say("ProfileHueSatMapData1 does not fit its dimensions")

    def strips(self, ifd: Ifd, name: str) -> list[bytes]:
        offsets, counts = ifd["StripOffsets"][2], ifd["StripByteCounts"][2]
        if len(offsets) != len(counts) or len(offsets) != -(-ifd["ImageLength"][2][0] // ifd["RowsPerStrip"][2][0]):
            self.say(f"{name}: strips do not cover the picture")
        if any(a + n > len(self.data) for a, n in zip(offsets, counts, strict=True)):
            self.say(f"{name}: pixels lie outside of the file")
        return [self.data[a : a + n] for a, n in zip(offsets, counts, strict=True)]

    def pixels(self, main: Ifd) -> None:
        width, height = main["ImageWidth"][2][0], main["ImageLength"][2][0]
        samples, bits = main["SamplesPerPixel"][2][0], main["BitsPerSample"][2][0]
        strips = self.strips(main, "main")
        if main["Compression"][2] == (7,):
            (strip,) = strips
            at = strip.index(b"\xff\xc3")
            precision, h, w, components = struct.unpack_from(">BHHB", strip, at + 4)
            if precision != bits or h != height or w * components != width * samples:
                self.say(f"the JPEG has {precision} bits and {w} x {h} x {components}")
            numbers = np.asarray(imagecodecs.jpeg8_decode(strip)).reshape(height, width)
        else:
            shape = (height, width) if samples == 1 else (height, width, samples)
            numbers = np.frombuffer(b"".join(strips), "<u2").reshape(shape)
        if numbers.max() > 2**bits - 1:
            self.say("numbers beyond BitsPerSample")
        if main["NewRawImageDigest"][2] != tuple(_digest(numbers)):
            self.say("NewRawImageDigest is another picture's")

    def versions(self, main: Ifd) -> None:
        told, backward = main["DNGVersion"][2], main["DNGBackwardVersion"][2]
        if told > (1, 7, 1, 0) or backward > told:
            self.say(f"version {told}, readable from {backward}")
        for name in main:
            tag = BY_CODE[CODES[name]]
            if tag.since > told:
                self.say(f"{name} is newer than DNGVersion {told}")
            if tag.needs > backward:
                self.say(f"{name} asks more of a reader than {backward}")

    def preview(self, ifd: Ifd) -> None:
        self.due(ifd, {"preview"}, {"always": True, "YCbCr": True, "mosaic": False, "linear": False})
        self.counts(ifd, ifd["SamplesPerPixel"][2][0], 3)
        if ifd["NewSubfileType"][2] != (1,):
            self.say("preview: it does not say that it is one")
        (strip,) = self.strips(ifd, "preview")
        seen = imagecodecs.jpeg8_decode(strip)
        if seen.shape != (ifd["ImageLength"][2][0], ifd["ImageWidth"][2][0], 3):
            self.say("preview: of another size than it says")
        at = strip.index(b"\xff\xc0")
        sampling = strip[at + 11]
        if ifd["YCbCrSubSampling"][2] != (sampling >> 4, sampling & 15):
            self.say("preview: YCbCrSubSampling is another than the JPEG's")


def _digest(numbers: np.ndarray) -> bytes:
    """MD5 of the MD5s of tiles of 256 x 256, planes one after the other (from memory of the reference code)."""
    planes = numbers[None] if numbers.ndim == 2 else numbers.transpose(2, 0, 1)
    sums = b""
    for y in range(0, planes.shape[1], 256):
        for x in range(0, planes.shape[2], 256):
            sums += hashlib.md5(planes[:, y : y + 256, x : x + 256].astype("<u2").tobytes()).digest()
    return hashlib.md5(sums).digest()
