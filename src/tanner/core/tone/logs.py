"""Fast logarithms and powers on rows of float32."""

import numpy as np

from tanner.core.jit import kernel


@kernel
def log2_row(x, out, n):
    """Base-2 logarithm, error below 0.00002; from the exponent bits and a polynomial on the rest.

    The polynomial is a least-maximum fit on [1, 2) made for this; arguments are clipped to 2**-20.
    """
    bits = out.view(np.int32)
    floor = np.float32(2.0**-20)
    for j in range(n):
        out[j] = max(x[j], floor)
    for j in range(n):
        b = bits[j]
        e = np.float32((b >> 23) - 127)
        bits[j] = (b & 0x7FFFFF) | 0x3F800000
        m = out[j] - np.float32(1.0)
        p = np.float32(0.04514697)
        p = p * m - np.float32(0.19357041)
        p = p * m + np.float32(0.41560140)
        p = p * m - np.float32(0.70909482)
        p = p * m + np.float32(1.44191686)
        out[j] = e + p * m


@kernel
def exp2_row(x, out, n):
    """2**x for -30 < x < 30, relative error below 0.00001."""
    bits = out.view(np.int32)
    for j in range(n):
        v = min(max(x[j], np.float32(-30.0)), np.float32(30.0)) + np.float32(64.0)
        i = np.int32(v)
        f = v - np.float32(i)
        p = np.float32(0.01355572)
        p = p * f + np.float32(0.05203242)
        p = p * f + np.float32(0.24137974)
        p = p * f + np.float32(0.69303212)
        out[j] = p * f + np.float32(1.0)
        bits[j] += (i - 64) << 23
