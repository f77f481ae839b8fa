"""Brings the demo shoot in and leaves it half worked on, as in life: through the same services as a user."""

import shutil
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from tanner.catalogue.development import Resolver, record, set_offsets, set_values
from tanner.catalogue.models import Frame, FrameSet, Shoot
from tanner.catalogue.store import Catalogue
from tanner.jobs.imports import import_now
from tanner.jobs.pictures import Pictures, wish_for
from tanner.jobs.workers import Workers
from tanner.studio.demo import VERSION

NAME = "Alder & Finch, spring catalogue"
_NAMES = {
    "chart": "Chart",
    "lamp": "Blue lamp, flash",
    "instrument": "Four-string, work light",
    "bench": "Thread and tools, window",
}


def work_on(into: Path) -> None:
    """Import the shoot's folder once; a demo of an older version gets a new catalogue."""
    data = into / "data"
    mark = data / "demo-version"
    if mark.exists() and mark.read_text() == str(VERSION):
        return
    if data.exists():
        shutil.rmtree(data)
    print("Bringing the demo shoot in …", flush=True)
    job = import_now(data, NAME, sorted((into / "shoot").glob("*.DNG")), None, ["catalogue"])
    for item in job.items:
        if item.message:
            print(f"  {item.path.name}: {item.message}")
    catalogue = Catalogue(data)
    try:
        with catalogue.write() as session:
            shoot = session.scalars(select(Shoot).where(Shoot.name == NAME)).one()
            shoot.creator, shoot.rights = "Alder & Finch", "© Alder & Finch"
            resolver = Resolver(session, shoot.id)
            for group in resolver.sets.values():
                frames = list(session.scalars(select(Frame).where(Frame.set_id == group.id).order_by(Frame.taken)))
                if frames:
                    _develop(session, resolver, group, frames)
        _show(catalogue)
    finally:
        catalogue.close()
    mark.write_text(str(VERSION))


def _show(catalogue: Catalogue) -> None:
    """Make the pictures of all frames as they look now, so that the first page shows them."""
    with Workers(2) as workers:
        pictures = Pictures(catalogue, workers)
        with catalogue.read() as session:
            resolver = Resolver(session, 1)
            pictures.want([wish_for(resolver, f) for f in session.scalars(select(Frame))])
        pictures.wait()
        pictures.close()


def _develop(session: Session, resolver: Resolver, group: FrameSet, frames: list[Frame]) -> None:
    """A lead developed, a few departures, some frames decided."""
    shoot = resolver.shoot.id
    lead = frames[0]
    long = len(frames) > 2
    kind = "chart"
    if long:
        kind = {"Finch 24 mm": "bench"}.get(lead.lens, "instrument" if lead.height > lead.width else "lamp")
    light = f"{round(lead.as_shot[0], -2):.0f} K"
    record(
        session, shoot, "Set called by its subject", [(group, {"name": _NAMES[kind] if long else f"Chart, {light}"})]
    )
    if not long:
        return
    if kind == "lamp":
        look = {
            "light.exposure": 0.35,
            "light.shadows": 20,
            "light.local_contrast": 24,
            "colour.vibrance": 12,
            "detail.amount": 60,
        }
        set_values(session, resolver, [lead], look)
        set_offsets(session, resolver, [frames[4]], {"ev": 0.42})
        set_values(session, resolver, [frames[2]], {"light.shadows": 32})
    elif kind == "instrument":
        look = {
            "light.exposure": 0.25,
            "light.contrast": 14,
            "light.local_contrast": 26,
            "light.highlights": -18,
            "detail.amount": 70,
        }
        set_values(session, resolver, [lead], look)
        record(session, shoot, "verdict drop", [(frames[4], {"verdict": "drop"})])
    else:
        return
    record(session, shoot, "verdict keep", [(f, {"verdict": "keep", "stars": 3}) for f in frames[:3]])
