"""Fast logarithms and powers of float32: of sixteen numbers within written-out code (see `tanner.core.vector16`), and of rows."""

from typing import Any

from llvmlite import ir
from numpy.polynomial import Chebyshev, Polynomial

from tanner.core.jit import intrinsic, kernel, types
from tanner.core.vector16 import (
    FLOATS,
    LANES,
    Lanes,
    Shelf,
    array,
    below,
    bits,
    floats,
    from_bits,
    load_some,
    magnitude,
    signed,
    store_some,
    whole,
    wholes,
)


def log2_of(x: Lanes) -> Lanes:
    """Base-2 logarithm, error below 0.00002; from the exponent's bits and a polynomial on the rest.

    The polynomial is a least-maximum fit on [1, 2) made for this; arguments are clipped to 2**-20.
    """
    builder = x.builder
    kept = bits(x.most(2.0**-20))
    exponent = floats(builder, builder.sub(builder.ashr(kept, wholes(23)), wholes(127)))
    m = from_bits(builder, builder.or_(builder.and_(kept, wholes(0x7FFFFF)), wholes(0x3F800000))) - 1.0
    p = (((m * 0.04514697 - 0.19357041) * m + 0.41560140) * m - 0.70909482) * m + 1.44191686
    return p * m + exponent


def exp2_of(x: Lanes) -> Lanes:
    """2**x for -30 < x < 30, relative error below 0.00001; held at these ends."""
    builder = x.builder
    v = x.most(-30.0).least(30.0) + 64.0
    i = whole(v)
    f = v - floats(builder, i)
    p = (((f * 0.01355572 + 0.05203242) * f + 0.24137974) * f + 0.69303212) * f + 1.0
    return from_bits(builder, builder.add(bits(p), builder.shl(builder.sub(i, wholes(64)), wholes(23))))


def _power(size: Lanes, exponent: float, first: int, many: int, degree: int) -> Lanes:
    """Numbers from 2**first on, below 2**(first + many), to a power.

    What a power makes of the number's own exponent is looked up among as many, and of the rest, from 1 to 2, it is a polynomial
    (a fit through Chebyshev's points): half of the work of a logarithm and its way back.
    """
    builder, kept = size.builder, bits(size)
    which = builder.sub(builder.ashr(kept, wholes(23)), wholes(127 + first))
    m = from_bits(builder, builder.or_(builder.and_(kept, wholes(0x7FFFFF)), wholes(0x3F800000)))
    last, *others = Chebyshev.interpolate(lambda t: t**exponent, degree, (1, 2)).convert(kind=Polynomial).coef[::-1]
    p = m * float(last)
    for factor in others[:-1]:
        p = (p + float(factor)) * m
    scales = [2.0 ** (exponent * (first + k)) for k in range(many)]
    rows = [Lanes(builder, ir.Constant(FLOATS, scales[k : k + LANES])) for k in range(0, many, LANES)]
    return (p + float(others[-1])) * Shelf(rows).at(which)


def power_of(x: Lanes, exponent: float) -> Lanes:
    """x to a power, for 2**-13 <= x < 8 and held at these ends; relative error below 0.000003 for powers up to 2.4."""
    return _power(x.most(2.0**-13).least(7.999), exponent, -13, 16, 5)


def cube_root(v: Lanes) -> Lanes:
    """Relative error below 0.000001 from 2**-29 to 8 to both sides of nothing; held there: less has the root of 2**-29."""
    root = _power(magnitude(v).most(2.0**-29).least(7.999), 1 / 3, -29, 32, 6)
    return signed(root, v)


def _on_rows(function: Any) -> Any:
    @intrinsic
    def some(typingctx, x, out, at, keep):  # type: ignore[no-untyped-def]
        """A function of sixteen numbers of the row x, no more than `keep`, into the row out, which may be x."""
        sig = types.void(x, out, at, keep)

        def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            (source, _), (goal, _) = (array(context, builder, signature.args[n], args[n]) for n in (0, 1))
            at, mask = args[2], below(builder, args[3])
            store_some(function(load_some(builder, source, at, mask)), goal, at, mask)
            return context.get_dummy_value()

        return sig, codegen

    return some


_log2, _exp2 = _on_rows(log2_of), _on_rows(exp2_of)


@kernel
def log2_row(x, out, n):
    """See `log2_of`."""
    for run in range((n + LANES - 1) // LANES):
        _log2(x, out, run * LANES, n - run * LANES)


@kernel
def exp2_row(x, out, n):
    """See `exp2_of`."""
    for run in range((n + LANES - 1) // LANES):
        _exp2(x, out, run * LANES, n - run * LANES)
