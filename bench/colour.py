"""What camera profiles cost: a full one in an export and in a drag, and making one. `python -m bench.colour`, in `make bench`."""

import statistics
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np

from bench.run import FULL, SETTINGS
from tanner.core.adjust.registry import develop
from tanner.core.colour.dcp import CameraProfile, HueSatTable, write_dcp
from tanner.core.colour.profile_store import PROFILE_STORE
from tanner.core.profile.make import Shot, make_profile
from tanner.core.raw.reader import read
from tanner.core.render import render
from tanner.jobs.delivery.tasks import develop_file
from tanner.studio.camera import take
from tanner.studio.demo import frames


def table(hues: int, sats: int, vals: int, srgb: bool) -> HueSatTable:
    rng = np.random.default_rng(hues)
    cells = np.empty((hues, sats, vals, 3), np.float32)
    cells[..., 0] = rng.uniform(-5, 5, cells.shape[:3])
    cells[..., 1:] = rng.uniform(0.95, 1.05, (*cells.shape[:3], 2))
    return HueSatTable(cells, srgb)


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        PROFILE_STORE.folders = [folder]
        first = replace(frames()[0], width=6000, height=4000)
        lamp, chart = folder / "lamp.dng", folder / "chart.dng"
        lamp.write_bytes(take(replace(first, scene="lamp"), compress=False))
        chart.write_bytes(take(first, compress=False))
        camera = read(lamp).camera
        full = CameraProfile(
            "full", "", (17, 21), camera.colour, camera.forward,
            hue_sat=(table(90, 30, 1, False),) * 2, look=table(36, 8, 16, True),
            curve=np.array([[0, 0], [0.1, 0.16], [0.5, 0.7], [1, 1]]),
        )  # fmt: skip
        (folder / "full.dcp").write_bytes(write_dcp(full))
        export: dict[str, list[float]] = {"matrix": [], "full": []}
        for turn in range(6):
            for key, times in export.items():
                began = time.perf_counter()
                done = develop_file(
                    str(lamp), {**SETTINGS, "profile.camera": key}, [FULL], name, rules=False, threads=2
                )
                assert "error" not in done[0], done
                if turn:
                    times.append(time.perf_counter() - began)
        plain, with_tables = (statistics.median(export[k]) for k in ("matrix", "full"))
        print(f"a full profile adds {(with_tables / plain - 1) * 100:.0f} % to the export of 24 MP (must 15 %)")
        source = read(lamp)
        drag = {}
        for key in ("matrix", "full"):
            times = []
            for n in range(12):
                values = {**SETTINGS, "profile.camera": key, "light.exposure": 0.1 + n / 100}
                began = time.perf_counter()
                render(source, develop(values), (800, 533), keep=True)
                times.append(time.perf_counter() - began)
            drag[key] = statistics.median(times[2:])
        print(
            f"a drag step at 800 px, one thread: {drag['matrix'] * 1000:.0f} ms plain, {drag['full'] * 1000:.0f} ms with it"
        )
        began = time.perf_counter()
        made = make_profile([Shot(read(chart), "D55")], "x", table=True)
        seconds = time.perf_counter() - began
        print(f"a profile from a 24 MP chart shot, found, fitted and reported: {seconds:.1f} s (must 5 s)")
        print(f"  its chart: {made.report['lights'][0]['after']}")


if __name__ == "__main__":
    main()
