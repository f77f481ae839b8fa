"""A program that is killed in the middle of an import, a copy, a join, a match, a sidecar: nothing half, nothing lost, nothing twice."""

import os
import random
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest
from made import hashes
from sqlalchemy import select

from tanner.catalogue.health import check
from tanner.catalogue.models import Action, Frame
from tanner.catalogue.store import Catalogue
from tanner.core.output.files import TEMPORARY
from tanner.core.raw.damage import damage_of
from tanner.core.raw.reader import read
from tanner.core.series.sidecar import ENDING, parse_sidecar
from tanner.jobs.bring_in.imports import import_now
from tanner.jobs.workers import Workers

HERE = Path(__file__).parent
KILLS = 2


@pytest.fixture(scope="module")
def brought_in(originals: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A data folder with three frames; tests work on copies of it."""
    folder = tmp_path_factory.mktemp("killed")
    (folder / "photos").mkdir()
    for n in (1, 2, 3):
        shutil.copy(originals / f"T000{n}.DNG", folder / "photos")
    with Workers(2) as workers:
        import_now(folder / "data", "Spring", sorted((folder / "photos").iterdir()), None, [], workers)
    return folder


def run(folder: Path, kind: str, kill_after: float | None) -> bool:
    """Start the program and kill it after a while; whether it came to its end before."""
    command = [
        sys.executable,
        str(HERE / "killed.py"),
        str(folder / "data"),
        kind,
        str(folder / "photos"),
        str(folder / "card"),
    ]
    with (
        (folder / "said").open("w+") as said,
        subprocess.Popen(command, stdout=subprocess.PIPE, stderr=said, text=True) as program,
    ):
        assert program.stdout is not None and program.stdout.readline() == "started\n"
        if kill_after is None:
            assert program.stdout.readline() == "over\n", (folder / "said").read_text()
            return True
        time.sleep(kill_after)
        over = program.poll() is not None
        os.kill(program.pid, signal.SIGKILL)
    return over


def frames(folder: Path) -> list[Frame]:
    catalogue = Catalogue(folder / "data")
    try:
        with catalogue.read() as session:
            return list(session.scalars(select(Frame).order_by(Frame.name)))
    finally:
        catalogue.close()


def whole(folder: Path, photographs: dict[str, str]) -> list[Path]:
    """Originals as they were, the catalogue sound, and every file that has a name whole; those that are no originals."""
    there = hashes_of(folder)
    assert {n: c for n, c in there.items() if n in photographs} == photographs
    assert not check(folder / "data")
    new = [folder / "photos" / n for n in there if n not in photographs]
    for path in new:
        if path.name.endswith(ENDING):
            assert parse_sidecar(path.read_bytes(), path.name) is not None
        else:
            assert read(path).size and damage_of(path) == ""
    return new


def hashes_of(folder: Path) -> dict[str, str]:
    return {n: c for n, c in hashes(folder / "photos").items() if not n.startswith(TEMPORARY)}


def test_in_the_middle_of_an_import(originals: Path, tmp_path: Path) -> None:
    card, photos = tmp_path / "card", tmp_path / "photos"
    card.mkdir(), photos.mkdir()
    data = (originals / "T0001.DNG").read_bytes()
    for n in range(8):
        (card / f"K{n:04d}.DNG").write_bytes(data + bytes([n]))
    before, chance = hashes(card), random.Random(4)
    for _ in range(KILLS):
        run(tmp_path, "import", 0.3 + 3 * chance.random())
    assert run(tmp_path, "import", None)
    assert hashes(card) == before
    assert hashes_of(tmp_path) == before, "each once, whole, under its own name"
    found = frames(tmp_path)
    assert [f.name for f in found] == sorted(before) and all(f.content == before[f.name] for f in found)
    assert not check(tmp_path / "data")


@pytest.mark.parametrize(("kind", "made"), [("copies", "T0001-quiet.dng"), ("join", "T0001-focus.dng")])
def test_in_the_middle_of_what_writes_new_raws(brought_in: Path, tmp_path: Path, kind: str, made: str) -> None:
    folder = tmp_path / "it"
    moved(brought_in, folder)
    photographs, chance = hashes_of(folder), random.Random(kind)
    for _ in range(KILLS):
        run(folder, kind, 0.2 + 3.5 * chance.random())
        whole(folder, photographs)
    assert run(folder, kind, None)
    assert made in {p.name for p in whole(folder, photographs)} | {f.name for f in frames(folder)}
    # What is in the catalogue has its file, once.
    found = frames(folder)
    assert all(Path(f.path).is_file() for f in found) and len({f.content for f in found}) == len(found)


def test_in_the_middle_of_a_match(brought_in: Path, tmp_path: Path) -> None:
    """It is one step: all of it or nothing."""
    folder = tmp_path / "it"
    moved(brought_in, folder)
    chance = random.Random(2)
    for _ in range(KILLS):
        over = run(folder, "match", 0.2 + 3 * chance.random())
        catalogue = Catalogue(folder / "data")
        with catalogue.read() as session:
            steps = [a.label for a in session.scalars(select(Action)) if a.label.startswith("Matched")]
            changed = [bool(f.offsets) for f in session.scalars(select(Frame).where(Frame.name != "T0001.DNG"))]
        catalogue.close()
        assert all(changed) if steps else not any(changed) and not over
        assert not check(folder / "data")


def test_in_the_middle_of_writing_sidecars(brought_in: Path, tmp_path: Path) -> None:
    folder = tmp_path / "it"
    moved(brought_in, folder)
    photographs, chance = hashes_of(folder), random.Random(1)
    for _ in range(4):
        run(folder, "sidecars", 0.1 + 0.8 * chance.random())
        assert len(whole(folder, photographs)) == 3


def moved(source: Path, target: Path) -> None:
    """A copy of a data folder and its photographs, under another place."""
    shutil.copytree(source, target)
    catalogue = Catalogue(target / "data")
    with catalogue.write() as session:
        for frame in session.scalars(select(Frame)):
            frame.path = str(target / "photos" / frame.name)
    catalogue.close()
