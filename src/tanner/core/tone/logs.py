"""Fast logarithms and powers of float32: of sixteen numbers within written-out code (see `tanner.core.vector16`), and of rows."""

from typing import Any

from tanner.core.jit import intrinsic, kernel, types
from tanner.core.vector16 import (
    LANES,
    Lanes,
    array,
    below,
    bits,
    floats,
    from_bits,
    load_some,
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
