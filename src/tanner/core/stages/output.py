"""To the output space: what lies outside loses chroma until it fits; then the root, in which sharpening works."""

from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from llvmlite import ir

from tanner.core.colour.spaces import SPACES, oklab_cones, working_to
from tanner.core.jit import intrinsic, kernel, types
from tanner.core.stages.stage import F32, At, Stage, StageFrame, f32
from tanner.core.vector16 import LANES, array, below, load_some, mixed, store_some

if TYPE_CHECKING:
    from tanner.core.adjust.registry import Development

_LOW, _HIGH = -0.0002, 1.0005
"""What is outside by less than a 16-bit step or two of 8 bits in the dark is only rounded."""
HALVINGS = 11
"""Steps in which the most chroma that fits is found: to 1/2048 of what the colour has."""


class Output(NamedTuple):
    """
    Attributes:
        matrix: (3, 3) working space to output space; cones: (2, 3, 3) output space to the cone responses of Oklab, and back.
    """

    on: bool
    matrix: F32
    cones: F32


@kernel
def cube_roots(v, out, n):
    """By a first guess from the exponent's bits, one of Halley's steps and one of Newton's, in vectors.

    The processor divides roughly here (14 bits): so the last step only divides what is left to be corrected.
    """
    i, o = v.view(np.int32), out.view(np.int32)
    two, three, tiny = np.float32(2.0), np.float32(3.0), np.float32(1e-30)
    for j in range(n):
        o[j] = np.int32(np.float32(i[j] & 0x7FFFFFFF) * np.float32(1 / 3)) + np.int32(709921077)
    for j in range(n):
        x, y = abs(v[j]), out[j]
        q = y * y * y
        y = y * (q + two * x) / (two * q + x)
        y = y - (y * y * y - x) / (three * y * y + tiny)
        out[j] = y if v[j] > np.float32(0.0) else -y


@kernel
def bring_in(rows, cones, n):
    """Colours outside the output space, with less chroma: the same Oklab hue and lightness (source: ottosson2020).

    At a fixed hue and lightness each channel is a cubic in the share of chroma that is kept, whose largest fitting value is
    found by halving, without branches.

    Args:
        rows: float32 (6, n): red, green, blue, changed in place; three rows to work in. cones: see `Output`.
    """
    zero, one, three = np.float32(0.0), np.float32(1.0), np.float32(3.0)
    r, g, b, p_row, q_row, s_row = rows[0], rows[1], rows[2], rows[3], rows[4], rows[5]
    to, back = cones[0], cones[1]
    for j in range(n):
        x, y, z = r[j], g[j], b[j]
        r[j] = to[0, 0] * x + to[0, 1] * y + to[0, 2] * z
        g[j] = to[1, 0] * x + to[1, 1] * y + to[1, 2] * z
        b[j] = to[2, 0] * x + to[2, 1] * y + to[2, 2] * z
    cube_roots(r, p_row, n)
    cube_roots(g, q_row, n)
    cube_roots(b, s_row, n)
    m00, m01, m02 = back[0, 0], back[0, 1], back[0, 2]
    m10, m11, m12 = back[1, 0], back[1, 1], back[1, 2]
    m20, m21, m22 = back[2, 0], back[2, 1], back[2, 2]
    for j in range(n):
        p, q, s = p_row[j], q_row[j], s_row[j]
        light = np.float32(0.2104542553) * p + np.float32(0.7936177850) * q - np.float32(0.0040720468) * s
        c = np.float32(1.9779984951) * p - np.float32(2.4285922050) * q + np.float32(0.4505937099) * s
        d = np.float32(0.0259040371) * p + np.float32(0.7827717662) * q - np.float32(0.8086757660) * s
        white = light >= one
        light = min(max(light, zero), one)
        u = np.float32(0.3963377774) * c + np.float32(0.2158037573) * d
        v = -(np.float32(0.1055613458) * c + np.float32(0.0638541728) * d)
        w = -(np.float32(0.0894841775) * c + np.float32(1.2914855480) * d)
        h1, h2, h3 = three * light * light, three * light, light * light * light
        # Rows of the way back add up to 1 only nearly.
        a0, b0, c0 = h3 * (m00 + m01 + m02), h3 * (m10 + m11 + m12), h3 * (m20 + m21 + m22)
        uu, vv, ww = u * u, v * v, w * w
        a1, a2, a3 = (
            h1 * (m00 * u + m01 * v + m02 * w),
            h2 * (m00 * uu + m01 * vv + m02 * ww),
            m00 * uu * u + m01 * vv * v + m02 * ww * w,
        )
        b1, b2, b3 = (
            h1 * (m10 * u + m11 * v + m12 * w),
            h2 * (m10 * uu + m11 * vv + m12 * ww),
            m10 * uu * u + m11 * vv * v + m12 * ww * w,
        )
        c1, c2, c3 = (
            h1 * (m20 * u + m21 * v + m22 * w),
            h2 * (m20 * uu + m21 * vv + m22 * ww),
            m20 * uu * u + m21 * vv * v + m22 * ww * w,
        )
        t, step = zero, np.float32(0.5)
        for _ in range(HALVINGS):
            k = t + step
            x = a0 + k * (a1 + k * (a2 + k * a3))
            y = b0 + k * (b1 + k * (b2 + k * b3))
            z = c0 + k * (c1 + k * (c2 + k * c3))
            fits = (x >= zero) & (y >= zero) & (z >= zero) & (x <= one) & (y <= one) & (z <= one)
            t = k if fits else t
            step *= np.float32(0.5)
        # What is as light as white or lighter is white itself.
        t = zero if white else t
        a0, b0, c0 = one if white else a0, one if white else b0, one if white else c0
        r[j] = a0 + t * (a1 + t * (a2 + t * a3))
        g[j] = b0 + t * (b1 + t * (b2 + t * b3))
        b[j] = c0 + t * (c1 + t * (c2 + t * c3))


@intrinsic
def _put_out(typingctx, r, g, b, matrix, at, keep):  # type: ignore[no-untyped-def]
    """Sixteen px of rows, no more than `keep`, from px `at` on, times the matrix; which lie outside, a bit for each, from the lowest."""
    sig = types.int64(r, g, b, matrix, at, keep)

    def codegen(context: Any, builder: Any, signature: Any, args: Any) -> Any:
        *rows, matrix = (array(context, builder, signature.args[n], args[n])[0] for n in range(4))
        at, mask = args[4], below(builder, args[5])
        x, y, z = mixed(matrix, 0, [load_some(builder, row, at, mask) for row in rows])
        for value, row in zip((x, y, z), rows, strict=True):
            store_some(value, row, at, mask)
        outside = builder.or_(x.least(y.least(z)) < _LOW, x.most(y.most(z)) > _HIGH)
        return builder.zext(builder.bitcast(outside, ir.IntType(LANES)), ir.IntType(64))

    return sig, codegen


@kernel
def output_row(r: F32, g: F32, b: F32, at: At, p: Output) -> None:
    zero, one, n, rows = np.float32(0.0), np.float32(1.0), at.n, at.work
    which, k = rows[6].view(np.int32), 0
    for run in range((n + LANES - 1) // LANES):
        outside = _put_out(r, g, b, p.matrix, run * LANES, n - run * LANES)
        if outside:
            for j in range(run * LANES, min(run * LANES + LANES, n)):
                which[k] = j
                k += outside & 1
                outside >>= 1
    if k:
        # Those outside are gathered, worked on together, and put back.
        for j in range(k):
            i = np.uint64(which[j])
            rows[0, j], rows[1, j], rows[2, j] = r[i], g[i], b[i]
        bring_in(rows, p.cones, k)
        for j in range(k):
            i = np.uint64(which[j])
            r[i], g[i], b[i] = rows[0, j], rows[1, j], rows[2, j]
    for j in range(n):
        r[j] = np.sqrt(min(max(r[j], zero), one))
    for j in range(n):
        g[j] = np.sqrt(min(max(g[j], zero), one))
    for j in range(n):
        b[j] = np.sqrt(min(max(b[j], zero), one))


def _prepare(frame: StageFrame, development: "Development", moved: bool) -> Output:
    space = SPACES[frame.space]
    return Output(True, f32(working_to(space)), f32(oklab_cones(space)))


STAGE = Stage("output", prepare=_prepare, row=output_row)
