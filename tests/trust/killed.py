"""A program that does one kind of work over and over until it is killed: `python killed.py DATA KIND PHOTOS [CARD]`."""

import sys
import time
from pathlib import Path

from sqlalchemy import select

from tanner.catalogue.development import set_values
from tanner.catalogue.models import Frame
from tanner.catalogue.resolver import Resolver
from tanner.catalogue.sidecars import sidecar_of, write
from tanner.catalogue.store import Catalogue
from tanner.jobs.bring_in.imports import import_now
from tanner.jobs.denoise.denoising import CopyOptions, Denoising
from tanner.jobs.match.matching import Matching, Reference
from tanner.jobs.merge.merging import Merges
from tanner.jobs.workers import Workers


def waited(done: object) -> None:
    while not done():  # type: ignore[operator]
        time.sleep(0.01)


def frames_of(catalogue: Catalogue) -> tuple[list[Frame], Resolver]:
    with catalogue.read() as session:
        return list(session.scalars(select(Frame).order_by(Frame.name))), Resolver(session, 1)


def work(data: Path, kind: str, photos: Path, card: Path) -> None:
    if kind == "import":
        print("started", flush=True)
        import_now(data, "Spring", sorted(card.iterdir()), photos, [])
        return
    catalogue = Catalogue(data)
    frames, resolver = frames_of(catalogue)
    if kind == "copies":
        denoising = Denoising(catalogue)
        job = denoising.copies(frames[:3], CopyOptions(method="quick"))
        print("started", flush=True)
        waited(lambda: job.over)
    elif kind == "join":
        merges = Merges(catalogue)
        merge = merges.start(frames[:3], "focus")
        print("started", flush=True)
        waited(lambda: merge.state != "working")
    elif kind == "match":
        matching = Matching(catalogue, Workers(2))
        start = Reference(frames[0].path, resolver.resolve(frames[0]).values)
        match = matching.start(start, frames[0].name, frames[1:], resolver, "both")
        print("started", flush=True)
        waited(lambda: match.over)
    elif kind == "sidecars":
        print("started", flush=True)
        for n in range(100_000):
            with catalogue.write() as session:
                resolver = Resolver(session, 1)
                own = list(session.scalars(select(Frame).order_by(Frame.name)))
                set_values(session, resolver, own, {"light.exposure": round(n % 300 / 100, 2)})
                for frame in own:
                    done = write(frame, sidecar_of(resolver, frame))
                    frame.sidecar = done.mark or frame.sidecar


if __name__ == "__main__":
    work(Path(sys.argv[1]), sys.argv[2], Path(sys.argv[3]), Path(sys.argv[4]))
    print("over", flush=True)
