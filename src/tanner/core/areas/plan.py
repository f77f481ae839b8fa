"""Areas as the kernel reads them, for one frame at one output size."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from tanner.core.adjust.registry import Development, Thing, with_differences
from tanner.core.areas.declare import AreaParts
from tanner.core.areas.drawing import Grid
from tanner.core.areas.fields import Areas
from tanner.core.areas.look import EDGE
from tanner.core.areas.place import to_places
from tanner.core.areas.raster import Place, masks_of, plain
from tanner.core.optics.geometry import STEP, Geometry
from tanner.core.optics.view import upright
from tanner.core.stages.blur import Blur
from tanner.core.stages.path import AGAIN, POINT
from tanner.core.stages.stage import F64, StageFrame
from tanner.core.tone.curve import is_straight


def areas_of(frame: StageFrame, development: Development, things: Sequence[Thing]) -> Areas | None:
    """The areas of a development that change something; None when none does, and everything goes as without areas."""
    rows: list[list[float]] = []
    there: list[Thing] = []
    wanted: dict[str, list[tuple[int, Any]]] = {}
    for thing in things:
        row = [v for stage in POINT if stage.moves is not None for v in stage.moves(frame, thing.values)]
        changed = {k for k, v in thing.values.items() if _changes(k, v)}
        again = [stage for stage in AGAIN if changed.intersection(stage.again)]
        soft = getattr(thing.parts, "blur", 0.0) * thing.parts.amount / 100
        if soft:
            planes = frame.blurred(thing.id, thing.parts, all_of(things))
            wanted.setdefault("blur", []).append((len(rows), Blur(True, planes)))
        if any(row) or again or soft or changed & AROUND_POINT:
            for stage in again:
                assert stage.prepare is not None
                mine = {k: v for k, v in thing.values.items() if k in stage.again}
                moved = stage.prepare(frame, with_differences(development, mine), True)
                wanted.setdefault(stage.name, []).append((len(rows), moved))
            rows.append(row)
            there.append(thing)
    if not rows:
        return None
    by = np.array(rows, np.float32)
    parts = [(t.id, t.parts) for t in there]
    needs = any(not plain(p) for _, p in parts)  # type: ignore[arg-type]
    return Areas(
        masks=masks_of(parts, place_of(frame) if needs else None, all_of(things)),  # type: ignore[arg-type]
        grid=frame.geometry.grid,
        to=to_places(size_of(frame), frame.source.facts.orientation),
        start=np.zeros(by.shape[1], np.float32),
        by=by,
        used=(by != 0).any(axis=0),
        beside=np.ones(by.shape[1], np.bool_),
        alone=np.zeros(by.shape[1], np.bool_),
        again=wanted,
        sharpen=np.array([t.values.get("detail.amount", 0.0) / 100 for t in there], np.float32),
    )


AROUND_POINT = frozenset({"detail.amount"})
"""What areas change outside of the stages of the path."""


def _changes(key: str, value: Any) -> bool:
    return not is_straight(value) if isinstance(value, list) else bool(value)


def all_of(things: Sequence[Thing]) -> dict[str, AreaParts]:
    return {t.id: t.parts for t in things}  # type: ignore[misc]


def size_of(frame: StageFrame) -> tuple[int, int]:
    return frame.source.facts.width, frame.source.facts.height


def place_of(frame: StageFrame) -> Place:
    """What masks of a frame depend on besides their parts."""
    facts = frame.source.facts
    grid = Grid.of(upright(size_of(frame), facts.orientation), EDGE)
    to_working = frame.camera.to_working(frame.white) @ np.diag(frame.numbers)
    gains = 1 / (frame.pre * frame.numbers)
    return Place(
        look=frame.look,
        grid=grid,
        memory=frame.original.memory,
        to_working=to_working @ np.diag(gains) * 2.0**frame.ev,
        crop=crop_of(frame.geometry, to_places(size_of(frame), facts.orientation)),
        path=facts.path,
    )


def crop_of(geometry: Geometry, to: "np.typing.NDArray[np.float32]") -> F64:
    """(3, 3) from places of the frame to places of the crop: shares of its long edge, from its middle."""
    width, height = geometry.size
    nodes = geometry.grid[2:4].astype(np.float64)
    rows, columns = nodes.shape[1:]
    # Nodes inside of the picture, or the only ones that there are.
    i = np.unique(np.linspace(1, max(1, min(rows - 1, height // STEP + 1)), 8).astype(int))
    j = np.unique(np.linspace(1, max(1, min(columns - 1, width // STEP + 1)), 8).astype(int))
    gy, gx = np.meshgrid(i, j, indexing="ij")
    sensor = nodes[:, gy, gx].reshape(2, -1)
    there = (to[:, :2].astype(np.float64) @ sensor + to[:, 2:]).T
    long = max(width, height)
    crop = np.stack([((gx - 1) * STEP - width / 2).ravel() / long, ((gy - 1) * STEP - height / 2).ravel() / long], 1)
    fit, *_ = np.linalg.lstsq(np.column_stack([there, np.ones(len(there))]), crop, rcond=None)
    return np.vstack([fit.T, [0, 0, 1]])
