"""A camera profile's two tables: by hue and saturation before exposure, and its look after it (source: dng17)."""

from collections.abc import Callable, Hashable
from typing import TYPE_CHECKING, NamedTuple

import numpy as np
from numpy.typing import NDArray

from tanner.core.colour.camera import Profile
from tanner.core.colour.dcp import HueSatTable as ProfileTable
from tanner.core.jit import kernel
from tanner.core.memory import Slot
from tanner.core.stages.stage import F32, At, Stage, StageFrame
from tanner.core.tone.table import NO_TABLE, apply_table, packed

if TYPE_CHECKING:
    from tanner.core.adjust.registry import Development

PACKED: Slot[tuple[F32, NDArray[np.int32]]] = Slot("profile tables", keep=4, heavy=True, shared=True)
"""Tables as the kernel reads them, by which of the two, the profile, and the white."""


class Table(NamedTuple):
    """
    Attributes:
        cells, size: as `tone.table.packed` gives them; gain: exposure as a factor after the table.
    """

    on: bool
    cells: F32
    size: NDArray[np.int32]
    gain: np.float32


@kernel
def table_row(r: F32, g: F32, b: F32, at: At, p: Table) -> None:
    apply_table(r, g, b, p.cells, p.size, p.gain, at.n)


NOTHING = Table(False, NO_TABLE, np.zeros(4, np.int32), np.float32(1))


def _laid_out(frame: StageFrame, make: Callable[[], ProfileTable], key: Hashable, gain: float) -> Table:
    def laid() -> tuple[F32, NDArray[np.int32]]:
        table = make()
        return packed(table.cells, table.srgb)

    return Table(True, *frame.source.memory.get(PACKED, key, laid), np.float32(gain))


def _hue_sat(frame: StageFrame, development: "Development", moved: bool) -> Table:
    camera = frame.camera
    if not camera.hue_sat:
        return NOTHING
    # Where an input table comes first, exposure was done with it.
    gain = 2.0**frame.ev if camera.input_table is None else 1.0
    key = "hue_sat", development.group(Profile).camera, frame.white
    return _laid_out(frame, lambda: camera.hue_sat_at(frame.white), key, gain)


def _look(frame: StageFrame, development: "Development", moved: bool) -> Table:
    look = frame.camera.look
    return NOTHING if look is None else _laid_out(frame, lambda: look, ("look", development.group(Profile).camera), 1.0)


HUE_SAT = Stage("hue_sat", prepare=_hue_sat, row=table_row)
LOOK = Stage("profile_look", prepare=_look, row=table_row)
