"""What many tests share: small frames from the simulated camera, a hash of originals, a data folder."""

import os
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import settings
from made import exposure, hashes, series

from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.studio.camera import take

# No test has a time limit: machines are shared.
settings.register_profile("tanner", deadline=None)
settings.load_profile("tanner")


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
