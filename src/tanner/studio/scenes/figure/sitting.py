"""Who sits how: renders the portraits. `python -m tanner.studio.scenes.figure.sitting wren-1 --samples 8 --scale 0.3`.

Needs what `make scenes` needs. One picture at full size takes half an hour on two cores; a picture that is there with
as many samples is not made again, so a run that was ended goes on.
"""

import json
import time
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated, Any

import numpy as np
import typer
from numpy.typing import NDArray

from tanner.core.output.files import write_whole
from tanner.studio.bands import PICTURES
from tanner.studio.pictures import write
from tanner.studio.scenes import workshop
from tanner.studio.scenes.figure import passes
from tanner.studio.scenes.figure.base import PEOPLE, Person, Pose
from tanner.studio.scenes.figure.noise import F32
from tanner.studio.scenes.figure.person import Figure, PersonLook, build, placed
from tanner.studio.scenes.render import begin, there
from tanner.studio.scenes.stage import SceneStage
from tanner.studio.truth import add_depth, zipped

WIDTH, HEIGHT = 1920, 2880
CAMERA = np.array([0.0, -230.0, 3.0])
FIELD, WIDE_FIELD = 12.6, 19.5
"""Degrees across the longer side, of one person and of two."""
APART, TALLER = 40.0, 5.0
"""Of the middles of two heads, and of the second one's eyes over the first one's, in cm."""
WHITE = 0.55
"""What a perfect white in the window's light comes to before it is scaled to 1."""
_LEFT, _RIGHT = "expression/units/{0}/eye-left-closure", "expression/units/{0}/eye-right-closure"


def _wren() -> tuple[Person, PersonLook]:
    targets = {
        "expression/units/caucasian/eye-left-closure": 0.06, "expression/units/caucasian/eye-right-closure": 0.08,
        "expression/units/caucasian/mouth-corner-puller": 0.45, "expression/units/caucasian/mouth-elevation": 0.12,
        "asym/asym-mouth-1-l": 0.2, "asym/asym-nose-1-r": 0.2, "asym/asym-eye-1-l": 0.15, "mouth/mouth-scale-horiz-decr": 0.25,
    }  # fmt: skip
    person = replace(PEOPLE["wren"], targets={**PEOPLE["wren"].targets, **targets})
    look = PersonLook(
        iris=((0.03, 0.022, 0.014), (0.17, 0.115, 0.06)), wool=(0.055, 0.085, 0.06), cap=(0.30, 0.13, 0.05), hair=(0.6, 0.4)
    )  # fmt: skip
    return person, look


def _rowan() -> tuple[Person, PersonLook]:
    targets = {
        "expression/units/african/eye-left-opened-up": 0.10, "expression/units/african/eye-right-opened-up": 0.12,
        "expression/units/african/mouth-corner-puller": 0.40, "asym/asym-mouth-1-r": 0.25, "asym/asym-nose-2-l": 0.25,
        "asym/asym-brown-1-r": 0.3,
    }  # fmt: skip
    person = replace(PEOPLE["rowan"], targets={**PEOPLE["rowan"].targets, **targets})
    look = PersonLook(
        iris=((0.016, 0.009, 0.005), (0.07, 0.035, 0.015)), wool=(0.04, 0.055, 0.10), cap=(0.16, 0.15, 0.14), hair=(2.0, 0.3),
        freckles=0.15, pores=1.25, age=0.6, beard=0.5, brow=1.35, gloss=0.36,
    )  # fmt: skip
    return person, look


WHO = {"wren": _wren, "rowan": _rowan}


@dataclass(frozen=True)
class Sitting:
    """A person, a pose, and the light: "window" from the left, or "evening" from the right.

    Attributes:
        beard, glasses: see `PersonLook`; the person's own where nothing is said.
        blemishes: see `PersonLook`.
        beside: another one, to the right of the first.
    """

    who: str
    pose: Pose
    light: str = "window"
    beard: float | None = None
    glasses: tuple[float, float, float] | None = None
    blemishes: int = 0
    beside: "Sitting | None" = None


_SHUT = {_LEFT.format("caucasian"): 0.94, _RIGHT.format("caucasian"): 0.92}
SITTINGS = {
    "wren-1": Sitting("wren", Pose(body=-24, head=14, tilt=3, look=-6)),
    "rowan-1": Sitting("rowan", Pose(body=22, head=-12, tilt=-3, look=4)),
    "wren-2": Sitting("wren", Pose(body=30, head=-22, tilt=-3, nod=4, look=-4)),
    "rowan-2": Sitting("rowan", Pose(body=-26, head=13, tilt=2, nod=1, look=-8)),
    "wren-3": Sitting("wren", Pose(body=-75, head=8, look=-6)),
    "rowan-3": Sitting("rowan", Pose(body=164, head=4, nod=2)),
    "wren-blink": Sitting("wren", Pose(body=-24, head=14, tilt=3, look=-6, extra=_SHUT)),
    "wren-5": Sitting("wren", Pose(body=-14, head=8, tilt=-2, nod=2, look=-4), glasses=(0.035, 0.018, 0.010)),
    "rowan-4": Sitting("rowan", Pose(body=16, head=-8, tilt=2, nod=2, look=4), beard=1.5),
    "wren-6": Sitting("wren", Pose(body=12, head=-5, tilt=2, nod=1, look=2), blemishes=28),
    "wren-6-clear": Sitting("wren", Pose(body=12, head=-5, tilt=2, nod=1, look=2)),
    "both-1": Sitting(
        "wren",
        Pose(body=22, head=-8, tilt=3, nod=1, look=-4),
        beside=Sitting("rowan", Pose(body=-24, head=10, tilt=-2, look=4)),
    ),
    "wren-4": Sitting("wren", Pose(body=18, head=-6, tilt=2, nod=2, look=-8), "evening"),
}


def _lights(light: str, level: float, above: float = 70.0) -> dict[str, Any]:
    """above: how high the hair light hangs over the eyes, in cm: out of the picture."""
    side = -1.0 if light == "window" else 1.0
    key = (side * 165, -120, level + 55), (0, 0, level - 6), 100.0, 140.0, 6.0
    hair = (-side * 70, 120, level + above), (0, 0, level), 60.0, 80.0, 1.0
    stage = SceneStage(2, 2)
    for at, to, wide, high, power in (key, hair):
        stage.panel(at, to, wide, high, power if light == "window" else 0.8 * power)
    stage.surround(0.2 if light == "window" else 0.12)
    return stage.parts


def _known(stage: SceneStage, figure: Figure) -> list[dict[str, Any]]:
    """Where a face and its eyes are in the picture, while the face looks this way."""
    middle = (figure.eye_at[0] + figure.eye_at[1]) / 2
    near = np.concatenate([s.points for s in figure.skin])[::7]
    near = near[
        (near[:, 2] > figure.mouth[2] - 5.5)
        & ((near - middle) @ figure.facing > -6)
        & ((near - middle) @ figure.up < 6.0)
    ]
    away = float(figure.facing @ np.array([0, -1, 0]))
    if away <= 0.05:
        return []
    where = stage.places(near)
    box = [*where.min(axis=0).round(5).tolist(), *where.max(axis=0).round(5).tolist()]
    eyes = stage.places(np.array(figure.eye_at)).round(5).tolist()
    return [{"box": box, "towards_camera": round(away, 3), "eyes": eyes}]


def _apart(stage: SceneStage, figure: Figure, skin: NDArray[np.uint8]) -> list[dict[str, Any]]:
    """Moles and blemishes that are seen: their places, and their radii in shares of the long side."""
    marks, long = figure.marks, max(stage.size)
    if not marks.kinds:
        return []
    eye = CAMERA + [0, 0, figure.level]
    towards = (eye - marks.points) / np.linalg.norm(eye - marks.points, axis=1)[:, None]
    at, beside = stage.places(marks.points), stage.places(marks.points + [0, 0, 1.0])
    cm = np.abs(beside[:, 1] - at[:, 1]) * stage.size[1] / long
    found = []
    for kind, place, wide, seen in zip(
        marks.kinds, at, marks.radii * cm, (marks.normals * towards).sum(axis=1) > 0.3, strict=True
    ):
        x, y = (min(max(int(p * s), 0), s - 1) for p, s in zip(place, skin.shape[::-1], strict=True))
        if seen and skin[y, x] > 200:
            found.append({"kind": kind, "place": place.round(5).tolist(), "radius": round(float(wide), 6)})
    return found


def _person(sitting: Sitting, fine: int, aside: float = 0.0) -> tuple[Figure, PersonLook]:
    """A person at a pose, so many cm to the right of the middle; irises are painted for where the camera is."""
    person, look = WHO[sitting.who]()
    beard = look.beard if sitting.beard is None else sitting.beard
    look = replace(look, fine=fine, beard=beard, glasses=sitting.glasses, blemishes=sitting.blemishes)
    there = np.array([aside, 0.0, 0.0])
    return placed(build(person, sitting.pose, look, CAMERA - there), there), look


def shoot(
    name: str, samples: int, scale: float, fine: int, into: Path, masks_only: bool = False, depth_only: bool = False
) -> None:
    sitting = SITTINGS[name]
    start = time.time()

    def note(text: str) -> None:
        print(f"  {name}: {text}, {time.time() - start:.0f} s", flush=True)

    field, size = FIELD, (WIDTH, HEIGHT)
    if sitting.beside:
        # The picture lies on its side.
        field, size = WIDE_FIELD, (HEIGHT, WIDTH)
        people = [_person(sitting, fine, -APART / 2), _person(sitting.beside, fine, APART / 2)]
        (first, _), (other, look) = people
        people[1] = placed(other, np.array([0, 6.0, first.level + TALLER - other.level])), look
    else:
        people = [_person(sitting, fine)]
    note("built")
    level = float(np.mean([f.level for f, _ in people]))
    stage = SceneStage(*(round(side * scale / 2) * 2 for side in size))
    workshop.wall_behind(stage)
    nearer = min((e for f, _ in people for e in f.eye_at), key=lambda e: float(e[1])) - np.array([0, 1.3, 0])
    stage.camera(CAMERA + [0, 0, level], np.array([0, 0, level - 4.5]), field, 1.0, nearer)
    stage.truth["person"] = " and ".join(s.who for s in (sitting, sitting.beside) if s)
    stage.truth["faces"] = [face for f, _ in people for face in _known(stage, f)]
    if depth_only:
        add_depth(into / f"{name}.masks.zip", passes.depth(stage, people))
        note("depth written")
        return
    if masks_only:
        found = passes.painted(stage, people, note)
        write_whole(into / f"{name}.masks.zip", zipped(_masks(found), found["depth"]), replace=True)
        note("masks written")
        return
    found = passes.rendered(
        stage, people, stage.parts, _lights(sitting.light, level, 100.0 if sitting.beside else 70.0), samples, note
    )
    millimetre = HEIGHT * scale / (2 * 2300 * np.tan(np.radians(field / 2)))
    picture = passes.composed(found, float(millimetre)) / np.float32(WHITE)
    stage.truth["spots"] = [spot for f, _ in people for spot in _apart(stage, f, passes.masks(found)["skin"])]
    # The renderer's own depth is that of several samples a px, mixed at edges: for blur, not for truth.
    found["middle depth"] = passes.depth(stage, people)
    _write(name, picture, found, stage, samples, into)
    note("written")


def _masks(found: dict[str, F32]) -> dict[str, NDArray[np.uint8]]:
    """All masks, the whole subject's among them."""
    masks = passes.masks(found)
    parts = [masks[k].astype(np.float32) for k in ("skin", "eyes", "hair", "cloth", "glasses") if k in masks]
    masks["subject"] = np.rint(np.clip(sum(parts), 0, 255)).astype(np.uint8)
    return masks


def _write(name: str, picture: F32, found: dict[str, F32], stage: SceneStage, samples: int, into: Path) -> None:
    planes = np.maximum(picture @ passes.to_bands().T.astype(np.float32), 0)
    masks = _masks(found)
    np.savez_compressed(
        into / f"{name}.depth.npz", centimetres=np.minimum(found["depth"][::8, ::8], 6500).astype(np.float16)
    )
    write_whole(into / f"{name}.masks.zip", zipped(masks, found["middle depth"]), replace=True)
    write(into, name, planes)
    truth = {"scene": name, "size": list(stage.size), "samples": samples, **stage.truth}
    write_whole(into / f"{name}.json", json.dumps(truth, indent=1).encode() + b"\n", replace=True)


def main(
    names: Annotated[list[str] | None, typer.Argument()] = None,
    samples: int = 8,
    scale: float = 1.0,
    fine: int = 5,
    into: Path = PICTURES,
    masks_only: bool = False,
    depth_only: bool = False,
) -> None:
    """Render portraits by name, or all of them, unless they are there; other names are left out."""
    begin("llvm_ad_rgb", into)
    for name in names or list(SITTINGS):
        if name in SITTINGS and (masks_only or depth_only or not there(name, samples, round(HEIGHT * scale), into)):
            shoot(name, samples, scale, fine, into, masks_only, depth_only)


if __name__ == "__main__":
    typer.run(main)
