"""Hairs as lines: brows, lashes, beards, the fine fair ones of a cheek. Lines are (N, K, 3) and radii (N,), in cm."""

from collections.abc import Sequence

import numpy as np
from scipy.spatial import cKDTree

from tanner.studio.scenes.figure import mesh
from tanner.studio.scenes.figure.noise import on_faces
from tanner.studio.scenes.shapes import F64, I64

Hairs = tuple[F64, F64]


class Surface:
    """Nearest point and normal of a fine mesh."""

    def __init__(self, points: F64, quads: I64) -> None:
        self.points, self.normals = points, mesh.normals(points, quads)
        self.tree = cKDTree(points)

    def at(self, where: F64) -> tuple[F64, F64]:
        _, i = self.tree.query(where)
        return self.points[i], self.normals[i]


def unit(v: F64) -> F64:
    return np.asarray(v / np.maximum(np.linalg.norm(v, axis=-1, keepdims=True), 1e-9))


def above(surface: Surface, lines: F64, height: F64) -> F64:
    """Hairs lifted so that no point but the root lies deeper than `height` (N, K) above the skin."""
    n, k, _ = lines.shape
    flat = lines.reshape(-1, 3)
    p, normal = surface.at(flat)
    out = ((flat - p) * normal).sum(1).reshape(n, k)
    lift = np.maximum(np.broadcast_to(height, (n, k)) - out, 0)
    lift[:, 0] = 0
    return lines + normal.reshape(n, k, 3) * lift[..., None]


def _half(s: F64, wide: float) -> F64:
    """Half of a brow's height in cm, 0 to 1 from its inner to its outer end."""
    return np.asarray(0.46 * wide * np.clip(0.55 + s / 0.25, 0.5, 1) * (1 - 0.62 * s**1.5))


def brows(
    surface: Surface, eyes: Sequence[F64], facing: F64, up: F64, rng: np.random.Generator, wide: float
) -> Hairs:  # fmt: skip
    """Fine hairs in rows: upright at the inner end, swept outward along the bow, both rows meeting on its crest."""
    across = np.cross(facing, up)
    middle = (eyes[0] + eyes[1]) / 2
    lines, radii, count = [], [], round(950 * wide)
    along = np.linspace(0, 1, 201)
    # As many to a patch of skin everywhere, thinner at the inner end alone: the outer one is narrow.
    many = np.cumsum(_half(along, wide) * np.interp(along, [0, 0.18, 0.8, 1], [0.55, 1, 1, 0.7]))
    for eye in eyes:
        out = np.sign((eye - middle) @ across) * across
        s = np.interp(rng.random(count) * many[-1], many, along)
        t = np.clip(rng.normal(0, 0.58, count), -1.5, 1.5)  # across the brow, below to above
        half = _half(s, wide)
        crest = 1.68 + 0.50 * np.sin(np.pi * s**1.25 * 0.78) - 0.28 * s**2.4
        place = eye + out * (-1.55 + 4.15 * s)[:, None] + up * (crest + half * t)[:, None] + facing * 2.2
        p, n = surface.at(place - facing * 0.9)
        for _ in range(3):  # down to the skin, along the line of sight of the face
            p, n = surface.at(place - facing * ((place - p) @ facing)[:, None])
        root = place - facing * ((place - p) @ facing)[:, None]
        angle = np.interp(s, [0, 0.12, 0.35, 1], [82, 62, 30, -18])
        angle = angle - np.clip(t, -1, 1) * np.interp(s, [0, 0.4, 1], [10, 24, 10])
        angle = np.radians(angle + rng.normal(0, 12, count))
        way = out * np.cos(angle)[:, None] + up * np.sin(angle)[:, None]
        way = unit(way - n * (way * n).sum(1, keepdims=True))
        bend = unit(out - n * (out * n).sum(1, keepdims=True))
        size = 0.60 * (0.45 + 0.65 * rng.random(count)) * np.interp(s, [0, 0.2, 0.8, 1], [0.75, 1.05, 0.9, 0.5])
        k, z = np.linspace(0, 1, 6)[None, :, None], size[:, None, None]
        line = root[:, None] + way[:, None] * z * k + bend[:, None] * 0.16 * z * k**2
        line = line + n[:, None] * (z * (0.30 * k - 0.26 * k**2) - 0.015)
        lines.append(above(surface, line, 0.016 + 0.05 * np.sin(np.pi * k[..., 0]) * size[:, None]))
        radii.append(0.0043 * (0.6 + 0.6 * rng.random(count)))
    return np.concatenate(lines), np.concatenate(radii)


def lid_edges(points: F64, eye: F64, facing: F64, up: F64, radius: float) -> list[F64]:
    """The free edges of the upper and the lower lid, (60, 3) each, found at the widest gap of each column.

    Of a closed eye both are where the lids meet: an empty list is given back when no gap is found.
    """
    across = np.cross(facing, up)
    rel = points - eye
    near = np.flatnonzero((np.linalg.norm(rel, axis=1) < radius + 0.42) & (rel @ facing > 0.1))
    x, h, f = rel[near] @ across, rel[near] @ up, rel[near] @ facing
    upper: list[tuple[float, float, float]] = []
    lower: list[tuple[float, float, float]] = []
    for b in np.arange(x.min(), x.max(), 0.05):
        k = np.flatnonzero(np.abs(x - b) < 0.03)
        if len(k) < 6:
            continue
        k = k[np.argsort(h[k])]
        k = k[np.abs(h[k]) < 1.1]
        gaps = np.diff(h[k])
        if len(gaps) < 2 or gaps.max() < 0.16:
            continue
        g = int(np.argmax(gaps))
        # Of those at the edge the front one: the outer rim of the lid's thickness.
        for side, edge, out in ((1, h[k[g + 1]], upper), (-1, h[k[g]], lower)):
            rim = k[(side * (h[k] - edge) >= -1e-6) & (side * (h[k] - edge) < 0.07)]
            best = rim[np.argmax(f[rim])]
            out.append((float(b), float(h[best]), float(f[best])))
    if len(upper) < 12:
        return []
    result = []
    for found in (upper, lower):
        v = np.array(found)
        fit = [np.polynomial.Polynomial.fit(v[:, 0], v[:, i], 5) for i in (1, 2)]
        s = np.linspace(v[0, 0], v[-1, 0], 60)
        result.append(eye + across * s[:, None] + up * fit[0](s)[:, None] + facing * fit[1](s)[:, None])
    return result


def closed_edge(surface: Surface, eye: F64, facing: F64, up: F64, radius: float) -> F64:
    """Where the lids of a closed eye meet: a bow below the middle, on the skin, (60, 3)."""
    across = np.cross(facing, up)
    s = np.linspace(-1.25, 1.25, 60)
    place = eye + across * s[:, None] - up * (0.42 - 0.20 * (s / 1.25) ** 2)[:, None] + facing * (radius + 0.1)
    return surface.at(place)[0]


def lashes(
    edge: F64, facing: F64, up: F64, rng: np.random.Generator, upper: bool, count: int, rise_by: float = 1.0
) -> Hairs:
    """Hairs leave the lid's edge (N, 3) in small tufts, forward and then up (down), fanned outward.

    Args:
        rise_by: -1 for the lashes of a closed upper lid, which point down.
    """
    across = np.cross(facing, up)
    t = np.sort(rng.uniform(0.05, 0.97, count)) * (len(edge) - 1)
    i = t.astype(int)
    root = edge[i] + (edge[np.minimum(i + 1, len(edge) - 1)] - edge[i]) * (t - i)[:, None]
    root = root + rng.normal(0, 0.012, (count, 1)) * facing
    at = t / (len(edge) - 1) * 2 - 1
    sign = rise_by if upper else -1.0
    lean = 0.62 * at + 0.35 * (np.round(t / 3) * 3 - t) / 3 + rng.normal(0, 0.14, count)
    size = (
        (0.66 if upper else 0.32)
        * (0.45 + 0.6 * rng.random(count))
        * np.interp(np.abs(at), [0, 0.75, 1], [1, 0.95, 0.6])
    )
    k, z = np.linspace(0, 1, 7)[None, :, None], size[:, None, None]
    forward, rise, curl = (0.95, -0.16, 0.78) if upper else (0.72, 0.12, 0.35)
    line = root[:, None] + facing * z * (forward * k - 0.45 * k**2) + up * sign * z * (rise * k + curl * k**2)
    line = line + across * (lean[:, None, None] * z * (k + 0.2 * k**2))
    return line, 0.0042 * (0.7 + 0.5 * rng.random(count)) * (1 if upper else 0.6)


def short(
    surface: Surface, root: F64, rng: np.random.Generator, length: float, curl: float, turns: float, lay: F64, steps: int
) -> F64:  # fmt: skip
    """Short hairs: each leaves the skin, bends to `lay`, with a coil of its own."""
    n = len(root)
    _, normal = surface.at(root)
    size = length * (0.6 + 0.6 * rng.random(n))
    k = np.linspace(0, 1, steps)[None, :, None]
    way = unit(normal + rng.normal(0, 0.25, (n, 3)))
    side = unit(np.cross(way, rng.normal(0, 1, (n, 3))))
    other = np.cross(way, side)
    phase = rng.random((n, 1, 1)) * 6.28
    a, z = phase + 2 * np.pi * turns * k, size[:, None, None]
    line = root[:, None] - normal[:, None] * 0.03 + way[:, None] * z * (k - 0.35 * k**2) + lay * z * k**2 * 0.8
    coil = curl * np.minimum(k * 3, 1)
    line = (
        line + coil * (np.cos(a) - np.cos(phase)) * side[:, None] + coil * (np.sin(a) - np.sin(phase)) * other[:, None]
    )
    return np.asarray(line)


def beard(
    surface: Surface, points: F64, quads: I64, area: F64, facing: F64, up: F64, rng: np.random.Generator, full: float
) -> Hairs:
    """Short hairs that lie down along the jaw. full: 0.5 for stubble of some days, 1.5 for a beard that is kept short."""
    grown = max(full - 0.5, 0.0)
    count = round(9000 * (1 + 2.5 * grown))
    root = on_faces(points, quads, area**1.5, count, rng)
    lines = short(surface, root, rng, 0.32 + 0.55 * grown, 0.03 + 0.04 * grown, 1.0, -0.5 * up + 0.1 * facing, 8)
    if grown:
        lines = above(surface, lines, np.full(lines.shape[:2], 0.012))
    return lines, 0.0040 * (0.6 + 0.6 * rng.random(count))


def down(surface: Surface, points: F64, quads: I64, amount: F64, up: F64, rng: np.random.Generator) -> Hairs:
    """The fine fair hairs of the cheeks and the jaw: seen against the light only."""
    count = 9000
    root = on_faces(points, quads, amount, count, rng)
    return short(surface, root, rng, 0.22, 0.01, 0.5, -0.5 * up, 5), 0.0009 * (0.7 + 0.6 * rng.random(count))
