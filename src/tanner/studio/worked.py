"""Brings the demo shoot in and leaves it half worked on, as in life: through the same services as a user."""

import shutil
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from tanner.catalogue.development import add_thing, set_offsets, set_values
from tanner.catalogue.library import Library
from tanner.catalogue.models import Frame, FrameSet, Shoot
from tanner.catalogue.profiles import Rule
from tanner.catalogue.resolver import Resolver
from tanner.catalogue.sets import put_under
from tanner.catalogue.steps import record
from tanner.catalogue.store import Catalogue
from tanner.core.adjust.items import name_of
from tanner.core.areas.declare import AREAS
from tanner.core.areas.shapes import NAMES
from tanner.core.colour.dcp import read_dcp
from tanner.core.colour.profile_store import PROFILE_STORE
from tanner.jobs.bring_in.imports import import_now
from tanner.jobs.delivery.deliveries import Deliveries
from tanner.jobs.measure.tasks import made_profile
from tanner.jobs.workers import Workers
from tanner.studio.demo import VERSION, frames

WORKED = f"{VERSION}, areas found"
"""What a catalogue of the demo is of; another is made anew."""
NAME = "Alder & Finch, spring catalogue"
_NAMES = {
    "lamp": "Blue lamp, flash",
    "detail": "Threads and plate, close",
    "instrument": "Four-string, work light",
    "portraits": "{who}, by the window",
    "evening": "{who}, evening",
    "workshop": "The workshop",
    "table-top": "Lacquered case",
}
_LOOKS: dict[str, dict[str, float]] = {
    "lamp": {
        "light.exposure": 0.35,
        "light.shadows": 20,
        "light.local_contrast": 24,
        "colour.vibrance": 12,
        "detail.amount": 60,
    },
    "detail": {"light.exposure": 0.3, "light.contrast": 12, "light.local_contrast": 30, "detail.amount": 80},
    "instrument": {
        "light.exposure": 0.25,
        "light.contrast": 14,
        "light.local_contrast": 26,
        "light.highlights": -18,
        "detail.amount": 70,
    },
    "portraits": {"light.exposure": 0.4, "light.shadows": 16, "light.highlights": -12, "colour.vibrance": 8},
}


def _kind(scene: str, taken_late: bool) -> str:
    person = scene.startswith(("wren", "rowan", "both"))
    return ("evening" if taken_late else "portraits") if person else scene.rstrip("-0123456789")


def work_on(into: Path) -> None:
    """Import the shoot's folder once; a demo of an older version gets a new catalogue."""
    data = into / "data"
    mark = data / "demo-version"
    if mark.exists() and mark.read_text() == WORKED:
        return
    if data.exists():
        shutil.rmtree(data)
    print("Bringing the demo shoot in …", flush=True)
    catalogue = Catalogue(data)
    # Before the first process starts: it takes the folders over. The same two processes do all of it.
    PROFILE_STORE.folders = [catalogue.profiles.folder]
    workers = Workers(2)
    try:
        job = import_now(data, NAME, sorted((into / "shoot").glob("*.DNG")), None, ["catalogue"], workers)
        for item in job.items:
            if item.message:
                print(f"  {item.path.name}: {item.message}")
        with catalogue.write() as session:
            shoot = session.scalars(select(Shoot).where(Shoot.name == NAME)).one()
            shoot.creator, shoot.rights = "Alder & Finch", "© Alder & Finch"
            resolver = Resolver(session, shoot.id)
            scenes = {s.name: s for s in frames()}
            for group in resolver.sets.values():
                members = list(session.scalars(select(Frame).where(Frame.set_id == group.id).order_by(Frame.taken)))
                if members:
                    first = scenes[members[0].name]
                    _develop(session, resolver, group, members, first.scene, _kind(first.scene, first.taken.hour > 15))
            # The same lamp in the same light by the other camera: its set follows.
            named = {g.name: g for g in resolver.sets.values()}
            lamp = _NAMES["lamp"]
            if {lamp, f"{lamp}, second camera"} <= set(named):
                put_under(session, named[f"{lamp}, second camera"], named[lamp])
        _profiles(catalogue, into / "shoot", workers)
        _deliver(catalogue, data, into / "out", workers)
    finally:
        workers.shutdown()
        catalogue.close()
    mark.write_text(WORKED)


def _profiles(catalogue: Catalogue, photos: Path, workers: Workers) -> None:
    """A camera profile for each of the two cameras, from their chart shots under flash, and rules that use them."""
    charts = [s for s in frames() if s.scene == "colour-chart" and s.kelvin == 5500 and (photos / s.name).exists()]
    jobs = [
        workers.submit(made_profile, [str(photos / s.name)], ["D55"], [None], f"{s.camera}, flash", True, None)
        for s in charts
    ]
    made = [job.result() for job in jobs]
    rules = []
    for data, report in made:
        key = catalogue.profiles.keep(read_dcp(data), report)
        rules.append(Rule(camera=report["camera"], low=4500, high=6500, profile=key))
    catalogue.profiles.save_rules(rules)
    catalogue.touch()


def _develop(session: Session, resolver: Resolver, group: FrameSet, frames: list[Frame], scene: str, kind: str) -> None:
    """A lead developed, a few departures, some frames decided, some sets not looked at yet."""
    shoot = resolver.shoot.id
    lead = frames[0]
    named = _NAMES.get(kind) or f"Chart, {round(lead.as_shot[0], -2):.0f} K"
    name = named.format(who=scene.split("-")[0].capitalize())
    if lead.camera.endswith("Two"):
        name += ", second camera"
    record(session, shoot, "Set called by its subject", [(group, {"name": name})])
    if kind not in _LOOKS or lead.camera.endswith("Two"):
        return
    set_values(session, resolver, [lead], _LOOKS[kind])
    if kind == "lamp":
        _found_areas(session, resolver, lead, _LAMP)
        set_offsets(session, resolver, [frames[3]], {"ev": 0.42})
        set_values(session, resolver, [frames[2]], {"light.shadows": 32})
        record(session, shoot, "verdict keep", [(f, {"verdict": "keep", "stars": 3}) for f in frames])
    elif kind == "instrument":
        _areas(session, resolver, frames)
        record(session, shoot, "verdict drop", [(frames[3], {"verdict": "drop"})])
        record(session, shoot, "verdict keep", [(f, {"verdict": "keep", "stars": 4}) for f in frames[:3]])
    elif kind == "portraits":
        _found_areas(session, resolver, lead, _PORTRAIT)
        set_offsets(session, resolver, [frames[min(5, len(frames) - 1)]], {"ev": 0.3, "mired": -20})
        record(session, shoot, "verdict keep", [(f, {"verdict": "keep"}) for f in frames[:2]])
    else:
        set_values(session, resolver, [frames[-1]], {"light.local_contrast": 40})


_LAMP = {"backdrop": {"light.exposure": 0.3, "colour.saturation": -40.0}}
_PORTRAIT = {
    "backdrop": {"light.exposure": -0.35, "blur": 45.0},
    "skin": {"light.exposure": 0.12, "structure.texture": -20.0},
}


def _found_areas(session: Session, resolver: Resolver, lead: Frame, wanted: dict[str, dict[str, float]]) -> None:
    """Areas that find themselves in every frame of the set."""
    for n, (kind, values) in enumerate(wanted.items()):
        parts = {"kind": "area", "shapes": [{"kind": kind}], "tint": n}
        _, ident = add_thing(session, resolver, [lead], AREAS, NAMES[kind], parts)
        set_values(session, resolver, [lead], {name_of(AREAS.key, ident, k): v for k, v in values.items()})


def _areas(session: Session, resolver: Resolver, frames: list[Frame]) -> None:
    """The body lifted and the ground calmed on the lead; on one follower the body stands elsewhere, and its mask with it."""
    body = {"kind": "round", "at": [0.0, 0.2], "radii": [0.2, 0.22], "angle": 0.0, "softness": 0.7}
    ground = {"kind": "straight", "start": [0.0, 0.5], "end": [0.0, 0.34]}
    for name, shape, values in (
        ("Body", body, {"light.exposure": 0.45, "light.local_contrast": 20.0, "white.temperature": 12.0}),
        ("Ground", ground, {"light.exposure": -0.5, "colour.saturation": -20.0}),
    ):
        parts = {"kind": "area", "shapes": [shape]}
        _, ident = add_thing(session, resolver, [frames[0]], AREAS, name, parts)
        set_values(session, resolver, [frames[0]], {name_of(AREAS.key, ident, k): v for k, v in values.items()})
        if name == "Body":
            place = name_of(AREAS.key, ident, "place")
            set_values(session, resolver, [frames[2]], {place: [0.025, -0.01, 1.05, 4.0]}, relative=[place])


def _deliver(catalogue: Catalogue, data: Path, into: Path, workers: Workers) -> None:
    """One delivery is under way, as if Tanner had been closed meanwhile: the lamp for the web. It goes on at the next start."""
    spec = Library(data).spec("shipped/web-gallery")
    with catalogue.read() as session:
        lamp = session.scalars(select(FrameSet).where(FrameSet.name == _NAMES["lamp"])).first()
        chosen = list(session.scalars(select(Frame.id).where(Frame.set_id == lamp.id))) if lamp else []
    folder = into / "lamp for the web"
    if not chosen or folder.exists():
        return
    folder.mkdir(parents=True)
    deliveries = Deliveries(catalogue, workers)
    number = deliveries.create(1, chosen, [spec], folder, queue=False)
    deliveries.close()
    print(f"Delivery {number}, the lamp for the web, goes on when Tanner starts.", flush=True)
