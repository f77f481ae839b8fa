"""Areas as the kernel reads them, for one frame at one output size."""

from collections.abc import Sequence

import numpy as np

from tanner.core.adjust.registry import Thing
from tanner.core.areas.declare import masks_of, to_places
from tanner.core.areas.fields import Areas
from tanner.core.stages.path import POINT
from tanner.core.stages.stage import Frame


def areas_of(frame: Frame, things: Sequence[Thing]) -> Areas | None:
    """The areas that change something; None when none does, and everything goes as without areas."""
    rows, there = [], []
    for thing in things:
        row = [v for stage in POINT if stage.moves is not None for v in stage.moves(frame, thing.values)]
        if any(row):
            rows.append(row)
            there.append(thing.parts)
    if not rows:
        return None
    by = np.array(rows, np.float32)
    facts = frame.source.facts
    return Areas(
        masks=masks_of(there),  # type: ignore[arg-type]
        grid=frame.geometry.grid,
        to=to_places((facts.width, facts.height), facts.orientation),
        start=np.zeros(by.shape[1], np.float32),
        by=by,
        used=(by != 0).any(axis=0),
    )
