"""What the pages work with: one object that holds the catalogue, the jobs and the viewer."""

import threading
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from tanner.catalogue.library import Library
from tanner.catalogue.lock import FolderLock
from tanner.catalogue.search.counts import Counts
from tanner.catalogue.store import Catalogue
from tanner.core.colour.dcp import CameraProfile
from tanner.core.colour.profile_store import PROFILE_STORE
from tanner.core.limits import limits
from tanner.core.limits import take as take_limits
from tanner.core.noise.kept import KEPT
from tanner.core.noise.table import TABLE
from tanner.core.small import SMALL
from tanner.jobs.areas.following import Following
from tanner.jobs.areas.retouch import Retouch
from tanner.jobs.bring_in.imports import Importer
from tanner.jobs.bring_in.watching import Watching
from tanner.jobs.care import Care
from tanner.jobs.checking import Checks
from tanner.jobs.cluster import Cluster
from tanner.jobs.delivery.deliveries import Deliveries
from tanner.jobs.delivery.tasks import ready_to_deliver
from tanner.jobs.denoise.denoising import Denoising
from tanner.jobs.hinting import Hinting
from tanner.jobs.making import Making, ShootPlan
from tanner.jobs.match.lineups import LineUps
from tanner.jobs.match.matching import Matching
from tanner.jobs.merge.merging import Merges
from tanner.jobs.pictures import Pictures
from tanner.jobs.recent import RecentJobs
from tanner.jobs.sidecars import Sidecars
from tanner.jobs.tasks import ready
from tanner.jobs.workers import Workers
from tanner.web.serving.folders import Folders
from tanner.web.serving.guard import token_of
from tanner.web.serving.row_changes import RowChanges
from tanner.web.viewer.viewer import Viewer


class MadeBehind(NamedTuple):
    number: int
    profile: CameraProfile
    report: dict[str, Any]


class MadeProof(NamedTuple):
    number: int
    data: bytes
    kind: str


class Services:
    """Everything behind the pages, for one data folder.

    Args:
        processes: processes of this machine for each kind of work.
        dask: address of a Dask cluster that writes deliveries and takes noise out of many frames instead; mapping: folders as called here and there.
        planned: plans a shoot that is made while Tanner runs.
    """

    def __init__(
        self,
        data: Path,
        folders: Sequence[Path] = (),
        processes: int = 2,
        dask: str = "",
        mapping: Sequence[tuple[str, str]] = (),
        planned: Callable[[], ShootPlan] | None = None,
    ) -> None:
        take_limits(data)
        self.lock = FolderLock(data)
        self.closing = False  # what fails from now on fails because of that
        self.catalogue = Catalogue(data)
        self.profiles = self.catalogue.profiles
        self.token = token_of(data)
        # Before the first worker starts: it takes the folders over.
        PROFILE_STORE.folders = [self.profiles.folder]
        KEPT.folder, TABLE.file, SMALL.folder = data / "quiet", data / "noise.json", data / "small"
        # Profiles that were made and may be kept, with what is told of them; and files that were made to be looked at.
        self.made: RecentJobs[MadeBehind] = RecentJobs()
        self.proofs: RecentJobs[MadeProof] = RecentJobs(3)
        self.workers = Workers(processes)
        cluster = Cluster(dask, mapping) if dask else None
        self.delivery_workers: Workers | Cluster = cluster or Workers(processes)
        self.pictures = Pictures(self.catalogue, self.workers)
        self.deliveries = Deliveries(self.catalogue, self.delivery_workers)
        self.merges = Merges(self.catalogue)
        self.denoising = Denoising(self.catalogue, cluster)
        self.matching = Matching(self.catalogue, self.workers)
        self.following = Following(self.catalogue, self.workers)
        self.retouch = Retouch(self.catalogue, self.workers)
        self.catalogue.after = self.following.consider
        self.importer = Importer(self.catalogue, self.workers, self.pictures, self.matching)
        self.watching = Watching(self.catalogue, self.importer, self.deliveries)
        self.checks = Checks(self.catalogue)
        self.sidecars = Sidecars(self.catalogue)
        self.hinting = Hinting(self.catalogue, self.workers)
        self.lineups = LineUps(self.catalogue, self.workers)
        self.row_changes = RowChanges()
        self._woken = False
        self.library = Library(data)
        self.counts = Counts()
        self.folders = Folders(folders)
        self.viewer = Viewer(self.workers)
        self.care = Care(data)
        self.making = Making(self.catalogue, self.importer, planned) if planned else None
        self.take_budgets()

    def start(self) -> None:
        """Wake the worker processes and go on with what an ended program left."""
        self.care.start()
        threading.Thread(target=self._count, daemon=True).start()
        threading.Thread(target=self.importer.finish_interrupted, daemon=True).start()
        self.deliveries.resume_interrupted()
        self.sidecars.start()
        self.watching.resume()
        for _ in range(self.workers.processes):
            self.workers.submit(ready)
        if self.making:
            self.making.start()

    def wake_deliveries(self) -> None:
        """Ready the processes that write deliveries, once, when somebody is about to ask for one."""
        if self._woken or not isinstance(self.delivery_workers, Workers):
            return
        self._woken = True
        for _ in range(self.delivery_workers.processes):
            self.delivery_workers.submit(ready_to_deliver)

    def _count(self) -> None:
        """Read what Find counts, so that the first who asks need not wait; and how much room pictures take."""
        with self.catalogue.read() as session:
            self.counts.bring_up(session)
        self.pictures.count()

    def take_budgets(self) -> None:
        """Give what is kept on disk the room that the settings say; workers that run go by it when they start anew."""
        now = limits()
        KEPT.budget, SMALL.budget = int(now.quiet_gigabytes * 1e9), int(now.blocks_gigabytes * 1e9)
        self.pictures.budget = int(now.previews_gigabytes * 1e9)

    def close(self) -> None:
        self.closing = True
        if self.making:
            self.making.close()
        self.care.close()
        self.following.close()
        self.hinting.close()
        self.watching.close()
        self.checks.close()
        self.sidecars.close()
        self.merges.close()
        self.denoising.close()
        self.deliveries.close()
        self.importer.close()
        self.pictures.close()
        self.viewer.close()
        self.workers.shutdown(wait=False, cancel_futures=True)
        self.delivery_workers.shutdown(wait=False, cancel_futures=True)
        self.catalogue.close()
        self.lock.release()
