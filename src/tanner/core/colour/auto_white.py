"""Automatic white balance: three documented ways and the camera's own word, joined, held near the lights that there are.

The light's camera numbers are told by shades of grey (Minkowski mean, p = 6, source: finlayson2004), by grey edges (the
same of gradients, source: vandeweijer2007) and by the brightest places (source: land1977). The
median of their logarithms counts, and how far the ways lie apart says how sure it is. A face holds it to where
its skin is skin, as portraits are often all of one colour. What comes out near to the white as
shot is held nearer to it: cameras are right more often than pictures are grey.
"""

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.colour.camera import CameraColour
from tanner.core.colour.spaces import pcs_to_working
from tanner.core.colour.temperature import temperature_to_xy, xy_to_temperature

F64 = NDArray[np.float64]
POWER = 6.0
BRIGHTEST = 0.05
"""Share of the px that count as the brightest places."""
MOST_TINT = 12.0
KELVIN = (2300.0, 12_000.0)
HELD, FAR, FREE = 5.0, 12.0, 20.0
"""Degrees from the white as shot: what is found up to FAR away comes no farther than HELD; from FREE on it stands."""
SURE = 12.0
"""Degrees between the ways at which nothing is sure any more."""
SKIN_REACH = 6.0
"""Degrees that the light of a whole picture may lie from the one in which a face's skin is usual: people differ by as much."""
SKIN_LAB = (65.0, 14.0, 17.0)
"""Skin of a face in the middle of what people have, CIE Lab under D50 (common practice, no source)."""


@dataclass(frozen=True)
class FoundWhite:
    """The settings that were found, how sure they are from 0 to 1, and a word on how they came about."""

    values: dict[str, float]
    confidence: float
    words: str


def angle(found: F64, true: F64) -> float:
    """Degrees between white under one and under another estimate of the light (the reproduction error)."""
    r = np.asarray(found) / np.asarray(true)
    return float(np.degrees(np.arccos(np.clip(r.sum() / np.sqrt(3 * (r * r).sum()), -1, 1))))


def _ways(numbers: NDArray[np.float32], rough: F64) -> list[F64]:
    """Camera numbers of the light by each way."""
    small = cv2.resize(numbers, (256, 256), interpolation=cv2.INTER_AREA).astype(np.float64) / rough
    level = (small * rough).max(axis=-1)
    usable = (level < 0.95) & (level > 0.01) & (small.min(axis=-1) > 0)
    if usable.sum() < 200:
        usable = np.ones_like(usable)
    px = np.maximum(small[usable], 1e-5)
    shades = (px**POWER).mean(axis=0) ** (1 / POWER)
    soft = np.stack([cv2.GaussianBlur(small[..., c], (0, 0), 2.0) for c in range(3)], axis=-1)
    slope = np.hypot(cv2.Sobel(soft, -1, 1, 0), cv2.Sobel(soft, -1, 0, 1))[usable]
    # Of a plain field there are no edges: the shades stand in.
    edges = (slope**POWER).mean(axis=0) ** (1 / POWER) if slope.max() > 1e-4 else shades
    light = px.sum(axis=1)
    brightest = px[light >= np.quantile(light, 1 - BRIGHTEST)].mean(axis=0)
    return [np.maximum(v, 1e-9) * rough for v in (shades, edges, brightest)]


def _by_skin(camera: CameraColour, skin: F64) -> F64:
    """Camera numbers of the light in which a face's numbers are skin."""
    from tanner.core.measure import lab_to_xyz

    white = temperature_to_xy(5000.0)
    balanced = np.linalg.inv(camera.to_working(white) @ np.diag(camera.white_numbers(white)))
    typical = balanced @ (pcs_to_working() @ lab_to_xyz(np.array(SKIN_LAB)))
    return skin / np.maximum(typical, 1e-3)


def _held(found: F64, near: F64, degrees: float) -> F64:
    """The place on the way from one estimate to another that is so far from the second."""
    off = angle(found, near)
    share = degrees / off if off > 1e-6 else 1.0
    return np.asarray(np.exp(np.log(found / found[1]) * share + np.log(near / near[1]) * (1 - share)))


def _settings(camera: CameraColour, numbers: F64) -> dict[str, float]:
    kelvin, tint = xy_to_temperature(camera.neutral_to_white(numbers / numbers.max()))
    return {
        "white.temperature": round(float(np.clip(kelvin, *KELVIN)), 1),
        "white.tint": round(float(np.clip(tint, -MOST_TINT, MOST_TINT)), 2),
    }


def settings_numbers(camera: CameraColour, values: dict[str, float]) -> F64:
    """Camera numbers of white under the light that settings stand for."""
    return camera.white_numbers(temperature_to_xy(values["white.temperature"], values["white.tint"]))


def find_white(
    camera: CameraColour,
    numbers: NDArray[np.float32],
    as_shot: tuple[float, float, float] | None = None,
    skin: F64 | None = None,
) -> FoundWhite:
    """The light of a picture.

    Args:
        numbers: camera numbers (H, W, 3), 1 at the sensor's white.
        as_shot: camera numbers of white as the camera saw it; None: it does not say.
        skin: mean camera numbers (3,) of the skin of a face.
    """
    rough = np.maximum(camera.white_numbers(temperature_to_xy(5000.0)), 1e-3)
    ways = _ways(numbers, rough)
    words = "by greys, edges and bright places"
    logs = np.log([v / v[1] for v in ways])
    found = np.exp(np.median(logs, axis=0))
    if skin is not None:
        face = _by_skin(camera, skin)
        found = _held(found, face, min(angle(found, face), SKIN_REACH))
        words += ", held to the skin of a face"
    apart = float(np.mean([angle(v, found) for v in ways]))
    confidence = float(np.clip(1 - apart / SURE, 0, 1))
    values = _settings(camera, found)
    if as_shot is not None:
        shot = np.asarray(as_shot, dtype=np.float64)
        found, shot = settings_numbers(camera, values), shot / shot.max()
        off = angle(found, shot)
        # Where the ways disagree, the camera's word holds farther.
        far, free = FAR + (1 - confidence) * 4, FREE + (1 - confidence) * 8
        wanted = min(off, HELD) if off <= far else HELD + (off - far) * (free - HELD) / (free - far)
        if wanted < min(off, free):
            values = _settings(camera, _held(found, shot, wanted))
            words += ", held near the white as shot"
    return FoundWhite(values, round(confidence, 2), words)


def auto_white(
    camera: CameraColour, numbers: NDArray[np.float32], as_shot: tuple[float, float, float] | None = None
) -> dict[str, float]:
    """The settings that `find_white` finds."""
    return find_white(camera, numbers, as_shot).values
