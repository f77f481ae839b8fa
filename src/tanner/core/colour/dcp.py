"""Camera profiles as files: reading and writing .dcp, and profiles inside DNG (source: dng17, chapters 4 and 6).

A .dcp file is a TIFF of one directory with the magic number 0x4352 and no picture. Every offset counts from its byte
order mark, so that the same form can lie inside a DNG (ExtraCameraProfiles).
"""

import hashlib
import struct
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cached_property
from mmap import ACCESS_READ, mmap
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.errors import TannerError
from tanner.core.tiff.dng import BY_CODE, CODES
from tanner.core.tiff.ifd import ASCII, RATIONAL, SIZES, SRATIONAL, UNDEFINED, Entry, alone, entry

F32 = NDArray[np.float32]
Matrix = NDArray[np.float64]
MOST_ENTRIES = 2_000_000
"""More cells than any camera's table has: a file that asks for more is refused before memory is."""
_DTYPES = {1: "u1", 3: "u2", 4: "u4", 6: "i1", 8: "i2", 9: "i4", 11: "f4", 12: "f8"}
NAMES = {code: name for name, code in CODES.items()}
MAGIC = 0x4352

# Kelvin of EXIF LightSource codes used as CalibrationIlluminant (source: dng17).
ILLUMINANTS: dict[int, float] = {
    1: 5500, 2: 4150, 3: 2850, 4: 5500, 9: 5500, 10: 6500, 11: 7500, 12: 6400, 13: 5050, 14: 4150, 15: 3525,
    17: 2850, 18: 4874, 19: 6774, 20: 5503, 21: 6504, 22: 7504, 23: 5003, 24: 3200,
}  # fmt: skip


class ProfileError(TannerError):
    """A camera profile that cannot be used, with the reason."""


@dataclass(frozen=True)
class HueSatTable:
    """A hue, saturation and value table.

    Attributes:
        cells: float32 (hues, saturations, values, 3): hue shift in degrees, saturation and value factors.
        srgb: the value axis is sRGB-encoded (encoding 1), else linear.
    """

    cells: F32
    srgb: bool = False

    @property
    def plain(self) -> bool:
        return bool(np.all(self.cells[..., 0] == 0) and np.all(self.cells[..., 1:] == 1))


@dataclass(frozen=True)
class CameraProfile:
    """All that a profile says. One entry per light in the tuples; matrices are float64.

    Attributes:
        name, model, copyright: what people read; the camera it is for.
        illuminants: EXIF LightSource codes; 255 is told by `lights`.
        lights: chromaticity (x, y) of each light, or None where the code tells it.
        colour: XYZ to camera, (n, 3), n colours of the sensor (3 or 4).
        forward: white-balanced camera to XYZ D50, (3, n).
        reduction: (3, n), for n = 4.
        hue_sat: tables, one per light (or one alone), of one shape.
        curve: (N, 2) linear in, linear out, both from 0 to 1; None when it has none.
        baseline: BaselineExposureOffset in EV.
        black: DefaultBlackRender: "auto" or "none".
        policy: ProfileEmbedPolicy, 0 to 3.
        calibration_signature: matched with the file's before its CameraCalibration is used.
    """

    name: str
    model: str
    illuminants: tuple[int, ...]
    colour: tuple[Matrix, ...]
    forward: tuple[Matrix, ...] = ()
    reduction: tuple[Matrix, ...] = ()
    lights: tuple[tuple[float, float] | None, ...] = ()
    hue_sat: tuple[HueSatTable, ...] = ()
    look: HueSatTable | None = None
    curve: NDArray[np.float64] | None = None
    baseline: float = 0.0
    black: str = "auto"
    policy: int = 0
    copyright: str = ""
    calibration_signature: str = ""

    @property
    def has_more_than_matrices(self) -> bool:
        return bool(self.hue_sat or self.look or self.curve is not None or self.baseline)

    @cached_property
    def content(self) -> str:
        """A short hash of everything in it."""
        return hashlib.sha256(write_dcp(self)).hexdigest()[:12]

    def kelvin(self) -> tuple[float, ...]:
        """Temperature of each light."""
        from tanner.core.colour.temperature import xy_to_temperature

        places = self.lights or (None,) * len(self.illuminants)
        return tuple(
            xy_to_temperature(xy)[0] if xy else ILLUMINANTS.get(code, 5003.0)
            for code, xy in zip(self.illuminants, places, strict=True)
        )


# --- reading -------------------------------------------------------------------------------------------


def read_directory(data: Any, base: int = 0, magic: int = MAGIC) -> dict[str, Any]:
    """Tags of the directory that begins with its byte order mark at `base`, by name.

    Raises:
        ProfileError: no such directory, or counts that lead out of the data.
    """
    mark = data[base : base + 2]
    order = {b"II": "<", b"MM": ">"}.get(mark)
    if order is None or len(data) < base + 8:
        raise ProfileError("This is no camera profile: it does not begin as one.")
    found, at = struct.unpack_from(order + "HI", data, base + 2)
    if found != magic:
        raise ProfileError("This is no camera profile: its magic number is another.")
    at += base
    if at + 2 > len(data):
        raise ProfileError("The profile is cut off: its directory lies beyond the end.")
    (count,) = struct.unpack_from(order + "H", data, at)
    tags: dict[str, Any] = {}
    for i in range(count):
        entry = at + 2 + 12 * i
        if entry + 12 > len(data):
            raise ProfileError("The profile is cut off in its directory.")
        code, kind, number = struct.unpack_from(order + "HHI", data, entry)
        if code not in NAMES or kind not in SIZES:
            continue
        if number > 4 * MOST_ENTRIES:
            raise ProfileError(f"{NAMES[code]} says it has {number} values, which is more than any profile has.")
        size = SIZES[kind] * number
        where = entry + 8 if size <= 4 else base + struct.unpack_from(order + "I", data, entry + 8)[0]
        if where + size > len(data):
            raise ProfileError(f"{NAMES[code]} lies beyond the end of the file.")
        tags[NAMES[code]] = _value(data, where, order, kind, number)
    return tags


def _value(data: bytes, at: int, order: str, kind: int, number: int) -> Any:
    raw = data[at : at + SIZES[kind] * number]
    if kind == ASCII:
        return raw.split(b"\0")[0].decode("utf-8", "replace")
    if kind == UNDEFINED:
        return (order, raw)
    if kind in (RATIONAL, SRATIONAL):
        pairs = np.frombuffer(raw, dtype=order + ("u4" if kind == RATIONAL else "i4")).astype(np.float64).reshape(-1, 2)
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.where(pairs[:, 1] != 0, pairs[:, 0] / pairs[:, 1], np.nan)
    return np.frombuffer(raw, dtype=order + _DTYPES[kind]).astype(np.float64)


def _matrix(tags: Mapping[str, Any], name: str, shape: tuple[int, int]) -> Matrix:
    values = np.asarray(tags[name], dtype=np.float64)
    if values.size != shape[0] * shape[1]:
        raise ProfileError(f"{name} has {values.size} values, not {shape[0] * shape[1]}.")
    if not np.isfinite(values).all():
        raise ProfileError(f"{name} holds values that are no numbers.")
    return values.reshape(shape)


def _table(tags: Mapping[str, Any], dims_name: str, data_name: str, encoding: str) -> HueSatTable:
    dims = [int(v) for v in np.asarray(tags.get(dims_name, ()), dtype=np.float64)]
    if len(dims) == 2:
        dims.append(1)
    if len(dims) != 3 or min(dims) < 1 or dims[1] < 2 or dims[0] * dims[1] * dims[2] > MOST_ENTRIES:
        raise ProfileError(f"{dims_name} says {' × '.join(map(str, dims)) or 'nothing'}, which is no table.")
    values = np.asarray(tags[data_name], dtype=np.float64)
    hues, sats, vals = dims
    if values.size != hues * sats * vals * 3:
        raise ProfileError(f"{data_name} has {values.size} values; its dimensions ask for {hues * sats * vals * 3}.")
    if not np.isfinite(values).all():
        raise ProfileError(f"{data_name} holds values that are no numbers.")
    # In the file value runs slowest, then hue, then saturation (source: dng17).
    cells = values.reshape(vals, hues, sats, 3).transpose(1, 2, 0, 3)
    code = np.ravel(tags.get(encoding, 0))
    return HueSatTable(np.ascontiguousarray(cells, dtype=np.float32), bool(len(code) and int(code[0]) == 1))


def light_of(stored: Any) -> tuple[float, float] | None:
    """Chromaticity of an IlluminantData tag: given as xy, or as a spectrum."""
    if not isinstance(stored, tuple):
        return None
    order, raw = stored
    (kind,) = struct.unpack_from(order + "H", raw, 0)
    if kind == 0 and len(raw) >= 18:
        a, b, c, d = struct.unpack_from(order + "4I", raw, 2)
        return (a / b, c / d) if b and d else None
    if kind == 1 and len(raw) >= 22:
        count, a, b, c, d = struct.unpack_from(order + "5I", raw, 2)
        if not (b and d) or len(raw) < 22 + 8 * count or not 2 <= count <= 2000:
            return None
        pairs = np.frombuffer(raw, order + "u4", 2 * count, 22).astype(np.float64).reshape(-1, 2)
        from tanner.core.colour.spectra import chromaticity

        return chromaticity(a / b + np.arange(count) * (c / d), pairs[:, 0] / np.maximum(pairs[:, 1], 1))
    return None


def _tone_curve(tags: Mapping[str, Any]) -> Matrix | None:
    """The points (N, 2) of ProfileToneCurve."""
    if "ProfileToneCurve" not in tags:
        return None
    curve = np.asarray(tags["ProfileToneCurve"], dtype=np.float64)
    if curve.size < 4 or curve.size % 2 or not np.isfinite(curve).all():
        raise ProfileError("ProfileToneCurve is no list of points.")
    curve = curve.reshape(-1, 2)
    if (np.diff(curve[:, 0]) <= 0).any():
        raise ProfileError("ProfileToneCurve does not run from left to right.")
    return curve


def from_tags(tags: Mapping[str, Any], model: str = "") -> CameraProfile:
    """A profile from tags by name, as `read_directory` gives them.

    Raises:
        ProfileError: what is there contradicts itself, or there is no ColorMatrix.
    """
    if "ColorMatrix1" not in tags:
        raise ProfileError("The profile has no ColorMatrix1.")
    size = np.asarray(tags["ColorMatrix1"]).size
    if size not in (9, 12):
        raise ProfileError(f"ColorMatrix1 has {size} values, neither 9 nor 12.")
    n = size // 3
    order = ["1"] + [k for k in ("2", "3") if f"ColorMatrix{k}" in tags]
    if order == ["1", "3"]:
        raise ProfileError("ColorMatrix3 stands there without ColorMatrix2.")
    codes = []
    for k in order:
        code = np.ravel(tags.get(f"CalibrationIlluminant{k}", 0 if len(order) > 1 else 23))
        codes.append(int(code[0]) if len(code) else 0)
    lights = tuple(
        light_of(tags.get(f"IlluminantData{k}")) if c == 255 else None for k, c in zip(order, codes, strict=True)
    )
    if len(order) > 1 and any(c not in ILLUMINANTS and xy is None for c, xy in zip(codes, lights, strict=True)):
        raise ProfileError("A light of the profile is not known (CalibrationIlluminant).")

    def each(stem: str, shape: tuple[int, int]) -> tuple[Matrix, ...]:
        if not all(f"{stem}{k}" in tags for k in order):
            return ()
        return tuple(_matrix(tags, f"{stem}{k}", shape) for k in order)

    tables: tuple[HueSatTable, ...] = ()
    if "ProfileHueSatMapData1" in tags:
        names = [f"ProfileHueSatMapData{k}" for k in order if f"ProfileHueSatMapData{k}" in tags]
        tables = tuple(_table(tags, "ProfileHueSatMapDims", n_, "ProfileHueSatMapEncoding") for n_ in names)
        if len(tables) not in (1, len(order)):
            tables = tables[:1]
    look = None
    if "ProfileLookTableData" in tags:
        look = _table(tags, "ProfileLookTableDims", "ProfileLookTableData", "ProfileLookTableEncoding")
    baseline = np.ravel(tags.get("BaselineExposureOffset", 0.0))
    black = np.ravel(tags.get("DefaultBlackRender", 0))
    policy = np.ravel(tags.get("ProfileEmbedPolicy", 0))
    return CameraProfile(
        name=str(tags.get("ProfileName", "") or "Embedded"),
        model=str(tags.get("UniqueCameraModel", model)),
        illuminants=tuple(codes),
        lights=lights if any(lights) else (),
        colour=each("ColorMatrix", (n, 3)),
        forward=each("ForwardMatrix", (3, n)),
        reduction=each("ReductionMatrix", (3, n)) if n > 3 else (),
        hue_sat=tables,
        look=look,
        curve=_tone_curve(tags),
        baseline=float(np.clip(baseline[0], -8, 8)) if len(baseline) and np.isfinite(baseline[0]) else 0.0,
        black="none" if len(black) and int(black[0]) == 1 else "auto",
        policy=int(policy[0]) if len(policy) else 0,
        copyright=str(tags.get("ProfileCopyright", "")),
        calibration_signature=str(tags.get("ProfileCalibrationSignature", "")),
    )


def read_dcp(data: bytes, where: str = "") -> CameraProfile:
    """A profile file.

    Raises:
        ProfileError: with `where` (a file name) and what is wrong.
    """
    try:
        return from_tags(read_directory(data))
    except ProfileError as error:
        raise ProfileError(f"{where}: {error}" if where else str(error)) from None
    except (struct.error, ValueError, OverflowError) as error:
        raise ProfileError(f"{where or 'The profile'} is damaged ({error}).") from None


def embedded(path: Path) -> tuple[tuple[CameraProfile, ...], tuple[str, ...]]:
    """Profiles that lie in a DNG, the main one first, and warnings about those that cannot be used.

    A file whose main directory holds matrices only has no profile worth a name; its matrices are in its facts.
    """
    found: list[CameraProfile] = []
    warnings: list[str] = []
    with path.open("rb") as file, mmap(file.fileno(), 0, access=ACCESS_READ) as data:
        try:
            tags = read_directory(data, 0, 42)
        except (ProfileError, struct.error, ValueError):
            return (), ()
        places = [None, *(int(v) for v in np.ravel(tags.pop("ExtraCameraProfiles", ()))[:64])]
        for place in places:
            try:
                profile = from_tags(
                    tags if place is None else read_directory(data, place), tags.get("UniqueCameraModel", "")
                )
            except (ProfileError, struct.error, ValueError) as error:
                if place is not None or "ProfileName" in tags:
                    warnings.append(f"An embedded camera profile is left out. {error}")
                continue
            if place is not None or profile.has_more_than_matrices:
                found.append(profile)
    return tuple(found), tuple(warnings)


# --- writing -------------------------------------------------------------------------------------------


def _entries(profile: CameraProfile) -> dict[int, Entry]:
    """By tag code, in the types that the specification asks for."""
    found: dict[int, Entry] = {}

    def put(name: str, values: Any) -> None:
        code = CODES[name]
        found[code] = entry(BY_CODE[code].kinds[0], values, limit=10_000_000)

    put("UniqueCameraModel", profile.model)
    put("ProfileName", profile.name)
    if profile.copyright:
        put("ProfileCopyright", profile.copyright)
    if profile.calibration_signature:
        put("ProfileCalibrationSignature", profile.calibration_signature)
    put("ProfileEmbedPolicy", profile.policy)
    for k, code in enumerate(profile.illuminants, 1):
        put(f"CalibrationIlluminant{k}", code)
        xy = profile.lights[k - 1] if profile.lights else None
        if xy:
            put(f"IlluminantData{k}", struct.pack("<H", 0) + entry(RATIONAL, xy, limit=10_000_000).data)
    for stem, matrices in (
        ("ColorMatrix", profile.colour),
        ("ForwardMatrix", profile.forward),
        ("ReductionMatrix", profile.reduction),
    ):
        for k, matrix in enumerate(matrices, 1):
            put(f"{stem}{k}", matrix)
    for k, table in enumerate(profile.hue_sat, 1):
        _put_table(put, table, "ProfileHueSatMap", str(k))
    if profile.look:
        _put_table(put, profile.look, "ProfileLookTable", "")
    if profile.curve is not None:
        put("ProfileToneCurve", profile.curve)
    if profile.baseline:
        put("BaselineExposureOffset", profile.baseline)
    if profile.black == "none":
        put("DefaultBlackRender", 1)
    return found


def _put_table(put: Callable[[str, Any], None], table: HueSatTable, stem: str, number: str) -> None:
    put(f"{stem}Dims", table.cells.shape[:3])
    put(f"{stem}Data{number}", table.cells.transpose(2, 0, 1, 3))
    if table.srgb:
        put(f"{stem}Encoding", 1)


def write_dcp(profile: CameraProfile) -> bytes:
    """A profile as the bytes of a .dcp file, little endian."""
    return alone(_entries(profile), MAGIC)


def dng_entries(profile: CameraProfile) -> dict[int, Entry]:
    """The profile as entries for a DNG's first directory, by code."""
    return {code: e for code, e in _entries(profile).items() if code != CODES["UniqueCameraModel"]}
