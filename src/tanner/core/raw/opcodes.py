"""DNG opcode lists as they are read (source: dng17, chapter 7); `opcodes_applied` does what changes pixels.

Lists are big endian whatever the file is, and work in their order. List 1 works on the numbers as they are stored, list 2
on the mosaic after black and white, list 3 on the picture after demosaicing. Warps and fall-off of list 3 become a lens
(`core.optics.lens`); the rest is done when the file is read.
"""

import math
import struct
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

NAMES = {
    1: "WarpRectilinear", 2: "WarpFisheye", 3: "FixVignetteRadial", 4: "FixBadPixelsConstant",
    5: "FixBadPixelsList", 6: "TrimBounds", 7: "MapTable", 8: "MapPolynomial", 9: "GainMap",
    10: "DeltaPerRow", 11: "DeltaPerColumn", 12: "ScalePerRow", 13: "ScalePerColumn", 14: "WarpRectilinear2",
}  # fmt: skip
MOST = 64
"""Opcodes of a list that are read; more is damage."""
_WARPS = {1: ("rectilinear", 6), 2: ("fisheye", 4), 14: ("polynomial", 19)}


def split(data: bytes) -> list[tuple[int, bytes]]:
    """(id, payload) of each opcode of a list."""
    result: list[tuple[int, bytes]] = []
    if len(data) < 4:
        return result
    (count,) = struct.unpack_from(">I", data, 0)
    at = 4
    for _ in range(min(count, MOST)):
        if at + 16 > len(data):
            break
        number, _, _, size = struct.unpack_from(">IIII", data, at)
        result.append((number, data[at + 16 : at + 16 + size]))
        at += 16 + size
    return result


def without_trim(data: bytes) -> bytes:
    """The same list without TrimBounds, for pixels that are trimmed already; b"" where nothing else is in it."""
    kept, at = [], 4
    for number, payload in split(data):
        end = at + 16 + len(payload)
        if number != 6:
            kept.append(data[at:end])
        at = end
    return struct.pack(">I", len(kept)) + b"".join(kept) if kept else b""


@dataclass(frozen=True)
class OpcodeArea:
    """Where an opcode works: rows and columns from top left to below bottom right, with pitches, and planes."""

    top: int
    left: int
    bottom: int
    right: int
    plane: int = 0
    planes: int = 1
    row_pitch: int = 1
    column_pitch: int = 1


@dataclass(frozen=True)
class GainMap:
    """Factors on a grid over the picture, for the pixels of an area.

    Attributes:
        gains: (points down, points across, planes).
        spacing, origin: (down, across) in shares of the picture's height and width.
    """

    area: OpcodeArea
    gains: NDArray[np.float32]
    spacing: tuple[float, float]
    origin: tuple[float, float]

    def at(self, rows: NDArray[np.float64], columns: NDArray[np.float64], plane: int = 0) -> NDArray[np.float64]:
        """Factors (rows, columns), bilinear between grid points, for positions in shares of the picture."""
        down, across, planes = self.gains.shape
        v = np.clip((rows - self.origin[0]) / (self.spacing[0] or 1.0), 0, down - 1)
        u = np.clip((columns - self.origin[1]) / (self.spacing[1] or 1.0), 0, across - 1)
        iv, iu = np.minimum(v.astype(int), max(down - 2, 0)), np.minimum(u.astype(int), max(across - 2, 0))
        fv, fu = (v - iv)[:, None], (u - iu)[None]
        jv, ju = np.minimum(iv + 1, down - 1), np.minimum(iu + 1, across - 1)
        g = self.gains[..., min(plane, planes - 1)].astype(np.float64)
        top = g[np.ix_(iv, iu)] * (1 - fu) + g[np.ix_(iv, ju)] * fu
        bottom = g[np.ix_(jv, iu)] * (1 - fu) + g[np.ix_(jv, ju)] * fu
        result: NDArray[np.float64] = top * (1 - fv) + bottom * fv
        return result

    def smooth(
        self, rows: NDArray[np.float64], columns: NDArray[np.float64], plane: int = 1, size: tuple[int, int] = (0, 0)
    ) -> NDArray[np.float64]:
        """The same for places of any shape in one plane of a picture; 1 outside of its area and in planes that are not its.

        Args:
            size: width and height, for the area; (0, 0): everywhere.
        """
        import cv2

        if not self.area.plane <= plane < self.area.plane + self.area.planes:
            return np.ones(rows.shape)
        v = (rows - self.origin[0]) / (self.spacing[0] or 1.0)
        u = (columns - self.origin[1]) / (self.spacing[1] or 1.0)
        grid = np.ascontiguousarray(self.gains[..., min(plane - self.area.plane, self.gains.shape[2] - 1)])
        shape = (1, -1) if v.ndim == 1 else v.shape
        found = cv2.remap(
            grid, u.astype(np.float32).reshape(shape), v.astype(np.float32).reshape(shape), cv2.INTER_LINEAR,
            borderMode=cv2.BORDER_REPLICATE,
        )  # fmt: skip
        factors = found.astype(np.float64).reshape(v.shape)
        if size == (0, 0):
            return factors
        # A map up to the picture's edge holds beyond it, where the lens looks.
        w, h = size
        y, x = rows * h, columns * w
        a = self.area
        inside = ((y >= a.top) | (a.top == 0)) & ((y < a.bottom) | (a.bottom >= h))
        inside &= ((x >= a.left) | (a.left == 0)) & ((x < a.right) | (a.right >= w))
        return np.where(inside, factors, 1.0)


def gain_map(payload: bytes) -> GainMap:
    """Raises struct.error or ValueError when the payload is no gain map."""
    t, left, b, r, plane, planes, row_pitch, column_pitch, down, across = struct.unpack_from(">10I", payload, 0)
    sv, sh, ov, oh = struct.unpack_from(">4d", payload, 40)
    (depth,) = struct.unpack_from(">I", payload, 72)
    if not (0 < down * across * depth <= 4_000_000) or not row_pitch or not column_pitch:
        raise ValueError("a gain map without points")
    gains = np.frombuffer(payload, ">f4", down * across * depth, 76).reshape(down, across, depth).astype(np.float32)
    if not np.isfinite(gains).all() or (gains < 0).any() or gains.max() > 1000:
        raise ValueError("a gain map with absurd factors")
    return GainMap(OpcodeArea(t, left, b, r, plane, planes, row_pitch, column_pitch), gains, (sv, sh), (ov, oh))


@dataclass(frozen=True)
class BadPixels:
    """Places that are to be filled from neighbours of their colour; constant: the number that marks them."""

    places: NDArray[np.intp]  # (N, 2): row, column
    constant: int | None = None

    def moved(self, row: int, column: int) -> "BadPixels":
        """The same in a picture that begins at this row and column; what lies before it is left out."""
        places = self.places - (row, column)
        return BadPixels(places[(places >= 0).all(axis=1)], self.constant)


def bad_pixels(number: int, payload: bytes) -> BadPixels:
    if number == 4:
        constant, _ = struct.unpack_from(">II", payload)
        return BadPixels(np.empty((0, 2), np.intp), constant)
    _, points, rects = struct.unpack_from(">III", payload)
    if points > 1_000_000 or rects > 100_000:
        raise ValueError("a list of bad pixels that is too long")
    places = np.frombuffer(payload, ">u4", points * 2, 12).reshape(-1, 2).astype(np.intp)
    boxes = np.frombuffer(payload, ">u4", rects * 4, 12 + 8 * points).reshape(-1, 4).astype(np.intp)
    filled = [places]
    for t, left, b, r in boxes:
        if (b - t) * (r - left) > 1_000_000:
            raise ValueError("a bad rectangle that is too large")
        ys, xs = np.mgrid[t:b, left:r]
        filled.append(np.stack([ys.ravel(), xs.ravel()], axis=1))
    return BadPixels(np.concatenate(filled))


def lens_fields(data: bytes) -> tuple[dict[str, Any], list[str]]:
    """Warp and fall-off of a list 3 as fields of FrameFacts, and what could not be used, in words."""
    found: dict[str, Any] = {}
    odd: list[str] = []
    order: list[str] = []
    for number, payload in split(data):
        name = NAMES.get(number, f"opcode {number}")
        try:
            if number in _WARPS:
                if "warp" in found:
                    odd.append(f"{name}: a second warp of the same file is left out.")
                    continue
                found |= _warp(number, payload)
                order.append("warp")
            elif number == 9:
                area = gain_map(payload).area
                if (area.row_pitch, area.column_pitch) != (1, 1):
                    odd.append(f"{name} of list 3 skips rows or columns, and is applied to all of them.")
                order.append("map")
            elif number == 3:
                if "vignette" in found:
                    odd.append(f"{name}: a second one of the same file is left out.")
                    continue
                values = struct.unpack_from(">7d", payload)
                if not all(math.isfinite(v) and abs(v) < 100 for v in values):
                    raise ValueError("absurd coefficients")
                found["vignette"], found["vignette_centre"] = values[:5], values[5:]
                order.append("vignette")
            elif number not in (4, 5, 6):
                odd.append(f"{name} of the file is not applied.")
        except (struct.error, ValueError) as error:
            odd.append(f"{name} of the file cannot be used ({error}); the picture is shown without it.")
    if order:
        found["lens_order"] = tuple(order)
    return found, odd


def _warp(number: int, payload: bytes) -> dict[str, Any]:
    kind, size = _WARPS[number]
    (planes,) = struct.unpack_from(">I", payload)
    if planes not in (1, 3):
        raise ValueError(f"{planes} planes")
    values = struct.unpack_from(f">{planes * size + 2}d", payload, 4)
    if not all(math.isfinite(v) and abs(v) < 10 for v in values):
        raise ValueError("absurd coefficients")
    rows = tuple(values[size * p : size * (p + 1)] for p in range(planes))
    reciprocal = number == 14 and struct.unpack_from(">I", payload, 4 + 8 * len(values))[0] == 1
    return {"warp": rows, "warp_centre": values[-2:], "warp_kind": kind, "warp_reciprocal": reciprocal}


def trim(lists: Iterable[bytes], height: int, width: int) -> tuple[int, int, int, int]:
    """The part that TrimBounds leaves: top, left, bottom, right."""
    t, left, b, r = 0, 0, height, width
    for data in lists:
        for number, payload in split(data):
            if number == 6 and len(payload) >= 16:
                nt, nl, nb, nr = struct.unpack_from(">4I", payload)
                if nt < nb <= height and nl < nr <= width and nb - nt >= 16 and nr - nl >= 16:
                    t, left, b, r = max(t, nt), max(left, nl), min(b, nb), min(r, nr)
    return t, left, b, r
