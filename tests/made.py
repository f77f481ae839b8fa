"""Small frames that the simulated camera takes for tests."""

import hashlib
from datetime import datetime, timedelta
from pathlib import Path

from alembic import command
from alembic.config import Config

from tanner.catalogue import store
from tanner.catalogue.store import Catalogue
from tanner.studio.exposure import Exposure

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


def downgrade(catalogue: Catalogue, revision: str) -> None:
    """Make a catalogue one of an older version, and close it."""
    config = Config()
    config.set_main_option("script_location", str(Path(store.__file__).parent / "migrations"))
    with catalogue.engine.begin() as connection:
        config.attributes["connection"] = connection
        command.downgrade(config, revision)
    catalogue.close()


def hashes(folder: Path) -> dict[str, str]:
    return {p.name: hashlib.sha256(p.read_bytes()).hexdigest() for p in sorted(folder.iterdir())}
