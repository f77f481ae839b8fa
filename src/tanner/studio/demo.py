"""The demo shoot: which frames the simulated cameras take, where they lie, and the card."""

import json
import sys
import time
from concurrent.futures import ProcessPoolExecutor
from datetime import datetime, timedelta
from multiprocessing import get_context
from pathlib import Path

from tanner.core.output.files import write_whole
from tanner.studio.camera import take, write
from tanner.studio.exposure import Exposure

VERSION = 20
"""Raised when the frames change, so that an older demo is made anew."""
ON_CARD = 4


def frames() -> list[Exposure]:
    """The frames of the shoot, in the order they were taken."""
    start = datetime(2026, 3, 12, 9, 0, 0)
    shots: list[Exposure] = []

    def add(scene: str, minute: float, **more: object) -> None:
        number = len(shots) + 1
        values = {
            "name": f"AF{number:04d}.DNG",
            "scene": scene,
            "turn": 0.0,
            "kelvin": 5500.0,
            "believed": 5500.0,
            "ev": 0.0,
            "iso": 100,
            "lens": "standard",
            "shutter": 1 / 125,
            "taken": start + timedelta(minutes=minute),
            "seed": number,
            "span": 0.97,
        } | more
        shots.append(Exposure(**values))  # type: ignore[arg-type]

    tungsten = {"kelvin": 2856.0, "shutter": 1 / 8}
    add("colour-chart", 0, ev=0.1)
    add("colour-chart", 2, ev=0.05, camera="Alder Two")
    for n, drift in enumerate((0.0, 0.12, -0.15, -0.42, 0.2), 1):
        add(f"lamp-{n}", 4 + 0.5 * n, ev=drift)
    for n, drift in enumerate((0.05, 0.1, -0.1, 0.0, 0.08), 1):
        add(f"lamp-{n}", 14 + 0.5 * n, ev=drift, camera="Alder Two", believed=5350.0)
    for n, (drift, span) in enumerate(((0.0, 0.97), (-0.1, 0.90), (0.15, 0.80))):
        add("detail", 30 + n, ev=drift, lens="close", span=span, shift=(-0.2 * n, 0.25 * n))
    add("colour-chart", 50, believed=2900.0, ev=-0.1, **tungsten)
    for n, drift in enumerate((0.0, -0.1, 0.15, 0.35, -0.05), 1):
        add(f"instrument-{n}", 54 + 0.7 * n, believed=2950.0, ev=drift, upright=True, **tungsten)
    window = (
        ("wren-1", 5000, 0.0, 0.0), ("wren-2", 5250, 0.1, 0.4), ("wren-1", 5600, -0.1, 0.8), ("wren-2", 6000, -0.2, 0.0),
        ("rowan-1", 6300, -0.25, -0.3), ("rowan-2", 6700, -0.35, 0.2), ("rowan-1", 7100, -0.5, 0.5), ("rowan-2", 7500, -0.6, 0.0),
    )  # fmt: skip
    for n, (scene, kelvin, drift, aside) in enumerate(window):
        add(
            scene, 130 + 5 * n, kelvin=float(kelvin), believed=5600.0, ev=0.5 + drift, lens="portrait", shutter=1 / 60, iso=200,
            upright=True, span=0.96 - 0.02 * (n % 3), shift=(aside, -0.3 * aside),
        )  # fmt: skip
    add("colour-chart", 175, kelvin=7500.0, believed=6500.0, shutter=1 / 15, iso=200, ev=-0.2)
    for n, (drift, span) in enumerate(((2.5, 0.99), (2.4, 0.93), (2.7, 0.84), (2.55, 0.76))):
        add(
            "workshop-1", 190 + 3 * n, kelvin=6500.0, believed=6200.0, ev=drift, lens="very wide", shutter=1 / 8, iso=200,
            span=span, shift=(0.4 * n - 0.4, 0.1 * n),
        )  # fmt: skip
    led = {"source": "led", "kelvin": 4080.0, "believed": 4300.0, "shutter": 1 / 60}
    add("colour-chart", 236, **led)
    for n, drift in enumerate((0.0, -0.12, 0.1, -0.3)):
        add("table-top", 240 + 2 * n, ev=drift, lens="close", span=0.95, shift=(0.3 * n - 0.4, 0.2), **led)
    evening = (("wren-4", 3200, -0.5), ("wren-4", 6400, -0.6), ("rowan-1", 6400, -0.75), ("rowan-1", 12800, -0.9))
    for n, (scene, iso, drift) in enumerate(evening):
        add(
            scene, 520 + 1.2 * n, kelvin=2856.0, believed=3000.0, ev=0.5 + drift, iso=iso, shutter=1 / 60, lens="portrait",
            upright=True, span=0.93, shift=(-0.2 * n, 0.1),
        )  # fmt: skip
    return shots


def _make(jobs: list[tuple[Exposure, str]]) -> list[str]:
    """Frames of one scene, one after the other: its picture is unpacked once."""
    for shot, path in jobs:
        # Not compressed: unpacking costs half a second a frame, at first start and on every visit to the Bench.
        write(shot, Path(path), compress=False, replace=True)
    return [shot.name for shot, _ in jobs]


def _line_end(last: bool) -> str:
    return "\n" if last or not sys.stdout.isatty() else "\r"


def make_shoot(into: Path, shots: list[Exposure] | None = None) -> None:
    """Write the frames that are missing, two at a time, with progress on the terminal.

    The last four lie on the simulated card (DCIM/100ALDER), the others in the shoot's folder.
    """
    shots = shots or frames()
    photos, card = into / "shoot", into / "card" / "DCIM" / "100ALDER"
    mark = into / "truth.json"
    truth = {"version": VERSION, "frames": [s.truth() for s in shots]}
    text = json.dumps(truth, indent=1)
    fresh = mark.exists() and mark.read_text() == text
    jobs = []
    for index, shot in enumerate(shots):
        folder = card if index >= len(shots) - ON_CARD else photos
        if not (fresh and (folder / shot.name).exists()):
            jobs.append((shot, str(folder / shot.name)))
    (into / "out").mkdir(parents=True, exist_ok=True)
    if not jobs:
        return
    print(f"The simulated cameras take {len(jobs)} frames …", flush=True)
    scenes: dict[str, list[tuple[Exposure, str]]] = {}
    for shot, path in jobs:
        scenes.setdefault(shot.scene, []).append((shot, path))
    done = 0
    with ProcessPoolExecutor(2, mp_context=get_context("spawn")) as pool:
        # The scenes with most frames go first, so that both processes end at about the same time.
        for names in pool.map(_make, sorted(scenes.values(), key=len, reverse=True)):
            done += len(names)
            print(f"  {done} of {len(jobs)}  {names[-1]}", end=_line_end(done == len(jobs)), flush=True)
    write_whole(mark, text.encode(), replace=True)


def drop_frames(into: Path, every: float, count: int, scenes: list[str] | None = None) -> list[Path]:
    """A tethered camera: frames of the shoot appear in a folder one by one, whole, `every` seconds.

    Args:
        scenes: beginnings of scene names ("lamp"); all of them when left out.
    """
    shots = [s for s in frames() if not scenes or s.scene.startswith(tuple(scenes))][: count or None]
    into.mkdir(parents=True, exist_ok=True)
    written = []
    for number, shot in enumerate(shots):
        began = time.monotonic()
        path = into / shot.name
        if path.exists():
            print(f"  {shot.name} is there already and stays as it is", flush=True)
            continue
        data = take(shot)
        if number:
            time.sleep(max(0.0, every - (time.monotonic() - began)))
        write_whole(path, data, replace=False)
        written.append(path)
        print(f"  {shot.name}  {shot.scene}, {shot.camera}", flush=True)
    return written
