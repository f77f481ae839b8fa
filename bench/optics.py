"""What geometry costs at full size and at 2048 px, against R of the same run. `python -m bench.optics`, in `make bench`."""

import statistics
import tempfile
import time
from dataclasses import replace
from pathlib import Path

from bench.run import FULL, SETTINGS, SMALL, reference
from tanner.core.adjust.registry import develop
from tanner.core.raw.reader import read
from tanner.core.render import render
from tanner.jobs.delivery.tasks import develop_file
from tanner.studio.camera import take
from tanner.studio.demo import frames

NONE = {"optics.distortion": 0.0, "optics.lateral_colour": 0.0, "optics.fall_off": 0.0}
ALL = {
    "optics.distortion": 100.0, "optics.lateral_colour": 100.0, "optics.fall_off": 100.0, "perspective.vertical": 4.0,
    "crop.straighten": 1.5,
}  # fmt: skip


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        wide = next(s for s in frames() if s.scene == "workshop-1")
        path = Path(name) / "wide.dng"
        path.write_bytes(take(replace(wide, width=6000, height=4000), compress=False))
        times: dict[str, list[float]] = {}
        for turn in range(7):
            for size, spec in (("full", FULL), ("2048", SMALL)):
                for kind, values in (("none", NONE), ("all", ALL)):
                    began = time.perf_counter()
                    done = develop_file(str(path), {**SETTINGS, **values}, [spec], name, rules=False, threads=2)
                    assert "error" not in done[0], done
                    times.setdefault(f"{size} {kind}", []).append(time.perf_counter() - began)
            times.setdefault("R", []).append(reference(str(path), f"{name}/r.jpg"))
            if not turn:
                times.clear()
        t = {k: statistics.median(v) for k, v in times.items()}
        print(f"R {t['R']:.2f} s")
        for size, must in (("full", 0.15), ("2048", 0.03)):
            added = (t[f"{size} all"] - t[f"{size} none"]) / t["R"]
            print(f"all geometry at {size}: {added:+.3f} R (must {must} R); {t[f'{size} all']:.2f} s with it")
        source = read(path)
        steps = []
        for n in range(14):
            values = {**SETTINGS, **ALL, "perspective.vertical": 1 + n / 10}
            began = time.perf_counter()
            render(source, develop(values), (800, 533), keep=True)
            steps.append(time.perf_counter() - began)
        print(f"a step of a geometry control at 800 px, one thread: {statistics.median(steps[3:]) * 1000:.0f} ms")


if __name__ == "__main__":
    main()
