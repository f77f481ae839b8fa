"""A Wiener filter of the cosine transform of small blocks that overlap, by the spectrum that a pilot shows.

The parts that take the time are written out in vectors (see `tanner.core.vector16`): left to the compiler they took several times as long.
"""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.jit import intrinsic, kernel, types
from tanner.core.vector16 import LANES, Lanes, alike, array, load, store, summed

F32 = NDArray[np.float32]
SIZE = 12
"""Side of a block; rows of its coefficients are kept in whole vectors, the rest of which is nothing."""


def transform() -> F32:
    """The orthonormal cosine transform (SIZE, SIZE)."""
    k = np.arange(SIZE)
    rows = np.sqrt(2 / SIZE) * np.cos(np.pi * (2 * k[None] + 1) * k[:, None] / (2 * SIZE))
    rows[0] /= np.sqrt(2)
    return rows.astype(np.float32)


def filtered(noisy: F32, pilot: F32, step: int) -> F32:
    """Planes (n, h, w) with noise of deviation 1, filtered; each block counts by how little noise it leaves.

    Args:
        pilot: (n, h, w), the planes with less noise; step: px from block to block.
    """
    h, w = noisy.shape[1:]
    right = SIZE + step + -(w + 2 * SIZE + step) % LANES
    mode = "reflect" if min(h, w) > right else "symmetric"
    both = [np.pad(v, ((0, 0), (SIZE, SIZE + step), (SIZE, right)), mode=mode) for v in (noisy, pilot)]  # type: ignore[call-overload]
    window = np.hanning(SIZE + 2)[1:-1].astype(np.float32)
    forward = transform()
    result = np.empty_like(noisy)
    inner = np.s_[SIZE : SIZE + h, SIZE : SIZE + w]
    # Fresh memory costs as much as a filter's fifth: the sums of all planes share theirs.
    total, norm = (np.empty(both[0].shape[1:], np.float32) for _ in range(2))
    for n in range(len(noisy)):
        total.fill(0)
        norm.fill(0)
        _add(both[0][n], both[1][n], forward, window, step, total, norm)
        np.divide(total[inner], norm[inner], out=result[n])
    return result


@intrinsic
def _columns(typingctx, matrix, source, row, column, goal, goal_row):  # type: ignore[no-untyped-def]
    """Add matrix (SIZE, SIZE) times SIZE rows of the source, in sixteen columns, to SIZE rows of the goal."""
    sig = types.void(matrix, source, row, column, goal, goal_row)

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        matrix, source, row, column, goal, goal_row = args
        kinds = (signature.args[0], signature.args[1], signature.args[4])
        (m, _), (data, (_, wide)), (out, (_, high)) = (
            array(context, builder, kind, value) for kind, value in zip(kinds, (matrix, source, goal), strict=True)
        )
        at = builder.add(builder.mul(row, wide), column)
        rows = []
        for _ in range(SIZE):
            rows.append(load(builder, data, at))
            at = builder.add(at, wide)
        at = builder.add(builder.mul(goal_row, high), column)
        for k in range(SIZE):
            total = load(builder, out, at)
            for i in range(SIZE):
                total = total + rows[i] * builder.load(builder.gep(m, [row.type(k * SIZE + i)]))
            store(total, out, at)
            at = builder.add(at, high)
        return context.get_dummy_value()

    return sig, codegen


@intrinsic
def _block(typingctx, noisy, pilot, column, across, back, work, edge, sums, weights):  # type: ignore[no-untyped-def]
    """Filter one block, whose columns are transformed already, and add it to the sums with its weight.

    Args:
        noisy, pilot: float32 (SIZE, w), transformed down the columns; column: where the block begins.
        across: (SIZE, LANES), the transform, [j, l]; back: the same to go back, [l, j]; work: (SIZE, LANES); edge: (LANES,), the window.
        sums: (SIZE, w), blocks transformed down the columns still; weights: (w,).
    """
    sig = types.void(noisy, pilot, column, across, back, work, edge, sums, weights)

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        column = args[2]
        kinds, values = (tuple(v[:2]) + tuple(v[3:]) for v in (signature.args, args))
        arrays = [array(context, builder, kind, value) for kind, value in zip(kinds, values, strict=True)]
        noisy, pilot, across, back, work, edge, sums, weights = (data for data, _ in arrays)
        wide, long = arrays[0][1][1], arrays[6][1][1]
        number = column.type

        def product(data: Any, at: Any, rows: list[Lanes]) -> Lanes:
            total = None
            for j in range(SIZE):
                part = rows[j] * builder.load(builder.gep(data, [builder.add(at, number(j))]))
                total = part if total is None else total + part
            assert total is not None
            return total

        rows = [load(builder, across, number(LANES * j)) for j in range(SIZE)]
        power, at = None, column
        for k in range(SIZE):
            seen = product(pilot, at, rows)
            strong = seen * seen
            share = strong / (strong + 1.0)
            store(product(noisy, at, rows) * share, work, number(LANES * k))
            power = share * share if power is None else power + share * share
            at = builder.add(at, wide)
        assert power is not None
        # 0.5 more: what holds nothing must not count without end.
        one = builder.fdiv(weights.type.pointee(1.0), builder.fadd(summed(power), weights.type.pointee(0.5)))
        counts = load(builder, edge, number(0)) * alike(builder, one)
        rows = [load(builder, back, number(LANES * j)) for j in range(SIZE)]
        at = column
        for k in range(SIZE):
            store(product(work, number(LANES * k), rows) * counts + load(builder, sums, at), sums, at)
            at = builder.add(at, long)
        store(load(builder, weights, column) + counts, weights, column)
        return context.get_dummy_value()

    return sig, codegen


@kernel
def _add(noisy, pilot, forward, window, step, total, norm):
    """Add the filtered blocks of one plane to a total, with their weights.

    The transform down the columns is made once for all blocks of a row, and undone once: blocks that overlap are added
    before it is undone.

    Args:
        noisy, pilot: float32 (h, w), w a multiple of LANES; forward: float32 (SIZE, SIZE), the cosine transform.
        window: float32 (SIZE,), what a block counts along each side; step: px from block to block.
        total, norm: float32 (h, w), to be added to.
    """
    h, w = noisy.shape
    zero = np.float32(0.0)
    across, back = np.zeros((SIZE, LANES), dtype=np.float32), np.zeros((SIZE, LANES), dtype=np.float32)
    edge, undo = np.zeros(LANES, dtype=np.float32), np.zeros((SIZE, SIZE), dtype=np.float32)
    for i in range(SIZE):
        edge[i] = window[i]
        for j in range(SIZE):
            across[j, i] = back[i, j] = forward[i, j]
            undo[j, i] = forward[i, j] * window[j]
    a, b = np.empty((SIZE, w), dtype=np.float32), np.empty((SIZE, w), dtype=np.float32)
    work = np.empty((SIZE, LANES), dtype=np.float32)
    sums, weights = np.empty((SIZE, w + LANES), dtype=np.float32), np.empty(w + LANES, dtype=np.float32)
    groups = w // LANES
    for y in range(0, h - SIZE + 1, step):
        a[:], b[:], sums[:], weights[:] = zero, zero, zero, zero
        for n in range(groups):
            _columns(forward, noisy, y, n * LANES, a, 0)
            _columns(forward, pilot, y, n * LANES, b, 0)
        for x in range(0, w - SIZE + 1, step):
            _block(a, b, x, across, back, work, edge, sums, weights)
        for n in range(groups):
            _columns(undo, sums, 0, n * LANES, total, y)
        for i in range(SIZE):
            count, e = norm[y + i], window[i]
            for x in range(w):
                count[x] += e * weights[x]
