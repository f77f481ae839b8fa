"""Knitted wool with real stitches: a jumper, a ribbed roll-neck, a cap with a folded brim. Shade is 0 to 1 at points."""

from dataclasses import dataclass

import numpy as np
import scipy.sparse as sp
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter
from scipy.spatial import cKDTree

from tanner.studio.scenes.figure import mesh
from tanner.studio.scenes.figure.noise import noise, on_faces
from tanner.studio.scenes.figure.strands import Hairs, Surface, short
from tanner.studio.scenes.shapes import F64, I64

EDGE = np.array([(0, 4.3), (30, 3.9), (50, 2.5), (64, -0.5), (76, -4.2), (95, -5.9), (130, -5.2), (180, -5.0)]).T
"""The cap's lower edge: degrees from the front, and height over the eyes in cm."""
_MIDDLE = np.array([0, 8.0, 1.0])
"""The head's middle from the place between the eyes, at rest."""
_STEPS, _UPS, _ROUNDS, _LOWEST = 300, 90, 240, -0.9


@dataclass
class Cloth:
    points: F64
    quads: I64
    shade: F64


@dataclass
class Wearer:
    """What clothes are cut by: points of the whole base mesh at the pose and at rest, the groups, and the fine head.

    Attributes:
        forward: where the chest looks, a unit vector in the plane.
    """

    points: F64
    rest: F64
    groups: dict[str, NDArray[np.int64]]
    level: float
    rest_level: float
    fine: F64
    fine_rest: F64
    fine_ear: F64
    forward: F64


def stitches(u: F64, v: F64, wide: float = 0.42, high: float = 0.32) -> F64:
    """Stocking stitch: height 0 to 1 at places u, v in cm."""
    x = u / wide
    side = x - np.floor(x) - 0.5
    row = v / high + 1.5 * np.abs(side)
    row = row - np.floor(row)
    leg = np.abs(np.abs(side) - 0.25) / 0.25
    twist = 0.85 + 0.15 * np.sin(28 * (row + side))
    return np.asarray(np.sqrt(np.clip(1 - leg**2, 0, 1)) * np.sin(np.pi * row) ** 0.6 * twist)


def _outward(points: F64, quads: I64) -> tuple[F64, I64]:
    n = mesh.normals(points, quads)
    if ((points - points.mean(0)) * n).sum() < 0:
        return -n, quads[:, ::-1]
    return n, quads


def _around(rows: int, columns: int) -> I64:
    """Faces of a grid whose columns close to a ring."""
    i, j = np.arange(rows - 1)[:, None] * columns, np.arange(columns)[None]
    return np.stack([i + j, i + (j + 1) % columns, i + columns + (j + 1) % columns, i + columns + j], -1).reshape(-1, 4)


def jumper(w: Wearer, ease: float = 1.0) -> Cloth:
    """The body drawn off the base mesh, smoothed, with folds that fall from the shoulders."""
    neck = w.points[w.groups["joint-neck"]].mean(axis=0)
    body = np.zeros(len(w.points), bool)
    body[w.groups["body"]] = True
    from_neck = w.points[:, :2] - neck[:2]
    away = np.linalg.norm(from_neck + 0.4 * w.forward, axis=1)
    # The joint lies near the nape: behind it the cloth reaches up to below the collar.
    away = away + 3.4 * np.clip(from_neck @ -w.forward / np.maximum(away, 0.1), 0, 1)
    height = w.points[:, 2]
    # Before the throat it ends well inside of the collar, or it shows above its fold.
    front = np.clip(from_neck @ w.forward / np.maximum(np.linalg.norm(from_neck, axis=1), 0.1), 0, 1)
    # At the sides a broad neck runs out into the shoulders: there it reaches up under the turned-down part.
    side = np.minimum(neck[2] + 2.8, w.level - 12.2 - 1.0)
    most = np.where(front > 0.8, np.minimum(neck[2] + 1.0, w.level - 12.2 - 2.0), np.maximum(neck[2] + 1.0, side))
    keep = body & (height < most) & (height > neck[2] - 40) & ((away > 4.6) | (height < neck[2] - 6))
    quads = mesh.all_quads()
    p, q, _ = mesh.refine(w.points, quads[keep[quads].all(axis=1)], np.zeros((len(w.points), 0)), 1)
    e = np.concatenate([q[:, [i, (i + 1) % 4]] for i in range(4)])
    ends = np.concatenate([e[:, 0], e[:, 1]]), np.concatenate([e[:, 1], e[:, 0]])
    beside = sp.csr_matrix((np.ones(2 * len(e)), ends), (len(p), len(p)))
    near = sp.diags(1 / np.asarray(beside.sum(axis=1)).ravel()) @ beside
    low = np.clip((neck[2] - p[:, 2]) / 8, 0, 1)[:, None]
    for _ in range(110):
        p = p + 0.6 * low * (near @ p - p)
    p = p + mesh.normals(p, q) * (0.35 + ease * 1.5 * low)
    p = p + mesh.normals(p, q) * (0.35 * low[:, 0] * noise(p, 5.0, 301, (0.8, 0.8, 2.2)))[:, None]
    p, q, f = mesh.refine(p, q, np.column_stack([p[:, 0] * 1.12, p[:, 2] + 0.35 * np.abs(p[:, 0])]), 3)
    h = stitches(f[:, 0] + 0.02 * noise(p, 0.5, 305), f[:, 1] + 0.03 * noise(p, 1.1, 306))
    p = p + mesh.normals(p, q) * (0.13 * h + 0.012 * noise(p, 0.05, 307))[:, None]
    return Cloth(p, q, (0.35 + 0.65 * h) * (1 + 0.10 * noise(p, 0.12, 308) + 0.06 * noise(p, 1.5, 309)))


def collar(w: Wearer, height: float = 5.2, ribs: int = 62) -> Cloth:
    """A ribbed roll-neck, folded over: from inside, over the fold, down on the outside to the shoulders."""
    neck = w.points[w.groups["joint-neck"]].mean(axis=0)
    top = w.level - 12.2
    a = np.linspace(0, 2 * np.pi, ribs * 16, endpoint=False)
    bands = np.linspace(top - height - 0.5, top + 0.5, 14)

    def axis_at(z: float) -> F64:
        return np.asarray(neck[:2] + w.forward * np.interp(z, [neck[2] - 2, w.level - 12], [3.6, 4.6]))

    around = np.linspace(0, 2 * np.pi, 48, endpoint=False)
    kernel = np.exp(-0.5 * (np.arange(-6, 7) / 2.5) ** 2)
    radii = []
    for z in bands:
        rel = w.fine[np.abs(w.fine[:, 2] - z) < 0.6][:, :2] - axis_at(z)
        angle, far = np.arctan2(rel[:, 1], rel[:, 0]) % (2 * np.pi), np.hypot(rel[:, 0], rel[:, 1])
        # Above the shoulders a broad neck reaches farther than below, where shoulders begin at seven.
        ok = far < np.interp(z, [top - height, top - 0.5 * height], [7.0, 8.6])
        r = []
        for x in around:
            there = ok & (np.abs((angle - x + np.pi) % (2 * np.pi) - np.pi) < 0.15)
            r.append(np.percentile(far[there], 90) if there.any() else 6.0)
        smooth = np.convolve(np.concatenate([r[-6:], r, r[:6]]), kernel / kernel.sum(), "valid")
        radii.append(np.interp(a, np.linspace(0, 2 * np.pi, 49), np.append(smooth, smooth[0])))
    radius = np.clip(np.array(radii), 4.6, 8.0)
    t = np.linspace(0, 1, 150)
    rings = []
    for k in t:
        if k < 0.25:
            z, out = top - 2.0 * (1 - k / 0.25), 0.15
        elif k < 0.42:
            s = (k - 0.25) / 0.17 * np.pi
            z, out = top + 0.55 * np.sin(s), 0.15 + 0.75 * (1 - np.cos(s)) / 2
        else:
            s = (k - 0.42) / 0.58
            z, out = top - height * s, 0.90 + 0.35 * np.sin(np.pi * s) + 0.5 * s**3
        i = np.interp(z, bands, np.arange(len(bands)))
        low = int(min(i, len(bands) - 2))
        r = radius[low] * (1 - i + low) + radius[low + 1] * (i - low) + out + 0.16 * np.abs(np.cos(a * ribs / 2)) ** 0.7
        c = axis_at(z)
        ring = np.stack([c[0] + r * np.cos(a), c[1] + r * np.sin(a), np.full_like(a, z)], 1)
        # It stands higher at the back, and nowhere quite level; its turned-down part covers what the cloth leaves there.
        behind = np.clip((ring[:, :2] - c) @ -w.forward / r + 0.75, 0, 1) * np.clip((k - 0.42) / 0.58, 0, 1)
        ring[:, 2] -= 2.2 * behind
        ring[:, :2] += 0.9 * (behind / r)[:, None] * (ring[:, :2] - c)
        ring[:, 2] += 0.20 * ((ring[:, :2] - c) @ -w.forward) + 0.25 * np.sin(2 * a + 1) + 0.12 * np.sin(5 * a)
        rings.append(ring)
    grid = np.array(rings)
    rows, columns = grid.shape[:2]
    places = np.column_stack([np.tile(a * 7.2, rows), np.repeat(t * 9.5, columns)])
    p, q, f = mesh.refine(grid.reshape(-1, 3), _around(rows, columns), places, 1)
    h = stitches(f[:, 0], f[:, 1], 0.72 * 10 * np.pi / ribs, 0.30)
    n = mesh.normals(p, q)
    if ((p - p.mean(0)) * n)[:, :2].sum() < 0:
        n, q = -n, q[:, ::-1]
    p = p + n * (0.05 * h + 0.02 * noise(p, 0.06, 311))[:, None]
    return Cloth(p, q, (0.45 + 0.55 * h) * (1 + 0.08 * noise(p, 0.12, 312)))


def _angles(rest: F64, level: float) -> tuple[F64, F64, F64]:
    rel = rest - _MIDDLE - [0, 0, level]
    far = np.linalg.norm(rel, axis=1)
    return np.arctan2(rel[:, 0], -rel[:, 1]), np.arcsin(np.clip(rel[:, 2] / far, -1, 1)), far


def _edge(angle: F64) -> F64:
    return np.interp(np.abs(np.degrees(angle)), *EDGE)


def under_cap(rest: F64, level: float, depth: float = 3.0) -> NDArray[np.bool_]:
    """Skin that the cap hides: deeper than `depth` cm from its edge."""
    return rest[:, 2] - level > _edge(_angles(rest, level)[0]) + depth


def _head(w: Wearer) -> F64:
    """Distance of the head's outside from its middle, without the ears, by elevation and angle."""
    a, e, far = _angles(w.fine_rest, w.rest_level)
    ok = (w.fine_ear < 0.1) & (w.fine_rest[:, 2] > w.rest_level - 9) & (far < 14)

    def way(a: F64, e: F64) -> F64:
        return np.stack([np.sin(a) * np.cos(e), -np.cos(a) * np.cos(e), np.sin(e)], -1)

    tree = cKDTree(way(a[ok], e[ok]))
    ga, ge = np.meshgrid(np.linspace(-np.pi, np.pi, _ROUNDS, endpoint=False), np.linspace(_LOWEST, np.pi / 2, _UPS))
    near, which = tree.query(way(ga, ge).reshape(-1, 3), k=24)
    r = np.average(far[ok][which], axis=1, weights=1 / (near + 0.03)).reshape(ga.shape)
    return np.asarray(gaussian_filter(r, (3.0, 6.0), mode=("nearest", "wrap")))


def cap(w: Wearer, ribs: int = 66, wide: float = 5.6, slouch: float = 1.4) -> Cloth:
    """Cut on the head at rest, column by column from inside, around the fold, up the brim and the crown; then moved with it."""
    head = _head(w)
    elevations = np.linspace(_LOWEST, np.pi / 2, _UPS)
    n = ribs * 18
    a = np.linspace(-np.pi, np.pi, n, endpoint=False)
    column = (a + np.pi) / (2 * np.pi) * _ROUNDS
    left, t = column.astype(int) % _ROUNDS, column - column.astype(int)
    radii = head[:, left] * (1 - t) + head[:, (left + 1) % _ROUNDS] * t
    wavy = 0.10 * np.sin(3 * a + 0.7) + 0.07 * np.sin(7 * a + 2)
    fine = np.linspace(_LOWEST, np.pi / 2, 400)
    k = np.linspace(0, 1, _STEPS)
    parts = np.array([0.0, 0.04, 0.09, 0.42, 0.45, 1.0])
    brim = k < 0.45
    places, along = np.empty((_STEPS, n, 3)), np.empty((_STEPS, n))
    for j in range(n):
        radius = np.interp(fine, elevations, radii[:, j])
        start = np.interp(_edge(a[j : j + 1])[0] + wavy[j], radius * np.sin(fine) + _MIDDLE[2], fine)
        steps = np.hypot(np.diff(radius * np.cos(fine)), np.diff(radius * np.sin(fine)))
        length = np.concatenate([[0], np.cumsum(steps)])
        first = np.interp(start, fine, length)
        whole = length[-1] - first
        s = np.interp(k, parts, [1.6, 0.0, 0.0, wide, wide - 0.1, whole])
        out = np.interp(k, parts, [0.06, 0.06, 0.62, 0.62, 0.36, 0.36])
        s = s - 0.30 * np.sin(np.pi * np.clip((k - 0.04) / 0.05, 0, 1)) * (k < 0.09)
        s = s + 0.22 * np.sin(np.pi * np.clip((k - 0.42) / 0.03, 0, 1)) * ((k > 0.42) & brim)
        crown = np.clip((s - wide) / (whole - wide), 0, 1) * ~brim
        out = out + slouch * np.sin(np.pi * np.minimum(crown * 0.62, 1)) ** 1.5 * (
            0.65 - 0.35 * (1 - crown) * np.cos(a[j])
        )
        out = out + 0.16 * np.sin(np.pi * np.clip((k - 0.09) / 0.33, 0, 1))
        e = np.interp(np.clip(s + first, 0, length[-1]), length, fine) + np.minimum(s + first, 0) / 9
        q = np.interp(e, elevations, radii[:, j]) + out
        places[:, j] = np.stack([q * np.sin(a[j]) * np.cos(e), -q * np.cos(a[j]) * np.cos(e), q * np.sin(e)], -1)
        along[:, j] = s
    turn = np.tile(a, _STEPS)
    fields = np.column_stack([np.cos(turn), np.sin(turn), along.ravel(), np.repeat(brim.astype(float), n)])
    p = (places + _MIDDLE + [0, 0, w.rest_level]).reshape(-1, 3)
    p, quads, f = mesh.refine(p, _around(_STEPS, n), fields, 1)
    normal, quads = _outward(p, quads)
    ribbed, angle = f[:, 3], np.arctan2(f[:, 1], f[:, 0])
    p = p + normal * (0.10 * noise(p, 2.6, 402) + 0.16 * noise(p, 5.0, 403) * (1 - ribbed))[:, None]
    rib = np.abs(np.cos(angle * ribs / 2)) ** 0.7
    h = stitches(angle * 9.6 + 0.02 * noise(p, 0.5, 405), f[:, 2] + 0.03 * noise(p, 1.1, 406), 9.6 * np.pi / ribs, 0.31)
    height = ribbed * (0.17 * rib + 0.05 * h) + (1 - ribbed) * 0.12 * h + 0.012 * noise(p, 0.05, 407)
    p = p + normal * height[:, None]
    shade = (0.42 + 0.58 * h * (0.6 + 0.4 * (rib * ribbed + 1 - ribbed))) * (
        1 + 0.10 * noise(p, 0.12, 408) + 0.06 * noise(p, 1.5, 409)
    )
    return Cloth(with_head(w, p), quads, shade)


def with_head(w: Wearer, places: F64) -> F64:
    """Places at rest, moved as the head is moved by the pose: a rotation by least squares (Kabsch 1976)."""
    hair = w.groups["helper-hair"]
    x, y = w.rest[hair], w.points[hair]
    u, _, vt = np.linalg.svd((x - x.mean(0)).T @ (y - y.mean(0)))
    turn = vt.T @ np.diag([1, 1, np.sign(np.linalg.det(vt.T @ u.T))]) @ u.T
    return np.asarray((places - x.mean(0)) @ turn.T + y.mean(0))


def fuzz(cloth: Cloth, count: int, rng: np.random.Generator) -> Hairs:
    """Loose fibres of wool where the camera may see them."""
    quads = cloth.quads[cloth.points[cloth.quads[:, 0]][:, 1] < 12]
    root = on_faces(cloth.points, quads, None, count, rng)
    lines = short(Surface(cloth.points, cloth.quads), root, rng, 0.16, 0.03, 0.8, np.array([0, 0, -0.4]), 6)
    return lines, 0.0011 * (0.6 + 0.8 * rng.random(count))
