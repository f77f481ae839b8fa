"""Two small networks that ship with Tanner: points of a face, and where people are.

Both were made by others, under the Apache licence 2.0; where from is in THIRD_PARTY.md. They run in onnxruntime.
"""

import json
from functools import cache
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

HERE = Path(__file__).parent
Picture = NDArray[np.uint8]
F32 = NDArray[np.float32]
F64 = NDArray[np.float64]
EYES = (
    [33, 7, 163, 144, 145, 153, 154, 155, 133, 173, 157, 158, 159, 160, 161, 246],
    [263, 249, 390, 373, 374, 380, 381, 382, 362, 398, 384, 385, 386, 387, 388, 466],
)
BROWS = ([70, 63, 105, 66, 107, 55, 65, 52, 53, 46], [300, 293, 334, 296, 336, 285, 295, 282, 283, 276])
LIPS = [61, 146, 91, 181, 84, 17, 314, 405, 321, 375, 291, 409, 270, 269, 267, 0, 37, 39, 40, 185]
OVAL = [10, 338, 297, 332, 284, 251, 389, 356, 454, 323, 361, 288, 397, 365, 379, 378, 400, 377, 152, 148, 176, 149,
        150, 136, 172, 58, 132, 93, 234, 127, 162, 21, 54, 103, 67, 109]  # fmt: skip
SURE = 9.0
"""Least raw answer of the face network for a face: 54 boxes without one gave 5.8 at most, faces 11 at least."""
PEOPLE = 256
FACE = 192


@cache
def _session(name: str) -> Any:
    # Imported late: most work needs no network.
    import onnxruntime

    options = onnxruntime.SessionOptions()
    options.intra_op_num_threads = 1
    options.inter_op_num_threads = 1
    # The session runs in the caller's own thread: to flush the smallest numbers to nothing would stay on there, for all else.
    return onnxruntime.InferenceSession(str(HERE / name), options, providers=["CPUExecutionProvider"])


@cache
def _refined() -> list[list[int]]:
    """Which points the network's finer heads (lips, both eyes) say anew."""
    found: list[list[int]] = json.loads((HERE / "face-points.json").read_text())
    return found


def people(picture: Picture) -> F32:
    """Where people are, (h, w) from 0 to 1, as coarse as 256 px a side; nonsense where there are none."""
    h, w = picture.shape[:2]
    small = cv2.resize(picture, (PEOPLE, PEOPLE), interpolation=cv2.INTER_AREA)
    session = _session("people.onnx")
    given = {session.get_inputs()[0].name: small[None].astype(np.float32) / 255}
    out = np.asarray(session.run(None, given)[0], np.float32).reshape(PEOPLE, PEOPLE, -1)[..., -1]
    return np.asarray(np.clip(cv2.resize(out, (w, h), interpolation=cv2.INTER_LINEAR), 0, 1), np.float32)


def _crop(picture: Picture, cx: float, cy: float, side: float, angle: float) -> tuple[F32, F64]:
    """A square of `side` px turned by `angle` (radians), as the network takes it, and the (2, 3) way back."""
    n = FACE
    c, s = np.cos(angle) * side / n, np.sin(angle) * side / n
    back = np.array([[c, -s, 0], [s, c, 0]], float)
    back[:, 2] = np.array([cx, cy]) - back[:, :2] @ [n / 2 - 0.5, n / 2 - 0.5]
    source, m, times = picture, back.copy(), max(1, int(side / n / 1.5))
    if times > 1:
        # A far larger square is made smaller first, or thin detail aliases.
        x0, y0 = max(0, int(cx - side)), max(0, int(cy - side))
        part = picture[y0 : int(cy + side), x0 : int(cx + side)]
        h, w = max(1, part.shape[0] // times), max(1, part.shape[1] // times)
        source = cv2.resize(part[: h * times, : w * times], (w, h), interpolation=cv2.INTER_AREA)
        m[:, 2] -= [x0, y0]
        m /= times
        m[:, 2] += (1 / times - 1) / 2
    got = cv2.warpAffine(
        source, m, (n, n), flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP, borderMode=cv2.BORDER_REPLICATE
    )
    return np.ascontiguousarray(got[None].astype(np.float32) / 255), back


def _points(picture: Picture, cx: float, cy: float, side: float, angle: float) -> tuple[F64, float]:
    given, back = _crop(picture, cx, cy, side, angle)
    session = _session("face.onnx")
    out = session.run(None, {session.get_inputs()[0].name: given})

    def there(p: F64) -> F64:
        # The network's places are continuous: a pixel's middle lies at a half.
        return np.asarray((p - 0.5) @ back[:, :2].T + back[:, 2])

    found = there(np.asarray(out[0], np.float64).reshape(468, 3)[:, :2])
    for k, which in enumerate(_refined()):
        found[which] = there(np.asarray(out[1 + k], np.float64).reshape(-1, 2))
    return found, float(np.ravel(out[6])[0])


def face_points(picture: Picture, box: tuple[float, float, float, float]) -> tuple[F64, float]:
    """Points of a face, (468, 2) in px, and the network's raw answer, below `SURE` for what is none.

    Args:
        box: x, y, width, height of a face as a detector gives it, whichever way up it is.
    """
    x, y, w, h = box
    cx, cy, side = x + w / 2, y + h / 2, 1.5 * max(w, h)
    # The detector's idea of up is not used: of eight directions the one with the highest answer is right.
    angle = max((k * np.pi / 4 for k in range(8)), key=lambda a: _points(picture, cx, cy, side, a)[1])
    found, sure = _points(picture, cx, cy, side, angle)
    for _ in range(2):
        d = found[263] - found[33]
        angle = float(np.arctan2(d[1], d[0]))
        c, s = np.cos(-angle), np.sin(-angle)
        turned = found @ np.array([[c, s], [-s, c]])
        low, high = turned.min(axis=0), turned.max(axis=0)
        cx, cy = (low + high) / 2 @ np.array([[c, -s], [s, c]])
        side = 1.5 * float(max(high - low))
        found, sure = _points(picture, cx, cy, side, angle)
    return found, sure


def polygon(shape: tuple[int, int], points: F64) -> F32:
    """The inside of a closed line of points (N, 2) in px, (h, w) from 0 to 1."""
    mask = np.zeros(shape, np.uint8)
    cv2.fillPoly(mask, [np.rint((points + 0) * 16).astype(np.int32)], 255, cv2.LINE_AA, 4)
    return np.asarray(mask, np.float32) / np.float32(255)
