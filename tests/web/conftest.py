"""One running server for the module's tests, with five frames in a shoot."""

import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest
from serving import Running, running


@pytest.fixture(scope="package")
def server(originals: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    folder = tmp_path_factory.mktemp("serve")
    with running(folder) as result:
        for name in ("T0001.DNG", "T0002.DNG", "T0003.DNG", "T0011.DNG", "T0012.DNG"):
            shutil.copy(originals / name, folder / "photos" / name)
        card = folder / "card" / "DCIM" / "100ALDER"
        card.mkdir(parents=True)
        shutil.copy(originals / "T0021.DNG", card / "T0021.DNG")
        shutil.copy(originals / "T0001.DNG", card / "COPY.DNG")
        assert result.post("/api/shoots", {"name": "Spring"}) == {"id": 1}
        result.bring_in(1, sorted((folder / "photos").glob("*.DNG")))
        yield result


@pytest.fixture
def sheet(server: Running) -> Iterator[dict[str, dict[str, object]]]:
    """Frames by name; every change of the test is undone after it."""
    yield {f["name"][:5]: f for f in server.get("/api/shoots/1/sheet")["frames"]}
    while server.post("/api/shoots/1/undo")["done"] not in (None, "Sets proposed"):
        pass
    server.post("/api/shoots/1/redo")
