"""Much at once, and circumstances that nobody wants: pages on one frame, deliveries together, undo during a job, odd clocks, markup."""

import os
import shutil
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from made import hashes
from PIL import Image
from serving import Running, with_lamps

from tanner.catalogue import health, models
from tanner.catalogue.store import Catalogue


@pytest.fixture(scope="module")
def server(originals: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    with with_lamps(tmp_path_factory.mktemp("together"), originals) as result:
        yield result


def ids(server: Running) -> list[int]:
    return [f["id"] for f in server.get("/api/shoots/1/sheet")["frames"]]


def test_two_pages_and_fifty_sockets_on_one_frame(server: Running) -> None:
    """Edits from two sides and views from fifty: every view is a picture, the last edit stands, undo goes back one by one."""
    frame = ids(server)[0]
    before = len(server.get(f"/api/frames/{frame}")["history"])

    def looked(n: int) -> bool:
        header, picture = server.view(frame, values={"light.exposure": n / 50}, width=200, height=150)
        return "error" not in header and picture[:2] == b"\xff\xd8"

    def edited(page: int) -> None:
        for n in range(10):
            server.post("/api/edit", {"frames": [frame], "values": {"light.exposure": page + n / 20}})

    with ThreadPoolExecutor(52) as pool:
        pages = [pool.submit(edited, page) for page in (0, 1)]
        assert all(pool.map(looked, range(50)))
        for page in pages:
            page.result()
    state = server.get(f"/api/frames/{frame}")
    steps = len(state["history"]) - before
    assert state["values"]["light.exposure"] in (0.45, 1.45) and 1 <= steps <= 20
    for _ in range(steps):
        assert server.post("/api/shoots/1/undo")["done"]
    assert len(server.get(f"/api/frames/{frame}")["history"]) == before


def test_ten_deliveries_at_once(server: Running) -> None:
    """Into one folder: every file once, whole, none over another's."""
    out, frames, before = server.folder / "out", ids(server), hashes(server.folder / "photos")
    spec = {"title": "Web", "size": "long:120"}
    with ThreadPoolExecutor(10) as pool:
        wishes = [{"frames": frames, "specs": [spec], "folder": str(out)} for _ in range(10)]
        numbers = list(pool.map(lambda w: server.post("/api/shoots/1/deliver", w)["delivery"], wishes))
    assert len(set(numbers)) == 10
    records = [ended(server, n) for n in numbers]
    paths = [i["path"] for r in records for i in r["items"]]
    assert {i["state"] for r in records for i in r["items"]} == {"done"}
    assert len(set(paths)) == 30 == len(list(out.glob("*.jpg")))
    for path in paths:
        with Image.open(path) as image:
            image.load()
    assert hashes(server.folder / "photos") == before


def ended(server: Running, number: int) -> dict[str, list[dict[str, str]]]:
    return server.until(
        f"/api/deliveries/{number}", lambda state: all(i["state"] not in ("waiting", "running") for i in state["items"])
    )


def test_undo_while_a_match_runs(server: Running) -> None:
    """What is undone is what was done last when one asked; the match comes as a step of its own after it."""
    frames = ids(server)
    server.post("/api/edit", {"frames": frames, "values": {"light.contrast": 10}})
    job = server.post("/api/match", {"frames": frames[1:], "reference": frames[0]})["id"]
    assert "ontrast" in server.post("/api/shoots/1/undo")["done"]
    state = server.over(f"/api/match/{job}")
    assert not [r for r in state["rows"] if "error" in r], state
    assert server.get(f"/api/frames/{frames[1]}")["values"].get("light.contrast", 0) == 0
    assert server.post("/api/shoots/1/undo")["done"].startswith("Matched to")
    assert not server.get(f"/api/frames/{frames[1]}")["offsets"]


WORDS = {
    "headline": 'Cup & "saucer" <b>bold</b> ]]> <!-- -->',
    "caption": "<script>alert('x')</script>\n&amp; — naïve 日本",
}


def test_words_with_markup_come_out_as_they_were_said(server: Running, tmp_path: Path) -> None:
    """In the file as exiftool reads it, and on a page as text."""
    frame = ids(server)[0]
    server.post("/api/words", {"frames": [frame], "words": WORDS})
    spec = {"title": "Words", "size": "long:120", "name": "words-{name}"}
    wish = {"frames": [frame], "specs": [spec], "folder": str(server.folder / "out")}
    (item,) = ended(server, server.post("/api/shoots/1/deliver", wish)["delivery"])["items"]
    found = subprocess.run(["exiftool", "-s3", "-b", "-XMP:Headline", item["path"]], capture_output=True, check=True)
    assert found.stdout.decode() == WORDS["headline"]
    found = subprocess.run(
        ["exiftool", "-s3", "-b", "-XMP-dc:Description", item["path"]], capture_output=True, check=True
    )
    assert found.stdout.decode() == WORDS["caption"]
    for page in ("/shoots/1", f"/shoots/1/bench?frame={frame}", "/shoots/1/deliver"):
        assert "<script>alert" not in server.client.get(page).text


def test_a_clock_that_went_back(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The order of steps is that in which they were made; a backup from the future does not stop new ones."""
    from tanner.catalogue.steps import record, undo

    catalogue = Catalogue(tmp_path)
    with catalogue.write() as session:
        shoot = models.Shoot(name="a")
        session.add(shoot)
        session.flush()
        record(session, shoot.id, "first", [(shoot, {"name": "b"})])
    earlier = datetime.now(UTC) - timedelta(days=400)
    monkeypatch.setattr(models.Action.__table__.c.at.default, "arg", lambda _: earlier)
    with catalogue.write() as session:
        record(session, 1, "second", [(session.get_one(models.Shoot, 1), {"name": "c"})])
    with catalogue.write() as session:
        last = undo(session, 1)
        assert last is not None and last.label == "second" and session.get_one(models.Shoot, 1).name == "b"
    first = health.back_up(tmp_path)
    assert first is not None and health.back_up(tmp_path) is None
    ahead = time.time() + 90 * 86_400
    os.utime(first, (ahead, ahead))
    time.sleep(1.1)  # a backup's name counts seconds
    assert health.back_up(tmp_path) is not None
    catalogue.close()


@pytest.mark.skipif(os.geteuid() == 0 and shutil.which("setpriv") is None, reason="root may write everywhere")
@pytest.mark.parametrize(
    "command", [["serve", "--port", "8471"], ["import", "{photo}", "--shoot", "X"], ["serve", "--restore"]]
)
def test_a_data_folder_that_may_only_be_read(originals: Path, tmp_path: Path, command: list[str]) -> None:
    """Said as what it is: not as damage, for which a new catalogue would be offered."""
    folder = tmp_path / "data"
    Catalogue(folder).close()
    before = hashes_below(folder)
    for path in (folder, *folder.rglob("*")):
        path.chmod(path.stat().st_mode & ~0o222)
    told = [c.format(photo=originals / "T0001.DNG") for c in command]
    less = ["setpriv", "--bounding-set=-dac_override"] if os.geteuid() == 0 else []
    done = subprocess.run(
        [*less, sys.executable, "-m", "tanner.cli", *told, "--data", str(folder)],
        capture_output=True,
        text=True,
        timeout=120,
    )
    for path in (folder, *folder.rglob("*")):
        path.chmod(path.stat().st_mode | 0o200)
    assert done.returncode != 0 and "may not be written to" in done.stderr and "Traceback" not in done.stderr, done
    assert hashes_below(folder) == before


def hashes_below(folder: Path) -> dict[str, bytes]:
    return {str(p.relative_to(folder)): p.read_bytes() for p in folder.rglob("*") if p.is_file()}


def test_many_threads_are_left_to_nobody(server: Running) -> None:
    """After all this the server still answers, and holds no thread for sockets that are gone."""
    assert ids(server) and threading.active_count() < 120
