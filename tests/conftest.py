"""What many tests share: small frames from the simulated camera, a hash of originals, a data folder."""

import hashlib
import os
from collections.abc import Iterator
from datetime import datetime, timedelta
from pathlib import Path

import pytest

from tanner.core.raw.reader import Source, read
from tanner.studio.camera import Exposure, take

START = datetime(2026, 3, 12, 9, 0, 0)


def exposure(name: str = "T0001.DNG", scene: str = "lamp", **more: object) -> Exposure:
    """One small exposure of 600 x 400 px."""
    values: dict[str, object] = {
        "name": name,
        "scene": scene,
        "turn": 0.3,
        "kelvin": 5500.0,
        "believed": 5500.0,
        "ev": 0.0,
        "iso": 100,
        "lens": "standard",
        "shutter": 1 / 125,
        "taken": START,
        "seed": 1,
        "width": 600,
        "height": 400,
    }
    return Exposure(**(values | more))  # type: ignore[arg-type]


def series() -> list[Exposure]:
    """Two sets of three, and one frame of another light that lies on its side."""
    minute = timedelta(minutes=1)
    lamps = [
        exposure(f"T{n:04d}.DNG", turn=0.4 * n, ev=e, taken=START + n * minute, seed=n)
        for n, e in ((1, 0.0), (2, 0.2), (3, -0.4))
    ]
    threads = [
        exposure(f"T{n:04d}.DNG", "bench", turn=0.2 * n, lens="wide", taken=START + n * minute, seed=n)
        for n in (11, 12, 13)
    ]
    side = exposure(
        "T0021.DNG", "instrument", kelvin=2856.0, believed=2900.0, upright=True, taken=START + 30 * minute, seed=21
    )
    return [*lamps, *threads, side]


@pytest.fixture(scope="session")
def originals(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder of seven frames; no test may change it, which is checked at the end of the session."""
    folder = tmp_path_factory.mktemp("originals")
    for shot in series():
        (folder / shot.name).write_bytes(take(shot))
    return folder


@pytest.fixture(scope="session", autouse=True)
def _originals_stay_as_they_are(request: pytest.FixtureRequest) -> Iterator[None]:
    """Hashes of the originals before and after everything."""
    if os.environ.get("TANNER_NO_ORIGINALS"):
        yield
        return
    folder: Path = request.getfixturevalue("originals")
    before = hashes(folder)
    yield
    assert hashes(folder) == before


def hashes(folder: Path) -> dict[str, str]:
    return {p.name: hashlib.sha256(p.read_bytes()).hexdigest() for p in sorted(folder.iterdir())}


@pytest.fixture(scope="session")
def lamp(originals: Path) -> Path:
    return originals / "T0001.DNG"


@pytest.fixture
def source(lamp: Path) -> Source:
    """A decoded frame with empty caches."""
    return read(lamp)


@pytest.fixture(scope="session")
def noisy_lamp(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The same at ISO 3,200."""
    path = tmp_path_factory.mktemp("noisy") / "N0001.DNG"
    path.write_bytes(take(exposure("N0001.DNG", iso=3200)))
    return path


@pytest.fixture
def data(tmp_path: Path) -> Path:
    return tmp_path / "data"
