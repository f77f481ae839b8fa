"""Highlights, shadows and local contrast: a gain read from the edge-aware base layer; an area's exposure is a gain, too."""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from tanner.core.colour.spaces import luminance_weights
from tanner.core.jit import intrinsic, kernel, types
from tanner.core.stages.stage import F32, At, Stage, StageFrame, f32, gain_row
from tanner.core.tone.light import Light, local_parameters
from tanner.core.tone.logs import exp2_of, exp2_row, log2_of
from tanner.core.vector16 import LANES, Lanes, alike, array, below, load_some, store_some

if TYPE_CHECKING:
    from tanner.core.adjust.registry import Development

LUMA = f32(luminance_weights())
"""(3,) luminance of the working space."""
_MID = 2.4739312
"""Minus log2 of mid-grey, 0.18."""
NO_GUIDE: F32 = np.zeros((2, 1, 1), np.float32)


class Local(NamedTuple):
    """
    Attributes:
        guide: (2, gh, gw) coefficients of the base layer, see `tone.base`.
        ev: exposure that is in the planes already, in stops, which the guide does not know of.
        parameters: (3,), see `light.local_parameters`.
    """

    on: bool
    luma: F32
    guide: F32
    ev: np.float32
    parameters: F32


@kernel
def _between(line, index, share, out, n):
    """A line of the guide, read between its points. A loop for each look-up, so that it is done in vectors."""
    for j in range(n):
        out[j] = line[np.uint64(index[j])]
    after = line[1:]
    for j in range(n):
        out[j] += share[j] * (after[np.uint64(index[j])] - out[j])


@kernel
def _guide_row(guide, row, x0, n, width, index, share, a, b):
    """The base layer's two coefficients along a run of output pixels, on one row of the guide.

    Args:
        index: int32 (n,), share: float32 (n,), work space.
    """
    gw = guide.shape[2]
    sx = np.float32(gw) / np.float32(width)
    zero, most, before = np.float32(0.0), np.float32(gw - 1), np.int32(gw - 2)
    start = (np.float32(x0) + np.float32(0.5)) * sx - np.float32(0.5)
    for j in range(n):
        index[j] = min(np.int32(min(max(start + np.float32(j) * sx, zero), most)), before)
    for j in range(n):
        share[j] = min(max(start + np.float32(j) * sx, zero), most) - np.float32(index[j])
    _between(guide[0, row], index, share, a, n)
    _between(guide[1, row], index, share, b, n)


@kernel
def guide_rows(guide, y, x0, n, height, width, wide, held, index, share):
    """The base layer's two coefficients on the guide's rows above and below a row of output pixels, spread out along it.

    A row of the guide serves many rows of pixels: it is spread out once, and what is left is straight lines between two.

    Args:
        wide: float32 (4, n): both coefficients of the guide's row above and of the one below.
        held: the row above that stands in `wide`, or -2 for none.

    Returns:
        The row above that stands there now, and how far below it the pixels lie, from 0 to 1.
    """
    gh = guide.shape[1]
    v = (np.float32(y) + np.float32(0.5)) * np.float32(gh) / np.float32(height) - np.float32(0.5)
    v = min(max(v, np.float32(0.0)), np.float32(gh - 1))
    above = min(int(v), gh - 2)
    if above == held + 1:
        for j in range(n):
            wide[0, j] = wide[2, j]
        for j in range(n):
            wide[1, j] = wide[3, j]
    elif above != held:
        _guide_row(guide, above, x0, n, width, index, share, wide[0], wide[1])
    if above != held:
        _guide_row(guide, above + 1, x0, n, width, index, share, wide[2], wide[3])
    return above, v - np.float32(above)


@kernel
def guide_line(guide, y, x0, n, height, width, a, b, wide, held, index, share):
    """The two coefficients along a run of output pixels, bilinear, into a and b; the row above that stands in `wide` now."""
    above, fy = guide_rows(guide, y, x0, n, height, width, wide, held, index, share)
    top, bottom = wide[0], wide[2]
    for j in range(n):
        a[j] = top[j] + fy * (bottom[j] - top[j])
    top, bottom = wide[1], wide[3]
    for j in range(n):
        b[j] = top[j] + fy * (bottom[j] - top[j])
    return above


def _gained_by(fields: bool) -> Any:
    """A kernel's part that gives sixteen px their gains: by parameters that are the same for all, or by each its own."""

    @intrinsic
    def gained(typingctx, r, g, b, wide, share, luma, parameters, ev, at, keep):  # type: ignore[no-untyped-def]
        """Sixteen px of rows, no more than `keep`, from px `at` on, times their gains.

        The gain in EV comes from the base layer and what a px differs from it, see `light.local_parameters`.

        Args:
            wide: see `guide_rows`; share: how far below the upper row of the guide the px lie.
            parameters: (3,), or (4, n): exposure that is added, and the three.
        """
        sig = types.void(r, g, b, wide, share, luma, parameters, ev, at, keep)

        def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            arrays = [array(context, builder, signature.args[n], args[n]) for n in (0, 1, 2, 3, 5, 6)]
            (wide, (_, long)), (luma, _), (parameters, sides) = arrays[3:]
            share, ev, at, mask = alike(builder, args[4]), alike(builder, args[7]), args[8], below(builder, args[9])

            def number(of: Any, n: int) -> Lanes:
                return alike(builder, builder.load(builder.gep(of, [at.type(n)])))

            def row(of: Any, length: Any, n: int) -> Lanes:
                return load_some(builder, of, builder.add(builder.mul(length, at.type(n)), at), mask)

            def between(n: int) -> Lanes:
                above = row(wide, long, n)
                return above + share * (row(wide, long, n + 2) - above)

            colours = [load_some(builder, rows, at, mask) for rows, _ in arrays[:3]]
            weighed = [number(luma, n) * colour for n, colour in enumerate(colours)]
            log = log2_of(weighed[0] + weighed[1] + weighed[2])
            # The guide was made before exposure: its slope works on the log without it.
            base = between(0) * (log - ev) + between(1) + ev
            if fields:
                # An area's exposure moves what highlights and shadows go by, as the picture's own does.
                add, up, down, contrast = (row(parameters, sides[1], n) for n in range(4))
                base, log = base + add, log + add
            else:
                up, down, contrast = (number(parameters, n) for n in range(3))
            u = ((base + _MID) * 0.25).most(0.0).least(1.0)
            v = ((base + _MID) * -0.2).most(0.0).least(1.0)
            gain = up * u * u * (u * -2.0 + 3.0) + down * v * v * (v * -2.0 + 3.0) + contrast * (log - base)
            factor = exp2_of(gain + add if fields else gain)
            for colour, (rows, _) in zip(colours, arrays, strict=False):
                store_some(colour * factor, rows, at, mask)
            return context.get_dummy_value()

        return sig, codegen

    return gained


_gained, _gained_by_fields = _gained_by(False), _gained_by(True)


@kernel
def local_row(r: F32, g: F32, b: F32, at: At, p: Local) -> None:
    rows, n = at.work, at.n
    at.state[0], share = guide_rows(
        p.guide, at.y, at.x0, n, at.height, at.width, at.held, at.state[0], rows[0].view(np.int32), rows[1]
    )
    for run in range((n + LANES - 1) // LANES):
        _gained(r, g, b, at.held, share, p.luma, p.parameters, p.ev, run * LANES, n - run * LANES)


@kernel
def local_row_fields(r: F32, g: F32, b: F32, at: At, p: Local, field: F32) -> None:
    """Field: exposure in stops, then the three parameters."""
    rows, n = at.work, at.n
    if p.guide.shape[1] > 1:
        at.state[0], share = guide_rows(
            p.guide, at.y, at.x0, n, at.height, at.width, at.held, at.state[0], rows[0].view(np.int32), rows[1]
        )
        for run in range((n + LANES - 1) // LANES):
            _gained_by_fields(r, g, b, at.held, share, p.luma, field, p.ev, run * LANES, n - run * LANES)
    else:
        exp2_row(field[0], rows[0], n)
        gain_row(r, g, b, rows[0], n)


def _prepare(frame: StageFrame, development: "Development", moved: bool) -> Local:
    parameters = local_parameters(development.group(Light))
    uses = bool(parameters.any()) or moved
    return Local(uses, LUMA, frame.guide() if uses else NO_GUIDE, np.float32(frame.ev), parameters)


def _moves(frame: StageFrame, settings: Mapping[str, Any]) -> tuple[float, float, float, float]:
    parameters = Light.model_construct(
        **{k: settings.get(f"light.{k}", 0.0) for k in ("highlights", "shadows", "local_contrast")}
    )
    up, down, local = local_parameters(parameters)
    return settings.get("light.exposure", 0.0), float(up), float(down), float(local)


STAGE = Stage(
    "local", (Light,), _prepare, row=local_row,
    fields=4, start=lambda p: (0.0, *p.parameters), moves=_moves, row_fields=local_row_fields,
)  # fmt: skip
