"""What the pages work with: one object that holds the catalogue, the jobs and the viewer."""

import threading
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from tanner.catalogue.library import Library
from tanner.catalogue.store import Catalogue
from tanner.core.colour.dcp import CameraProfile
from tanner.core.colour.shelf import SHELF
from tanner.core.noise.kept import KEPT
from tanner.core.noise.table import TABLE
from tanner.core.small import SMALL
from tanner.jobs.cluster import Cluster
from tanner.jobs.deliveries import Deliveries
from tanner.jobs.imports import Importer
from tanner.jobs.lineups import LineUps
from tanner.jobs.matching import Matching
from tanner.jobs.merging import Merges
from tanner.jobs.pictures import Pictures
from tanner.jobs.quieting import Quieting
from tanner.jobs.sidecars import Sidecars
from tanner.jobs.tasks import ready
from tanner.jobs.watching import Watching
from tanner.jobs.workers import Workers
from tanner.web.folders import Folders
from tanner.web.guard import token_of
from tanner.web.viewer import Viewer


class Services:
    """Everything behind the pages, for one data folder.

    Args:
        lanes: processes of this machine for each kind of work.
        dask: address of a Dask cluster that writes deliveries and takes noise out of many frames instead; mapping: folders as called here and there.
    """

    def __init__(
        self,
        data: Path,
        folders: Sequence[Path] = (),
        lanes: int = 2,
        dask: str = "",
        mapping: Sequence[tuple[str, str]] = (),
    ) -> None:
        self.catalogue = Catalogue(data)
        self.profiles = self.catalogue.profiles
        self.token = token_of(data)
        # Before the first worker starts: it takes the folders over.
        SHELF.folders = [self.profiles.folder]
        KEPT.folder, TABLE.file, SMALL.folder = data / "quiet", data / "noise.json", data / "small"
        self.made: dict[int, tuple[CameraProfile, dict[str, Any]]] = {}
        self.proofs: dict[int, tuple[bytes, str]] = {}
        self.workers = Workers(lanes)
        cluster = Cluster(dask, mapping) if dask else None
        self.delivery_workers: Workers | Cluster = cluster or Workers(lanes)
        self.pictures = Pictures(self.catalogue, self.workers)
        self.deliveries = Deliveries(self.catalogue, self.delivery_workers)
        self.merges = Merges(self.catalogue)
        self.quieting = Quieting(self.catalogue, cluster)
        self.matching = Matching(self.catalogue, self.workers)
        self.importer = Importer(self.catalogue, self.workers, self.pictures, self.matching)
        self.watching = Watching(self.catalogue, self.importer, self.deliveries)
        self.sidecars = Sidecars(self.catalogue)
        self.lineups = LineUps(self.workers)
        self.library = Library(data)
        self.folders = Folders(folders)
        self.viewer = Viewer(self.workers)

    def remember_made(self, made: tuple[CameraProfile, dict[str, Any]]) -> int:
        """A number for a profile that was made and may be kept; only the last few are remembered."""
        number = max(self.made, default=0) + 1
        self.made[number] = made
        for old in sorted(self.made)[:-8]:
            del self.made[old]
        return number

    def remember_proof(self, data: bytes, kind: str) -> int:
        """A number for a file that was made to be looked at; only the last few are remembered."""
        number = max(self.proofs, default=0) + 1
        self.proofs[number] = data, kind
        for old in sorted(self.proofs)[:-3]:
            del self.proofs[old]
        return number

    def start(self) -> None:
        """Wake the worker processes and go on with what an ended program left."""
        threading.Thread(target=self.importer.finish_interrupted, daemon=True).start()
        self.deliveries.resume_interrupted()
        self.sidecars.start()
        self.watching.resume()
        for _ in range(self.workers.lanes):
            self.workers.submit(ready)

    def close(self) -> None:
        self.watching.close()
        self.sidecars.close()
        self.merges.close()
        self.quieting.close()
        self.deliveries.close()
        self.importer.close()
        self.pictures.close()
        self.viewer.close()
        self.workers.shutdown(wait=False, cancel_futures=True)
        self.delivery_workers.shutdown(wait=False, cancel_futures=True)
        self.catalogue.close()
