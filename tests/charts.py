"""A running server whose shoot holds chart frames of two cameras and two lights, and a lamp."""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from made import START, exposure
from serving import Running, running

from tanner.studio.camera import take

SHOTS = {
    "C0001.DNG": {"scene": "chart"},
    "C0002.DNG": {"scene": "chart", "kelvin": 2856.0, "believed": 2900.0},
    "C0003.DNG": {"scene": "chart", "camera": "Alder Two"},
    "C0004.DNG": {"scene": "lamp"},
    "C0005.DNG": {"scene": "lamp", "camera": "Alder Two"},
}


@contextmanager
def chart_server(folder: Path) -> Iterator[Running]:
    with running(folder) as result:
        for number, (name, more) in enumerate(SHOTS.items()):
            shot = exposure(name, width=900, height=600, seed=number, taken=START, **more)
            (folder / "photos" / name).write_bytes(take(shot))
        result.post("/api/shoots", {"name": "Charts"})
        result.bring_in(1, sorted((folder / "photos").glob("*.DNG")))
        yield result
