"""Kernels that thin a gradient to its crests and follow them."""

import numpy as np

from tanner.core.jit import kernel


@kernel
def thin(gx, gy, size, low, ox, oy, keep):
    """Mark maxima across the edge and put their exact place into ox, oy."""
    h, w = size.shape
    for y in range(2, h - 2):
        for x in range(2, w - 2):
            m = size[y, x]
            if m < low:
                continue
            nx, ny = gx[y, x] / m, gy[y, x] / m
            if abs(nx) >= abs(ny):
                t = ny / nx
                sx = 1
                a = size[y, x - 1] * (1 - abs(t)) + size[y - (1 if t > 0 else -1), x - 1] * abs(t)
                b = size[y, x + 1] * (1 - abs(t)) + size[y + (1 if t > 0 else -1), x + 1] * abs(t)
                d = np.float32(0.0)
                if m > a and m >= b:
                    d = np.float32(0.5) * (a - b) / (a - 2 * m + b)
                    ox[y, x], oy[y, x] = x + 0.5 + d * sx, y + 0.5 + d * t
                    keep[y, x] = 1
            else:
                t = nx / ny
                a = size[y - 1, x] * (1 - abs(t)) + size[y - 1, x - (1 if t > 0 else -1)] * abs(t)
                b = size[y + 1, x] * (1 - abs(t)) + size[y + 1, x + (1 if t > 0 else -1)] * abs(t)
                if m > a and m >= b:
                    d = np.float32(0.5) * (a - b) / (a - 2 * m + b)
                    ox[y, x], oy[y, x] = x + 0.5 + d * t, y + 0.5 + d
                    keep[y, x] = 1


@kernel
def follow(keep, gx, gy, size, high, order_y, order_x, at_y, at_x, ends):
    """Chains of pixels: from strong ones both ways, to the neighbour that lies best along the edge.

    Returns how many pixels and how many chains were found.
    """
    h, w = keep.shape
    count, chains = 0, 0
    turn = np.float32(0.94)  # cosine of 20 degrees, from pixel to pixel
    for k in range(len(order_y)):
        y, x = order_y[k], order_x[k]
        if keep[y, x] != 1 or size[y, x] < high:
            continue
        begin = count
        for way in range(2):
            cy, cx = y, x
            first = count
            while True:
                if way == 0 or not (cy == y and cx == x):
                    at_y[count], at_x[count] = cy, cx
                    count += 1
                    keep[cy, cx] = 2
                m = size[cy, cx]
                tx, ty = -gy[cy, cx] / m, gx[cy, cx] / m
                if way == 1:
                    tx, ty = -tx, -ty
                best, by, bx = np.float32(0.5), -1, -1
                for dy in range(-1, 2):
                    for dx in range(-1, 2):
                        ny, nx = cy + dy, cx + dx
                        if ny < 0 or nx < 0 or ny >= h or nx >= w or keep[ny, nx] != 1:
                            continue
                        n = size[ny, nx]
                        same = (gx[cy, cx] * gx[ny, nx] + gy[cy, cx] * gy[ny, nx]) / (m * n)
                        along = (dx * tx + dy * ty) / np.sqrt(np.float32(dx * dx + dy * dy))
                        if same > turn and along > best:
                            best, by, bx = along, ny, nx
                if by < 0:
                    break
                cy, cx = by, bx
            if way == 0:
                # The first half lies the wrong way round.
                a, b = first, count - 1
                while a < b:
                    at_y[a], at_y[b] = at_y[b], at_y[a]
                    at_x[a], at_x[b] = at_x[b], at_x[a]
                    a += 1
                    b -= 1
        ends[chains] = count
        if count - begin < 12:
            count = begin
        else:
            chains += 1
    return count, chains
