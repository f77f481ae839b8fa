"""Reads raw and finished files into a Source: pixels plus facts. Originals are opened read-only.

Foreign files can crash a decoder, so callers outside of tests run this in a worker process
(`tanner.jobs.workers`).
"""

import contextlib
import struct
from dataclasses import dataclass, field
from itertools import chain
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.colour.camera import ILLUMINANTS, CameraColour, finished_colour, plain_colour, with_icc, with_profile
from tanner.core.colour.dcp import CameraProfile, embedded, light_of
from tanner.core.colour.icc import to_working
from tanner.core.colour.profile_store import PROFILE_STORE, fits
from tanner.core.colour.temperature import temperature_to_xy, xy_to_temperature
from tanner.core.errors import UnreadableFile
from tanner.core.limits import limits
from tanner.core.memory import Memory, Slot
from tanner.core.optics import database
from tanner.core.optics.lens import Lens, OpcodeLens
from tanner.core.raw import opcodes, tags
from tanner.core.raw.damage import damage_of
from tanner.core.raw.facts import FrameFacts, checked
from tanner.core.raw.packed import Odd, PackedMosaic, packed_mosaic
from tanner.core.raw.plain import PlainMosaic, plain_mosaic

FINISHED = {".jpg", ".jpeg", ".png", ".tif", ".tiff"}
RAW = {
    ".dng", ".cr2", ".cr3", ".crw", ".nef", ".nrw", ".arw", ".srf", ".sr2", ".raf", ".orf", ".ori", ".rw2",
    ".pef", ".srw", ".x3f", ".3fr", ".fff", ".iiq", ".mef", ".mos", ".mrw", ".kdc", ".dcr", ".erf", ".rwl", ".gpr",
}  # fmt: skip

CAMERA: Slot[CameraColour] = Slot("camera", shared=True)
COLOURS: Slot[tuple[CameraColour, str]] = Slot("colours", keep=0, shared=True)
"""Colour by a profile and a warning, by the profile's key."""
LENSES: Slot[tuple[Lens | None, str]] = Slot("lenses", keep=0, shared=True)
"""A lens and a warning, by its key; "" for the frame's own."""
FOCAL: Slot[tuple[float, bool]] = Slot("focal", shared=True)


@dataclass
class Source:
    """Decoded pixels and what they mean.

    Attributes:
        data: uint16 (H, W) for a Bayer mosaic, else float32 (3, H, W): linear camera RGB from 0 to 1, or the
            linear working space for finished pictures.
        decoder: owns the memory of a mosaic; None when `data` does.
        memory: what was worked out of it so far; stays behind when it goes to another process.
        wanted: sides of blocks that smaller pictures will ask for (see `raw.blocks`).
        small_level: side of the blocks that are there without the file (see `core.small`), or 0.
        denoised: its noise is taken out.
    """

    facts: FrameFacts
    data: NDArray[Any]
    decoder: Any = None
    profiles: tuple[CameraProfile, ...] = ()
    gain_maps: tuple[opcodes.GainMap, ...] = ()
    memory: Memory = field(default_factory=Memory)
    wanted: frozenset[int] = frozenset()
    small_level: int = 0
    denoised: bool = False

    @property
    def size(self) -> tuple[int, int]:
        return self.facts.width, self.facts.height

    def __getstate__(self) -> dict[str, Any]:
        kept = {"facts": self.facts, "data": self.data, "profiles": self.profiles, "gain_maps": self.gain_maps}
        more = {"wanted": self.wanted, "small_level": self.small_level, "denoised": self.denoised}
        return {**kept, **more, "memory": Memory(), "decoder": None}

    @property
    def camera(self) -> CameraColour:
        return self.memory.get(CAMERA, None, lambda: camera_of(self.facts))

    def colour_by(self, key: str) -> tuple[CameraColour, str]:
        """The camera's colour by a profile, and a warning or "".

        Args:
            key: "" for the file's own profile, else its matrix; "matrix"; "embedded" and "embedded-2" and so on;
                else the key of a profile in the store.
        """
        return self.memory.get(COLOURS, key, lambda: self._colour_by(key))

    def _colour_by(self, key: str) -> tuple[CameraColour, str]:
        if self.facts.kind == "finished" or key == "matrix" or (not key and not self.profiles):
            return self.camera, ""
        signature = self.facts.calibration_signature
        if not key or key.startswith("embedded"):
            number = int(key.removeprefix("embedded").removeprefix("-") or 1) if key[8:].lstrip("-").isdigit() else 1
            if 1 <= number <= len(self.profiles):
                return with_profile(self.camera, self.profiles[number - 1], signature), ""
            return self.camera, "The file has no such camera profile; its plain matrix is used."
        icc = PROFILE_STORE.icc(key)
        if icc is not None:
            try:
                return with_icc(self.camera, icc, key), ""
            except Exception as error:
                return self.camera, f"The ICC profile {key} cannot be used ({error}); the file's own colour is used."
        profile = PROFILE_STORE.find(key)
        if profile is None:
            return self._colour_by("")[0], f"The camera profile {key} is not there; the file's own colour is used."
        warning = "" if fits(profile, self.facts) else f"The camera profile {profile.name} is for {profile.model}."
        return with_profile(self.camera, profile, signature), warning

    def lens_by(self, key: str) -> tuple[Lens | None, str]:
        """The lens by a setting, and a warning or "".

        Args:
            key: "" for what the file or the database say by themselves; "none"; else a lens of the database.
        """
        if key == "none":
            return None, ""
        if not key:
            return self.lens, ""

        def make() -> tuple[Lens | None, str]:
            try:
                return database.by_name(key, self.facts, PROFILE_STORE.folders), ""
            except database.LensError as error:
                return None, str(error)

        return self.memory.get(LENSES, key, make)

    @property
    def lens(self) -> Lens | None:
        return self.memory.get(LENSES, "", lambda: (lens_of(self.facts, self.gain_maps), ""))[0]

    @property
    def focal(self) -> tuple[float, bool]:
        """Focal length in px of the sensor, and whether the file says it; else that of a usual lens is taken."""
        return self.memory.get(FOCAL, None, lambda: focal_px(self.facts))


def camera_of(facts: FrameFacts) -> CameraColour:
    """The colour data that the facts carry."""
    if facts.kind == "finished":
        return finished_colour()

    def matrices(values: tuple[tuple[float, ...], ...]) -> tuple[NDArray[np.float64], ...]:
        return tuple(np.array(v, dtype=np.float64).reshape(3, 3) for v in values)

    colour = matrices(facts.colour_matrices)
    if not colour:
        return plain_colour(None, "fallback")
    told = facts.light_places or (None,) * len(facts.illuminants)
    kelvin = tuple(
        xy_to_temperature(xy)[0] if xy else float(ILLUMINANTS.get(code, 6504))
        for code, xy in zip(facts.illuminants, told, strict=True)
    ) or (6504.0,)
    n = min(len(colour), len(kelvin))
    forward, calibration = matrices(facts.forward_matrices), matrices(facts.calibrations)
    return CameraColour(
        colour=colour[:n],
        kelvin=kelvin[:n],
        forward=forward[:n] if len(forward) >= n else (),
        calibration=calibration[:n] if len(calibration) >= n else (),
        analog_balance=np.array(facts.analog_balance),
        places=tuple(xy or temperature_to_xy(k) for k, xy in zip(kelvin[:n], told or (None,), strict=False)),
    )


USUAL = 35.0
"""Focal length on 36 x 24 mm that is taken where a file says nothing."""


def focal_px(facts: FrameFacts) -> tuple[float, bool]:
    """See `Source.focal`: from the 35 mm equivalent, else from the focal length and the database's crop factor."""
    diagonal = float(np.hypot(facts.width, facts.height))
    known = facts.focal_length_35mm
    if not known and facts.focal_length_mm:
        crop = database.crop_factor(facts.make, facts.model)
        known = facts.focal_length_mm * crop if crop else None
    usable = known is not None and 2 < known < 5000
    return (known if known and usable else USUAL) / 43.2666 * diagonal, usable


def lens_of(facts: FrameFacts, maps: tuple[opcodes.GainMap, ...] = ()) -> Lens | None:
    """What is known about the lens: from the file first, then from the open database."""
    size = (facts.width, facts.height)
    if facts.warp or facts.vignette or maps:
        return OpcodeLens(
            np.array(facts.warp) if facts.warp else None,
            np.array(facts.vignette) if facts.vignette else None,
            size,
            facts.warp_centre,
            facts.vignette_centre,
            name=facts.lens or "from the file",
            kind=facts.warp_kind,
            reciprocal=facts.warp_reciprocal,
            maps=maps,
            order=facts.lens_order,
        )
    if facts.is_raw:
        return database.find(facts, PROFILE_STORE.folders)
    return None


def _check(path: Path) -> None:
    try:
        size = path.stat().st_size
    except OSError as error:
        raise UnreadableFile(path, f"cannot be opened ({error.strerror or error}).") from None
    if size == 0:
        raise UnreadableFile(path, "is empty. Copy it from the card again.")


def read(path: Path, *, pixels: bool = True) -> Source:
    """Read a file.

    Args:
        pixels: False reads facts only; `data` is then empty.

    Raises:
        UnreadableFile: with the reason and what to do.
    """
    _check(path)
    try:
        if path.suffix.lower() in FINISHED:
            return _read_finished(path, pixels)
        return _read_raw(path, pixels)
    except UnreadableFile:
        raise
    except (MemoryError, Exception) as error:
        text = str(error).strip().strip("b'").strip("'") or type(error).__name__
        raise UnreadableFile(path, f"cannot be read ({text}). It may be damaged or of an unknown kind.") from None


def _sane(path: Path, width: int, height: int) -> None:
    if width < 16 or height < 16:
        raise UnreadableFile(path, f"says it is {width} × {height} px, which is no picture.")
    most = limits().most_megapixels
    if width * height > most * 1e6:
        raise UnreadableFile(
            path,
            f"says it is {width} × {height} px, more than the {most:g} megapixels that are opened. "
            "Where that is right, raise most_megapixels in the file settings.toml of the data folder.",
        )


def _read_raw(path: Path, pixels: bool) -> Source:
    import rawpy

    # Not closed here: a Bayer mosaic is worked on where the decoder put it, and kept alive by the array.
    raw = rawpy.imread(str(path))
    try:
        sizes = raw.sizes
        _sane(path, sizes.raw_width, sizes.raw_height)
        plain = plain_mosaic(path, (sizes.raw_width, sizes.raw_height), (sizes.width, sizes.height))
        visible = int(sizes.top_margin), int(sizes.left_margin), int(sizes.height), int(sizes.width)
        packed = None if plain else packed_mosaic(path, (sizes.raw_width, sizes.raw_height), visible)
        told = plain or (packed if packed and packed.colours else None)
        found = _raw_facts(path, raw, told)
        if plain or packed:
            found["decoded"] = "as it lies" if plain else packed.way if packed else ""
        lists = found.pop("lists")
        maps = _gain_maps(lists[3])
        top, left = _trim(found, lists)
        inside, odd = embedded(path) if path.suffix.lower() == ".dng" else ((), ())
        found["profiles"], found["warnings"] = tuple(p.name for p in inside), (*found["warnings"], *odd)
        if not pixels:
            return Source(checked(found), np.empty((0, 0), np.uint16), profiles=inside, gain_maps=maps)
        if found["kind"] == "bayer":
            # Kernels are compiled for whole arrays: a mosaic with a frame of masked pixels is copied out.
            data = _mosaic(raw, plain, packed, found)
            if lists[1] or lists[2]:
                data = _opcodes_done(data, found, lists, (int(sizes.top_margin), int(sizes.left_margin)))
            data = np.ascontiguousarray(data[top : top + found["height"], left : left + found["width"]])
            if not data.any():
                raise UnreadableFile(path, "opens but all its pixels are zero. It is damaged: copy it again.")
            return Source(checked(found), data, decoder=raw, profiles=inside, gain_maps=maps)
        found["warnings"] = (*found["warnings"], *_not_for_planes(lists))
        if raw.raw_pattern is None and raw.raw_image_visible.ndim == 3:
            values = raw.raw_image_visible[..., :3].astype(np.float32)
            black = np.float32(raw.black_level_per_channel[0])
            planes = (values - black) / np.float32(found["white"] - black)
            planes = np.ascontiguousarray(planes.transpose(2, 0, 1))
        else:
            planes = _demosaic_by_libraw(raw, found)
        if not planes.any():
            raise UnreadableFile(path, "opens but all its pixels are zero. It is damaged: copy it again.")
        planes = np.ascontiguousarray(planes[:, top : top + found["height"], left : left + found["width"]])
        return Source(checked(found), planes, profiles=inside, gain_maps=maps)
    except BaseException:
        raw.close()
        raise


def _mosaic(raw: Any, plain: PlainMosaic | None, packed: PackedMosaic | None, found: dict[str, Any]) -> NDArray[Any]:
    """The px that are shown, decoded here where that is quicker, else by LibRaw; what is found says by whom."""
    if plain is not None:
        return plain.pixels()
    if packed is not None:
        with contextlib.suppress(Odd):
            return packed.pixels()
    found["decoded"] = "LibRaw"
    data: NDArray[Any] = raw.raw_image_visible
    return data


def _gain_maps(data: bytes) -> tuple[opcodes.GainMap, ...]:
    """The gain maps of list 3: those of list 2 are applied to the mosaic."""
    found = []
    for number, payload in opcodes.split(data):
        if number == 9:
            with contextlib.suppress(struct.error, ValueError):
                found.append(opcodes.gain_map(payload))
    return tuple(found)


def _not_for_planes(lists: dict[int, bytes]) -> list[str]:
    """Lists 1 and 2 are done on Bayer mosaics: what another kind of file asks for is said."""
    return [
        f"{opcodes.NAMES.get(number, f'opcode {number}')} of list {n} is not applied: the file holds no Bayer mosaic."
        for n in (1, 2)
        for number, _ in opcodes.split(lists[n])
        if number != 6
    ]


def _trim(found: dict[str, Any], lists: dict[int, bytes]) -> tuple[int, int]:
    """What TrimBounds leaves becomes the frame; rows and columns stay even, so that the mosaic keeps its order."""
    top, left, bottom, right = opcodes.trim(lists.values(), found["height"], found["width"])
    if found["kind"] == "bayer":
        top, left = top + top % 2, left + left % 2
    found["height"], found["width"] = bottom - top, right - left
    if found["kind"] == "bayer":
        found["height"] -= found["height"] % 2
        found["width"] -= found["width"] % 2
    return top, left


def _opcodes_done(
    data: NDArray[Any], found: dict[str, Any], lists: dict[int, bytes], corner: tuple[int, int]
) -> NDArray[Any]:
    """Lists 1 and 2, done on a copy of the mosaic; corner: row and column at which the active area begins."""
    black, white = found["black"], found["white"]
    linear = opcodes.Scale(black, tuple(white - b for b in black), white)
    data, odd = opcodes.apply_list(data, lists[1], "list 1", opcodes.STORED, corner)
    data, more = opcodes.apply_list(data, lists[2], "list 2", linear)
    found["warnings"] = (*found["warnings"], *odd, *more)
    return data


def _demosaic_by_libraw(raw: Any, found: dict[str, Any]) -> NDArray[np.float32]:
    """Linear camera RGB of mosaics that are not Bayer (X-Trans and others): LibRaw interpolates."""
    import rawpy

    rgb = raw.postprocess(
        output_color=rawpy.ColorSpace.raw,
        gamma=(1, 1),
        no_auto_bright=True,
        no_auto_scale=False,
        user_wb=[1.0, 1.0, 1.0, 1.0],
        output_bps=16,
        user_flip=0,
        adjust_maximum_thr=0.0,
    )
    found["height"], found["width"] = rgb.shape[:2]
    return np.ascontiguousarray(rgb.transpose(2, 0, 1)).astype(np.float32) / np.float32(65535)


def _raw_facts(path: Path, raw: Any, plain: PlainMosaic | PackedMosaic | None) -> dict[str, Any]:
    sizes = raw.sizes
    facts: dict[str, Any] = {"path": str(path), "file_bytes": path.stat().st_size}
    facts |= tags.exif_facts(path)
    dng = tags.dng_tags(path)
    warnings: list[str] = []
    facts["orientation"] = {0: 1, 3: 3, 5: 8, 6: 6}.get(sizes.flip, facts.get("orientation", 1))
    facts["width"], facts["height"] = int(sizes.width), int(sizes.height)
    if plain is not None:
        # Asking LibRaw for any of this would decode the file.
        facts |= {"kind": "bayer", "mosaic": f"Bayer {plain.colours}", "black": plain.black, "white": plain.white}
        facts["pattern"] = divmod(plain.colours.index("R"), 2)
    else:
        warnings += _decoded_facts(facts, raw)
    if facts["kind"] == "bayer":
        facts["width"] -= facts["width"] % 2
        facts["height"] -= facts["height"] % 2
    if facts["white"] <= max(facts.get("black", (0,))):
        warnings.append("The white level is below the black level; the full scale is used.")
        facts["white"], facts["black"] = 65535.0, (0.0, 0.0, 0.0, 0.0)
    _dng_facts(facts, dng)
    warnings += facts.pop("odd_opcodes", [])
    facts["lists"] = {n: bytes(dng.get(f"OpcodeList{n}", b"")) for n in (1, 2, 3)}
    if not facts.get("colour_matrices"):
        matrix = np.array(raw.rgb_xyz_matrix[:3], dtype=np.float64)
        if np.any(matrix):
            facts["colour_matrices"], facts["illuminants"] = (tuple(matrix.ravel()),), (21,)
        else:
            warnings.append("No colour matrix for this camera: colours are shown as if it saw like sRGB.")
    facts["warnings"] = tuple(warnings)
    return facts


def _decoded_facts(facts: dict[str, Any], raw: Any) -> list[str]:
    """Mosaic, levels and white balance as LibRaw tells them once it has decoded a file; warnings."""
    warnings = []
    pattern = raw.raw_pattern
    names = raw.color_desc.decode(errors="replace")
    if pattern is not None and pattern.shape == (2, 2) and sorted(pattern.ravel() % 4) in ([0, 1, 2, 3], [0, 1, 1, 2]):
        colours = [[names[c] for c in row] for row in pattern.tolist()]
        if sorted(chain(*colours)) == ["B", "G", "G", "R"]:
            facts["kind"], facts["mosaic"] = "bayer", "Bayer " + "".join(chain(*colours))
            facts["pattern"] = next((y, x) for y in range(2) for x in range(2) if colours[y][x] == "R")
            blacks = raw.black_level_per_channel
            facts["black"] = tuple(float(blacks[pattern[y, x]]) for y in range(2) for x in range(2))
    if "kind" not in facts:
        facts["kind"] = "camera"
        facts["mosaic"] = "none" if pattern is None else f"{pattern.shape[1]} × {pattern.shape[0]}"
    facts["white"] = float(raw.white_level or 65535)
    wb = np.array(raw.camera_whitebalance[:3], dtype=np.float64)
    if not np.isfinite(wb).all() or (wb <= 0).any():
        wb = np.array(raw.daylight_whitebalance[:3], dtype=np.float64)
        warnings.append("No as-shot white balance in the file; daylight is assumed.")
    if not np.isfinite(wb).all() or (wb <= 0).any():
        wb = np.ones(3)
    neutral = 1 / wb
    facts["neutral"] = tuple(float(v) for v in neutral / neutral.max())
    return warnings


def _dng_facts(facts: dict[str, Any], dng: dict[str, Any]) -> None:
    """Colour, noise and optics tags, where the file is a DNG."""

    def several(*names: str) -> tuple[tuple[float, ...], ...]:
        return tuple(dng[n] for n in names if n in dng and len(np.ravel(dng[n])) == 9)

    facts["unique_model"] = str(dng.get("UniqueCameraModel", "")).strip("\0 ")
    facts["calibration_signature"] = str(dng.get("CameraCalibrationSignature", "")).strip("\0 ")
    facts["colour_matrices"] = several("ColorMatrix1", "ColorMatrix2", "ColorMatrix3")
    facts["forward_matrices"] = several("ForwardMatrix1", "ForwardMatrix2", "ForwardMatrix3")
    facts["calibrations"] = several("CameraCalibration1", "CameraCalibration2", "CameraCalibration3")
    lights = tuple(int(dng[n]) for n in ("Illuminant1", "Illuminant2", "Illuminant3") if n in dng)
    facts["illuminants"] = lights or ((21,) if facts["colour_matrices"] else ())
    places = tuple(light_of(dng.get(f"IlluminantData{k}")) for k in range(1, 1 + len(facts["illuminants"])))
    facts["light_places"] = places if any(places) else ()
    if len(dng.get("AnalogBalance", ())) == 3:
        facts["analog_balance"] = dng["AnalogBalance"]
    neutral = np.array(dng.get("AsShotNeutral", ()), dtype=np.float64)
    if neutral.size == 3 and (neutral > 0).all():
        # LibRaw hands this over as single floats; the tag itself is exact.
        facts["neutral"] = tuple(float(v) for v in neutral / neutral.max())
    baseline = dng.get("BaselineExposure", (0.0,))
    facts["baseline_exposure"] = float(np.clip(np.ravel(baseline)[0], -8, 8))
    if float(np.ravel(dng.get("NoiseReductionApplied", (0.0,)))[0]) > 0:
        facts["applied"] = (*facts.get("applied", ()), "noise")
    facts["noise_profile"] = tuple(float(v) for v in np.ravel(dng.get("NoiseProfile", ())))
    listed: list[str] = []
    for name in ("OpcodeList1", "OpcodeList2", "OpcodeList3"):
        listed += [opcodes.NAMES.get(n, f"opcode {n}") for n, _ in opcodes.split(bytes(dng.get(name, b"")))]
    facts["opcodes"] = tuple(listed)
    lens, odd = opcodes.lens_fields(bytes(dng.get("OpcodeList3", b"")))
    facts |= lens
    facts["odd_opcodes"] = [*odd, *_framing(facts, dng)]


SLIGHT = 0.02
"""Share of a side that a DefaultCrop may leave out without a word: the borders that demosaicing needs."""


def _framing(facts: dict[str, Any], dng: dict[str, Any]) -> list[str]:
    """What a DNG asks of size and framing and Tanner does not follow, in words; its crop also as a fact."""
    said = []
    origin, size = (np.ravel(dng.get(f"DefaultCrop{n}", ())).astype(float) for n in ("Origin", "Size"))
    if len(origin) == 2 and len(size) == 2 and np.isfinite([*origin, *size]).all() and (size > 0).all():
        facts["default_crop"] = (float(origin[0]), float(origin[1]), float(size[0]), float(size[1]))
        if size[0] < (1 - SLIGHT) * facts["width"] or size[1] < (1 - SLIGHT) * facts["height"]:
            said.append(
                f"The file asks for a crop of {size[0]:g} × {size[1]:g} px at {origin[0]:g}, {origin[1]:g} (DefaultCrop); "
                "all that the sensor saw is shown. Crop it where that is wanted."
            )
    scale = np.ravel(dng.get("DefaultScale", ())).astype(float)
    if len(scale) == 2 and np.isfinite(scale).all() and scale.min() > 0 and abs(scale[0] / scale[1] - 1) > 1e-3:
        stretch = (scale[1] / scale[0] - 1) * 100
        said.append(
            f"The sensor's pixels are not square (DefaultScale); set Stretch to {stretch:.1f} % in Perspective."
        )
    best = np.ravel(dng.get("BestQualityScale", ())).astype(float)
    if len(best) == 1 and np.isfinite(best).all() and abs(best[0] - 1) > 1e-3:
        said.append(
            f"The file names a larger size as its best ({best[0]:.2f} times, BestQualityScale); sizes go by its pixels."
        )
    return said


def _read_finished(path: Path, pixels: bool) -> Source:
    from PIL import Image

    Image.MAX_IMAGE_PIXELS = None
    with Image.open(path) as image:
        width, height = image.size
        profile = image.info.get("icc_profile")
        _sane(path, width, height)
    facts: dict[str, Any] = {"path": str(path), "file_bytes": path.stat().st_size, "kind": "finished"}
    facts |= tags.exif_facts(path)
    facts |= {"width": width, "height": height, "has_profile": bool(profile)}
    if not pixels:
        return Source(checked(facts), np.empty((0, 0), np.uint16))
    rgb = _finished_pixels(path)
    if rgb.shape[:2] != (height, width):
        raise UnreadableFile(path, "does not hold the picture that its header promises.")
    planes, warning = to_working(rgb, profile)
    facts["warnings"] = tuple(w for w in (warning, damage_of(path)) if w)
    return Source(checked(facts), planes)


def _finished_pixels(path: Path) -> NDArray[Any]:
    """(H, W, 3) uint8 or uint16 of a JPEG, PNG or TIFF, not yet turned upright."""
    import cv2
    import tifffile

    if path.suffix.lower() in {".tif", ".tiff"}:
        rgb = tifffile.imread(path, key=0)
        if rgb.ndim == 3 and rgb.shape[0] in (3, 4) and rgb.shape[2] > 4:
            rgb = rgb.transpose(1, 2, 0)
    else:
        flags = cv2.IMREAD_UNCHANGED | cv2.IMREAD_IGNORE_ORIENTATION
        decoded = cv2.imdecode(np.fromfile(path, np.uint8), flags)
        if decoded is None:
            raise UnreadableFile(path, "cannot be decoded. It may be damaged: copy it again.")
        rgb = decoded[..., [2, 1, 0]] if decoded.ndim == 3 and decoded.shape[2] >= 3 else decoded
    if rgb.ndim == 2:
        rgb = np.repeat(rgb[..., None], 3, axis=2)
    if rgb.dtype not in (np.uint8, np.uint16) or rgb.shape[2] < 3:
        raise UnreadableFile(path, f"has {rgb.dtype} samples; 8 and 16 bits in RGB or grey are read.")
    return np.ascontiguousarray(rgb[..., :3])
