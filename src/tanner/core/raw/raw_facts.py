"""What a raw file says of itself: its size, mosaic, levels, white balance, and the tags of a DNG."""

from itertools import chain
from pathlib import Path
from typing import Any

import numpy as np

from tanner.core.colour.dcp import light_of
from tanner.core.raw import opcodes, tags
from tanner.core.raw.packed import PackedMosaic
from tanner.core.raw.plain import PlainMosaic


def raw_facts(path: Path, raw: Any, plain: PlainMosaic | PackedMosaic | None) -> dict[str, Any]:
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
