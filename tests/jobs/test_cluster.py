"""The same work items on a Dask cluster of two real worker processes, one of which is killed half-way."""

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from sqlalchemy import select

from tanner.catalogue.models import Delivery, DeliveryItem, Frame
from tanner.catalogue.store import Catalogue
from tanner.core.errors import TannerError
from tanner.core.noise.controls import Noise
from tanner.core.output.files import file_hash
from tanner.core.output.spec import OutputSpec
from tanner.jobs.bring_in.imports import import_now
from tanner.jobs.cluster import Cluster, mapped, parse_mapping
from tanner.jobs.delivery.deliveries import Deliveries
from tanner.jobs.delivery.record import record_of
from tanner.jobs.denoise.denoising import CopyOptions, Denoising, Job
from tanner.jobs.tasks import read_facts
from tanner.jobs.workers import Workers

SPECS = [
    OutputSpec(title="Web", size="long:300", subfolder="web"),
    OutputSpec(title="Full", format="tiff16", space="prophoto", subfolder="full"),
]


def start(module: str, *arguments: str) -> subprocess.Popen[bytes]:
    return subprocess.Popen(
        [sys.executable, "-W", "ignore", "-m", module, *arguments], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )


@pytest.fixture(scope="module")
def shared(originals: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Storage that workers see under another name: `there` is a link to `here`."""
    folder = tmp_path_factory.mktemp("shared")
    here = folder / "here"
    shutil.copytree(originals, here / "photos")
    (folder / "there").symlink_to(here)
    import_now(here / "data", "Spring", sorted((here / "photos").glob("T00*.DNG")), None, [])
    return folder


@pytest.fixture(scope="module")
def cluster(shared: Path) -> Iterator[tuple[str, list[subprocess.Popen[bytes]]]]:
    file = shared / "scheduler.json"
    scheduler = start(
        "distributed.cli.dask_scheduler", "--host", "127.0.0.1", "--port", "0", "--no-dashboard", "--no-show",
        "--scheduler-file", str(file),
    )  # fmt: skip
    while not file.exists():
        assert scheduler.poll() is None
        time.sleep(0.1)
    workers = [
        start(
            "distributed.cli.dask_worker", "--scheduler-file", str(file), "--nthreads", "1", "--no-nanny", "--no-dashboard",
            "--local-directory", str(shared / f"w{n}"),
        )
        for n in range(2)
    ]  # fmt: skip
    yield json.loads(file.read_text())["address"], workers
    for process in [*workers, scheduler]:
        process.kill()
        process.wait()


def delivered(
    shared: Path, executor: Workers | Cluster, out: Path, kill: subprocess.Popen[bytes] | None = None
) -> dict[str, str]:
    catalogue = Catalogue(shared / "here" / "data")
    deliveries = Deliveries(catalogue, executor)
    try:
        with catalogue.read() as session:
            ids = list(session.scalars(select(Frame.id)))
        number = deliveries.create(1, ids, SPECS, out)
        if kill:
            end = time.monotonic() + 120
            while time.monotonic() < end:
                with catalogue.read() as session:
                    states = list(session.scalars(select(DeliveryItem.state).where(DeliveryItem.delivery_id == number)))
                if "done" in states and states.count("running") > 2:
                    break
                time.sleep(0.02)
            os.kill(kill.pid, signal.SIGKILL)
        deliveries.wait()
        with catalogue.read() as session:
            record = record_of(session, session.get_one(Delivery, number))
        assert record["state"] == "done" and {i["state"] for i in record["items"]} == {"done"}, record
        return {str(Path(i["path"]).relative_to(out)): i["sha256"] for i in record["items"]}
    finally:
        deliveries.close()
        catalogue.close()


def quieted(shared: Path, cluster: Cluster | None, folder: Path) -> tuple[dict[str, str], Job]:
    """Quiet copies of all frames by name and hash, and the job that made them."""
    catalogue = Catalogue(shared / "here" / "data")
    denoising = Denoising(catalogue, cluster)
    try:
        with catalogue.read() as session:
            frames = [f for f in session.scalars(select(Frame)) if "quiet" not in f.name]
        folder.mkdir()
        job = denoising.copies(frames, CopyOptions(method="quick", folder=str(folder)))
        end = time.monotonic() + 120
        while not job.over and time.monotonic() < end:
            time.sleep(0.05)
        return {p.name: file_hash(p) for p in sorted(folder.iterdir())}, job
    finally:
        denoising.close()
        catalogue.close()


def watched(shared: Path, address: str) -> tuple[Cluster, list[str]]:
    """A cluster, and the names of what it is asked to do."""
    far = Cluster(address, [(str(shared / "here"), str(shared / "there"))])
    called: list[str] = []
    submit = far.submit
    far.submit = lambda function, *a, **k: called.append(function.__name__) or submit(function, *a, **k)  # type: ignore[method-assign,func-returns-value]
    return far, called


def test_noise_of_many_frames_is_taken_out_on_the_cluster(
    shared: Path, cluster: tuple[str, list[subprocess.Popen[bytes]]]
) -> None:
    far, called = watched(shared, cluster[0])
    try:
        there, job = quieted(shared, far, shared / "here" / "quiet-far")
        assert [i.state for i in job.items] == ["done"] * len(job.items), [i.message for i in job.items]
        assert called == ["write_copy"] * len(job.items) and len(there) == len(job.items)
        # The same file from this machine; there it is known already, and does not join again.
        here, job = quieted(shared, None, shared / "here" / "quiet-own")
        assert here == {} and all("was there already" in i.message for i in job.items)
    finally:
        far.shutdown()


def test_workers_that_do_not_see_the_catalogue_are_told_of(
    shared: Path, cluster: tuple[str, list[subprocess.Popen[bytes]]]
) -> None:
    far = Cluster(cluster[0], [(str(shared / "here" / "data"), str(shared / "nowhere"))])
    try:
        written, job = quieted(shared, far, shared / "here" / "quiet-blind")
        assert written == {} and {i.state for i in job.items} == {"failed"}
        assert all("is not there" in i.message and "--map" in i.message for i in job.items)
    finally:
        far.shutdown()


def test_a_wish_of_the_bench_stays_here_and_cancelling_ends_what_is_far(
    shared: Path, cluster: tuple[str, list[subprocess.Popen[bytes]]]
) -> None:
    far, called = watched(shared, cluster[0])
    catalogue = Catalogue(shared / "here" / "data")
    denoising = Denoising(catalogue, far)
    try:
        with catalogue.read() as session:
            frames = list(session.scalars(select(Frame).limit(3)))
        wish = denoising.want(frames[0], Noise(method="fine"))
        many = denoising.ahead([(f, Noise(method="learned")) for f in frames])
        denoising.cancel(many.number)
        end = time.monotonic() + 120
        while not (wish.over and many.over) and time.monotonic() < end:
            time.sleep(0.05)
        assert wish.items[0].state == "done", wish.items[0].message
        assert many.over and set(called) <= {"work_out"} and len(called) <= far.processes
    finally:
        denoising.close()
        catalogue.close()
        far.shutdown()


def test_results_are_the_same_and_a_lost_worker_is_survived(
    shared: Path, cluster: tuple[str, list[subprocess.Popen[bytes]]]
) -> None:
    address, workers = cluster
    with Workers(2) as own:
        expected = delivered(shared, own, shared / "here" / "a")
    far = Cluster(address, [(str(shared / "here"), str(shared / "there"))])
    try:
        end = time.monotonic() + 60
        while far.processes < 2 and time.monotonic() < end:
            time.sleep(0.1)
        assert far.processes == 2
        assert delivered(shared, far, shared / "here" / "b", kill=workers[0]) == expected
        assert workers[0].wait() == -signal.SIGKILL and far.processes == 1
        files = sorted(
            str(p.relative_to(shared / "here" / "b")) for p in (shared / "here" / "b").rglob("*") if p.is_file()
        )
        assert files == sorted(expected)
        with pytest.raises(TannerError, match="cannot be opened"):
            far.submit(read_facts, str(shared / "here" / "gone.dng")).result(60)
    finally:
        far.shutdown()


def test_paths_are_translated_and_nothing_else() -> None:
    pairs = parse_mapping(["/photos=/mnt/p/", "/out=/mnt/o"])
    value = {"a": "/photos/x.dng", "b": ["/photosx/y", ("/out", 3)], "c": Path("/out/z")}
    assert mapped(value, pairs) == {"a": "/mnt/p/x.dng", "b": ["/photosx/y", ("/mnt/o", 3)], "c": Path("/mnt/o/z")}
    for bad in ("photos=/x", "/x", "=/x"):
        with pytest.raises(TannerError, match="HERE=THERE"):
            parse_mapping([bad])


def test_a_cluster_that_is_not_there_is_told(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("tanner.jobs.cluster.REACH_S", 0.5)
    with pytest.raises(TannerError, match="does not answer"):
        Cluster("tcp://127.0.0.1:9")
