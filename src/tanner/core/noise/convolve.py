"""Convolutions of the network for noise, 3 x 3 with fewer products: Winograd's F(4 x 4, 3 x 3) (source: lavin2016).

Four by four results need 36 products a pair of channels instead of 144: a tile of six by six numbers is mixed, multiplied with
kernels that are mixed alike, and mixed back. The products are those of small matrices, one for each of the 36.

All numbers of a place lie together (rows, columns, channels), in fields with a border of nothing; channels are multiples of sixteen. What
takes the time is written out in vectors (see `tanner.core.vector16`): mixing stays in them from six by six numbers read to 36 written.
"""

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.jit import cgutils, intrinsic, kernel, types
from tanner.core.vector16 import LANES, Lanes, alike, array, load, store

F32 = NDArray[np.float32]
SIDE = 4
"""px of a tile's results; it reads two more."""
PLACES = (SIDE + 2) ** 2
GROUP = 4 * LANES
"""Channels that are worked out at once."""
CHUNK = 34
"""Tiles that are worked on between two passes over the weights: what they are mixed to stays near the processor."""
ROOM = CHUNK + 16
"""As the rows of a product are taken several at once, up to so many more than there are."""
TURNS = 4
"""Numbers of a row that a product takes between two looks at whether it has all."""
PLAIN, ABOVE_ZERO, ADDED = 0, 1, 2
"""What becomes of a result: written, written where it is above 0, or added to what is there."""
# How kernels are mixed, down and across.
KERNEL_MIX = np.array(
    [[1 / 4, 0, 0], [-1 / 6, -1 / 6, -1 / 6], [-1 / 6, 1 / 6, -1 / 6], [1 / 24, 1 / 12, 1 / 6], [1 / 24, -1 / 12, 1 / 6], [0, 0, 1]]
)  # fmt: skip


def field(h: int, w: int, channels: int) -> F32:
    """Room for (h, w) places of so many channels, with a border of nothing that whole tiles fit in.

    Below it are some rows more, as products read up to 31 places beyond the last.
    """
    high, wide = (SIDE * -(-n // SIDE) + 2 for n in (h, w))
    return np.zeros((high - (-32 // wide), wide, channels), np.float32)


def mixed(weights: F32) -> F32:
    """Kernels (results, channels, 3, 3) as `convolve` takes them: flat, a matrix for each of the 36 places."""
    spread = np.einsum("ia,jb,ocab->ijco", KERNEL_MIX, KERNEL_MIX, weights.astype(np.float64))
    return np.concatenate([grouped(matrix) for matrix in spread.reshape(PLACES, *spread.shape[2:])])


def grouped(matrix: NDArray[Any]) -> F32:
    """A matrix (channels, results) as `_products` takes it: flat, so many columns after the other."""
    parts = [matrix[:, start : start + GROUP].ravel() for start in range(0, matrix.shape[1], GROUP)]
    return np.concatenate(parts).astype(np.float32)


def _mix_in(six: list[Lanes]) -> list[Lanes]:
    a, b, c, d, e, f = six
    even, odd, far, near = e - c * 4.0, d - b * 4.0, e - c, (d - b) * 2.0
    return [a * 4.0 - c * 5.0 + e, even + odd, even - odd, far + near, far - near, b * 4.0 - d * 5.0 + f]


def _mix_out(six: list[Lanes]) -> list[Lanes]:
    a, b, c, d, e, f = six
    plus, minus, more, less = b + c, b - c, d + e, d - e
    return [a + plus + more, minus + less * 2.0, plus + more * 4.0, minus + less * 8.0 + f]


@intrinsic
def _enter(typingctx, source, start, row, pixel, out, goal, plane):  # type: ignore[no-untyped-def]
    """Sixteen channels of a tile of six by six, mixed, to 36 places of `out` that lie `plane` apart."""
    sig = types.void(source, start, row, pixel, out, goal, plane)

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        source, start, row, pixel, out, goal, plane = args
        data, _ = array(context, builder, signature.args[0], source)
        result, _ = array(context, builder, signature.args[4], out)
        columns = []
        for _ in range(SIDE + 2):
            at, six = start, []
            for _ in range(SIDE + 2):
                six.append(load(builder, data, at))
                at = builder.add(at, row)
            columns.append(_mix_in(six))
            start = builder.add(start, pixel)
        for i in range(SIDE + 2):
            for value in _mix_in([column[i] for column in columns]):
                store(value, result, goal)
                goal = builder.add(goal, plane)
        return context.get_dummy_value()

    return sig, codegen


def _leaving(way: int) -> Any:
    """Sixteen channels of a tile's 36 places, mixed back to four by four results, and what becomes of them."""

    @intrinsic
    def leave(typingctx, values, start, plane, bias, channel, out, goal, row, pixel):  # type: ignore[no-untyped-def]
        sig = types.void(values, start, plane, bias, channel, out, goal, row, pixel)

        def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            values, start, plane, bias, channel, out, goal, row, pixel = args
            data, _ = array(context, builder, signature.args[0], values)
            more, _ = array(context, builder, signature.args[3], bias)
            result, _ = array(context, builder, signature.args[5], out)
            offset = load(builder, more, channel)
            rows: list[list[Lanes]] = []
            for _ in range(SIDE + 2):
                rows.append([])
                for _ in range(SIDE + 2):
                    rows[-1].append(load(builder, data, start))
                    start = builder.add(start, plane)
            columns = [_mix_out([six[j] for six in rows]) for j in range(SIDE + 2)]
            for i in range(SIDE):
                at = goal
                for found in _mix_out([column[i] for column in columns]):
                    value = found + offset
                    if way == ABOVE_ZERO:
                        value = value.most(0.0)
                    if way == ADDED:
                        value = value + load(builder, result, at)
                    store(value, result, at)
                    at = builder.add(at, pixel)
                goal = builder.add(goal, row)
            return context.get_dummy_value()

        return sig, codegen

    return leave


_leave_plain, _leave_above_zero, _leave_added = (_leaving(way) for way in (PLAIN, ABOVE_ZERO, ADDED))


def _product(rows: int, vectors: int) -> Callable[..., None]:
    """Some rows of numbers times a matrix of so many vectors a row; all results stay in vectors until the end."""

    @intrinsic
    def product(typingctx, left, start, length, matrix, base, out, goal, wide):  # type: ignore[no-untyped-def]
        sig = types.void(left, start, length, matrix, base, out, goal, wide)

        def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            left, start, length, matrix, base, out, goal, wide = args
            kinds = (signature.args[0], signature.args[3], signature.args[5])
            a, m, result = (
                array(context, builder, kind, value)[0]
                for kind, value in zip(kinds, (left, matrix, out), strict=True)
            )  # fmt: skip
            number, nothing = start.type, alike(builder, 0.0).value
            sums = [[cgutils.alloca_once_value(builder, nothing) for _ in range(vectors)] for _ in range(rows)]
            for slot in (slot for row in sums for slot in row):
                builder.store(nothing, slot)  # as this code runs again and again
            steps = builder.udiv(length, number(TURNS))
            with cgutils.for_range(builder, steps) as loop:
                first = builder.mul(loop.index, number(TURNS))
                at = builder.add(base, builder.mul(first, number(vectors * LANES)))
                place, places = builder.add(start, first), []
                for _ in range(rows):
                    places.append(place)
                    place = builder.add(place, length)
                for turn in range(TURNS):
                    factors = [
                        load(builder, m, builder.add(at, number(LANES * (turn * vectors + n)))) for n in range(vectors)
                    ]
                    for row, place in zip(sums, places, strict=True):
                        value = alike(builder, builder.load(builder.gep(a, [builder.add(place, number(turn))])))
                        for slot, factor in zip(row, factors, strict=True):
                            builder.store((Lanes(builder, builder.load(slot)) + value * factor).value, slot)
            for row in sums:
                for n, slot in enumerate(row):
                    store(Lanes(builder, builder.load(slot)), result, builder.add(goal, number(LANES * n)))
                goal = builder.add(goal, wide)
            return context.get_dummy_value()

        return sig, codegen

    found: Callable[..., None] = product
    return found


# As many rows as there are vectors of the processor for (32, of which some hold factors).
_times_16, _times_32, _times_48, _times_64 = _product(16, 1), _product(12, 2), _product(8, 3), _product(6, 4)


@kernel
def _products(left, start, length, count, matrix, base, out, goal, results):
    """`count` rows of `length` numbers, one after the other, times a grouped matrix, to rows of `results`.

    More rows are read and written than asked for, up to the next multiple of what is worked on at once: at most 15.
    """
    done = 0
    while done < results:
        vectors = min(4, (results - done) // 16)
        step = 6 if vectors == 4 else (8 if vectors == 3 else (12 if vectors == 2 else 16))
        for row in range(0, count, step):
            a, g = start + row * length, goal + row * results + done
            if vectors == 4:
                _times_64(left, a, length, matrix, base, out, g, results)
            elif vectors == 3:
                _times_48(left, a, length, matrix, base, out, g, results)
            elif vectors == 2:
                _times_32(left, a, length, matrix, base, out, g, results)
            else:
                _times_16(left, a, length, matrix, base, out, g, results)
        base += length * vectors * 16
        done += vectors * 16


@kernel
def convolve(source, weights, bias, way, out, h, w, before, after):
    """A 3 x 3 convolution with a border of nothing; see `mixed`, `field` and `PLAIN`.

    Args:
        source: float32 field of the channels; weights: float32, flat; bias: float32 (results,).
        out: float32 field of the results; it may not be the source.
        before, after: float32, at least PLACES * ROOM times as many as channels and results, to work in.
    """
    wide, channels, results = source.shape[1], source.shape[2], out.shape[2]
    flat, goal = source.reshape(-1), out.reshape(-1)
    tiles, size = (w + 3) // 4, channels * results
    for y in range(0, h, 4):
        for first in range(0, tiles, CHUNK):
            count = min(CHUNK, tiles - first)
            for n in range(count):
                at = (y * wide + 4 * (first + n)) * channels
                for c in range(0, channels, 16):
                    _enter(flat, at + c, wide * channels, channels, before, n * channels + c, ROOM * channels)
            for k in range(PLACES):
                _products(
                    before, k * ROOM * channels, channels, count, weights, k * size, after, k * ROOM * results, results
                )
            for n in range(count):
                at = ((y + 1) * wide + 4 * (first + n) + 1) * results
                for c in range(0, results, 16):
                    here = n * results + c
                    if way == 0:
                        _leave_plain(after, here, ROOM * results, bias, c, goal, at + c, wide * results, results)
                    elif way == 1:
                        _leave_above_zero(after, here, ROOM * results, bias, c, goal, at + c, wide * results, results)
                    else:
                        _leave_added(
                            after, here, ROOM * results, bias, c, goal, at + c, wide * results, results
                        )  # fmt: skip
        # Whole tiles are written: what lies beyond the last column stays nothing.
        for row in range(y + 1, y + 5):
            out[row, w + 1 :] = 0
    out[h + 1 :] = 0


@kernel
def halve(source, weights, biases, out, h, w, work):
    """A 2 x 2 convolution with a step of 2: (2 h, 2 w) of the source become (h, w).

    Args:
        source, out: float32 fields; weights: float32, two grouped matrices (2 * channels, results), of the upper row and the lower.
        biases: float32, those of the results, for a whole row of `out`; work: float32, at least (w + 16) * results * 2.
    """
    wide, channels, results = source.shape[1], source.shape[2], out.shape[2]
    flat, size = source.reshape(-1), 2 * channels * results
    second = (w + 16) * results
    for y in range(h):
        for i in range(2):
            at = ((2 * y + 1 + i) * wide + 1) * channels
            _products(flat, at, 2 * channels, w, weights, i * size, work, i * second, results)
        here = out[y + 1, 1:].reshape(-1)
        for x in range(w * results):
            here[x] = work[x] + work[second + x] + biases[x]


@kernel
def double(source, weights, biases, out, h, w, work):
    """A transposed 2 x 2 convolution with a step of 2: (h, w) of the source, added to (2 h, 2 w) of what is there.

    Args:
        source, out: float32 fields; weights: float32, two grouped matrices (channels, 2 * results), of the upper row and the lower.
        biases: float32, those of the results, for a whole row of `out`; work: float32, at least (w + 16) * results * 2.
    """
    wide, channels, results = source.shape[1], source.shape[2], out.shape[2]
    flat, size = source.reshape(-1), channels * 2 * results
    for y in range(h):
        for i in range(2):
            _products(flat, ((y + 1) * wide + 1) * channels, channels, w, weights, i * size, work, 0, 2 * results)
            here = out[2 * y + 1 + i, 1:].reshape(-1)
            for x in range(2 * w * results):
                here[x] += work[x] + biases[x]
