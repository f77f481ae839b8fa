"""The second demo shoot: series with known truth, for choosing, retouch, joining frames, mixing light, exact colours.

Few scenes, many frames: the camera moves within them, its focus is off, it shakes, dust lies on its sensor.
"""

import json
from datetime import datetime, timedelta
from functools import cache
from pathlib import Path

import numpy as np

from tanner.core.output.files import write_whole
from tanner.jobs.making import ShootPlan
from tanner.studio import pictures
from tanner.studio.camera import write
from tanner.studio.demo import VERSION
from tanner.studio.exposure import Exposure
from tanner.studio.faults import dust, glass

NAME = "Alder & Finch, series"
FOLDER = "series"
START = datetime(2026, 3, 19, 9, 0, 0)
SMALL = {"width": 2640, "height": 1760}
"""Frames of long series, taken at a smaller size as photographers do who have many."""


class _Taking:
    """Collects frames as a photographer takes them, with what they have in common said once."""

    def __init__(self) -> None:
        self.shots: list[Exposure] = []
        self.sets: dict[str, str] = {}
        self.now = START

    def set(self, name: str, minutes: float) -> None:
        self.now = START + timedelta(minutes=minutes)
        self.name = name

    def add(self, scene: str, after: float, **more: object) -> None:
        """after: seconds since the frame before."""
        number = len(self.shots) + 1
        self.now += timedelta(seconds=after)
        values = {
            "name": f"SR{number:04d}.DNG", "scene": scene, "turn": 0.0, "kelvin": 5500.0, "believed": 5500.0, "ev": 0.0,
            "iso": 100, "lens": "standard", "shutter": 1 / 125, "taken": self.now, "seed": 500 + number, "span": 0.9,
        } | more  # fmt: skip
        self.shots.append(Exposure(**values))  # type: ignore[arg-type]
        self.sets[self.shots[-1].name] = self.name


def _bursts(t: _Taking) -> None:
    """A sitting and a product, 24 frames each: small movements, some focus off by known amounts, a shake, a blink."""
    rng = np.random.default_rng(41)
    off = {3: 1.5, 8: -2.0, 12: 3.0, 17: 0.8, 21: -1.2}
    shakes = {5: (9.0, 2.0), 14: (3.0, -6.0), 19: (14.0, 5.0)}
    for title, minutes, scenes, lens, upright, kelvin in (
        ("Wren, burst", 0, ("wren-1", "wren-1", "wren-2", "wren-3"), "portrait", True, 5600.0),
        ("Lamp, burst", 60, ("lamp-2",), "standard", False, 5500.0),
    ):
        t.set(title, minutes)
        for n in range(24):
            group = n // 6
            aside = rng.uniform(-0.25, 0.25, 2)
            # Once she blinks.
            pose = "wren-blink" if upright and n == 9 else scenes[group % len(scenes)]
            t.add(
                pose, 90.0 if n % 6 == 0 and n else 0.6, lens=lens, upright=upright, kelvin=kelvin, believed=5600.0,
                span=0.86 - 0.02 * group, shift=(float(aside[0]), float(aside[1])), ev=float(rng.uniform(-0.06, 0.06)) + (0.5 if upright else 0.0),
                turned=(0.0, 0.0, float(rng.uniform(-0.8, 0.8))), focus=off.get(n, 0.0) * (1.0 if upright else 8.0),
                moved=shakes.get(n, (0.0, 0.0)), iso=200 if upright else 100, shutter=1 / 60, **SMALL,
            )  # fmt: skip


def _dust(t: _Taking) -> None:
    """The second camera with dust on its sensor: two sets, sharp at f/8 and f/11, soft at f/2.8, and a plain frame."""
    dusty = {"camera": "Alder Two", "dusty": True, **SMALL}
    t.set("Plain paper, for the sensor's dust", 120)
    t.add("plain", 0, lens="close", span=1.0, **dusty)
    t.set("Lamp, dust on the sensor", 124)
    for n in range(5):
        t.add(f"lamp-{n + 1}", 25, ev=0.05 * n - 0.1, span=0.94, shift=(0.3 * n - 0.6, 0.1), **dusty)
    t.set("Rowan, dust on the sensor", 140)
    for n, scene in enumerate(("rowan-1",) * 4):
        t.add(scene, 40, lens="portrait", upright=True, kelvin=6300.0, believed=5600.0, iso=200, shutter=1 / 60,
              ev=0.5, span=0.93, shift=(0.2 * n - 0.3, 0.1), **dusty)  # fmt: skip
    t.set("Threads, dust on the sensor", 160)
    for n in range(3):
        t.add("detail", 40, lens="close", span=0.9, shift=(0.2 * n, -0.1), **dusty)


def _lights(t: _Taking) -> None:
    """The lamp with each of its four lights alone, and with all of them."""
    t.set("Lamp, its lights apart", 180)
    for light in pictures.LIGHTS:
        t.add("lamp-1", 20, lights=((light, 1.0),), span=0.95)
    t.add("lamp-1", 20, lights=tuple((light, 1.0) for light in pictures.LIGHTS), span=0.95)


def _joined(t: _Taking) -> None:
    """A bracket of the workshop against its window, a focus series of the plate, and a panorama of five."""
    room = {"lens": "very wide", "kelvin": 6500.0, "believed": 6200.0}
    t.set("Workshop, bracket of five", 200)
    for step in range(-2, 3):
        t.add("workshop-1", 1.5, ev=2.4 + 1.5 * step, shutter=2.0 ** (1.5 * step) / 8, span=0.96, **room)
    t.set("Engraved plate, seven focus steps", 220)
    for n in range(7):
        t.add("detail-deep", 2.0, lens="close", focus=-7.0 + 2.6 * n, opening=0.7, span=0.88)
    t.set("Workshop, panorama of five", 240)
    for n in range(5):
        t.add("workshop-1", 4.0, ev=2.5, shutter=1 / 8, iso=200, span=0.40, turned=(-22.0 + 11.0 * n, 1.5, 0.0),
              kelvin=6500.0, believed=6200.0, lens="wide")  # fmt: skip


def _colours(t: _Taking) -> None:
    """Cloth from two dye lots, and forty patches with known L*a*b*, in two lights."""
    t.set("Colour card and cloth, flash", 260)
    for scene in ("colour-card", "dye-lots", "dye-lots"):
        t.add(scene, 30, lens="close", span=1.0, kelvin=5500.0)
    t.set("Colour card and cloth, window", 300)
    for scene in ("colour-card", "dye-lots"):
        t.add(scene, 30, lens="close", span=1.0, kelvin=6500.0, believed=6200.0, ev=-0.3)


def _behind_glass(t: _Taking) -> None:
    """The lamp turned twelve times behind a pane with bubbles, drops and scratches that stay where they are."""
    t.set("Lamp behind glass, twelve turns", 320)
    for n in range(12):
        t.add(f"lamp-{n + 1}", 30, behind_glass=True, span=0.95, ev=0.03 * (n % 3), **SMALL)


def _portraits(t: _Taking) -> None:
    """Both people as a sitting goes: turned, in profile, with glasses, with blemishes, with a beard, from behind, and side by side."""
    window = {"lens": "portrait", "kelvin": 5800.0, "believed": 5600.0, "iso": 200, "shutter": 1 / 60, "ev": 0.5}
    t.set("Wren and Rowan, sittings", 400)
    for scene in ("wren-3", "wren-5", "wren-6", "rowan-2", "rowan-4", "rowan-3"):
        t.add(scene, 60, upright=True, span=0.94, **window)
    t.add("both-1", 120, span=0.96, **window)


@cache
def _taken() -> _Taking:
    taking = _Taking()
    for part in (_bursts, _dust, _lights, _joined, _colours, _behind_glass, _portraits):
        part(taking)
    return taking


def series() -> list[Exposure]:
    """The frames of the second shoot, in the order they were taken."""
    return _taken().shots


def set_names() -> dict[str, str]:
    """What the set of each frame is called, by the frame's name."""
    return _taken().sets


def shoot_one(shot: Exposure, path: str) -> str:
    """Take one frame into a file, unless it is there."""
    if not Path(path).exists():
        write(shot, Path(path))
    return shot.name


KNOWN = """# What is known of the frames

The first shoot lies in `shoot/` and `card/`; `truth.json` says for each of its frames how it was taken: scene, light and
what the camera took it for, drift in stops, ISO, lens with its distortion and fall-off, the part of the scene that is in it,
and where the chart's patches, faces, eyes, specks and straight edges are. The second shoot lies in `series/`;
`series-truth.json` says the same of its frames, and besides:

| series | known |
|---|---|
| bursts of Wren and of the lamp, 24 each | groups of six; `focus` is off by so many cm in five frames of each, `moved` shook three, by px; `turned` in degrees; on one Wren blinks (scene `wren-blink`) |
| dust on the sensor of the second camera | 25 specks (`dust`: place on the sensor, radius, darkness), in two sets at f/8 and f/11, soft in one at f/2.8, and the plain frame |
| the lamp's lights apart | four frames with one light each, one with all: their linear values add up |
| bracket of the workshop | five frames, 1.5 stops apart |
| engraved plate | seven focus steps of 2.6 cm |
| panorama of the workshop | five frames, 11 degrees apart, about the lens's own place |
| colour card and cloth | L*a*b* of 40 patches and of two dye lots for D50 (`in_the_scene`), in two lights |
| Wren and Rowan, sittings | a profile, glasses, small blemishes (`in_the_scene`: moles and blemishes with place and radius), a beard, from behind, both side by side; faces and eyes are marked where they are seen |
| lamp behind glass, twelve turns | bubbles, drops and scratches of the pane (`glass`), the same in every frame |

Masks of every rendered scene at its full size are read by `tanner.studio.truth.truth(scene)`. The scene `wren-6-clear` is the same face without its blemishes.
"""


def say_what_is_known(into: Path) -> None:
    """The truth of the shoot's frames and a page on it; frames that were taken by an older version are taken anew."""
    folder, mark = into / FOLDER, into / "series-truth.json"
    folder.mkdir(parents=True, exist_ok=True)
    frames = [{"set": set_names()[s.name], **s.truth()} for s in series()]
    text = json.dumps({"version": VERSION, "frames": frames, "dust": dust(), "glass": glass()}, indent=1)
    if not mark.exists() or mark.read_text() != text:
        for path in folder.glob("*.DNG"):
            path.unlink()
        write_whole(mark, text.encode(), replace=True)
    write_whole(into / "README.md", KNOWN.encode(), replace=True)


def plan_of(into: Path) -> ShootPlan:
    """The shoot as work to be done: scene by scene, so that each picture is unpacked once."""
    folder = into / FOLDER
    order = sorted(series(), key=lambda s: s.scene)
    return ShootPlan(NAME, [(folder / s.name, shoot_one, (s, str(folder / s.name))) for s in order], set_names())
