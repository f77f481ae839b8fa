"""What spots cost: 200 on a 24 MP export, one more on the screen, a lead's 60 in each follower, finding, filling.

python -m bench.spots

An export of a frame of the demo, from its file on, by two threads, with and without spots; the rest as CPU time beside what is rendered
of such an export (R). All interleaved in one run.
"""

import statistics
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from bench.tools import demo_frame, export
from tanner.core.adjust.registry import defaults, develop
from tanner.core.areas.follow import features
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.render import make_plan, render, render_strips
from tanner.core.render.guide import look_of
from tanner.core.spots.apply import healed_frame
from tanner.core.spots.fill import filled
from tanner.core.spots.find import specks
from tanner.core.spots.follow import SpotLead, spots_again

SIZE, VIEW = (6000, 4000), (1600, 1067)


def some(count: int, seed: int = 1) -> dict[str, Any]:
    rng = np.random.default_rng(seed)
    found: dict[str, Any] = {}
    for n in range(count):
        start = f"spots/{n:08x}/"
        at = [[float(rng.uniform(-0.47, 0.47)), float(rng.uniform(-0.31, 0.31))]]
        found |= {
            start + "kind": "spot",
            start + "path": at,
            start + "size": float(rng.uniform(0.0008, 0.004)),
            start + "order": float(n),
        }
    return found


def clock(run: Callable[[], object]) -> float:
    began = time.process_time()
    run()
    return time.process_time() - began


def fresh(source: Source) -> Source:
    """The same frame as if it had just been opened."""
    return Source(source.facts, source.data, profiles=source.profiles, gain_maps=source.gain_maps)


def main() -> None:
    cv2.setNumThreads(1)
    with tempfile.TemporaryDirectory() as folder, ThreadPoolExecutor(2) as pool:
        path = demo_frame(Path(folder))
        _measured(path, pool)


def _measured(path: Path, pool: ThreadPoolExecutor) -> None:
    source = read(path)
    base = defaults(raw=True, lens=True) | {"light.exposure": 0.2, "light.shadows": 20.0, "detail.amount": 50.0}

    def rendered(values: dict[str, Any]) -> None:
        plan = make_plan(fresh(source), develop(values), SIZE)
        for _ in render_strips(plan):
            pass

    def shown() -> float:
        """Milliseconds to a view with one more spot, as the Bench makes it, once two have been set before it."""
        opened = fresh(source)
        for count in (200, 201, 202, 203):
            development = develop(base | some(count))
            began = time.perf_counter()
            render(opened, development, VIEW, draft=True, keep=True, pool=pool)
        return (time.perf_counter() - began) * 1000

    rendered(base)
    rows: dict[str, list[float]] = {}
    many = some(200)
    sixty = {t.id: t.parts for t in develop(some(60, 3)).listed("spots")}
    here = features(look_of(source))
    lead = SpotLead(here, None)
    rng = np.random.default_rng(2)
    picture = rng.normal(1000, 60, (700, 900, 4)).astype(np.float32)
    picture += 300 * np.sin(np.arange(900) / 30)[None, :, None]
    hole = np.zeros((700, 900), bool)
    hole[150:550, 150:750] = True
    export(path, many, pool)
    for _ in range(5):
        plain = clock(lambda: rendered(base))
        whole = export(path, {}, pool)
        told = {
            "200 spots, rendered by one thread": clock(lambda: rendered(base | many)),
            "healing 200 spots alone": clock(lambda: healed_frame(fresh(source), develop(many))),
            "60 spots laid over one follower": clock(lambda: spots_again(lead, here, sixty)),  # type: ignore[arg-type]
            "the same healed there": clock(lambda: healed_frame(fresh(source), develop(some(60, 3)))),
            "its features": clock(lambda: features(look_of(fresh(source)))),
            "specks found": clock(lambda: specks(fresh(source))),
            "600 x 400 px filled": clock(lambda: filled(picture, hole, np.zeros_like(hole))),
        }
        for name, seconds in told.items():
            rows.setdefault(name, []).append(seconds / plain)
        rows.setdefault("export with 200 spots, to one without", []).append(export(path, many, pool) / whole)
        rows.setdefault("one more of 202 on the screen, 1600 px, in ms", []).append(shown())
        rows.setdefault("R in seconds", []).append(plain)
    for name, ratios in rows.items():
        print(f"{name}: {statistics.median(ratios):.3f}")


if __name__ == "__main__":
    main()
