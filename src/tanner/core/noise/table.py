"""Noise by camera and ISO, measured on the user's own frames where files do not say it: one readable JSON file."""

import json
import logging
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.errors import WriteFailed
from tanner.core.output.files import write_whole

log = logging.getLogger(__name__)
Array = NDArray[np.float64]
MOST = 15
"""Frames of one camera and ISO that are remembered; their median speaks."""
ENOUGH = 3
"""Frames from which on the table is believed rather than the frame itself."""


class NoiseTable:
    """a and b (4,) of variance = a * value + b, by camera and ISO.

    Attributes:
        file: where it is kept; may be set at any time. Read anew when it has changed.
    """

    def __init__(self) -> None:
        self.file: Path | None = None
        self._read: tuple[int, dict[str, dict[str, list[list[float]]]]] = (0, {})

    def _rows(self) -> dict[str, dict[str, list[list[float]]]]:
        if self.file is None:
            return {}
        try:
            stamp = self.file.stat().st_mtime_ns
            if stamp != self._read[0]:
                self._read = stamp, json.loads(self.file.read_text())["cameras"]
        except FileNotFoundError:
            return {}
        except (OSError, ValueError, KeyError, TypeError) as error:
            log.warning("%s: cannot be read (%s); noise is measured on each frame.", self.file, error)
            return {}
        return self._read[1]

    def find(self, camera: str, iso: float | None) -> tuple[Array, Array] | None:
        """What is known of a camera at an ISO; between two that are known it grows as the ISO does."""
        rows = self._rows().get(camera)
        if not rows or not iso:
            return None
        known = {float(k): np.median(np.array(v), axis=0) for k, v in rows.items() if len(v) >= ENOUGH}
        if not known:
            return None
        levels = np.array(sorted(known))
        if not levels[0] / 1.3 <= iso <= levels[-1] * 1.3:
            return None
        logs = np.log(np.maximum(np.array([known[k] for k in levels]), 1e-14))
        at = [np.interp(np.log(iso), np.log(levels), column) for column in logs.T]
        values = np.exp(np.array(at))
        return values[:4], values[4:]

    def add(self, camera: str, iso: float, a: Any, b: Any) -> None:
        """Remember what was measured on one frame."""
        if self.file is None or not camera or not iso:
            return
        rows = {k: {i: list(v) for i, v in m.items()} for k, m in self._rows().items()}
        frames = rows.setdefault(camera, {}).setdefault(f"{iso:g}", [])
        if len(frames) >= MOST:
            return
        frames.append([float(f"{v:.6g}") for v in (*a, *b)])
        text = json.dumps({"tanner_noise": 1, "cameras": rows}, indent=1, ensure_ascii=False) + "\n"
        try:
            write_whole(self.file, text.encode(), replace=True)
        except (OSError, WriteFailed) as error:
            log.warning("the noise of %s could not be kept: %s", camera, error)


TABLE = NoiseTable()
