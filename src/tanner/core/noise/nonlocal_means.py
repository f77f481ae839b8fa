"""The non-local mean over tiles: each is averaged with those whose surroundings look alike.

The parts that take the time are written out in vectors (see `tanner.core.vector16`): left to the compiler they took several times as long.
"""

from typing import Any

import numpy as np
from llvmlite import ir
from numpy.typing import NDArray

from tanner.core.jit import cgutils, intrinsic, kernel, types
from tanner.core.vector16 import FLOATS, LANES, Lanes, alike, array, choose, count, load, place, shifted, store

F32 = NDArray[np.float32]
NEAR, FAR = 3, 5
"""Tiles up to which every offset is looked at, and every second one."""
INNER = LANES - 2
"""Tiles whose surroundings are known when differences of LANES are."""
COLUMNS = 2 * LANES * INNER
"""Columns that are worked on together: what is known of their likenesses stays in the cache while the rows go by."""
PLANES = 4
PAD = 2 * LANES
"""Columns on both sides that are there to be read only: from beside a block, offsets reach over its sides twice as far."""


def averaged(noisy: F32, search_radius: int, base: float, width: float, own: float) -> F32:
    """Weighted means of planes (n, h, w), PLANES of them at most.

    The weight of a tile falls with the distance of its surroundings, d = mean squared difference over 3 x 3 tiles and all
    planes: (1 - max(d - base, 0) / width)^2, 0 beyond.

    Args:
        search_radius: tiles that are looked at to each side, LANES at most.
        base: distance that noise alone makes; width: beyond it, where weights end.
        own: weight of the tile itself.
    """
    planes, w = len(noisy), noisy.shape[2]
    padded = np.pad(noisy, ((0, 0), (0, 0), (PAD, PAD + -w % LANES)), mode="edge")
    if planes < PLANES:
        # Sensors without a mosaic have fewer planes; those that are nothing differ nowhere.
        padded = np.concatenate([padded, np.zeros((PLANES - planes, *padded.shape[1:]), np.float32)])
    total = np.empty((PLANES + 1, *padded.shape[1:]), np.float32)
    np.multiply(padded, np.float32(own), out=total[:PLANES])
    total[PLANES] = own
    _sums(padded, w, search_radius, 9 * planes, np.float32(base), np.float32(width), total)
    inner = total[:, :, PAD : PAD + w]
    means = np.empty((planes, *inner.shape[1:]), np.float32)
    return np.divide(inner[:planes], inner[PLANES], out=means)


@intrinsic
def _weigh(typingctx, noisy, row, far, column, x, w, ring, group, oldest, low, inv, weights, offsets, many):  # type: ignore[no-untyped-def]
    """Weights of INNER tiles of a row for all offsets.

    Differences are taken of LANES tiles, whose sums over three are known of INNER: so they stay in registers.

    Args:
        noisy: float32 (PLANES, h, w + 2 PAD); row: the row below; far: the one that lies by the offsets beside it.
        column: of the first of the tiles in it; x: in the block; w: columns that there are, float32.
        ring: float32 (offsets, 2, groups LANES), sums of three columns of the two rows before; group: of the tiles.
        oldest: which of the two is older, and filled.
        low, inv: what noise alone makes of the sum of differences, and the reciprocal of where weights end beyond it.
        weights: float32 (offsets, COLUMNS + 2 PAD), filled; offsets: int64, `many` of them.
    """
    sig = types.void(noisy, row, far, column, x, w, ring, group, oldest, low, inv, weights, offsets, many)

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        noisy, row, far, column, x, w, ring, group, oldest, low, inv, weights, offsets, many = args
        data, lengths = array(context, builder, signature.args[0], noisy)
        rings, deep = array(context, builder, signature.args[6], ring)
        out, wide = array(context, builder, signature.args[11], weights)
        steps, _ = array(context, builder, signature.args[12], offsets)
        number = x.type
        before = builder.sub(column, number(1))
        here = [load(builder, data, place(builder, lengths, number(c), row, before)) for c in range(PLANES)]
        there = [place(builder, lengths, number(c), far, before) for c in range(PLANES)]
        slot = builder.mul(group, number(LANES))
        other, start = builder.sub(number(1), oldest), builder.add(x, number(PAD))
        at = count(builder) + alike(builder, builder.sitofp(builder.sub(column, number(PAD)), ir.FloatType()))
        is_one = builder.and_(at < w, count(builder) < float(INNER))
        with cgutils.for_range(builder, many, intp=number) as loop:
            dx = builder.load(builder.gep(steps, [loop.index]))
            total = None
            for one, at_other in zip(here, there, strict=True):
                d = one - load(builder, data, builder.add(at_other, dx))
                total = d * d if total is None else total + d * d
            assert total is not None
            total = total + shifted(total, total, 0, 1) + shifted(total, total, 0, 2)
            filled = place(builder, deep, loop.index, oldest, slot)
            whole = (
                total
                + load(builder, rings, filled)
                + load(builder, rings, place(builder, deep, loop.index, other, slot))
            )
            store(total, rings, filled)
            t = (((whole - low).most(0.0) * inv) * -1.0 + 1.0).most(0.0)
            beside = at + alike(builder, builder.sitofp(dx, ir.FloatType()))
            known = builder.and_(is_one, builder.and_(beside >= 0.0, beside < w))
            store(choose(known, t * t, 0.0), out, place(builder, wide, loop.index, start))
        return context.get_dummy_value()

    return sig, codegen


@intrinsic
def _gather(typingctx, noisy, row, column, goal, goal_row, weights, x, offsets, many, sign):  # type: ignore[no-untyped-def]
    """Add to sixteen tiles those at all offsets, weighted.

    Args:
        noisy: float32 (PLANES, h, w); row: where the others lie; column: of the sixteen, in it and in the goal.
        goal: float32 (PLANES + 1, h, w), the weights' own sum last; goal_row: of the sixteen.
        weights: see `_weights`; x: of the sixteen in the block; offsets: int64, `many` of them.
        sign: 1: the others lie by the offsets after the sixteen, whose weights these are; -1: before, and the weights are theirs.
    """
    sig = types.void(noisy, row, column, goal, goal_row, weights, x, offsets, many, sign)

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        noisy, row, column, goal, goal_row, weights, x, offsets, many, sign = args
        data, lengths = array(context, builder, signature.args[0], noisy)
        out, high = array(context, builder, signature.args[3], goal)
        known, wide = array(context, builder, signature.args[5], weights)
        steps, _ = array(context, builder, signature.args[7], offsets)
        number = x.type
        goals = [place(builder, high, number(c), goal_row, column) for c in range(PLANES + 1)]
        # LLVM keeps these in registers.
        sums = [cgutils.alloca_once(builder, FLOATS) for _ in goals]
        for slot, at in zip(sums, goals, strict=True):
            builder.store(load(builder, out, at).value, slot)
        # Of tiles before the sixteen, the weights are found where those lie.
        behind = builder.icmp_signed("<", sign, sign.type(0))
        rows = [place(builder, lengths, number(c), row, column) for c in range(PLANES)]
        start = builder.add(x, number(PAD))
        with cgutils.for_range(builder, many, intp=number) as loop:
            dx = builder.mul(builder.load(builder.gep(steps, [loop.index])), sign)
            column_of = builder.add(start, builder.select(behind, dx, number(0)))
            weight = load(builder, known, place(builder, wide, loop.index, column_of))
            for c, slot in enumerate(sums):
                value = Lanes(builder, builder.load(slot))
                if c < PLANES:
                    value = value + weight * load(builder, data, builder.add(rows[c], dx))
                else:
                    value = value + weight
                builder.store(value.value, slot)
        for slot, at in zip(sums, goals, strict=True):
            store(Lanes(builder, builder.load(slot)), out, at)
        return context.get_dummy_value()

    return sig, codegen


@kernel
def _sums(noisy, w, search_radius, values, base, width, total):
    """Add weighted sums of the planes (PLANES, h, w + 2 PAD) to the total, and the weights' own (PLANES + 1, h, w + 2 PAD).

    Each pair of tiles is weighed once, by the mean over so many values, and each of the two is added to the other.
    """
    h = noisy.shape[1]
    low = np.float32(base) * np.float32(values)
    inv = np.float32(1.0) / (np.float32(width) * np.float32(values))
    most = 2 * search_radius + 1
    # Lengths of rows that are no powers of two: else all rows would want the same places of the cache.
    ring = np.empty((most, 2, COLUMNS // INNER * LANES + LANES), dtype=np.float32)
    weights = np.empty((most, COLUMNS + 2 * PAD + LANES), dtype=np.float32)
    offsets = np.empty(most, dtype=np.int64)
    for left in range(0, w, COLUMNS):
        n = min(COLUMNS, w - left)
        parts, groups = (n + INNER - 1) // INNER, (n + LANES - 1) // LANES
        column = PAD + left
        # Nothing lies beside what is weighed.
        weights[:] = np.float32(0.0)
        for dy in range(search_radius + 1):
            many = 0
            for dx in range(-search_radius, search_radius + 1):
                if dy == 0 and dx <= 0:
                    continue
                # Far tiles are many and much alike: every second one will do, and every fourth.
                if (max(abs(dx), dy) > NEAR and (dx + dy) % 2) or (max(abs(dx), dy) > FAR and dx % 2):
                    continue
                offsets[many] = dx
                many += 1
            for y in range(-2, h - dy):
                # The row below, and those it is compared with.
                row = min(max(y + 1, 0), h - 1)
                far = min(row + dy, h - 1)
                for part in range(parts):
                    x = part * INNER
                    _weigh(
                        noisy,
                        row,
                        far,
                        column + x,
                        x,
                        np.float32(w),
                        ring,
                        part,
                        y & 1,
                        low,
                        inv,
                        weights,
                        offsets,
                        many,
                    )
                if y < 0:
                    continue
                for group in range(groups):
                    x = group * LANES
                    _gather(noisy, y + dy, column + x, total, y, weights, x, offsets, many, 1)
                # The same pairs seen from the other tile, which may lie beside the block.
                for group in range(-1, groups + 1):
                    x = group * LANES
                    _gather(noisy, y, column + x, total, y + dy, weights, x, offsets, many, -1)
