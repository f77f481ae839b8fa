"""What lies beyond the sensor, filled in after the resampling."""

import numpy as np

from tanner.core.jit import kernel
from tanner.core.optics.geometry import STEP


@kernel
def fill_beyond(grid, y0, x0, width, height, planes, to_planes, grain, out):
    """Replace what lies beyond the sensor, with a soft edge of four sensor px.

    Args:
        grid: see Geometry; width, height of the sensor's active area.
        planes: float32 (3, h, w), what is there instead; to_planes: float32 (6,), from output px to its px.
        grain: float32 (3, t, t), relative; tiled by mirroring.
    """
    h, w = out.shape[1], out.shape[2]
    step, half, one, zero = np.float32(STEP), np.float32(0.5), np.float32(1.0), np.float32(0.0)
    soft = np.float32(4.0)
    side = grain.shape[1]
    ph, pw = planes.shape[1], planes.shape[2]
    for i in range(h):
        v = (np.float32(y0 + i) + half) / step + one
        iy = int(v)
        fy = v - np.float32(iy)
        for j in range(w):
            u = (np.float32(x0 + j) + half) / step + one
            ix = int(u)
            fx = u - np.float32(ix)
            a = grid[2, iy, ix] + fx * (grid[2, iy, ix + 1] - grid[2, iy, ix])
            b = grid[2, iy + 1, ix] + fx * (grid[2, iy + 1, ix + 1] - grid[2, iy + 1, ix])
            sx = a + fy * (b - a)
            a = grid[3, iy, ix] + fx * (grid[3, iy, ix + 1] - grid[3, iy, ix])
            b = grid[3, iy + 1, ix] + fx * (grid[3, iy + 1, ix + 1] - grid[3, iy + 1, ix])
            sy = a + fy * (b - a)
            out_by = max(max(-sx, sx - np.float32(width)), max(-sy, sy - np.float32(height)))
            if out_by <= -soft:
                continue
            share = min(one, (out_by + soft) / soft)
            ox, oy = np.float32(x0 + j) + half, np.float32(y0 + i) + half
            gx = to_planes[0] * ox + to_planes[1] * oy + to_planes[2] - half
            gy = to_planes[3] * ox + to_planes[4] * oy + to_planes[5] - half
            gx, gy = min(max(gx, zero), np.float32(pw - 1)), min(max(gy, zero), np.float32(ph - 1))
            kx, ky = min(int(gx), max(pw - 2, 0)), min(int(gy), max(ph - 2, 0))
            lx, ly = min(kx + 1, pw - 1), min(ky + 1, ph - 1)
            qx, qy = gx - np.float32(kx), gy - np.float32(ky)
            tx, ty = (x0 + j) % (2 * side), (y0 + i) % (2 * side)
            tx = tx if tx < side else 2 * side - 1 - tx
            ty = ty if ty < side else 2 * side - 1 - ty
            for c in range(3):
                top = planes[c, ky, kx] + qx * (planes[c, ky, lx] - planes[c, ky, kx])
                low = planes[c, ly, kx] + qx * (planes[c, ly, lx] - planes[c, ly, kx])
                value = (top + qy * (low - top)) * (one + grain[c, ty, tx])
                out[c, i, j] += share * (value - out[c, i, j])
