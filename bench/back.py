"""Coming back to a frame on the Bench, whose mosaic was put by: `python -m bench.back`.

Seconds until a frame of 24 megapixels is open: read by a worker process, and taken from what was put by; the same with
LibRaw's own decoder, as most other raw files have it. Interleaved in one run, medians of seven.
"""

import statistics
import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import tanner.core.raw.reader as reader
from tanner.catalogue.originals import stamp_of
from tanner.jobs.tasks import read_source
from tanner.jobs.workers import Workers
from tanner.studio.camera import take
from tanner.studio.demo import frames
from tanner.web.viewer.mosaics import MosaicStore


def by_libraw(path: str) -> object:
    """Read without our own ways round LibRaw."""
    reader.plain_mosaic = lambda *_: None  # type: ignore[assignment]
    reader.packed_mosaic = lambda *_: None  # type: ignore[assignment]
    return reader.read(Path(path))


def clock(run: Callable[[], object]) -> float:
    began = time.perf_counter()
    run()
    return time.perf_counter() - began


def opened(path: str, own: Workers, others: Workers, rounds: int = 8) -> dict[str, float]:
    """Seconds for each way, medians; the first round is not counted."""
    store, source = MosaicStore(), reader.read(Path(path))
    ways: dict[str, Callable[[], object]] = {
        "read": lambda: own.soon(read_source, path).result(),
        "read by LibRaw": lambda: others.soon(by_libraw, path).result(),
        "put by": lambda: store.put(path, source, stamp_of(Path(path))),
        "back": lambda: store.take(path),
    }
    times = [{name: clock(run) for name, run in ways.items()} for _ in range(rounds)]
    return {name: statistics.median(t[name] for t in times[1:]) for name in ways}


def main() -> None:
    shot = next(s for s in frames() if s.scene.startswith("lamp"))
    big = replace(shot, scene="lamp", width=6000, height=4000)
    with tempfile.TemporaryDirectory() as folder, Workers(1) as own, Workers(1) as others:
        for label, compress in (("uncompressed", False), ("lossless JPEG", True)):
            path = Path(folder) / f"{label[0]}.dng"
            path.write_bytes(take(big, compress=compress))
            found = opened(str(path), own, others)
            print(f"{label}: " + ", ".join(f"{name} {s * 1e3:.0f} ms" for name, s in found.items()))


if __name__ == "__main__":
    main()
