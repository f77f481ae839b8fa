"""Deliveries: the table before, the durable job, resume without doing anything twice, the record."""

import threading
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from tanner.catalogue.development import Resolver
from tanner.catalogue.models import Delivery, DeliveryItem, Frame, Shoot, now
from tanner.catalogue.store import Catalogue
from tanner.core.adjust.registry import Development, develop
from tanner.core.errors import TannerError
from tanner.core.optics.crop import Crop
from tanner.core.optics.geometry import kept_size
from tanner.core.optics.view import orientation_of
from tanner.core.output.develop import target_path
from tanner.core.output.files import file_hash, free_name
from tanner.core.output.sizing import output_size, parse_size
from tanner.core.output.spec import OutputSpec
from tanner.jobs.tasks import develop_file
from tanner.jobs.workers import Workers


def planned_size(frame: Frame, development: Development, spec: OutputSpec) -> tuple[int, int]:
    """The size in px that will be written, from facts alone."""
    facts = frame.facts
    crop = development.group(Crop)
    orientation = orientation_of(facts["orientation"], crop)
    kept = kept_size((facts["width"], facts["height"]), orientation, crop)
    return output_size(parse_size(spec.size), *kept)


def plan(
    session: Session, shoot_id: int, frames: Sequence[Frame], specs: Sequence[OutputSpec], folder: Path
) -> list[dict[str, Any]]:
    """What a delivery would write, row by row; two files never get the same name.

    Returns:
        Per frame and spec: frame, name, spec (index), target, width, height, settings, notes (what to
        know before: a taken name, an enlargement, a frame that is to be dropped, trouble with the file).
    """
    resolver = Resolver(session, shoot_id)
    taken: set[Path] = set()
    rows: list[dict[str, Any]] = []
    for number, frame in enumerate(frames, 1):
        values = resolver.resolve(frame).values
        development = develop(values)
        group = resolver.sets.get(frame.set_id or 0)
        for index, spec in enumerate(specs):
            size = planned_size(frame, development, spec)
            target = target_path(
                folder,
                spec,
                Path(frame.name).stem,
                size,
                taken=frame.taken,
                number=number,
                shoot=resolver.shoot.name,
                group=group.name if group else "",
                stars=frame.stars,
            )
            notes: list[str] = []
            if target.exists():
                notes.append(
                    {
                        "number": "name taken: gets a number",
                        "skip": "name taken: left out",
                        "replace": "replaces the file that is there",
                    }[spec.exists]
                )
            if target in taken or (target.exists() and spec.exists == "number"):
                if target in taken:
                    notes.append("same name as another row: gets a number")
                target = free_name(target, taken)
            taken.add(target)
            if frame.verdict == "drop":
                notes.append("marked drop")
            if frame.error:
                notes.append(frame.error)
            elif not Path(frame.path).exists():
                notes.append("the original is not there. Is the drive connected?")
            if parse_size(spec.size).kind == "percent" and parse_size(spec.size).first > 100:
                notes.append("enlarges")
            rows.append(
                {
                    "frame": frame.id,
                    "name": frame.name,
                    "spec": index,
                    "number": number,
                    "target": str(target),
                    "width": size[0],
                    "height": size[1],
                    "settings": values,
                    "notes": notes,
                }
            )
    return rows


class Deliveries:
    """Runs deliveries from the catalogue's queue, one at a time, each raw decoded once for all its specs."""

    def __init__(self, catalogue: Catalogue, workers: Workers) -> None:
        self._catalogue, self._workers = catalogue, workers
        self._queue = ThreadPoolExecutor(1, thread_name_prefix="delivery")
        self._stop: dict[int, threading.Event] = {}
        self._closing = False

    def create(self, shoot_id: int, frames: Sequence[int], specs: Sequence[OutputSpec], folder: Path) -> int:
        """Record a delivery and queue it."""
        if not specs:
            raise TannerError("Choose at least one output spec.")
        with self._catalogue.write() as session:
            chosen = [f for f in (session.get(Frame, i) for i in frames) if f and f.shoot_id == shoot_id]
            if not chosen:
                raise TannerError("Choose at least one frame.")
            delivery = Delivery(shoot_id=shoot_id, folder=str(folder), specs=[s.model_dump() for s in specs])
            session.add(delivery)
            session.flush()
            for row in plan(session, shoot_id, chosen, specs, folder):
                session.add(
                    DeliveryItem(
                        delivery_id=delivery.id,
                        frame_id=row["frame"],
                        spec=row["spec"],
                        number=row["number"],
                        target=row["target"],
                        settings=row["settings"],
                        width=row["width"],
                        height=row["height"],
                    )
                )
            number = delivery.id
        self.enqueue(number)
        return number

    def enqueue(self, delivery_id: int) -> None:
        """Start or resume: whatever is not done is done now; failed files are tried again."""
        with self._catalogue.write() as session:
            delivery = session.get(Delivery, delivery_id)
            if delivery is None:
                raise TannerError("This delivery is no longer there.")
            if delivery.state == "running" and delivery_id in self._stop:
                return
            delivery.state = "waiting"
            self._settle_interrupted(session, delivery_id)
        self._stop[delivery_id] = threading.Event()
        self._queue.submit(self.run, delivery_id)

    def _settle_interrupted(self, session: Session, delivery_id: int) -> None:
        """Items that an ended program left: the file is there whole (then it is done), or is not there."""
        query = select(DeliveryItem).where(
            DeliveryItem.delivery_id == delivery_id, DeliveryItem.state.in_(("running", "failed"))
        )
        for item in session.scalars(query):
            target = Path(item.target)
            began = item.started.replace(tzinfo=UTC).timestamp() - 1 if item.started else 0.0
            ours = item.state == "running" and target.exists() and target.stat().st_mtime >= began
            if ours:
                item.state, item.bytes = "done", target.stat().st_size
                item.content, item.message = file_hash(target), ""
            else:
                item.state, item.message = "waiting", ""

    def stop(self, delivery_id: int) -> None:
        """Stop after the files that are being written; nothing is left half-written."""
        with self._catalogue.write() as session:
            delivery = session.get(Delivery, delivery_id)
            if delivery and delivery.state in ("waiting", "running"):
                delivery.state = "stopped"
        if delivery_id in self._stop:
            self._stop[delivery_id].set()

    def resume_interrupted(self) -> list[int]:
        """After a start: deliveries that were under way when the program ended go on."""
        with self._catalogue.read() as session:
            query = select(Delivery.id).where(Delivery.state.in_(("waiting", "running")))
            found = list(session.scalars(query))
        for number in found:
            self.enqueue(number)
        return found

    def run(self, delivery_id: int) -> None:
        """Write every file of a delivery that is not written yet."""
        stop = self._stop[delivery_id]
        with self._catalogue.write() as session:
            delivery = session.get(Delivery, delivery_id)
            if delivery is None or stop.is_set() or self._closing:
                return
            delivery.state = "running"
            specs = list(delivery.specs)
            shoot = session.get(Shoot, delivery.shoot_id)
            query = select(DeliveryItem).where(DeliveryItem.delivery_id == delivery_id, DeliveryItem.state == "waiting")
            frames: dict[int, list[int]] = {}
            for item in session.scalars(query.order_by(DeliveryItem.id)):
                frames.setdefault(item.frame_id, []).append(item.id)
        words = {"creator": shoot.creator, "rights": shoot.rights} if shoot else {}

        def one(entry: tuple[int, list[int]]) -> None:
            if not stop.is_set() and not self._closing:
                self._write_frame(entry[0], entry[1], specs, words)

        with ThreadPoolExecutor(self._workers.lanes) as pool:
            list(pool.map(one, frames.items()))
        if self._closing:
            return  # the state stays "running": the next start goes on
        with self._catalogue.write() as session:
            delivery = session.get(Delivery, delivery_id)
            # A run that was stopped and ends late has no say once the delivery goes on.
            if delivery and self._stop.get(delivery_id) is stop:
                delivery.state = "stopped" if stop.is_set() else "done"

    def _write_frame(
        self, frame_id: int, item_ids: list[int], specs: list[dict[str, Any]], words: dict[str, Any]
    ) -> None:
        """All waiting files of one frame in one pass."""
        with self._catalogue.write() as session:
            frame = session.get(Frame, frame_id)
            items = [i for i in (session.get(DeliveryItem, n) for n in item_ids) if i]
            for item in items:
                item.state, item.started = "running", now()
            if frame is None:
                return
            path, keywords, stars = frame.path, tuple(frame.keywords), frame.stars
        try:
            results = self._workers.submit(
                develop_file,
                path,
                items[0].settings,
                [specs[i.spec] for i in items],
                "",
                rules=False,
                words={**words, "keywords": keywords, "stars": stars},
                targets=[i.target for i in items],
            ).result()
        except Exception as error:
            if self._closing:
                return
            results = [{"error": str(error)}] * len(items)
        for result in results:
            if "error" not in result and not result["skipped"]:
                result["content"] = file_hash(Path(result["path"]))
        with self._catalogue.write() as session:
            for number, result in zip(item_ids, results, strict=True):
                entry = session.get(DeliveryItem, number)
                if entry is None:
                    continue
                if "error" in result:
                    entry.state, entry.message = "failed", result["error"]
                    continue
                entry.state = "skipped" if result["skipped"] else "done"
                entry.target, entry.message = result["path"], "; ".join(result["warnings"])
                if not result["skipped"]:
                    entry.width, entry.height = result["width"], result["height"]
                    entry.bytes, entry.content = result["bytes"], result["content"]
                    entry.seconds = result["seconds"]

    def wait(self) -> None:
        """Until everything that is queued now is written."""
        self._queue.submit(lambda: None).result()

    def close(self) -> None:
        self._closing = True
        for event in self._stop.values():
            event.set()
        self._queue.shutdown(wait=False, cancel_futures=True)


def record_of(session: Session, delivery: Delivery) -> dict[str, Any]:
    """The record of a delivery: what was written where, from what, with checksums."""
    query = (
        select(DeliveryItem, Frame.name)
        .join(Frame, Frame.id == DeliveryItem.frame_id)
        .where(DeliveryItem.delivery_id == delivery.id)
        .order_by(DeliveryItem.id)
    )
    items = []
    for item, name in session.execute(query):
        items.append(
            {
                "id": item.id,
                "frame": item.frame_id,
                "original": name,
                "spec": item.spec,
                "path": item.target,
                "state": item.state,
                "width": item.width,
                "height": item.height,
                "bytes": item.bytes,
                "sha256": item.content,
                "seconds": item.seconds,
                "message": item.message,
            }
        )
    return {
        "delivery": delivery.id,
        "created": delivery.created.isoformat(),
        "folder": delivery.folder,
        "state": delivery.state,
        "specs": delivery.specs,
        "total": len(items),
        "done": sum(i["state"] in ("done", "skipped", "failed") for i in items),
        "items": items,
    }
