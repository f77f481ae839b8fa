"""The demo shoot: which frames the simulated camera takes, where they lie, and the card."""

import json
import sys
from concurrent.futures import ProcessPoolExecutor
from datetime import datetime, timedelta
from multiprocessing import get_context
from pathlib import Path

from tanner.core.output.files import write_whole
from tanner.studio.camera import Exposure, take

VERSION = 5
"""Raised when the frames change, so that an older demo is made anew."""


def frames() -> list[Exposure]:
    """The 27 frames of the shoot, in the order they were taken."""
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
        } | more
        shots.append(Exposure(**values))  # type: ignore[arg-type]

    add("chart", 0, ev=0.1)
    for n, drift in enumerate((0.0, 0.12, -0.15, 0.05, -0.42, 0.2, -0.08)):
        add("lamp", 4 + 0.5 * n, turn=0.45 * n, ev=drift)
    add("chart", 50, kelvin=2856.0, believed=2900.0, shutter=1 / 8, ev=-0.1)
    for n, drift in enumerate((0.0, -0.1, 0.15, 0.0, 0.35, -0.05)):
        add(
            "instrument", 54 + 0.7 * n, turn=0.12 * (n - 2.5), kelvin=2856.0, believed=2950.0,
            shutter=1 / 8, ev=drift, upright=True,
        )  # fmt: skip
    window = ((5200, 0.0), (5500, 0.1), (5900, -0.1), (6400, -0.25), (6900, -0.3), (7300, -0.45), (7500, -0.6))
    for n, (kelvin, drift) in enumerate(window):
        add(
            "bench", 130 + 6 * n, turn=0.3 * n, kelvin=float(kelvin), believed=5600.0,
            ev=drift, lens="wide", shutter=1 / 30, iso=200,
        )  # fmt: skip
    add("chart", 175, kelvin=7500.0, believed=6500.0, shutter=1 / 15, iso=200, ev=-0.2)
    for n, iso in enumerate((3200, 3200, 6400, 6400)):
        add(
            "lamp", 520 + 1.2 * n, turn=0.5 * n + 0.2, kelvin=2856.0, believed=3000.0,
            ev=-0.6 - 0.12 * n, iso=iso, shutter=1 / 60,
        )  # fmt: skip
    return shots


def _make(job: tuple[Exposure, str]) -> str:
    shot, path = job
    write_whole(Path(path), take(shot), replace=True)
    return shot.name


def make_shoot(into: Path, shots: list[Exposure] | None = None) -> None:
    """Write the frames that are missing, two at a time, with progress on the terminal.

    The last six lie on the simulated card (DCIM/100ALDER), the others in the shoot's folder.
    """
    shots = shots or frames()
    photos, card = into / "shoot", into / "card" / "DCIM" / "100ALDER"
    mark = into / "truth.json"
    truth = {"version": VERSION, "frames": [s.truth() for s in shots]}
    text = json.dumps(truth, indent=1)
    fresh = mark.exists() and mark.read_text() == text
    jobs = []
    for index, shot in enumerate(shots):
        folder = card if index >= len(shots) - 5 else photos
        if not (fresh and (folder / shot.name).exists()):
            jobs.append((shot, str(folder / shot.name)))
    (into / "out").mkdir(parents=True, exist_ok=True)
    if not jobs:
        return
    print(f"The simulated camera takes {len(jobs)} frames …", flush=True)
    with ProcessPoolExecutor(2, mp_context=get_context("spawn")) as pool:
        for done, name in enumerate(pool.map(_make, jobs), 1):
            end = "\n" if done == len(jobs) or not sys.stdout.isatty() else "\r"
            if sys.stdout.isatty() or done % 9 == 0 or done == len(jobs):
                print(f"  {done} of {len(jobs)}  {name}", end=end, flush=True)
    write_whole(mark, text.encode(), replace=True)
