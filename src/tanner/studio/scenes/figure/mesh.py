"""The base mesh of a head and shoulders with closed lips, subdivided until its faces are as small as pores."""

from typing import Any

import numpy as np
import scipy.sparse as sp
from numpy.typing import NDArray

from tanner.studio.scenes.figure import base
from tanner.studio.scenes.figure.base import Person, Pose
from tanner.studio.scenes.shapes import F64, I64

_UPPER = (474, 7229, 7228, 7227, 7226, 11964, 7225, 7179, 7178)
_LOWER = (523, 7264, 7265, 7266, 7206, 7205)
"""Points of the base mesh along the edge of the upper and of the lower lip, from the middle to one corner."""


def lip_moves(targets: dict[str, float], overshoot: float = 0.075, reach: float = 0.45) -> F64:
    """Moves of all points (N, 3), in the mesh's unit of 10 cm, that bring the lips together: it leaves 2 mm between them.

    Each lip moves half of the gap at its place across, less with the distance from the line (reach, cm).
    """
    p = base.base()[0].copy()
    for name, amount in targets.items():
        at, moves = base.target(name)
        p[at] += amount * moves
    across, height, forward = np.abs(p[:, 0]) * 10, p[:, 1] * 10, p[:, 2] * 10
    up = np.array(sorted((across[v], height[v]) for v in _UPPER))
    low = np.array(sorted((across[v], height[v]) for v in _LOWER))
    u, d = np.interp(across, *up.T), np.interp(across, *low.T)
    corner = up[-1, 0]
    fade = np.clip((corner + 0.5 - across) / 0.25, 0, 1)
    gap = np.maximum(u - d + overshoot, 0) * fade
    middle = (u + d) / 2
    near = (forward > forward[list(_UPPER)].min() - 0.75) & (across < corner + 0.55) & (np.abs(height - middle) < 1.6)
    above, below = np.clip(height - u, 0, None), np.clip(d - height, 0, None)
    upper = -0.5 * gap * np.exp(-((above / reach) ** 2))
    lower = 0.5 * gap * np.exp(-((below / reach) ** 2))
    result = np.zeros_like(p)
    result[:, 1] = np.where(near, np.where(height > middle, upper, lower), 0) / 10
    return result


def ear_moves(targets: dict[str, float]) -> F64:
    """Moves of all points (N, 3), in the mesh's unit, that lay the ears flat against the head: a cap covers them."""
    p = base.base()[0].copy()
    for name, amount in targets.items():
        at, moves = base.target(name)
        p[at] += amount * moves
    ear = base.mark("ears/l-ear-scale-incr", "ears/r-ear-scale-incr")
    groups = base.base()[2]
    head = np.zeros(len(p), bool)
    head[groups["body"]] = True
    middle = p[np.concatenate([groups["joint-l-eye"], groups["joint-r-eye"]])].mean(axis=0)
    beside = (
        head
        & (ear < 0.02)
        & (np.abs(p[:, 1] - middle[1]) < 0.35)
        & (middle[2] - p[:, 2] > 0.45)
        & (middle[2] - p[:, 2] < 1.15)
    )
    side = np.abs(p[:, 0])
    flat = np.minimum(side, np.percentile(side[beside], 97) + 0.01)
    result = np.zeros_like(p)
    result[:, 0] = np.where(head & (ear > 0.02), np.sign(p[:, 0]) * (flat - side), 0)
    return result


def posed_closed(person: Person, pose: Pose) -> tuple[F64, F64, dict[str, NDArray[np.int64]]]:
    """All points at the pose and at rest, (N, 3) in cm, and the mesh's groups."""
    targets = {**person.targets, **pose.extra}
    moves = lip_moves(targets) + ear_moves(targets)
    points, groups = base.posed(person, pose, moves)
    # Open-eyed, whatever the pose: what lies on the skin stays where it is while somebody blinks.
    rest, _ = base.posed(person, Pose(), moves)
    return points, rest, groups


def subdivide(quads: I64, count: int) -> tuple[Any, I64]:
    """Catmull and Clark (1978) as a sparse matrix S of new points by old ones, and the new faces."""
    n, m = count, len(quads)
    a, b = quads.ravel(), np.roll(quads, -1, axis=1).ravel()
    key, which = np.unique(np.minimum(a, b).astype(np.int64) * n + np.maximum(a, b), return_inverse=True)
    low, high = key // n, key % n
    e = len(key)
    face = sp.csr_matrix((np.full(4 * m, 0.25), (np.repeat(np.arange(m), 4), quads.ravel())), (m, n))
    ends = sp.csr_matrix((np.full(2 * e, 0.5), (np.tile(np.arange(e), 2), np.concatenate([low, high]))), (e, n))
    touch = sp.csr_matrix((np.ones(4 * m), (which, np.repeat(np.arange(m), 4))), (e, m))
    k = np.asarray(touch.sum(axis=1)).ravel()
    inner = (k == 2).astype(float)
    edge = sp.diags(0.5 * inner + (1 - inner)) @ ends + sp.diags(0.5 * inner / k) @ (touch @ face)
    at_faces = sp.csr_matrix((np.ones(4 * m), (quads.ravel(), np.repeat(np.arange(m), 4))), (n, m))
    at_edges = sp.csr_matrix((np.ones(2 * e), (np.concatenate([low, high]), np.tile(np.arange(e), 2))), (n, e))
    faces = np.maximum(np.asarray(at_faces.sum(axis=1)).ravel(), 1)
    edges = np.maximum(np.asarray(at_edges.sum(axis=1)).ravel(), 1)
    inside = (
        sp.diags(1 / faces**2) @ at_faces @ face
        + sp.diags(2 / edges / faces) @ at_edges @ ends
        + sp.diags((faces - 3) / faces)
    )
    rims = np.asarray(at_edges @ (1 - inner)).ravel()
    on_rim = (rims > 0).astype(float)
    border = (
        sp.diags(0.5 * on_rim) + sp.diags(0.5 * on_rim / np.maximum(rims, 1)) @ at_edges @ sp.diags(1 - inner) @ ends
    )
    corners = sp.diags(1 - on_rim) @ inside + border
    ei, f = which.reshape(-1, 4) + n, np.arange(m) + n + e
    new = np.concatenate([np.stack([quads[:, i], ei[:, i], f, ei[:, i - 1]], axis=1) for i in range(4)])
    return sp.vstack([corners, edge, face]).tocsr(), new


def normals(points: F64, quads: I64) -> F64:
    """Unit normals at points (N, 3), faces weighed by their area."""
    a, b, c, d = (points[quads[:, i]] for i in range(4))
    across = np.cross(c - a, d - b)
    out = np.stack([np.bincount(quads.ravel(), np.repeat(across[:, k], 4), len(points)) for k in range(3)], axis=1)
    return np.asarray(out / np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-12))


def compact(quads: I64, *values: F64) -> tuple[I64, list[F64]]:
    """Faces with points that they use only, and what these carry."""
    used, index = np.unique(quads, return_inverse=True)
    return index.reshape(-1, 4), [v[used] for v in values]


def refine(points: F64, quads: I64, fields: F64, rounds: int) -> tuple[F64, I64, F64]:
    """Points (N, 3) and fields (N, K), subdivided together."""
    quads, (dense,) = compact(quads, np.column_stack([points, fields]))
    for _ in range(rounds):
        step, quads = subdivide(quads, len(dense))
        dense = step @ dense
    return dense[:, :3], quads, dense[:, 3:]


def all_quads() -> I64:
    return np.array([f for f in base.base()[1] if len(f) == 4])
