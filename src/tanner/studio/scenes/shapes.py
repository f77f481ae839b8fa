"""Shapes as triangle meshes. Lengths are in centimetres, z is up, and the camera looks along +y."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import ArrayLike, NDArray

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]


@dataclass
class Mesh:
    """Triangles: points (N, 3), faces (M, 3), texture places (N, 2). Normals are smooth unless flat is asked for."""

    points: F64
    faces: I64
    places: F64
    flat: bool = False

    def moved(self, offset: ArrayLike = (0, 0, 0), turn: float = 0.0, lean: float = 0.0) -> "Mesh":
        """Leaned about x, then turned about z (degrees), then moved."""
        points = self.points @ rotation(0, lean).T @ rotation(2, turn).T + np.asarray(offset)
        return Mesh(points, self.faces, self.places, self.flat)

    def normals(self) -> F64:
        """(N, 3): areas weigh what meets in a point; points that lie in the same place are joined first."""
        a, b, c = (self.points[self.faces[:, i]] for i in range(3))
        across = np.cross(b - a, c - a)
        _, same = np.unique(np.round(self.points, 5), axis=0, return_inverse=True)
        same = same.ravel()
        sums = np.zeros((same.max() + 1, 3))
        for i in range(3):
            np.add.at(sums, same[self.faces[:, i]], across)
        result = sums[same]
        return result / np.maximum(np.linalg.norm(result, axis=1, keepdims=True), 1e-12)

    def write(self, path: Path) -> None:
        """A binary PLY file."""
        mesh = self
        if self.flat:
            count = len(self.faces) * 3
            mesh = Mesh(
                self.points[self.faces.ravel()], np.arange(count).reshape(-1, 3), self.places[self.faces.ravel()]
            )
            a, b, c = (mesh.points[mesh.faces[:, i]] for i in range(3))
            across = np.cross(b - a, c - a)
            across /= np.maximum(np.linalg.norm(across, axis=1, keepdims=True), 1e-12)
            normals = np.repeat(across, 3, axis=0)
        else:
            normals = mesh.normals()
        rows = np.concatenate([mesh.points, normals, mesh.places], axis=1).astype("<f4")
        head = ["ply", "format binary_little_endian 1.0", f"element vertex {len(rows)}"]
        head += [f"property float {name}" for name in ("x", "y", "z", "nx", "ny", "nz", "u", "v")]
        head += [f"element face {len(mesh.faces)}", "property list uchar int vertex_indices", "end_header"]
        faces = np.empty(len(mesh.faces), dtype=[("n", "u1"), ("v", "<i4", 3)])
        faces["n"], faces["v"] = 3, mesh.faces
        path.write_bytes("\n".join(head).encode() + b"\n" + rows.tobytes() + faces.tobytes())


def rotation(axis: int, degrees: float) -> F64:
    """A turn about one axis, (3, 3)."""
    c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
    i, j = ((1, 2), (2, 0), (0, 1))[axis]
    result = np.eye(3)
    result[i, i] = result[j, j] = c
    result[i, j], result[j, i] = -s, s
    return result


def join(*meshes: Mesh) -> Mesh:
    counts = np.cumsum([0] + [len(m.points) for m in meshes])
    return Mesh(
        np.concatenate([m.points for m in meshes]),
        np.concatenate([m.faces + n for m, n in zip(meshes, counts[:-1], strict=True)]),
        np.concatenate([m.places for m in meshes]),
        meshes[0].flat,
    )


def grid(points: F64, places: F64, flip: bool = False) -> Mesh:
    """A surface from a grid of points (rows, columns, 3) and texture places (rows, columns, 2)."""
    rows, columns = points.shape[:2]
    at = np.arange(rows * columns).reshape(rows, columns)
    a, b, c, d = at[:-1, :-1].ravel(), at[:-1, 1:].ravel(), at[1:, 1:].ravel(), at[1:, :-1].ravel()
    faces = np.concatenate([np.stack([a, b, c], 1), np.stack([a, c, d], 1)])
    return Mesh(points.reshape(-1, 3), faces[:, ::-1] if flip else faces, places.reshape(-1, 2))


def lathe(
    profile: Sequence[tuple[float, float]], sides: int = 160, shape: Callable[[F64, F64], F64] | None = None
) -> Mesh:
    """A turned body: profile points (radius, height), bottom to top, rounded by a spline-like resampling.

    shape: gives a factor of the radius for angle and height: flutes and the like.
    """
    outline = smooth(np.array(profile, dtype=float), 14)
    angle = np.linspace(0, 2 * np.pi, sides + 1)
    radius, height = outline[:, :1], np.repeat(outline[:, 1:], sides + 1, axis=1)
    around = np.repeat(angle[None], len(outline), axis=0)
    factor = shape(around, height) if shape else np.ones_like(around)
    points = np.stack([radius * factor * np.cos(around), radius * factor * np.sin(around), height], axis=-1)
    length = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(outline, axis=0), axis=1))])
    places = np.stack([around / (2 * np.pi), np.repeat((length / length[-1])[:, None], sides + 1, axis=1)], axis=-1)
    return grid(points, places)


def smooth(points: F64, steps: int) -> F64:
    """Points with a rounded line through them (centripetal enough for our outlines: Catmull-Rom, clamped)."""
    padded = np.concatenate([points[:1], points, points[-1:]])
    t = np.linspace(0, 1, steps, endpoint=False)[:, None]
    parts = []
    for i in range(len(points) - 1):
        p0, p1, p2, p3 = padded[i : i + 4]
        if np.allclose(p1, p2):
            continue
        parts.append(
            0.5 * (2 * p1 + (p2 - p0) * t + (2 * p0 - 5 * p1 + 4 * p2 - p3) * t**2 + (3 * p1 - p0 - 3 * p2 + p3) * t**3)
        )
    return np.concatenate([*parts, points[-1:]])


def tube(path: ArrayLike, radius: float, sides: int = 12) -> Mesh:
    """A round wire along points (N, 3), with flat ends."""
    line = np.asarray(path, dtype=float)
    along = np.gradient(line, axis=0)
    along /= np.linalg.norm(along, axis=1, keepdims=True)
    across = np.empty_like(line)
    start = np.array([0.0, 0, 1]) if abs(along[0, 2]) < 0.9 else np.array([1.0, 0, 0])
    for i, t in enumerate(along):  # carried along, so that the wire does not twist
        start = start - t * (start @ t)
        start /= np.linalg.norm(start)
        across[i] = start
    up = np.cross(along, across)
    angle = np.linspace(0, 2 * np.pi, sides + 1)
    points = line[:, None] + radius * (
        np.cos(angle)[None, :, None] * across[:, None] + np.sin(angle)[None, :, None] * up[:, None]
    )
    length = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
    places = np.stack(np.broadcast_arrays(angle[None] / (2 * np.pi), length[:, None] / 10), axis=-1)
    caps = [np.repeat(line[i][None, None], sides + 1, axis=1) for i in (0, -1)]
    points = np.concatenate([caps[0], points, caps[1]])
    places = np.concatenate([places[:1], places, places[-1:]])
    return grid(points, places)


def block(size: Sequence[float], bevel: float = 0.1, steps: int = 6) -> Mesh:
    """A box with rounded edges, its middle at the origin. Texture places run in centimetres / 100."""
    half = np.asarray(size, dtype=float) / 2
    bevel = min(bevel, float(half.min()) * 0.98)
    parts = []
    for axis in range(3):
        for sign in (-1, 1):
            i, j = (axis + 1) % 3, (axis + 2) % 3
            ramps = []
            for k in (i, j):
                bend = np.linspace(-1, 1, steps + 1)
                inner = half[k] - bevel
                ramps.append(
                    np.unique(
                        np.concatenate(
                            [
                                -half[k] + (bend[: steps // 2 + 1] + 1) * bevel,
                                [0.0],
                                half[k] - (1 - bend[steps // 2 :]) * bevel,
                                [-inner, inner],
                            ]
                        )
                    )
                )
            u, v = np.meshgrid(ramps[0], ramps[1])
            points = np.empty((*u.shape, 3))
            points[..., i], points[..., j], points[..., axis] = u, v, sign * half[axis]
            core = np.clip(points, -(half - bevel), half - bevel)
            away = points - core
            points = core + bevel * away / np.maximum(np.linalg.norm(away, axis=-1, keepdims=True), 1e-9)
            order = (i, j) if half[i] >= half[j] else (j, i)
            places = np.stack([points[..., order[0]], points[..., order[1]]], axis=-1) / 100 + 0.5
            parts.append(grid(points, places, flip=sign < 0))
    return join(*parts)


def plate(outline: F64, thickness: float, arch: float = 0.0, rings: int = 40) -> Mesh:
    """A plate with a closed outline (N, 2) seen as a star from its middle, arched upwards, lying at z = 0."""
    middle = outline.mean(axis=0)
    closed = np.concatenate([outline, outline[:1]])
    s = np.linspace(0, 1, rings)[:, None]
    flat = middle + s[..., None] * (closed - middle)[None]
    z = thickness + arch * (1 - s**3) * np.ones(len(closed))[None]
    top = np.concatenate([flat, z[..., None]], axis=-1)
    edge = np.concatenate([flat[-1:], np.zeros((1, len(closed), 1))], axis=-1)
    points = np.concatenate([top, edge])
    return grid(points, points[..., :2] / 100 + 0.5, flip=True)


def cyclorama(width: float, front: float, back: float, height: float, bend: float) -> Mesh:
    """A seamless sweep: floor, bend and wall in one."""
    angle = np.linspace(0, np.pi / 2, 40)
    floor = np.stack([np.linspace(front, back - bend, 30), np.zeros(30)], 1)
    curve = np.stack([back - bend + bend * np.sin(angle), bend - bend * np.cos(angle)], 1)
    wall = np.stack([np.full(10, back), np.linspace(bend, height, 10)], 1)
    line = np.concatenate([floor, curve[1:], wall[1:]])
    x = np.linspace(-width / 2, width / 2, 20)
    points = np.stack(
        [np.tile(x, (len(line), 1)), np.repeat(line[:, :1], 20, 1), np.repeat(line[:, 1:], 20, 1)], axis=-1
    )
    length = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
    places = np.stack([points[..., 0] / 100, np.repeat(length[:, None] / 100, 20, 1)], axis=-1)
    return grid(points, places)
