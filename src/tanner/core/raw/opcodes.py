"""DNG opcode lists: read, and those that change pixels applied (source: dng17, chapter 7).

Lists are big endian whatever the file is, and work in their order. List 1 works on the numbers as they are stored, list 2
on the mosaic after black and white, list 3 on the picture after demosaicing. Warps and fall-off of list 3 become a lens
(`core.optics.lens`); the rest is done here when the file is read.
"""

import math
import struct
from collections.abc import Callable, Iterable
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
class Area:
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

    area: Area
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
    return GainMap(Area(t, left, b, r, plane, planes, row_pitch, column_pitch), gains, (sv, sh), (ov, oh))


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


@dataclass(frozen=True)
class Scale:
    """How stored numbers stand to the values that a list works on: (number - black) / span, from 0 to 1.

    Attributes:
        black: by row and column parity of the picture; span: for each; most: numbers are kept within 0 and this.
    """

    black: tuple[float, float, float, float]
    span: tuple[float, float, float, float]
    most: float


STORED = Scale((0.0, 0.0, 0.0, 0.0), (65535.0,) * 4, 65535.0)
"""List 1 works on the numbers as they are stored, of 16 bits."""


def apply_list(
    mosaic: NDArray[np.uint16], data: bytes, name: str, scale: Scale, corner: tuple[int, int] = (0, 0)
) -> tuple[NDArray[np.uint16], list[str]]:
    """List 1 or 2 on a mosaic, in its order: the same array when there is nothing to do, and what was not done, in words.

    Args:
        name: of the list, for these words; scale: see `Scale`.
        corner: row and column of the mosaic in the picture that the list's places count in: list 1 counts from the
            stored picture, list 2 from the active area.
    """
    odd: list[str] = []
    for number, payload in split(data):
        what = NAMES.get(number, f"opcode {number}")
        try:
            if number in (4, 5):
                mosaic = _filled(mosaic, bad_pixels(number, payload).moved(*corner), 2)
            elif number == 9:
                mosaic = _gained(mosaic, gain_map(payload), scale, corner)
            elif number in _VALUES:
                mosaic = _VALUES[number](mosaic, payload, scale, corner)
            elif number == 3:
                mosaic = _evened(mosaic, payload, scale)
            elif number != 6:
                odd.append(f"{what} of {name} is not applied.")
        except (struct.error, ValueError) as error:
            odd.append(f"{what} of the file cannot be used ({error}).")
    return mosaic, odd


Change = Callable[[NDArray[np.float64], NDArray[np.intp], NDArray[np.intp]], NDArray[np.float64]]
"""From values (rows, columns) of an area and their rows and columns in it to new values."""


def _changed(
    mosaic: NDArray[np.uint16], area: Area, scale: Scale, corner: tuple[int, int], change: Change
) -> NDArray[np.uint16]:
    """A mosaic with the values of an area changed."""
    height, width = mosaic.shape
    rows = np.arange(area.top, area.bottom, area.row_pitch) if area.bottom > area.top else np.empty(0, np.intp)
    columns = np.arange(area.left, area.right, area.column_pitch) if area.right > area.left else np.empty(0, np.intp)
    ys, xs = rows - corner[0], columns - corner[1]
    at, across = np.flatnonzero((ys >= 0) & (ys < height)), np.flatnonzero((xs >= 0) & (xs < width))
    if area.plane > 0 or not (len(at) and len(across)):
        return mosaic
    mosaic = mosaic.copy()
    where = np.ix_(ys[at], xs[across])
    parity = 2 * (ys[at] % 2)[:, None] + (xs[across] % 2)[None]
    black, span = np.array(scale.black)[parity], np.array(scale.span)[parity]
    values = change((mosaic[where] - black) / span, at, across)
    mosaic[where] = np.clip(np.rint(values * span + black), 0, scale.most).astype(np.uint16)
    return mosaic


def _area(payload: bytes) -> Area:
    t, left, b, r, plane, planes, row_pitch, column_pitch = struct.unpack_from(">8I", payload, 0)
    if not row_pitch or not column_pitch or max(b, r) > 1_000_000:
        raise ValueError("an area that is none")
    return Area(t, left, b, r, plane, planes, row_pitch, column_pitch)


def _by_table(mosaic: NDArray[np.uint16], payload: bytes, scale: Scale, corner: tuple[int, int]) -> NDArray[np.uint16]:
    """MapTable: 16-bit values through a table, whose last entry holds for all above it."""
    area, (count,) = _area(payload), struct.unpack_from(">I", payload, 32)
    if not 1 <= count <= 65536:
        raise ValueError("a table without entries")
    table = np.frombuffer(payload, ">u2", count, 36).astype(np.float64) / 65535

    def change(v: NDArray[np.float64], _: Any, __: Any) -> NDArray[np.float64]:
        return table[np.clip(np.rint(v * 65535), 0, count - 1).astype(np.intp)]

    return _changed(mosaic, area, scale, corner, change)


def _by_polynomial(
    mosaic: NDArray[np.uint16], payload: bytes, scale: Scale, corner: tuple[int, int]
) -> NDArray[np.uint16]:
    """MapPolynomial: values from 0 to 1 through a polynomial of degree 8 at most."""
    area, (degree,) = _area(payload), struct.unpack_from(">I", payload, 32)
    if degree > 8:
        raise ValueError(f"a polynomial of degree {degree}")
    factors = np.array(struct.unpack_from(f">{degree + 1}d", payload, 36))
    if not np.isfinite(factors).all():
        raise ValueError("absurd coefficients")

    def change(v: NDArray[np.float64], _: Any, __: Any) -> NDArray[np.float64]:
        return np.asarray(np.polynomial.polynomial.polyval(np.clip(v, 0, 1), factors))

    return _changed(mosaic, area, scale, corner, change)


def _by_lines(down: bool, scaled: bool) -> Callable[..., NDArray[np.uint16]]:
    """DeltaPerRow and its kin: something added to each row or column of an area, or each multiplied by something."""

    def apply(mosaic: NDArray[np.uint16], payload: bytes, scale: Scale, corner: tuple[int, int]) -> NDArray[np.uint16]:
        area, (count,) = _area(payload), struct.unpack_from(">I", payload, 32)
        lines = (
            -(-(area.bottom - area.top) // area.row_pitch)
            if down
            else -(-(area.right - area.left) // area.column_pitch)
        )
        if count != lines:
            raise ValueError(f"{count} values for {lines} lines")
        each = np.frombuffer(payload, ">f4", count, 36).astype(np.float64)
        if not np.isfinite(each).all() or np.abs(each).max(initial=0) > 1000:
            raise ValueError("absurd values")

        def change(v: NDArray[np.float64], rows: NDArray[np.intp], columns: NDArray[np.intp]) -> NDArray[np.float64]:
            line = each[rows][:, None] if down else each[columns][None]
            return v * line if scaled else v + line

        return _changed(mosaic, area, scale, corner, change)

    return apply


_VALUES: dict[int, Callable[..., NDArray[np.uint16]]] = {
    7: _by_table, 8: _by_polynomial, 10: _by_lines(True, False), 11: _by_lines(False, False), 12: _by_lines(True, True),
    13: _by_lines(False, True),
}  # fmt: skip


def _gained(mosaic: NDArray[np.uint16], found: GainMap, scale: Scale, corner: tuple[int, int]) -> NDArray[np.uint16]:
    height, width = mosaic.shape

    def change(v: NDArray[np.float64], rows: NDArray[np.intp], columns: NDArray[np.intp]) -> NDArray[np.float64]:
        a = found.area
        ys, xs = a.top + rows * a.row_pitch - corner[0], a.left + columns * a.column_pitch - corner[1]
        return v * found.at((ys + 0.5) / height, (xs + 0.5) / width, 0)

    return _changed(mosaic, found.area, scale, corner, change)


def _evened(mosaic: NDArray[np.uint16], payload: bytes, scale: Scale) -> NDArray[np.uint16]:
    """FixVignetteRadial on a mosaic."""
    values = struct.unpack_from(">7d", payload)
    if not all(math.isfinite(v) and abs(v) < 100 for v in values):
        raise ValueError("absurd coefficients")
    height, width = mosaic.shape
    cx, cy = values[5] * width, values[6] * height
    far = math.hypot(max(cx, width - cx), max(cy, height - cy))

    def change(v: NDArray[np.float64], rows: NDArray[np.intp], columns: NDArray[np.intp]) -> NDArray[np.float64]:
        r2 = (((rows + 0.5 - cy) ** 2)[:, None] + ((columns + 0.5 - cx) ** 2)[None]) / far**2
        return v * np.polynomial.polynomial.polyval(r2, (1.0, *values[:5]))

    return _changed(mosaic, Area(0, 0, height, width), scale, (0, 0), change)


def _filled(mosaic: NDArray[np.uint16], bad: BadPixels, period: int) -> NDArray[np.uint16]:
    height, width = mosaic.shape
    places = bad.places
    if bad.constant is not None:
        places = np.argwhere(mosaic == bad.constant)
        if len(places) > mosaic.size // 10:
            raise ValueError("a tenth of the picture would be bad")
    places = places[(places[:, 0] < height) & (places[:, 1] < width)]
    if not len(places):
        return mosaic
    ill = np.zeros(mosaic.shape, bool)
    ill[places[:, 0], places[:, 1]] = True
    total, count = np.zeros(len(places)), np.zeros(len(places))
    # The nearest good pixels of the colour; farther ones only where there is none.
    for reach in range(1, 9):
        empty = count == 0
        if not empty.any():
            break
        for dy, dx in ((-1, 0), (1, 0), (0, -1), (0, 1), (-1, -1), (-1, 1), (1, -1), (1, 1)):
            y, x = places[:, 0] + dy * period * reach, places[:, 1] + dx * period * reach
            inside = empty & (y >= 0) & (y < height) & (x >= 0) & (x < width)
            yc, xc = np.clip(y, 0, height - 1), np.clip(x, 0, width - 1)
            good = inside & ~ill[yc, xc]
            weight = np.where(good, 1.0 if dy == 0 or dx == 0 else 0.5, 0.0)
            total += weight * mosaic[yc, xc]
            count += weight
    result = mosaic.copy()
    some = count > 0
    result[places[some, 0], places[some, 1]] = np.rint(total[some] / count[some]).astype(np.uint16)
    return result
