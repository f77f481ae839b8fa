"""Searches, counts and pages over many frames: CPU and wall time, each the best of three, on a made-up catalogue.

python -m bench.find [FRAMES]
"""

import random
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import insert
from sqlalchemy.orm import Session

from tanner.catalogue.models import LABELS, Frame, FrameSet, Shoot
from tanner.catalogue.search.counts import Counts, facets
from tanner.catalogue.search.find import condition, count, ids_of, page
from tanner.catalogue.store import Catalogue
from tanner.web.api.shoots import older_shoots, shoot_list

CAMERAS = ("Alder One", "Alder Two", "Heron 5", "Heron 6", "Finch R")
LENSES = tuple(f"{name} {mm} mm" for name in ("Wren", "Rook", "Kite") for mm in (24, 35, 50, 85, 100))
WORDS = (
    "lamp",
    "brass",
    "évening",
    "stool",
    "workbench",
    "violin",
    "strings",
    "wool",
    "moss",
    "portrait",
    "window",
    "glass",
)
SEARCHES = (
    "", "l", "lamp", "lamp ev", "violin keep stars>=3", "iso<=400 camera:alder", "keyword:brass", "taken:2023-05",
    "wide focal=50 aperture=5.6", "place:ashby", "caption:moss", "name:0012", "not delivered", "areas", "preset:warm",
    "set:lamp", "zebra", "A00012", "lamp zebra", "keep A0012", "wool moss", "shutter=1/125 not drop", "(keep or stars>=4) window",
)  # fmt: skip


def made(folder: Path, frames: int) -> Catalogue:
    """A catalogue of five years: shoots of 500 frames, sets of 25."""
    catalogue, at_random = Catalogue(folder), random.Random(1)
    with catalogue.write() as session:
        session.add_all(
            Shoot(name=f"Shoot {k} {at_random.choice(WORDS)}", words={"city": at_random.choice(["Ashby", "Northwick"])})
            for k in range(-(-frames // 500))
        )
        session.flush()
        session.add_all(
            FrameSet(shoot_id=k // 20 + 1, name=f"Set {k} {at_random.choice(WORDS)}") for k in range(-(-frames // 25))
        )
        session.flush()
        for at in range(0, frames, 5000):
            session.execute(insert(Frame), [_frame(i, at_random) for i in range(at, min(at + 5000, frames))])
    return catalogue


def _frame(i: int, at_random: random.Random) -> dict[str, Any]:
    lens = at_random.choice(LENSES)
    return {
        "shoot_id": i // 500 + 1,
        "set_id": i // 25 + 1,
        "path": f"/photos/{i // 500}/A{i:06d}.DNG",
        "name": f"A{i:06d}.DNG",
        "content": f"c{i}",
        "taken": datetime(2021, 1, 1) + timedelta(minutes=13 * i),
        "camera": at_random.choice(CAMERAS),
        "lens": lens,
        "iso": at_random.choice([100, 200, 400, 800, 1600, 3200]),
        "facts": {
            "width": 6000,
            "height": 4000,
            "orientation": 1,
            "make": "Alder",
            "focal_length_mm": float(lens.split()[1]),
            "aperture": at_random.choice([1.8, 2.8, 4, 5.6, 8, 11]),
            "exposure_s": at_random.choice([1 / 30, 1 / 60, 1 / 125, 1 / 250]),
            "colour_matrices": [[at_random.random() for _ in range(9)] for _ in range(2)],
        },
        "starting": {"profile.curve_strength": 100.0},
        "as_shot": [5000.0, 5.0],
        "descriptor": [round(at_random.random(), 3) for _ in range(192)],
        "width": 6000,
        "height": 4000 if i % 3 else 9000,
        "stars": at_random.choice([0, 0, 0, 1, 2, 3, 4, 5]),
        "verdict": at_random.choice(["keep", "drop", "undecided"]),
        "label": at_random.choice(LABELS),
        "keywords": at_random.sample(WORDS, at_random.choice([0, 0, 1, 2, 3])),
        "own": {"light.exposure": 0.5} if i % 4 == 0 else {},
        "words": {"headline": " ".join(at_random.sample(WORDS, 2))} if i % 5 == 0 else {},
    }


def _best(work: Callable[[], Any]) -> tuple[float, float, Any]:
    walls, cpus = [], []
    for _ in range(3):
        wall, cpu = time.perf_counter(), time.process_time()
        found = work()
        walls.append(time.perf_counter() - wall)
        cpus.append(time.process_time() - cpu)
    return min(walls) * 1000, min(cpus) * 1000, found


def measure(catalogue: Catalogue) -> None:
    counts = Counts()
    with catalogue.read() as session:
        begun = time.perf_counter()
        counts.bring_up(session)
        print(f"columns read once: {1000 * (time.perf_counter() - begun):.0f} ms")
        pages: list[float] = []
        for text in SEARCHES:
            wall, cpu, rows = _best(lambda t=text: page(session, t, "-taken", 0))  # type: ignore[misc]
            pages.append(wall)
            whole, _, total = _best(lambda t=text: count(session, condition(t)))  # type: ignore[misc]
            told, _, _ = _best(lambda t=text: _facets(session, counts, t))  # type: ignore[misc]
            print(
                f"{text or '(all)':32} page {wall:6.1f} ms ({cpu:6.1f} CPU, {len(rows)})   count {whole:6.1f} ms ({total})   facets {told:6.1f} ms"
            )
        print(f"page, worst of {len(pages)}: {max(pages):.0f} ms, p95 {np.percentile(pages, 95):.0f} ms")


def shoots(catalogue: Catalogue) -> None:
    """What the page of shoots asks of the catalogue."""
    with catalogue.read() as session:
        for said, work in (("newest, with counts and covers", shoot_list), ("older ones", older_shoots)):
            wall, cpu, rows = _best(lambda w=work: w(session))  # type: ignore[misc]
            print(f"shoots, {said:30} {wall:6.1f} ms ({cpu:6.1f} CPU, {len(rows)})")


def _facets(session: Session, counts: Counts, text: str) -> list[dict[str, Any]]:
    counts.bring_up(session)
    return facets(counts.of(ids_of(session, text)))


def main() -> None:
    frames = int(sys.argv[1]) if len(sys.argv) > 1 and sys.argv[1].isdigit() else 200_000
    kept = Path(sys.argv[2]) if len(sys.argv) > 2 else None
    with tempfile.TemporaryDirectory() as folder:
        catalogue = Catalogue(kept) if kept else made(Path(folder), frames)
        measure(catalogue)
        shoots(catalogue)
        catalogue.close()


if __name__ == "__main__":
    main()
