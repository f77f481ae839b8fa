"""One person, head and shoulders, put together: everything that passes.py renders."""

from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from tanner.studio.scenes.figure import eyes, glasses, knit, mesh, skin, strands
from tanner.studio.scenes.figure.base import Person, Pose
from tanner.studio.scenes.figure.eyes import Ball, Tones
from tanner.studio.scenes.figure.noise import F32
from tanner.studio.scenes.shapes import F64, I64, rotation

ROUNDS = 4


@dataclass(frozen=True)
class PersonLook:
    """What a person looks like beyond the targets. Colours are linear sRGB.

    Attributes:
        brow: how wide the brows are; gloss: how strongly skin shines.
        fine: rounds of subdivision in the face: 5 for pores at full size.
        hair: melanin and pheomelanin of brows, lashes, beard.
        blemishes: small red spots; what else there is of a person does not change with them.
        beard: none at 0, stubble at 0.5, full at 1.5; glasses: colour of their rims, or None.
    """

    iris: Tones
    wool: tuple[float, float, float]
    cap: tuple[float, float, float]
    hair: tuple[float, float]
    freckles: float = 0.5
    moles: int = 4
    blemishes: int = 0
    pores: float = 1.0
    age: float = 0.3
    beard: float = 0.0
    brow: float = 1.0
    gloss: float = 0.5
    fine: int = 5
    glasses: tuple[float, float, float] | None = None


@dataclass
class Skin:
    """A mesh of skin: points at the pose, and what each is like."""

    points: F64
    quads: I64
    normals: F64
    albedo: F32
    rough: F32
    lips: F64


@dataclass
class FaceMarks:
    """Moles and blemishes of the face: their names, where they lie at the pose, which way they face, and their radii in cm."""

    kinds: list[str]
    points: F64
    normals: F64
    radii: F64


@dataclass
class Figure:
    """A person at a pose: level is the height of the eyes, facing and up are the head's own directions."""

    skin: list[Skin]
    eyes: list[Ball]
    eye_at: list[F64]
    level: float
    facing: F64
    up: F64
    hairs: dict[str, strands.Hairs]
    cloth: dict[str, knit.Cloth]
    fuzz: dict[str, strands.Hairs]
    mouth: F64
    marks: FaceMarks
    glasses: strands.Hairs | None = None


def _marks() -> tuple[list[str], F64]:
    found = skin.region_marks()
    return list(found), np.column_stack(list(found.values()))


def _surface_of(rest: F64, quads: I64, fields: F64, names: list[str], all_rest: F64, person: Person, look: PersonLook, rng: np.random.Generator, wet: F64) -> tuple[F32, F32, F32, skin.Regions, dict[str, skin.Spots]]:  # fmt: skip
    """Height, albedo, roughness and regions of a part of the skin, and what stands apart on it."""
    r = {n: np.clip(fields[:, i], 0, 1) for i, n in enumerate(names)}
    r["lips"] = skin.lips(rest, all_rest)
    r["wet"] = wet
    height, pore = skin.relief(rest, quads, r, look.age, rng, look.pores)
    m, b, moles = skin.pigments(rest, quads, r, pore, person.melanin, person.blood, rng, look.freckles, look.moles)
    spots = skin.blemishes(rest, quads, r, look.blemishes) if look.blemishes else skin.NO_SPOTS
    red = skin.inflamed(rest, spots)
    height = (height + 0.006 * red).astype(np.float32)
    albedo = skin.colour(
        (m + 0.05 * person.melanin * red).astype(np.float32),
        np.clip(b + 0.5 * wet + 1.4 * red, 0, 3).astype(np.float32),
    )
    return height, albedo, skin.rough(rest, r), r, {"mole": moles, "blemish": spots}


def _marks_of(spots: dict[str, skin.Spots], rest: F64, points: F64, normals: F64) -> FaceMarks:
    """Where what stands apart came to lie, by the points of the mesh next to it."""
    at = np.concatenate([s.at for s in spots.values()])
    nearest = np.asarray(cKDTree(rest).query(at)[1], dtype=np.intp)
    kinds = [kind for kind, s in spots.items() for _ in s.at]
    return FaceMarks(kinds, points[nearest], normals[nearest], np.concatenate([s.radius for s in spots.values()]))


def build(person: Person, pose: Pose, look: PersonLook, camera: F64) -> Figure:
    """Everything of a person at a pose. camera: its place over the eyes' level, in cm."""
    rng = np.random.default_rng(len(person.name) + 11)
    points, rest, groups = mesh.posed_closed(person, pose)
    eye_at = [points[groups[f"joint-{s}-eye"]].mean(axis=0) for s in "lr"]
    level, rest_level = float(np.mean([e[2] for e in eye_at])), float(rest[groups["joint-l-eye"]].mean(axis=0)[2])
    body = np.zeros(len(points), bool)
    body[groups["body"]] = True
    keep = body & (rest[:, 2] > rest_level - 20.5) & (np.abs(rest[:, 0]) < 13)
    # Shoulders are always covered: skin that stayed there came through the cloth where the back is round.
    neck = rest[groups["joint-neck"]].mean(axis=0)
    # Its joint lies near the nape.
    keep &= (rest[:, 2] > rest_level - 16.0) | (np.hypot(rest[:, 0] - neck[0], rest[:, 1] - neck[1] + 3.5) < 8.5)
    quads = mesh.all_quads()
    names, marks = _marks()
    dense, q, f = mesh.refine(points, quads[keep[quads].all(axis=1)], np.column_stack([rest, marks]), ROUNDS)
    fine_rest, ear = f[:, :3], f[:, 3 + names.index("ear")]
    forward = (rotation(2, pose.body) @ [0, -1.0, 0])[:2]
    wearer = knit.Wearer(points, rest, groups, level, rest_level, dense, fine_rest, ear, forward)
    seen = ~knit.under_cap(fine_rest, rest_level)[q].all(axis=1)
    face = (fine_rest[:, 1] < 4.0) & (fine_rest[:, 2] > rest_level - 11.5) & (fine_rest[:, 2] < rest_level + 9)
    face &= np.abs(fine_rest[:, 0]) < 7.6
    in_face = face[q].all(axis=1)
    parts = []
    for part, more in ((q[~in_face & seen], 0), (q[in_face & seen], look.fine - ROUNDS)):
        pq, (pp, pf) = mesh.compact(part, dense, f)
        for _ in range(more):
            step, pq = mesh.subdivide(pq, len(pp))
            pp, pf = step @ pp, step @ pf
        parts.append((pp, pq, pf))
    found, lid_points = [], parts[1][0]
    for p, pq, pf in parts:
        far = np.min([np.linalg.norm(p - e, axis=1) for e in eye_at], axis=0)
        wet = np.clip((1.50 - far) / 0.06, 0, 1) * (far > 0.5)
        height, albedo, rough, r, spots = _surface_of(pf[:, :3], pq, pf[:, 3:], names, rest, person, look, rng, wet)
        if look.beard:
            albedo = (
                albedo * (1 - min(0.35 * look.beard, 0.5) * skin.beard(pf[:, :3], rest_level, r))[:, None]
            ).astype(np.float32)
        moved = p + mesh.normals(p, pq) * (height * (1 - wet))[:, None]
        found.append(Skin(moved, pq, mesh.normals(moved, pq), albedo, rough, r["lips"]))
        apart = _marks_of(spots, pf[:, :3], moved, found[-1].normals)  # those of the face, which comes last
    held = rotation(2, pose.body) @ rotation(2, pose.head) @ rotation(1, pose.tilt) @ rotation(0, pose.nod)
    facing, up = held @ [0, -1.0, 0], held @ [0, 0, 1.0]
    at = np.asarray(camera, float) + [0, 0, level]
    gaze = rotation(2, pose.look) @ facing
    balls = [
        eyes.ball(e, gaze + 0.01 * (1 - 2 * k) * np.cross(facing, up), at, look.iris, 3 + 7 * k)
        for k, e in enumerate(eye_at)
    ]
    surface = strands.Surface(dense, q)
    hairs = {"brows": strands.brows(surface, eye_at, facing, up, rng, look.brow)}
    lines, radii = [], []
    for e, ball in zip(eye_at, balls, strict=True):
        edges = strands.lid_edges(lid_points, e, facing, up, eyes.RADIUS)
        if not edges:
            parts_of = strands.lashes(
                strands.closed_edge(surface, e, facing, up, eyes.RADIUS), facing, up, rng, True, 120, -0.6
            )
            lines.append(parts_of[0])
            radii.append(parts_of[1])
            continue
        for edge, dark, wide in zip(edges, (0.55, 0.25), (0.16, 0.07), strict=True):
            # The lids' own shadow, closer than the light's samples tell.
            near = cKDTree(edge).query(ball.points)[0]
            ball.albedo *= (1 - dark * np.exp(-np.maximum(near - 0.03, 0) / wide))[:, None].astype(np.float32)
        for edge, upper in zip(edges, (True, False), strict=True):
            line, radius = strands.lashes(edge, facing, up, rng, upper, 120 if upper else 60)
            lines.append(line)
            radii.append(radius)
    hairs["lashes"] = np.concatenate(lines), np.concatenate(radii)
    if look.beard:
        area = skin.beard(fine_rest, rest_level, {"lips": skin.lips(fine_rest, rest)})
        hairs["beard"] = strands.beard(surface, dense, q, area, facing, up, rng, look.beard)
    z = fine_rest[:, 2] - rest_level
    cheeks = ((z > -10) & (z < 3) & (fine_rest[:, 1] < 8) & ~knit.under_cap(fine_rest, rest_level, 0.2)).astype(float)
    hairs["down"] = strands.down(surface, dense, q, cheeks, up, rng)
    cloth = {"jumper": knit.jumper(wearer), "collar": knit.collar(wearer), "cap": knit.cap(wearer)}
    fuzz = {name: knit.fuzz(c, 16000, rng) for name, c in cloth.items()}
    mouth = points[groups["joint-mouth"]].mean(axis=0)
    rims = glasses.glasses(eye_at, facing, up) if look.glasses else None
    return Figure(found, balls, eye_at, level, facing, up, hairs, cloth, fuzz, mouth, apart, rims)


def placed(figure: Figure, by: F64) -> Figure:
    """The same person somewhere else: everything moved by so many cm (x, y, z)."""

    def hairs(given: strands.Hairs) -> strands.Hairs:
        return given[0] + by, given[1]

    return replace(
        figure,
        skin=[replace(s, points=s.points + by) for s in figure.skin],
        eyes=[replace(e, points=e.points + by) for e in figure.eyes],
        eye_at=[e + by for e in figure.eye_at],
        level=figure.level + float(by[2]),
        hairs={k: hairs(v) for k, v in figure.hairs.items()},
        cloth={k: replace(c, points=c.points + by) for k, c in figure.cloth.items()},
        fuzz={k: hairs(v) for k, v in figure.fuzz.items()},
        mouth=figure.mouth + by,
        marks=replace(figure.marks, points=figure.marks.points + by),
        glasses=hairs(figure.glasses) if figure.glasses else None,
    )
