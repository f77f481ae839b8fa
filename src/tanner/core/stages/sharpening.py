"""Sharpening, a stage that looks around: each px by those within the reach of a blur. See `noise.sharpen` for its controls."""

import numpy as np

from tanner.core.jit import kernel

OVERSHOOT = np.float32(0.15)
"""How far sharpening may go beyond what is around a pixel, as a share of the contrast there."""


@kernel
def sharpen_block(planes, margin, strength, place, threshold, edge_threshold, half, lum, blur, show, more):
    """Unsharp mask on lightness, in place, within the range of what is around; `margin` px on each side only serve.

    Args:
        planes: float32 (3, h, w), roots of linear values.
        strength: float32 (2,): amount, and what is added to it in the corners of the frame.
        place: float32 (4,): x and y of the first pixel from the middle of the frame, and steps, in half diagonals of it.
        threshold: differences that count by half; edge_threshold: contrast around a pixel below which it is spared, or 0.
        half: see `sharpen.gaussian`.
        lum, blur: float32 (h, w) work space.
        more: float32 (h, w), what areas add to the amount of each px, or nothing (0, 0). Below nothing in all, it softens.
        show: fill the planes with how much is sharpened where, instead.
    """
    h, w = planes.shape[1], planes.shape[2]
    radius = half.shape[0] - 1
    quarter, zero = np.float32(0.25), np.float32(0.0)
    for i in range(h):
        r, g, b, o = planes[0, i], planes[1, i], planes[2, i], lum[i]
        for j in range(w):
            o[j] = quarter * (r[j] + b[j]) + np.float32(0.5) * g[j]
    line = np.empty(w, dtype=np.float32)
    n = w - 2 * margin
    for i in range(margin, h - margin):
        centre = lum[i]
        for j in range(w):
            line[j] = half[0] * centre[j]
        for t in range(1, radius + 1):
            up, down, k = lum[i - t], lum[i + t], half[t]
            for j in range(w):
                line[j] += k * (up[j] + down[j])
        o, at = blur[i, margin:], line[margin:]
        for j in range(n):
            o[j] = half[0] * at[j]
        for t in range(1, radius + 1):
            left, right, k = line[margin - t :], line[margin + t :], half[t]
            for j in range(n):
                o[j] += k * (left[j] + right[j])
    high, low = np.empty(w, dtype=np.float32), np.empty(w, dtype=np.float32)
    top, bottom = np.empty(n, dtype=np.float32), np.empty(n, dtype=np.float32)
    weight = np.empty(n, dtype=np.float32)
    amount, corners, square = strength[0], strength[1], edge_threshold * edge_threshold
    for i in range(margin, h - margin):
        up, centre, down = lum[i - 1], lum[i], lum[i + 1]
        # One result a loop: with two of them none of this is done in vectors, and takes eighteen times as long.
        for j in range(w):
            high[j] = max(max(up[j], centre[j]), down[j])
        for j in range(w):
            low[j] = min(min(up[j], centre[j]), down[j])
        left, at, right = high[margin - 1 :], high[margin:], high[margin + 1 :]
        for j in range(n):
            top[j] = max(max(left[j], at[j]), right[j])
        left, at, right = low[margin - 1 :], low[margin:], low[margin + 1 :]
        for j in range(n):
            bottom[j] = min(min(left[j], at[j]), right[j])
        y = place[1] + np.float32(i) * place[3]
        for j in range(n):
            x = place[0] + np.float32(j + margin) * place[2]
            weight[j] = amount + corners * (x * x + y * y)
        if more.shape[0] > 0:
            row = more[i, margin:]
            for j in range(n):
                weight[j] = max(weight[j] + row[j], np.float32(-1.0))
        if edge_threshold > zero:
            for j in range(n):
                c = top[j] - bottom[j]
                c *= c
                weight[j] *= c / (c + square)
        if show:
            whole = max(amount + corners, np.float32(1e-6))
            for c in range(3):
                p = planes[c, i, margin:]
                for j in range(n):
                    p[j] = np.sqrt(weight[j] / whole)
            continue
        a, o = lum[i, margin:], blur[i, margin:]
        for j in range(n):
            d = a[j] - o[j]
            change = weight[j] * d * abs(d) / (abs(d) + threshold)
            room = OVERSHOOT * (top[j] - bottom[j])
            o[j] = min(max(change, bottom[j] - a[j] - room), top[j] - a[j] + room)
        for c in range(3):
            p = planes[c, i, margin:]
            for j in range(n):
                p[j] += o[j]
