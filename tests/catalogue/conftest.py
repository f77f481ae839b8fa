"""A catalogue with made-up frames: no files are read here."""

from collections.abc import Iterator
from datetime import datetime, timedelta
from pathlib import Path

import pytest
from sqlalchemy import select
from sqlalchemy.orm import Session

from tanner.catalogue.models import Frame, FrameSet, Shoot
from tanner.catalogue.store import Catalogue

STARTING = {"profile.curve_strength": 100.0}


def frame(shoot: int, number: int, group: int | None, **more: object) -> Frame:
    values: dict[str, object] = {
        "shoot_id": shoot,
        "set_id": group,
        "path": f"/photos/A{number:03d}.DNG",
        "name": f"A{number:03d}.DNG",
        "content": f"{shoot}-{number}",
        "taken": datetime(2026, 3, 12, 9) + timedelta(minutes=number),
        "facts": {
            "width": 600,
            "height": 400,
            "orientation": 1,
            "make": "Alder",
            "model": "Alder One",
            "lens": "L",
            "focal_length_mm": 55,
        },
        "starting": STARTING,
        "as_shot": [5000.0, 5.0],
        "width": 600,
        "height": 400,
    }
    return Frame(**(values | more))


@pytest.fixture
def catalogue(tmp_path: Path) -> Iterator[Catalogue]:
    """Shoot 1 with set 1 (frames 1 to 4, led by 1) and set 2 (frames 5 and 6, led by 5); shoot 2 with frame 7."""
    result = Catalogue(tmp_path / "data")
    with result.write() as session:
        session.add_all([Shoot(name="Spring"), Shoot(name="Other")])
        session.flush()
        session.add_all([FrameSet(shoot_id=1, name="One", lead_id=1), FrameSet(shoot_id=1, name="Two", lead_id=5)])
        session.add(FrameSet(shoot_id=2, name="Far", lead_id=7))
        session.flush()
        session.add_all([frame(1, n, 1 if n < 5 else 2) for n in range(1, 7)])
        session.add(frame(2, 7, 3))
    yield result
    result.close()


@pytest.fixture
def session(catalogue: Catalogue) -> Iterator[Session]:
    with catalogue.write() as session:
        yield session


def frames(session: Session, *ids: int) -> list[Frame]:
    return [session.get_one(Frame, i) for i in ids]


def own_layer(session: Session) -> dict[int, tuple[dict[str, object], dict[str, object]]]:
    return {f.id: (f.own, f.offsets) for f in session.scalars(select(Frame))}
