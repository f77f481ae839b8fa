"""The main path of colour and tone: what happens to a row of px, in this order.

Before it stand noise and geometry, after it sharpening and encoding (see `core.render`). A stage is added by its file and one
line here: its adjustments are then declared, shown, followed, carried over, preset and documented as all others are.
"""

from collections import namedtuple
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.spec import Group
from tanner.core.areas.fields import Areas, fill_fields
from tanner.core.jit import kernel
from tanner.core.noise.controls import Noise
from tanner.core.noise.sharpen import Detail
from tanner.core.optics.crop import Crop
from tanner.core.optics.lens import Optics
from tanner.core.optics.perspective import Perspective
from tanner.core.stages import (
    blur,
    camera,
    channels,
    exact,
    haze,
    lightness,
    local,
    look,
    mixer,
    output,
    profile_tables,
    saturation,
    structure,
    tone,
    vignette,
)
from tanner.core.stages.stage import F32, HELD, WORK_ROWS, Stage, StageFrame, fuse

if TYPE_CHECKING:
    from tanner.core.adjust.registry import Development

POINT: tuple[Stage, ...] = (
    blur.STAGE,              # in areas: what is out of focus
    camera.STAGE,            # balanced camera values to the working space, exposure
    profile_tables.HUE_SAT,  # the profile's first table
    haze.STAGE,
    local.STAGE,             # highlights, shadows, local contrast
    structure.STAGE,         # texture and structure
    vignette.STAGE,
    profile_tables.LOOK,     # the profile's second table
    tone.STAGE,              # base curve, contrast, levels, point curve
    channels.STAGE,          # levels and curves of single channels
    lightness.STAGE,         # the curve of lightness alone
    saturation.STAGE,
    mixer.STAGE,             # hue ranges, balance, black and white
    look.STAGE,              # a .cube
    exact.STAGE,             # colours that must be what they are told
    output.STAGE,            # to the output space, then the root
)  # fmt: skip
AROUND: tuple[type[Group], ...] = (Optics, Noise, Detail, Perspective, Crop)
"""Groups of what happens before and after."""
GROUPS: dict[str, type[Group]] = {
    g.key: g for g in sorted({*AROUND, *(g for s in POINT for g in s.groups)}, key=lambda g: g.rank)
}
"""All groups of adjustments, in working order."""
Parameters = namedtuple("Parameters", [s.name for s in POINT])  # type: ignore[misc]
AGAIN: tuple[Stage, ...] = tuple(s for s in POINT if s.again)
Again = namedtuple("Again", [f"{s.name}_{f}" for s in AGAIN for f in ("of", *s.kind._fields)])  # type: ignore[misc]
"""For each stage that areas may have done once more: which areas, int32 (count,), and its parameters' fields for each, stacked."""
_together = fuse(POINT, "point_stages")
_together_with_fields = fuse(POINT, "point_stages_with_fields", fill_fields)
_together_again = fuse(POINT, "point_stages_again", fill_fields, with_again=True)


def parameters(frame: StageFrame, development: "Development", moved: np.ndarray | None = None) -> Any:
    """The parameters of all stages.

    Args:
        moved: bool (fields of all stages,): which of them areas move; None without areas.
    """
    found = []
    for stage, mine in _of_stages():
        assert stage.prepare is not None
        found.append(stage.prepare(frame, development, moved is not None and bool(moved[mine].any())))
    return Parameters(*found)


def again(p: Any, wanted: "dict[str, list[tuple[int, Any]]]") -> Any:
    """`Again` from the parameters of stages for areas: by the stage's name, the area's index and its parameters.

    Args:
        p: `Parameters` of the picture, for what a stage's parameters look like where no area wants it.
    """
    fields: list[Any] = []
    for stage in AGAIN:
        mine = wanted.get(stage.name, [])
        fields.append(np.array([n for n, _ in mine], np.int32))
        for name in stage.kind._fields:
            like = np.asarray(getattr(getattr(p, stage.name), name))
            values = [np.asarray(getattr(each, name)) for _, each in mine]
            fields.append(np.stack(values) if values else np.zeros((0, *like.shape), like.dtype))
    return Again(*fields)


def any_again(found: Any) -> bool:
    """Whether any stage is done once more."""
    return any(len(getattr(found, f"{s.name}_of")) for s in AGAIN)


def starts(p: Any) -> F32:
    """What the fields of all stages are without areas, float32."""
    values = [v for s in POINT if s.start is not None for v in s.start(getattr(p, s.name))]
    return np.array(values, np.float32)


def _of_stages() -> list[tuple[Stage, slice]]:
    """All stages, each with where its fields stand among those of all."""
    found, first = [], 0
    for stage in POINT:
        found.append((stage, slice(first, first + stage.fields)))
        first += stage.fields
    return found


def beside(moved: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """For the fields of all stages, whether any of the same stage is moved, bool."""
    found = np.zeros(len(moved), np.bool_)
    for _, mine in _of_stages():
        found[mine] = moved[mine].any()
    return found


def alone(frame: StageFrame, development: "Development", moved: NDArray[np.bool_], p: Any) -> NDArray[np.bool_]:
    """For the fields of all stages, whether the stage has something to do without areas, bool; see `parameters`, which made p."""
    found = np.zeros(len(moved), np.bool_)
    for stage, mine in _of_stages():
        assert stage.prepare is not None
        # One that no area moves was prepared for the picture alone already.
        found[mine] = (stage.prepare(frame, development, False) if moved[mine].any() else getattr(p, stage.name)).on
    return found


@kernel
def develop_block(planes: F32, y0: int, x0: int, width: int, height: int, p: Any) -> None:
    """From balanced camera values to roots of linear output values, in place.

    Args:
        planes: float32 (3, h, w), which lie at y0, x0 in an output of width and height; p: `Parameters`.
    """
    w = planes.shape[2]
    work, held = np.empty((WORK_ROWS, w), dtype=np.float32), np.empty((HELD, w), dtype=np.float32)
    state = np.full(HELD // 4, -2, dtype=np.int64)
    _together(planes, y0, x0, width, height, work, held, state, p)


@kernel
def develop_block_with_areas(planes: F32, y0: int, x0: int, width: int, height: int, p: Any, areas: Areas) -> None:
    """`develop_block` where areas move parameters of stages."""
    w = planes.shape[2]
    # Never narrower than the nodes of the map that a row needs.
    work, held = np.empty((WORK_ROWS, max(w, 32)), dtype=np.float32), np.empty((HELD, w), dtype=np.float32)
    field = np.empty((areas.start.shape[0], w), dtype=np.float32)
    masks, copies = np.empty((areas.by.shape[0], max(w, 32)), dtype=np.float32), np.empty((9, w), dtype=np.float32)
    moved, touched = np.empty(areas.start.shape[0], np.bool_), np.empty(areas.by.shape[0], np.bool_)
    state = np.full(HELD // 4, -2, dtype=np.int64)
    _together_with_fields(
        planes, y0, x0, width, height, work, held, state, p, areas, field, masks, moved, touched, copies
    )


@kernel
def develop_block_again(planes: F32, y0: int, x0: int, width: int, height: int, p: Any, areas: Areas) -> None:
    """`develop_block_with_areas` where stages are done once more for some of them."""
    w = planes.shape[2]
    work, held = np.empty((WORK_ROWS, max(w, 32)), dtype=np.float32), np.empty((HELD, w), dtype=np.float32)
    field = np.empty((areas.start.shape[0], w), dtype=np.float32)
    masks, copies = np.empty((areas.by.shape[0], max(w, 32)), dtype=np.float32), np.empty((9, w), dtype=np.float32)
    moved, touched = np.empty(areas.start.shape[0], np.bool_), np.empty(areas.by.shape[0], np.bool_)
    state = np.full(HELD // 4, -2, dtype=np.int64)
    _together_again(planes, y0, x0, width, height, work, held, state, p, areas, field, masks, moved, touched, copies)
