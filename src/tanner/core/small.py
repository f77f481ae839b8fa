"""Frames at a small size, without decoding them again: for previews, and for what is measured on them.

A small picture needs the mosaic in blocks only. These are made once, kept on disk (half precision, about 2 MB a frame), and
serve every development of the frame up to `EDGE`. Whatever needs more reads the file after all.
"""

import hashlib
import pickle
import threading
from collections import OrderedDict
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner import __version__
from tanner.core.noise.kept import Kept
from tanner.core.raw.facts import FrameFacts
from tanner.core.raw.reader import FINISHED, read
from tanner.core.raw.source import Source
from tanner.core.render.linear import BINNED, binned_planes, pre_gains
from tanner.core.stages.camera import AROUND, around

F32 = NDArray[np.float32]
EDGE = 640
"""Long edge in px up to which a picture is served."""
SMALL = Kept()
SMALL.budget = 4 << 30
HEADERS, PLANES = 400, 12
"""Frames of which the facts are remembered in a process, and of which all that was made is."""
_lock = threading.Lock()
_frames: OrderedDict[tuple[str, int, int], "SmallSource"] = OrderedDict()


class SmallSource(Source):
    """A source whose mosaic is read from its file only when something asks for it."""

    _data: Any

    @property
    def data(self) -> Any:  # type: ignore[override]
        if self._data is None:
            full = read(Path(self.facts.path))
            self._data, self.decoder = full.data, full.decoder
        return self._data

    @data.setter
    def data(self, value: Any) -> None:
        self._data = value if value is not None and value.size else None

    def close(self) -> None:
        """Give up the mosaic, where it was read."""
        self._data, self.decoder = None, None

    def lighten(self) -> None:
        """Give up all that takes room."""
        self.close()
        self.memory.lighten()


def level_of(width: int, height: int) -> int:
    """Side of the blocks: the largest even one that still gives `EDGE`; 0 where the frame itself is not much larger."""
    side = int(max(width, height) / EDGE)
    side -= side % 2
    return side if side >= 4 else 0


_MARK = hashlib.sha1(" ".join([__version__, *sorted(FrameFacts.model_fields)]).encode()).hexdigest()[:8]
"""Headers of another version of the program are not taken for this one's."""


def _header(path: Path) -> Source:
    """What a file says of itself, without its pixels: kept too, as even that takes reading the file."""
    found = SMALL.find(str(path), f"header-{_MARK}")
    if found is not None:
        try:
            # Our own, from our own folder.
            facts, profiles, maps = pickle.loads(found.tobytes())
            return Source(facts, np.empty((0, 0), np.uint16), profiles=profiles, gain_maps=maps)
        except Exception:  # damaged: made again
            pass
    header = read(path, pixels=False)
    packed = pickle.dumps((header.facts, header.profiles, header.gain_maps))
    SMALL.keep(str(path), f"header-{_MARK}", np.frombuffer(packed, np.uint8))
    return header


def read_small(path: Path) -> Source:
    """A frame for pictures up to `EDGE`; the full source where that is no more work.

    Raises:
        UnreadableFile: see `read`.
    """
    if SMALL.folder is None or path.suffix.lower() in FINISHED:
        return read(path)
    try:
        state = path.stat()
    except OSError:
        return read(path)
    key = str(path), state.st_mtime_ns, state.st_size
    with _lock:
        found = _frames.get(key)
        if found is None:
            header = _header(path)
            level = level_of(*header.size)
            if header.facts.kind != "bayer" or not level:
                return read(path)
            found = SmallSource(
                header.facts, np.empty((0, 0), np.uint16), profiles=header.profiles, gain_maps=header.gain_maps
            )
            found.small_level = level
            _frames[key] = found
        _frames.move_to_end(key)
        for place, other in enumerate(reversed(_frames.values())):
            if place >= PLANES:
                other.lighten()
            elif other is not found:
                other.close()
        while len(_frames) > HEADERS:
            _frames.popitem(last=False)
    level = found.small_level
    found.memory.get(BINNED, level, lambda: _kept_blocks(found, path, level))
    found.memory.get(AROUND, None, lambda: _kept_surroundings(found, path))
    return found


def _kept_blocks(source: Source, path: Path, level: int) -> F32:
    what = f"small-{level}"
    planes = SMALL.find(str(path), what)
    if planes is None:
        planes = binned_planes(source, pre_gains(source).astype(np.float32), level).astype(np.float16)
        SMALL.keep(str(path), what, planes)
    return planes.astype(np.float32)


def _kept_surroundings(source: Source, path: Path) -> F32:
    kept = SMALL.find(str(path), "around")
    if kept is None:
        kept = around(source).astype(np.float16)
        SMALL.keep(str(path), "around", kept)
    return kept.astype(np.float32)
