"""Tables of one row, read between their entries, in vectors (see `tanner.core.vector16`), and the work rows of a run of px.

What is looked up for sixteen px is read one by one whatever the processor has; so an entry holds all that is read with it:
several numbers, or a number and the step to the next.
"""

from typing import Any

import numpy as np
from llvmlite import ir
from numpy.typing import NDArray

from tanner.core.jit import intrinsic, types
from tanner.core.tone.hues import CELL, F_HUE, FOUND, PLACE
from tanner.core.vector16 import (
    LANES,
    WHOLE,
    Lanes,
    alike,
    array,
    every,
    floats,
    load,
    part,
    store,
    store_whole,
    whole,
    wholes,
)

PAIR = 2
"""Numbers of an entry that is a number and the step to the next."""


def pairs(numbers: NDArray[np.float64]) -> NDArray[np.float32]:
    """Entries for `look_up_pairs`, float32 (..., n, PAIR), of numbers (..., n); there is no step from the last."""
    steps = np.diff(numbers, axis=-1, append=numbers[..., -1:])
    return np.ascontiguousarray(np.stack([numbers, steps], axis=-1), np.float32)


class WorkRows:
    """The work rows of a run, from px `on`, inside an intrinsic."""

    def __init__(self, context: Any, builder: Any, kind: Any, rows: Any, on: Any) -> None:
        self.builder, self.on = builder, on
        self.data, (_, self.long) = array(context, builder, kind, rows)

    def at(self, number: int) -> Any:
        return self.builder.add(self.builder.mul(self.long, self.on.type(number)), self.on)

    def put(self, number: int, lanes: Lanes) -> None:
        store(lanes, self.data, self.at(number))

    def held(self, number: int) -> Lanes:
        return load(self.builder, self.data, self.at(number))

    def put_place(self, places: Any, cell: int = CELL) -> None:
        """Where cells begin, of whole places in cells."""
        store_whole(self.builder, self.builder.mul(places, wholes(cell)), self.data, self.at(PLACE))

    def put_line(self, along: Lanes, last: int, cell: int = CELL) -> None:
        """The place in a table of one row, of which `last` is the last cell that has a next one, and the share of the next."""
        first = whole(along.least(float(last)))
        self.put(F_HUE, along - floats(self.builder, first))
        self.put_place(first, cell)

    def found(self, many: int, cell: int = CELL) -> list[Lanes]:
        """The first so many numbers of what was looked up."""
        place = self.builder.add(
            self.builder.mul(self.long, self.on.type(FOUND)), self.builder.mul(self.on, self.on.type(cell))
        )
        numbers = [load(self.builder, self.data, self.builder.add(place, self.on.type(LANES * n))) for n in range(cell)]
        return [every(cell, numbers, n) for n in range(many)]

    def found_between(self) -> Lanes:
        """Of pairs: the number, and its share of the step to the next."""
        low, step = self.found(2, PAIR)
        return low + self.held(F_HUE) * step


@intrinsic
def look_up_line(typingctx, cells, rows, on):  # type: ignore[no-untyped-def]
    """What the cells of sixteen px say in a table of one row, between a cell and the next: all their numbers at once.

    Args:
        cells: float32, contiguous, cells of CELL; rows: float32 (hues.WORK, n), see F_HUE, PLACE and FOUND.
    """
    sig = types.void(cells, rows, on)

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        data, _ = array(context, builder, signature.args[0], args[0])
        work, (_, row) = array(context, builder, signature.args[1], args[1])
        on = args[2]
        number = on.type
        shares, places = (builder.gep(work, [builder.add(builder.mul(row, number(n)), on)]) for n in (F_HUE, PLACE))
        goal = builder.gep(work, [builder.add(builder.mul(row, number(FOUND)), builder.mul(on, number(CELL)))])
        for px in range(LANES):
            place, share = (builder.load(builder.gep(where, [number(px)])) for where in (places, shares))
            both = load(builder, data, builder.zext(builder.bitcast(place, WHOLE), number), 2 * CELL)
            one, other = part(both, 0, CELL), part(both, CELL, CELL)
            store(one + alike(builder, share, CELL) * (other - one), goal, number(CELL * px))
        return context.get_dummy_value()

    return sig, codegen


@intrinsic
def look_up_pairs(typingctx, entries, rows, on):  # type: ignore[no-untyped-def]
    """The entries of sixteen px in a table of pairs.

    Args:
        entries: float32, contiguous, see `pairs`; rows: float32 (hues.WORK, n), see PLACE and FOUND.
    """
    sig = types.void(entries, rows, on)

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        data, _ = array(context, builder, signature.args[0], args[0])
        work, (_, row) = array(context, builder, signature.args[1], args[1])
        on, both = args[2], ir.IntType(64)
        number = on.type
        places = builder.gep(work, [builder.add(builder.mul(row, number(PLACE)), on)])
        goal = builder.gep(work, [builder.add(builder.mul(row, number(FOUND)), builder.mul(on, number(PAIR)))])
        for px in range(LANES):
            place = builder.zext(builder.bitcast(builder.load(builder.gep(places, [number(px)])), WHOLE), number)
            entry = builder.load(builder.bitcast(builder.gep(data, [place]), both.as_pointer()), align=4)
            builder.store(entry, builder.bitcast(builder.gep(goal, [number(PAIR * px)]), both.as_pointer()), align=4)
        return context.get_dummy_value()

    return sig, codegen
