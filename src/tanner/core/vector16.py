"""Sixteen numbers at a time, written out: for the few loops that the compiler does not lay out in vectors as they need.

Kernels are compiled by numba, and what their loops become is up to LLVM: values that are only passed on go through memory, what
is looked up in a row is looked up one by one, and each short loop has a head. The body of an intrinsic that is built with these
says it all: LLVM splits it into what the processor has (one 512-bit vector, or two or four shorter ones).

Kernels are kept on disk with what stands here compiled into them: after a change, `make setup` compiles them anew.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from llvmlite import ir

from tanner.core.jit import all_features, cgutils

LANES = 16
FLOATS = ir.VectorType(ir.FloatType(), LANES)
WHOLE = ir.IntType(32)
WHOLES = ir.VectorType(WHOLE, LANES)
MASK = ir.VectorType(ir.IntType(1), LANES)
# As for kernels (see `jit`): re-association and contraction, and NaN keeps its meaning.
_FAST = ("contract", "reassoc", "arcp", "nsz", "afn")


def looks_up() -> bool:
    """Whether the processor looks sixteen numbers up among 32 at once; else they are looked up one by one."""
    return "+avx512f" in all_features()


class Lanes:
    """Sixteen float32 (or four or eight) within the code that a builder writes; numbers beside them stand for as many alike."""

    def __init__(self, builder: Any, value: Any) -> None:
        self.builder, self.value = builder, value

    def _like(self, other: Any) -> Any:
        return (other if isinstance(other, Lanes) else alike(self.builder, other, self.value.type.count)).value

    def __add__(self, other: Any) -> Lanes:
        return Lanes(self.builder, self.builder.fadd(self.value, self._like(other), flags=_FAST))

    def __sub__(self, other: Any) -> Lanes:
        return Lanes(self.builder, self.builder.fsub(self.value, self._like(other), flags=_FAST))

    def __mul__(self, other: Any) -> Lanes:
        return Lanes(self.builder, self.builder.fmul(self.value, self._like(other), flags=_FAST))

    def __truediv__(self, other: Any) -> Lanes:
        return Lanes(self.builder, self.builder.fdiv(self.value, self._like(other), flags=_FAST))

    def _compared(self, sign: str, other: Any) -> Any:
        return self.builder.fcmp_ordered(sign, self.value, self._like(other))

    def __lt__(self, other: Any) -> Any:
        return self._compared("<", other)

    def __le__(self, other: Any) -> Any:
        return self._compared("<=", other)

    def __gt__(self, other: Any) -> Any:
        return self._compared(">", other)

    def __ge__(self, other: Any) -> Any:
        return self._compared(">=", other)

    def floor(self) -> Lanes:
        floor = _function(self.builder, "llvm.floor.v16f32", FLOATS, [FLOATS])
        return Lanes(self.builder, self.builder.call(floor, [self.value]))

    def root(self) -> Lanes:
        root = _function(self.builder, "llvm.sqrt.v16f32", FLOATS, [FLOATS])
        return Lanes(self.builder, self.builder.call(root, [self.value]))

    def least(self, other: Any) -> Lanes:
        """The smaller of two."""
        return choose(self < other, self, other)

    def most(self, other: Any) -> Lanes:
        """The larger of two."""
        return choose(self > other, self, other)


def alike(builder: Any, number: Any, times: int = LANES) -> Lanes:
    """So many times the same: a number, or a float32 of the code."""
    kind = ir.VectorType(ir.FloatType(), times)
    if not isinstance(number, ir.Value):
        return Lanes(builder, ir.Constant(kind, [float(number)] * times))
    undefined = ir.Constant(kind, ir.Undefined)
    first = builder.insert_element(undefined, number, WHOLE(0))
    return Lanes(builder, builder.shuffle_vector(first, undefined, _order([0] * times)))


def _order(places: list[int]) -> Any:
    return ir.Constant(ir.VectorType(WHOLE, len(places)), places)


def count(builder: Any, start: int = 0) -> Lanes:
    """start, start + 1, and so on."""
    return Lanes(builder, ir.Constant(FLOATS, [float(start + i) for i in range(LANES)]))


def choose(mask: Any, yes: Any, no: Any) -> Lanes:
    """Of each lane the first where the mask is set; one of the two may be a number."""
    builder = (yes if isinstance(yes, Lanes) else no).builder
    a, b = (v if isinstance(v, Lanes) else alike(builder, v) for v in (yes, no))
    return Lanes(builder, builder.select(mask, a.value, b.value))


def array(context: Any, builder: Any, kind: Any, value: Any) -> tuple[Any, list[Any]]:
    """Address and lengths of an array that was handed to an intrinsic; contiguous, float32 or whole numbers."""
    found = context.make_array(kind)(context, builder, value=value)
    return found.data, cgutils.unpack_tuple(builder, found.shape, kind.ndim)


def place(builder: Any, lengths: list[Any], *at: Any) -> Any:
    """How far from its beginning a place of a contiguous array lies."""
    found = at[0]
    for length, index in zip(lengths[1:], at[1:], strict=True):
        found = builder.add(builder.mul(found, length), index)
    return found


def _address(builder: Any, data: Any, place: Any, kind: Any = FLOATS) -> Any:
    return builder.bitcast(builder.gep(data, [place]), kind.as_pointer())


def load(builder: Any, data: Any, place: Any, many: int = LANES) -> Lanes:
    """From a float32's address and a place on from there, in any alignment."""
    kind = ir.VectorType(ir.FloatType(), many)
    return Lanes(builder, builder.load(_address(builder, data, place, kind), align=4))


def load_some(builder: Any, data: Any, place: Any, mask: Any) -> Lanes:
    """Only those of the mask, the others are 0; nothing else is read."""
    some = _function(builder, "llvm.masked.load.v16f32.p0", FLOATS, [FLOATS.as_pointer(), WHOLE, MASK, FLOATS])
    nothing = ir.Constant(FLOATS, [0.0] * LANES)
    return Lanes(builder, builder.call(some, [_address(builder, data, place), WHOLE(4), mask, nothing]))


def store(lanes: Lanes, data: Any, place: Any) -> None:
    """All of them."""
    lanes.builder.store(lanes.value, _address(lanes.builder, data, place, lanes.value.type), align=4)


def store_some(lanes: Lanes, data: Any, place: Any, mask: Any) -> None:
    """Only those of the mask; nothing else is touched."""
    builder = lanes.builder
    pointer = FLOATS.as_pointer()
    some = _function(
        builder,
        "llvm.masked.store.v16f32.p0",
        ir.VoidType(),
        [FLOATS, pointer, WHOLE, MASK],
    )
    builder.call(some, [lanes.value, _address(builder, data, place), WHOLE(4), mask])


def summed(lanes: Lanes) -> Any:
    """The sum of all sixteen, a float32."""
    total = _function(lanes.builder, "llvm.vector.reduce.fadd.v16f32", ir.FloatType(), [ir.FloatType(), FLOATS])
    return lanes.builder.call(total, [ir.FloatType()(0.0), lanes.value], fastmath=("reassoc",))


def shifted(first: Lanes, second: Lanes, overlap: int, by: int) -> Lanes:
    """Sixteen from `by` on, of two that follow each other, the second of which begins `overlap` before the first ends."""
    places = [i + by if i + by < LANES else i + by + overlap for i in range(LANES)]
    return Lanes(first.builder, first.builder.shuffle_vector(first.value, second.value, ir.Constant(WHOLES, places)))


def part(lanes: Lanes, start: int, many: int) -> Lanes:
    """Some of the lanes that follow each other."""
    return Lanes(
        lanes.builder, lanes.builder.shuffle_vector(lanes.value, lanes.value, _order([start + i for i in range(many)]))
    )


def every(step: int, rows: Sequence[Lanes], start: int) -> Lanes:
    """Sixteen of `step` times sixteen in a row: the one at `start`, and every so many further on; sixteen is a multiple of it."""
    builder, found = rows[0].builder, rows[0]
    fresh = list(range(start, LANES, step))
    held = fresh
    for row in rows[1:]:
        places = held + [LANES + k for k in fresh]
        order = _order(places + [0] * (LANES - len(places)))
        found = Lanes(builder, builder.shuffle_vector(found.value, row.value, order))
        held = list(range(len(places)))
    return found


class Shelf:
    """Some times sixteen numbers in a row, in which any can be looked up."""

    def __init__(self, rows: Sequence[Lanes]) -> None:
        self.rows, self.builder, self.looks_up = rows, rows[0].builder, looks_up()
        if not self.looks_up:
            kind = ir.ArrayType(ir.FloatType(), LANES * len(rows))
            self.slot = self.builder.bitcast(cgutils.alloca_once(self.builder, kind), ir.FloatType().as_pointer())
            for n, row in enumerate(rows):
                store(row, self.slot, WHOLE(LANES * n))

    def at(self, places: Any) -> Lanes:
        """The numbers at sixteen whole places."""
        builder = self.builder
        if not self.looks_up:
            return read_at(builder, self.slot, places)
        rows = self.rows
        found = _pair(rows[0], rows[1 % len(rows)], places)
        for n in range(2, len(rows), 2):
            beyond = builder.icmp_signed(">=", places, ir.Constant(WHOLES, [LANES * n] * LANES))
            found = choose(beyond, _pair(rows[n], rows[min(n + 1, len(rows) - 1)], places), found)
        return found


def _pair(first: Lanes, second: Lanes, places: Any) -> Lanes:
    """Of 32 numbers those at the places, of which the lowest five bits count."""
    builder = first.builder
    look = _function(builder, "llvm.x86.avx512.vpermi2var.ps.512", FLOATS, [FLOATS, WHOLES, FLOATS])
    return Lanes(builder, builder.call(look, [first.value, places, second.value]))


def read_at(builder: Any, data: Any, places: Any) -> Lanes:
    """The numbers at sixteen whole places from a float32's address on, one by one, which no processor does faster."""
    found = ir.Constant(FLOATS, ir.Undefined)
    for i in range(LANES):
        place = builder.zext(builder.extract_element(places, WHOLE(i)), ir.IntType(64))
        found = builder.insert_element(found, builder.load(builder.gep(data, [place]), align=4), WHOLE(i))
    return Lanes(builder, found)


def magnitude(lanes: Lanes) -> Lanes:
    """Without their signs."""
    return from_bits(lanes.builder, lanes.builder.and_(bits(lanes), wholes(0x7FFFFFFF)))


def signed(lanes: Lanes, by: Lanes) -> Lanes:
    """Numbers from 0 on with the signs of others."""
    builder = lanes.builder
    return from_bits(builder, builder.or_(bits(lanes), builder.and_(bits(by), wholes(-0x80000000))))


def mixed(matrix: Any, start: int, three: Sequence[Lanes]) -> list[Lanes]:
    """Three rows of nine numbers, from an address and so many on, times three."""
    builder = three[0].builder
    rows = []
    for k in range(3):
        factors = [
            alike(builder, builder.load(builder.gep(matrix, [ir.IntType(64)(start + 3 * k + i)]))) for i in range(3)
        ]
        rows.append(factors[0] * three[0] + factors[1] * three[1] + factors[2] * three[2])
    return rows


def whole(lanes: Lanes) -> Any:
    """int32 of numbers from 0 on, their fractions cut off."""
    return lanes.builder.fptosi(lanes.value, WHOLES)


def below(builder: Any, number: Any) -> Any:
    """A mask of so many lanes from the first on, a whole number of the code; none or all where it is beyond."""
    return builder.icmp_signed("<", _order(list(range(LANES))), spread(builder, number))


def spread(builder: Any, number: Any) -> Any:
    """Sixteen times a whole number of the code."""
    undefined = ir.Constant(WHOLES, ir.Undefined)
    first = builder.insert_element(undefined, builder.trunc(number, WHOLE), WHOLE(0))
    return builder.shuffle_vector(first, undefined, ir.Constant(WHOLES, [0] * LANES))


def moved(builder: Any, places: Any, by: int) -> Any:
    """Whole places, each moved on."""
    return builder.add(places, wholes(by))


def bits(lanes: Lanes) -> Any:
    """The numbers as they are kept, int32."""
    return lanes.builder.bitcast(lanes.value, WHOLES)


def from_bits(builder: Any, whole: Any) -> Lanes:
    """The other way."""
    return Lanes(builder, builder.bitcast(whole, FLOATS))


def store_whole(builder: Any, whole: Any, data: Any, place: Any) -> None:
    """Sixteen whole numbers as they are kept, into an array of float32."""
    builder.store(whole, _address(builder, data, place, WHOLES), align=4)


def wholes(number: int) -> Any:
    """Sixteen times a whole number."""
    return ir.Constant(WHOLES, [number] * LANES)


def floats(builder: Any, places: Any) -> Lanes:
    """Whole numbers as float32."""
    return Lanes(builder, builder.sitofp(places, FLOATS))


def _function(builder: Any, name: str, result: Any, arguments: list[Any]) -> Any:
    return cgutils.get_or_insert_function(builder.module, ir.FunctionType(result, arguments), name)
