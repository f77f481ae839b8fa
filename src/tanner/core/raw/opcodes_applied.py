"""Opcode lists 1 and 2 of a DNG, done on the mosaic (source: dng17)."""

import math
import struct
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.raw.opcodes import NAMES, BadPixels, GainMap, OpcodeArea, bad_pixels, gain_map, split


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
    mosaic: NDArray[np.uint16], area: OpcodeArea, scale: Scale, corner: tuple[int, int], change: Change
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


def _area(payload: bytes) -> OpcodeArea:
    t, left, b, r, plane, planes, row_pitch, column_pitch = struct.unpack_from(">8I", payload, 0)
    if not row_pitch or not column_pitch or max(b, r) > 1_000_000:
        raise ValueError("an area that is none")
    return OpcodeArea(t, left, b, r, plane, planes, row_pitch, column_pitch)


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

    return _changed(mosaic, OpcodeArea(0, 0, height, width), scale, (0, 0), change)


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
