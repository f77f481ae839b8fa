"""The tags of the DNG specification that Tanner reads, writes or hands on: one table (source: dng17, chapters 2 to 6).

Names and codes are the specification's. Whoever reads tags, writes them or checks what was written reads this table.
"""

from dataclasses import dataclass
from typing import Literal

from tanner.core.tiff.ifd import (
    ASCII,
    BYTE,
    DOUBLE,
    FLOAT,
    LONG,
    RATIONAL,
    SHORT,
    SRATIONAL,
    UNDEFINED,
)

Version = tuple[int, int, int, int]
Where = Literal["main", "raw", "preview", "exif"]
MAIN, RAW, PREVIEW, EXIF = "main", "raw", "preview", "exif"
ANY = -1
"""A count that the tag's own meaning sets."""


@dataclass(frozen=True)
class Tag:
    """One tag as the specification has it.

    Attributes:
        kinds: TIFF types that are allowed; the first is the one that is written.
        count: how many values: a number, ANY, "samples", "planes" (of the sensor's colours), "matrix" (planes x 3),
            or "square" (planes x planes).
        where: main directory, the directory of the raw picture (here the same one), a preview's, EXIF.
        due: when it must be there: "" (never), "always", "mosaic", "linear" or "YCbCr".
        since: the first version that knows the tag; needs: what a reader must know to use the file rightly.
        kept: a file that stands for another one says what that one said.
    """

    code: int
    name: str
    kinds: tuple[int, ...]
    count: int | str = 1
    where: tuple[Where, ...] = ("main",)
    due: str = ""
    since: Version = (1, 0, 0, 0)
    needs: Version = (1, 1, 0, 0)
    kept: bool = False


_PIXELS: tuple[Where, ...] = ("raw", "preview")
_INT = (LONG, SHORT)


def _profile() -> list[Tag]:
    """Colour of the camera and of its profile: all of it is kept."""
    v12, v14, v16 = (1, 2, 0, 0), (1, 4, 0, 0), (1, 6, 0, 0)
    found = []
    for k, colour, calibration, reduction, light, forward, data in (
        (1, 50721, 50723, 50725, 50778, 50964, 52533),
        (2, 50722, 50724, 50726, 50779, 50965, 52534),
        (3, 52531, 52530, 52538, 52529, 52532, 52535),
    ):
        # A reader that does not know a third light would take the other two for all that there is.
        since = v16 if k == 3 else (1, 0, 0, 0)
        needs = v16 if k == 3 else (1, 1, 0, 0)
        found += [
            Tag(
                colour,
                f"ColorMatrix{k}",
                (SRATIONAL,),
                "matrix",
                due="always" if k == 1 else "",
                since=since,
                needs=needs,
                kept=True,
            ),
            Tag(calibration, f"CameraCalibration{k}", (SRATIONAL,), "square", since=since, needs=needs, kept=True),
            Tag(reduction, f"ReductionMatrix{k}", (SRATIONAL,), "matrix", since=since, needs=needs, kept=True),
            Tag(light, f"CalibrationIlluminant{k}", (SHORT,), since=since, needs=needs, kept=True),
            Tag(forward, f"ForwardMatrix{k}", (SRATIONAL,), "matrix", since=max(since, v12), needs=needs, kept=True),
            Tag(data, f"IlluminantData{k}", (UNDEFINED,), ANY, since=v16, kept=True, needs=v16),
        ]
    for k, code in ((1, 50938), (2, 50939), (3, 52537)):
        found.append(Tag(code, f"ProfileHueSatMapData{k}", (FLOAT,), ANY, since=v16 if k == 3 else v12, kept=True))
    return [
        *found,
        Tag(50727, "AnalogBalance", (RATIONAL,), "planes", kept=True),
        Tag(50931, "CameraCalibrationSignature", (ASCII, BYTE), ANY, since=v12, kept=True),
        Tag(50932, "ProfileCalibrationSignature", (ASCII, BYTE), ANY, since=v12, kept=True),
        Tag(50933, "ExtraCameraProfiles", (LONG,), ANY, since=v12),
        Tag(50936, "ProfileName", (ASCII, BYTE), ANY, since=v12, kept=True),
        Tag(50937, "ProfileHueSatMapDims", (LONG,), 3, since=v12, kept=True),
        Tag(50940, "ProfileToneCurve", (FLOAT,), ANY, since=v12, kept=True),
        Tag(50941, "ProfileEmbedPolicy", (LONG,), since=v12, kept=True),
        Tag(50942, "ProfileCopyright", (ASCII, BYTE), ANY, since=v12, kept=True),
        Tag(50981, "ProfileLookTableDims", (LONG,), 3, since=v12, kept=True),
        Tag(50982, "ProfileLookTableData", (FLOAT,), ANY, since=v12, kept=True),
        Tag(51107, "ProfileHueSatMapEncoding", (LONG,), since=v14, kept=True),
        Tag(51108, "ProfileLookTableEncoding", (LONG,), since=v14, kept=True),
        Tag(51109, "BaselineExposureOffset", (SRATIONAL, RATIONAL), since=v14, kept=True),
        Tag(51110, "DefaultBlackRender", (LONG,), since=v14, kept=True),
    ]


_V13, _V14 = (1, 3, 0, 0), (1, 4, 0, 0)

TAGS: tuple[Tag, ...] = (
    # The picture itself (source: tiff6).
    Tag(254, "NewSubfileType", (LONG,), where=_PIXELS, due="always"),
    Tag(256, "ImageWidth", _INT, where=_PIXELS, due="always"),
    Tag(257, "ImageLength", _INT, where=_PIXELS, due="always"),
    Tag(258, "BitsPerSample", (SHORT,), "samples", _PIXELS, "always"),
    Tag(259, "Compression", (SHORT,), where=_PIXELS, due="always"),
    Tag(262, "PhotometricInterpretation", (SHORT,), where=_PIXELS, due="always"),
    Tag(270, "ImageDescription", (ASCII,), ANY),
    Tag(271, "Make", (ASCII,), ANY),
    Tag(272, "Model", (ASCII,), ANY),
    Tag(273, "StripOffsets", _INT, ANY, _PIXELS, "always"),
    Tag(274, "Orientation", (SHORT,), due="always"),
    Tag(277, "SamplesPerPixel", (SHORT,), where=_PIXELS, due="always"),
    Tag(278, "RowsPerStrip", _INT, where=_PIXELS, due="always"),
    Tag(279, "StripByteCounts", _INT, ANY, _PIXELS, "always"),
    Tag(282, "XResolution", (RATIONAL,)),
    Tag(283, "YResolution", (RATIONAL,)),
    Tag(284, "PlanarConfiguration", (SHORT,), where=_PIXELS, due="always"),
    Tag(296, "ResolutionUnit", (SHORT,)),
    Tag(305, "Software", (ASCII,), ANY),
    Tag(306, "DateTime", (ASCII,), 20),
    Tag(315, "Artist", (ASCII,), ANY),
    Tag(330, "SubIFDs", (LONG,), ANY),
    Tag(529, "YCbCrCoefficients", (RATIONAL,), 3, ("preview",), "YCbCr"),
    Tag(530, "YCbCrSubSampling", (SHORT,), 2, ("preview",), "YCbCr"),
    Tag(531, "YCbCrPositioning", (SHORT,), where=("preview",), due="YCbCr"),
    Tag(532, "ReferenceBlackWhite", (RATIONAL,), 6, ("preview",), "YCbCr"),
    Tag(700, "XMP", (BYTE, UNDEFINED), ANY),
    Tag(33421, "CFARepeatPatternDim", (SHORT,), 2, ("raw",), "mosaic"),
    Tag(33422, "CFAPattern", (BYTE,), ANY, ("raw",), "mosaic"),
    Tag(33432, "Copyright", (ASCII,), ANY),
    Tag(33723, "IPTC", (UNDEFINED, BYTE, LONG), ANY),
    Tag(34665, "ExifIFD", (LONG,)),
    # What makes it a DNG.
    Tag(50706, "DNGVersion", (BYTE,), 4, due="always"),
    Tag(50707, "DNGBackwardVersion", (BYTE,), 4, due="always"),
    Tag(50708, "UniqueCameraModel", (ASCII,), ANY, due="always"),
    Tag(50710, "CFAPlaneColor", (BYTE,), "planes", ("raw",)),
    Tag(50711, "CFALayout", (SHORT,), where=("raw",)),
    Tag(50712, "LinearizationTable", (SHORT,), ANY, ("raw",)),
    Tag(50713, "BlackLevelRepeatDim", (SHORT,), 2, ("raw",)),
    Tag(50714, "BlackLevel", (SHORT, LONG, RATIONAL), ANY, ("raw",)),
    Tag(50715, "BlackLevelDeltaH", (SRATIONAL,), ANY, ("raw",)),
    Tag(50716, "BlackLevelDeltaV", (SRATIONAL,), ANY, ("raw",)),
    Tag(50717, "WhiteLevel", (LONG, SHORT), "samples", ("raw",), "always"),
    Tag(50718, "DefaultScale", (RATIONAL,), 2, ("raw",)),
    Tag(50719, "DefaultCropOrigin", (RATIONAL, LONG, SHORT), 2, ("raw",)),
    Tag(50720, "DefaultCropSize", (RATIONAL, LONG, SHORT), 2, ("raw",)),
    Tag(50728, "AsShotNeutral", (RATIONAL, SHORT), "planes", kept=True),
    Tag(50729, "AsShotWhiteXY", (RATIONAL,), 2, kept=True),
    Tag(50730, "BaselineExposure", (SRATIONAL,), kept=True),
    Tag(50731, "BaselineNoise", (RATIONAL,), kept=True),
    Tag(50732, "BaselineSharpness", (RATIONAL,), kept=True),
    Tag(50733, "BayerGreenSplit", (LONG,), where=("raw",)),
    Tag(50734, "LinearResponseLimit", (RATIONAL,), kept=True),
    Tag(50735, "CameraSerialNumber", (ASCII, BYTE), ANY),
    Tag(50736, "LensInfo", (RATIONAL,), 4, kept=True),
    Tag(50737, "ChromaBlurRadius", (RATIONAL,), where=("raw",)),
    Tag(50738, "AntiAliasStrength", (RATIONAL,), where=("raw",)),
    Tag(50739, "ShadowScale", (RATIONAL,), kept=True),
    Tag(50780, "BestQualityScale", (RATIONAL,), where=("raw",), since=(1, 1, 0, 0)),
    Tag(50827, "OriginalRawFileName", (ASCII, BYTE), ANY, kept=True),
    Tag(50829, "ActiveArea", _INT, 4, ("raw",), since=(1, 1, 0, 0)),
    Tag(50830, "MaskedAreas", _INT, ANY, ("raw",), since=(1, 1, 0, 0)),
    Tag(50879, "ColorimetricReference", (SHORT,), since=(1, 2, 0, 0), kept=True),
    Tag(50935, "NoiseReductionApplied", (RATIONAL,), where=("raw",), since=(1, 2, 0, 0)),
    Tag(50970, "PreviewColorSpace", (LONG,), where=("preview",), since=(1, 2, 0, 0)),
    # Lists of opcodes that must be followed: who cannot must not open the file.
    Tag(51008, "OpcodeList1", (UNDEFINED,), ANY, ("raw",), since=_V13, needs=_V13),
    Tag(51009, "OpcodeList2", (UNDEFINED,), ANY, ("raw",), since=_V13, needs=_V13),
    Tag(51022, "OpcodeList3", (UNDEFINED,), ANY, ("raw",), since=_V13, needs=_V13),
    Tag(51041, "NoiseProfile", (DOUBLE,), ANY, ("raw",), since=_V13, kept=True),
    Tag(51111, "NewRawImageDigest", (BYTE,), 16, since=_V14, due="always"),
    Tag(51125, "DefaultUserCrop", (RATIONAL,), 4, ("raw",), since=_V14),
    *_profile(),
    # EXIF (source: exif23).
    Tag(33434, "ExposureTime", (RATIONAL,), where=("exif",)),
    Tag(33437, "FNumber", (RATIONAL,), where=("exif",)),
    Tag(34855, "ISOSpeedRatings", (SHORT,), where=("exif",)),
    Tag(36864, "ExifVersion", (UNDEFINED,), 4, ("exif",)),
    Tag(36867, "DateTimeOriginal", (ASCII,), 20, ("exif",)),
    Tag(37386, "FocalLength", (RATIONAL,), where=("exif",)),
    Tag(37396, "SubjectArea", (SHORT,), ANY, ("exif",)),
    Tag(37521, "SubSecTimeOriginal", (ASCII,), ANY, ("exif",)),
    Tag(41989, "FocalLengthIn35mmFilm", (SHORT,), where=("exif",)),
    Tag(42033, "BodySerialNumber", (ASCII,), ANY, ("exif",)),
    Tag(42036, "LensModel", (ASCII,), ANY, ("exif",)),
)  # fmt: skip

BY_CODE = {tag.code: tag for tag in TAGS}
CODES = {tag.name: tag.code for tag in TAGS}
