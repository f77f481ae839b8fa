"""What a large shoot costs: CPU and wall time of what pages ask and of changes to many frames, each the best of three.

python -m bench.scale [FRAMES]
"""

import sys
import tempfile
import time
from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import func, insert, select, update
from sqlalchemy.orm import Session

from bench.browser import paged, served
from tanner.catalogue.development import carry, set_each_offset, set_values
from tanner.catalogue.models import Facet, Frame, FrameSet, Shoot
from tanner.catalogue.resolver import Resolver
from tanner.catalogue.search.find import condition, loaded, ordered, take
from tanner.catalogue.steps import mark, undo
from tanner.catalogue.store import Catalogue
from tanner.core.noise.kept import Kept
from tanner.core.output.spec import OutputSpec
from tanner.jobs.delivery.planning import plan
from tanner.web.api.sheet import SHEET_COLUMNS, changed_rows, frame_row
from tanner.web.serving.serve import calm_collector


def made(folder: Path, frames: int) -> Catalogue:
    """One shoot in sets of 50, each with a lead that is developed; a tenth of the frames depart from theirs."""
    catalogue = Catalogue(folder)
    facts = {
        "width": 6000,
        "height": 4000,
        "orientation": 1,
        "make": "Alder",
        "model": "Alder One",
        "focal_length_mm": 55,
    }
    begin = datetime(2026, 3, 12, 9)
    with catalogue.write() as session:
        session.add(Shoot(name="Large"))
        session.flush()
        session.add_all(FrameSet(shoot_id=1, name=f"Set {n + 1}") for n in range(-(-frames // 50)))
        session.flush()
        rows = [
            {
                "shoot_id": 1, "set_id": n // 50 + 1, "path": f"/photos/A{n:06d}.DNG", "name": f"A{n:06d}.DNG", "content": f"c{n}",
                "taken": begin + timedelta(seconds=2 * n), "camera": "Alder One", "lens": "Wren 55 mm", "iso": 100, "facts": facts,
                "starting": {"profile.curve_strength": 100.0}, "as_shot": [5500.0, 0.0], "width": 6000, "height": 4000,
                "own": {"light.exposure": 0.3, "light.shadows": 20.0} if n % 50 == 0 else {"light.contrast": 5.0} if n % 10 == 3 else {},
                "offsets": {}, "descriptor": [0.1] * 192,
            }
            for n in range(frames)
        ]  # fmt: skip
        session.execute(insert(Frame), rows)
        session.execute(update(FrameSet).values(lead_id=(FrameSet.id - 1) * 50 + 1))
    return catalogue


def timed(name: str, catalogue: Catalogue, work: Callable[[Session], Any], write: bool = False) -> None:
    best = [9e9, 9e9]
    for _ in range(3):
        began, used = time.perf_counter(), time.process_time()
        with catalogue.write() if write else catalogue.read() as session:
            work(session)
        best = [min(best[0], time.process_time() - used), min(best[1], time.perf_counter() - began)]
    print(f"{name:48} {1000 * best[0]:8.0f} {1000 * best[1]:8.0f}", flush=True)


def deliver(catalogue: Catalogue, folder: Path) -> None:
    """What the page of deliveries asks: frames by an expression, and the table of what would be written."""
    specs = [
        OutputSpec(title=title, subfolder=title, size=size)
        for title, size in (("a", "long:2560"), ("b", "long:1080"), ("c", "original"))
    ]

    def table(session: Session) -> int:
        frames = take(session, 1, "", None)
        return len(plan(session, 1, frames, specs, folder))

    timed("Deliver: the filter", catalogue, lambda s: list(s.scalars(ordered(condition("keep stars>=3", shoot=1)))))
    timed("Deliver: the table, three specs", catalogue, table)


def blocks(folder: Path, files: int) -> None:
    """One more kept block in a folder of many."""
    kept = Kept()
    kept.folder = folder / "kept"
    kept.folder.mkdir()
    for n in range(files):
        (kept.folder / f"{n:024d}-x.npy").write_bytes(b"")
    original = folder / "original"
    original.write_bytes(b"x")
    data = np.zeros(16, np.float32)
    kept.keep(str(original), "first", data)
    began, used = time.perf_counter(), time.process_time()
    for n in range(500):
        kept.keep(str(original), str(n), data)
    wall, cpu = time.perf_counter() - began, time.process_time() - used
    print(f"{f'one more kept block among {files}':48} {2 * cpu:8.2f} {2 * wall:8.2f}", flush=True)


def browsed(data: Path) -> tuple[float, float]:
    """In the browser: ms until the first screenful of the Sheet, and the longest task in ms while it is scrolled through."""
    watch = """() => { window.tasks = []; new PerformanceObserver((l) => window.tasks.push(...l.getEntries().map((e) => e.duration))).observe({ entryTypes: ["longtask"] }); }"""
    first, longest = [], 0.0
    with served(data, [data], 8497) as url, paged() as page:
        for _ in range(4):
            page.goto("about:blank")
            page.goto(f"{url}/shoots/1/sheet", wait_until="commit")
            page.locator(".cell").first.wait_for()
            first.append(page.evaluate("performance.now()"))
        page.wait_for_timeout(4000)  # all of the shoot is there
        page.evaluate(watch)
        page.mouse.move(600, 400)
        for _ in range(60):
            page.mouse.wheel(0, 700)
            page.wait_for_timeout(40)
        longest = max([0.0, *page.evaluate("window.tasks")])
    return min(first[1:]), longest


def main() -> None:
    frames = int(sys.argv[1]) if len(sys.argv) > 1 else 5000
    calm_collector()  # as the server does
    with tempfile.TemporaryDirectory() as folder:
        catalogue = made(Path(folder), frames)
        print(f"{frames} frames, ms:".ljust(48), "    CPU     wall")
        turn = [0.0]

        def rows(session: Session, first: int) -> int:
            resolver = Resolver(session, 1)
            query = select(*SHEET_COLUMNS).where(Frame.shoot_id == 1).order_by(Frame.taken, Frame.name)
            return len([frame_row(resolver, r) for r in session.execute(query.limit(first) if first else query)])

        def changed(session: Session) -> int:
            query = select(*SHEET_COLUMNS).where(Frame.shoot_id == 1)
            since = session.scalars(select(func.max(Facet.tick))).one() - 1
            return len(changed_rows(session, Resolver(session, 1), query, since)[0])

        def edited(session: Session, some: int, key: str) -> None:
            turn[0] += 1.0
            chosen = list(session.scalars(select(Frame).where(Frame.shoot_id == 1).limit(some)))
            set_values(session, Resolver(session, 1), chosen, {key: turn[0]})

        def starred(session: Session) -> None:
            turn[0] += 1.0
            ids = list(session.scalars(select(Frame.id).where(Frame.shoot_id == 1)))
            mark(session, ids, "Stars", {"stars": int(turn[0]) % 6})

        def matched(session: Session) -> None:
            turn[0] += 1.0
            frames = loaded(session, range(1, 1001))
            moves = [(f, {"ev": 0.1 * turn[0], "mired": -turn[0]}) for f in frames]
            set_each_offset(session, Resolver(session, 1), moves, "Matched")

        def carried(session: Session) -> None:
            turn[0] += 1.0
            source, *others = session.scalars(select(Frame).where(Frame.shoot_id == 1).limit(1001))
            set_values(session, Resolver(session, 1), [source], {"colour.vibrance": turn[0]})
            carry(session, Resolver(session, 1), source, others, ["colour.vibrance", "light.shadows"])

        timed("Sheet: the first 240", catalogue, lambda s: rows(s, 240))
        timed("Sheet: all", catalogue, lambda s: rows(s, 0))
        with catalogue.write() as session:
            mark(session, [2], "Stars", {"stars": 3})
        timed("Sheet: what one star changed", catalogue, changed)
        timed("a lead is edited", catalogue, lambda s: edited(s, 1, "light.exposure"), write=True)
        timed("all are edited", catalogue, lambda s: edited(s, frames, "colour.saturation"), write=True)
        timed("stars on all", catalogue, starred, write=True)
        timed("carried over to 1,000", catalogue, carried, write=True)
        timed("a match of 1,000 ends", catalogue, matched, write=True)
        timed("and is undone", catalogue, lambda s: undo(s, 1), write=True)
        deliver(catalogue, Path(folder) / "out")
        blocks(Path(folder), 10_000)
        with catalogue.write() as session:
            session.execute(update(Frame).values(error="is not there."))
        catalogue.close()
        opened, longest = browsed(Path(folder))
        print(f"{'Sheet in the browser: the first screenful':48} {'':8} {opened:8.0f}")
        print(f"{'the longest task while it is scrolled':48} {'':8} {longest:8.0f}")


if __name__ == "__main__":
    main()
