"""Deliveries: the durable job, pause and resume without doing anything twice, checks afterwards, the record."""

import logging
import threading
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from typing import Any

from sqlalchemy import insert, select
from sqlalchemy.orm import Session, defer

from tanner.catalogue.captions import written_captions
from tanner.catalogue.models import WITH_GONE, Delivery, DeliveryItem, Frame, FrameSet, Shoot, now
from tanner.catalogue.originals import trouble_of
from tanner.catalogue.store import Catalogue
from tanner.core.errors import TannerError
from tanner.core.output.files import sweep
from tanner.core.output.spec import OutputSpec
from tanner.jobs.cluster import Cluster
from tanner.jobs.delivery.checking import WrittenChecks
from tanner.jobs.delivery.documents import Documents, write_asked_for
from tanner.jobs.delivery.journal import alone, lines_of, nobody_at, placed
from tanner.jobs.delivery.pace import METHOD, OF_WORK, work_of
from tanner.jobs.delivery.planning import DeliveryPlan, tokens_of
from tanner.jobs.delivery.progress import Progress
from tanner.jobs.delivery.tasks import develop_file
from tanner.jobs.workers import Workers

log = logging.getLogger(__name__)


class Deliveries:
    """Runs deliveries from the catalogue's queue, one at a time, each raw decoded and developed once for all its specs.

    Right before a file is put in place its worker notes path and checksum in the delivery's journal. What an ended program
    left open is settled by it: a file that is there with that checksum is done, anything else is made again.
    """

    def __init__(self, catalogue: Catalogue, workers: Workers | Cluster) -> None:
        self._catalogue, self._workers = catalogue, workers
        self._journals = catalogue.folder / "deliveries"
        self._queue = ThreadPoolExecutor(1, thread_name_prefix="delivery")
        self._stop: dict[int, threading.Event] = {}
        self._closing = False
        self.progress = Progress(catalogue)
        self.checks = WrittenChecks(catalogue)

    def create(
        self,
        shoot_id: int,
        frames: Sequence[int],
        specs: Sequence[OutputSpec],
        folder: Path,
        *,
        text: str = "",
        start: int = 1,
        documents: Documents | None = None,
        queue: bool = True,
    ) -> int:
        """Record a delivery and queue it.

        Args:
            text, start: for the names' tokens; documents: what is written beside the files once all are done.
            queue: start it; without, `extend` adds frames first.
        """
        if not specs:
            raise TannerError("Choose at least one output spec.")
        with self._catalogue.write() as session:
            chosen = _frames(session, shoot_id, frames)
            if not chosen and queue:
                raise TannerError("Choose at least one frame.")
            options: dict[str, Any] = {"text": text, "start": start}
            if documents and documents.any:
                options["documents"] = documents.model_dump()
            delivery = Delivery(
                shoot_id=shoot_id, folder=str(folder), specs=[s.model_dump() for s in specs], options=options
            )
            session.add(delivery)
            session.flush()
            self._add(session, delivery, chosen)
            number = delivery.id
        with suppress(OSError):  # its files will tell why
            folder.mkdir(parents=True, exist_ok=True)
        if queue:
            self.enqueue(number)
        return number

    def extend(self, delivery_id: int, frames: Sequence[int]) -> int:
        """Add frames to a delivery and go on with it; how many files that are."""
        with self._catalogue.write() as session:
            delivery = session.get(Delivery, delivery_id)
            if delivery is None:
                raise TannerError("This delivery is no longer there.")
            chosen = _frames(session, delivery.shoot_id, frames)
            count = self._add(session, delivery, chosen)
        self.enqueue(delivery_id)
        return count

    def _add(self, session: Session, delivery: Delivery, frames: Sequence[Frame]) -> int:
        specs = [OutputSpec(**s) for s in delivery.specs]
        query = select(DeliveryItem.target, DeliveryItem.number).where(DeliveryItem.delivery_id == delivery.id)
        earlier = list(session.execute(query))
        start = max((n for _, n in earlier), default=int(delivery.options.get("start", 1)) - 1) + 1
        rows = DeliveryPlan(
            session, delivery.shoot_id, Path(delivery.folder), str(delivery.options.get("text", "")), start,
            [t for t, _ in earlier],
        ).rows(frames, specs)  # fmt: skip
        keys = ("spec", "number", "target", "settings", "width", "height")
        items = [{"delivery_id": delivery.id, "frame_id": row["frame"], **{k: row[k] for k in keys}} for row in rows]
        if items:
            session.execute(insert(DeliveryItem), items)
        return len(rows)

    def enqueue(self, delivery_id: int) -> None:
        """Start or resume: whatever is not done is done now; failed files are tried again."""
        with self._catalogue.write() as session:
            delivery = session.get(Delivery, delivery_id)
            if delivery is None:
                raise TannerError("This delivery is no longer there.")
            stop = self._stop.get(delivery_id)
            if delivery.state == "running" and stop is not None and not stop.is_set():
                delivery.options = {**delivery.options, "more": True}  # its run looks again before it ends
                return
            delivery.state = "waiting"
            self._open_again(session, delivery_id)
        self._stop[delivery_id] = threading.Event()
        self._queue.submit(self._guarded, delivery_id)

    def _open_again(self, session: Session, delivery_id: int) -> None:
        """What failed or was given up waits again."""
        query = select(DeliveryItem).where(
            DeliveryItem.delivery_id == delivery_id, DeliveryItem.state.in_(("failed", "cancelled"))
        )
        for item in session.scalars(query):
            item.state, item.message = "waiting", ""

    def _settle(self, delivery_id: int) -> None:
        """What an ended program left open: the file is there whole (then it is done), or it is made again.

        Nobody writes files of the delivery meanwhile: see `alone` and `nobody_at`.
        """
        journal = self._journal(delivery_id)
        if not journal.exists():
            return  # nothing of it was ever under way
        said = lines_of(journal)
        with self.progress.changing(delivery_id) as (session, changed):
            query = select(DeliveryItem).where(
                DeliveryItem.delivery_id == delivery_id, DeliveryItem.state.in_(("running", "waiting"))
            )
            for item in session.scalars(query):
                line = placed(said, item.id, Path(item.target).parent)
                if line:
                    item.state, item.target, item.message = "done", line["path"], ""
                    item.bytes, item.content = line["bytes"], line["content"]
                    changed.append(item.id)
                elif item.state == "running":
                    item.state = "waiting"
        self._clear_away(delivery_id)

    def _clear_away(self, delivery_id: int) -> None:
        """What a killed process of the delivery left half-written in its folders."""
        with self._catalogue.read() as session:
            targets = select(DeliveryItem.target).where(DeliveryItem.delivery_id == delivery_id)
            folders = {Path(t).parent for t in session.scalars(targets)}
        for folder in folders:
            sweep(folder, f"{delivery_id}-")

    def _journal(self, delivery_id: int) -> Path:
        return self._journals / f"{delivery_id}.jsonl"

    def pause(self, delivery_id: int) -> None:
        """Stop after the files that are being written; it can go on later, also after a restart."""
        self._end(delivery_id, "paused")

    def cancel(self, delivery_id: int) -> None:
        """Stop for good: files that are written stay, the others are given up."""
        self._end(delivery_id, "cancelled")

    def _end(self, delivery_id: int, state: str) -> None:
        with self.progress.changing(delivery_id) as (session, changed):
            delivery = session.get(Delivery, delivery_id)
            if delivery is None:
                raise TannerError("This delivery is no longer there.")
            if delivery.state in ("waiting", "running", "paused"):
                delivery.state = state
                if state == "cancelled":
                    changed += self._give_up(session, delivery_id)
        if delivery_id in self._stop:
            self._stop[delivery_id].set()

    def _waiting(self, delivery_id: int) -> Any:
        return select(DeliveryItem.id).where(DeliveryItem.delivery_id == delivery_id, DeliveryItem.state == "waiting")

    def _give_up(self, session: Session, delivery_id: int) -> list[int]:
        query = select(DeliveryItem).where(DeliveryItem.delivery_id == delivery_id, DeliveryItem.state == "waiting")
        items = list(session.scalars(query))
        for item in items:
            item.state = "cancelled"
        return [item.id for item in items]

    def resume_interrupted(self) -> list[int]:
        """After a start: deliveries that were under way when the program ended go on."""
        with self._catalogue.read() as session:
            query = select(Delivery.id).where(Delivery.state.in_(("waiting", "running")))
            found = list(session.scalars(query))
        for number in found:
            self.enqueue(number)
        return found

    def _guarded(self, delivery_id: int) -> None:
        try:
            self._run(delivery_id)
        except Exception:
            log.exception("delivery %d", delivery_id)
            with self._catalogue.write() as session:
                delivery = session.get(Delivery, delivery_id)
                if delivery and delivery.state == "running":
                    delivery.state = "paused"
        finally:
            self._catalogue.news.tell("work")

    def _run(self, delivery_id: int) -> None:
        """Write every file of a delivery that is not written yet."""
        stop = self._stop[delivery_id]
        with alone(self._journals / f"{delivery_id}.lock") as nobody_else:
            if not nobody_else:
                return  # another program of this catalogue writes it already
            nobody_at(Path(f"{self._journal(delivery_id)}.busy"))
            self._settle(delivery_id)
            while self._round(delivery_id, stop):
                pass
            self._clear_away(delivery_id)  # a process may have been killed meanwhile
        if self._closing:
            return  # the state stays "running": the next start goes on
        if not stop.is_set():
            write_asked_for(self._catalogue, delivery_id, self._workers)
        with self.progress.changing(delivery_id) as (session, changed):
            delivery = session.get(Delivery, delivery_id)
            # A run that was stopped and ends late has no say once the delivery goes on.
            if delivery and self._stop.get(delivery_id) is stop:
                if not stop.is_set():
                    late = session.scalar(self._waiting(delivery_id).limit(1))  # added at the last moment
                    delivery.state = "waiting" if late else "done"
                    if late:
                        self._queue.submit(self._guarded, delivery_id)
                elif delivery.state == "cancelled":
                    changed += self._give_up(session, delivery_id)

    def _round(self, delivery_id: int, stop: threading.Event) -> bool:
        """Write what waits now; whether more was added meanwhile."""
        with self._catalogue.write() as session:
            delivery = session.get(Delivery, delivery_id)
            if delivery is None or stop.is_set() or self._closing:
                return False
            delivery.state = "running"
            delivery.options = {k: v for k, v in delivery.options.items() if k != "more"}
            specs = list(delivery.specs)
            query = (
                select(DeliveryItem.frame_id, DeliveryItem.id, *OF_WORK)
                .join(Frame, Frame.id == DeliveryItem.frame_id)
                .where(DeliveryItem.delivery_id == delivery_id, DeliveryItem.state == "waiting")
            )
            frames: dict[int, list[int]] = {}
            work: dict[int, tuple[tuple[int, int], list[tuple[int, int]], str | None]] = {}
            for frame_id, item_id, w, h, fw, fh, method in session.execute(query.order_by(DeliveryItem.id)):
                frames.setdefault(frame_id, []).append(item_id)
                work.setdefault(frame_id, ((fw, fh), [], method))[1].append((w, h))
            rest = sum(work_of(*of_frame) for of_frame in work.values())
            text, folder = str(delivery.options.get("text", "")), Path(delivery.folder)
        self.progress.begins(delivery_id, rest)

        def one(entry: tuple[int, list[int]]) -> None:
            if not stop.is_set() and not self._closing:
                self._write_frame(delivery_id, entry[0], entry[1], specs, text, folder)

        with ThreadPoolExecutor(self._workers.processes) as pool:
            list(pool.map(one, frames.items()))
        with self._catalogue.read() as session:
            delivery = session.get(Delivery, delivery_id)
            return delivery is not None and bool(delivery.options.get("more"))

    def _write_frame(
        self,
        delivery_id: int,
        frame_id: int,
        item_ids: list[int],
        specs: list[dict[str, Any]],
        text: str,
        folder: Path,
    ) -> None:
        """All waiting files of one frame in one pass."""
        with self.progress.changing(delivery_id) as (session, changed):
            # A frame that was taken out meanwhile is written all the same: it was asked for.
            frame = session.get(Frame, frame_id, execution_options=WITH_GONE)
            items = [i for i in (session.get(DeliveryItem, n) for n in item_ids) if i]
            for item in items:
                item.state, item.started = "running", now()
                changed.append(item.id)
            if frame is None or not items:
                return
            shoot = session.get_one(Shoot, frame.shoot_id)
            group = session.get(FrameSet, frame.set_id) if frame.set_id else None
            path, size, content = frame.path, (frame.width, frame.height), frame.content
            damage = frame.seen.get("damage", "")
            captions = written_captions(session, shoot, frame)
            tokens = tokens_of(frame, items[0].number, shoot.name, group.name if group else "", text)
        try:
            if not folder.is_dir():
                # Made anew it would lie on another disk, under the place where the drive was.
                raise TannerError(f"{folder}: is no longer there. Is the drive connected?")
            # By content, whatever its size and time say: this is what goes out.
            trouble, _ = trouble_of(Path(path), content)
            if trouble:
                raise TannerError(trouble)
            results = self._workers.submit(
                develop_file,
                path,
                items[0].settings,
                [specs[i.spec] for i in items],
                "",
                rules=False,
                captions=captions,
                tokens=tokens,
                targets=[i.target for i in items],
                within=str(folder),
                journal=(str(self._journal(delivery_id)), [i.id for i in items]),
            ).result()
            for result in results:
                if damage and damage not in result.get("warnings", [damage]):
                    result["warnings"].append(damage)
        except Exception as error:
            if self._closing:
                return
            results = [{"error": str(error)}] * len(items)
            self._some_placed(delivery_id, item_ids, results)
        with self.progress.changing(delivery_id) as (session, changed):
            for number, result in zip(item_ids, results, strict=True):
                entry = session.get(DeliveryItem, number)
                if entry is not None:
                    _note(entry, result)
                    changed.append(number)
        written = [(i.width, i.height) for i in items]
        self.progress.done(delivery_id, work_of(size, written, items[0].settings.get(METHOD)))

    def _some_placed(self, delivery_id: int, item_ids: Sequence[int], results: list[dict[str, Any]]) -> None:
        """A worker that died had perhaps put some of its files in place already."""
        said = lines_of(self._journal(delivery_id))
        for index, number in enumerate(item_ids):
            with self._catalogue.read() as session:
                item = session.get_one(DeliveryItem, number)
                size, folder = {"width": item.width, "height": item.height}, Path(item.target).parent
            line = placed(said, number, folder)
            if line:
                results[index] = {**line, **size, "seconds": 0.0, "warnings": [], "skipped": False}

    def wait(self) -> None:
        """Until everything that is queued now is written."""
        self._queue.submit(lambda: None).result()

    def close(self) -> None:
        self._closing = True
        self.checks.close()
        for event in self._stop.values():
            event.set()
        self._queue.shutdown(wait=False, cancel_futures=True)


def _note(entry: DeliveryItem, result: Mapping[str, Any]) -> None:
    """Keep what became of a file."""
    if "error" in result:
        entry.state, entry.message = "failed", str(result["error"])
        return
    entry.state = "skipped" if result["skipped"] else "done"
    entry.target, entry.message = str(result["path"]), "; ".join(result["warnings"])
    if not result["skipped"]:
        entry.width, entry.height = result["width"], result["height"]
        entry.bytes, entry.content = result["bytes"], result["content"]
        entry.seconds = result["seconds"]


def _frames(session: Session, shoot_id: int, ids: Sequence[int]) -> list[Frame]:
    """Frames of a shoot in the order that was asked for; what likeness is told by is not read."""
    found: dict[int, Frame] = {}
    for at in range(0, len(ids), 500):
        query = select(Frame).where(Frame.id.in_(ids[at : at + 500]), Frame.shoot_id == shoot_id)
        found |= {f.id: f for f in session.scalars(query.options(defer(Frame.descriptor)))}
    return [found[i] for i in dict.fromkeys(ids) if i in found]
