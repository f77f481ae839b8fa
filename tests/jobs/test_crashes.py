"""A delivery whose program is killed again and again: at the end every file is there, whole, once."""

import os
import random
import signal
import subprocess
import sys
import time
from pathlib import Path

from PIL import Image
from sqlalchemy import select

from tanner.catalogue.models import Delivery, Frame
from tanner.catalogue.store import Catalogue
from tanner.core.output.files import TEMPORARY, file_hash
from tanner.core.output.spec import OutputSpec
from tanner.jobs.bring_in.imports import import_now
from tanner.jobs.delivery.deliveries import Deliveries
from tanner.jobs.delivery.record import record_of
from tanner.jobs.workers import Workers

FILES, KILLS = 24, 5
SPECS = [
    OutputSpec(title="Web", size="long:200", subfolder="web"),
    OutputSpec(title="Shop", size="crop:150x150", format="png", subfolder="shop", exists="skip"),
    OutputSpec(title="Print", size="long:240", format="tiff16", subfolder="print", exists="replace"),
]
PROGRAM = """
import sys
from pathlib import Path
from tanner.catalogue.store import Catalogue
from tanner.jobs.delivery.deliveries import Deliveries
from tanner.jobs.workers import Workers

if __name__ == "__main__":
    deliveries = Deliveries(Catalogue(Path(sys.argv[1])), Workers(2))
    print("started", flush=True)
    deliveries.resume_interrupted()
    deliveries.wait()
    print("over", flush=True)
"""


def test_killed_at_random_moments(originals: Path, tmp_path: Path) -> None:
    photos, data, out = tmp_path / "photos", tmp_path / "data", tmp_path / "out"
    photos.mkdir()
    whole = (originals / "T0001.DNG").read_bytes()
    for n in range(FILES):
        (photos / f"C{n:04d}.DNG").write_bytes(whole + bytes([n]))  # another content each, the same picture
    with Workers(2) as workers:
        import_now(data, "Crash", sorted(photos.iterdir()), None, [], workers)
    before = {p: file_hash(p) for p in photos.iterdir()}
    catalogue = Catalogue(data)
    deliveries = Deliveries(catalogue, Workers(1))
    deliveries._closing = True  # recorded only; another program writes it
    with catalogue.read() as session:
        ids = list(session.scalars(select(Frame.id).order_by(Frame.name)))
    number = deliveries.create(1, ids, SPECS, out)
    deliveries.close()
    program = tmp_path / "program.py"
    program.write_text(PROGRAM)
    chance = random.Random(8)
    killed, written = 0, []
    while True:
        run = subprocess.Popen(
            [sys.executable, str(program), str(data)], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True
        )
        with run:
            assert run.stdout is not None and run.stdout.readline() == "started\n"
            if killed == KILLS:
                assert run.stdout.readline() == "over\n" and run.wait(60) == 0
                break
            # Its workers need some time to start: without files written between, nothing would be proven.
            target = len(list(out.rglob("*.*"))) + chance.randint(1, 4)
            end = time.monotonic() + 60
            while len(list(out.rglob("*.*"))) < target and time.monotonic() < end and run.poll() is None:
                time.sleep(0.002)
            time.sleep(chance.random() * 0.03)
            assert run.poll() is None, "over before it was killed often enough"
            os.kill(run.pid, signal.SIGKILL)
            killed += 1
            written.append(len(list(out.rglob("*.*"))))
    with catalogue.read() as session:
        record = record_of(session, session.get_one(Delivery, number))
    catalogue.close()
    assert record["state"] == "done" and {i["state"] for i in record["items"]} == {"done"}
    found = sorted(str(p.relative_to(out)) for p in out.rglob("*") if p.is_file())
    endings = (("web", "jpg"), ("shop", "png"), ("print", "tif"))
    assert found == sorted(f"{kind}/C{n:04d}.{end}" for n in range(FILES) for kind, end in endings)
    assert not [p for p in out.rglob("*") if p.name.startswith(TEMPORARY)]
    for item in record["items"]:
        assert file_hash(Path(item["path"])) == item["sha256"]
    for path in out.glob("web/*"):
        with Image.open(path) as image:
            image.load()
    assert written[0] < FILES * 3 / 2 and before == {p: file_hash(p) for p in photos.iterdir()}
