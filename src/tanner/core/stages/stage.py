"""What a stage of the main path declares. A stage is one file: its adjustments, its parameters, its kernel, its `STAGE`."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.spec import Group
from tanner.core.jit import kernel, overload

if TYPE_CHECKING:
    from tanner.core.adjust.registry import Development
    from tanner.core.areas.look import AreaLook
    from tanner.core.colour.camera import CameraColour
    from tanner.core.optics.geometry import Geometry
    from tanner.core.raw.source import Source

F32 = NDArray[np.float32]
F64 = NDArray[np.float64]
WORK_ROWS = 8
HELD = 16


class At(NamedTuple):
    """Where a row of px lies, and room to work in.

    Attributes:
        y, x0: its first px in the output of width and height px; n: its length.
        work: float32 (WORK_ROWS, n), free for every stage.
        held: float32 (HELD, n) and state: int64 (HELD / 4,), which stay from row to row: four rows and a number for each
            layer that is read (see `local`).
    """

    y: int
    x0: int
    width: int
    height: int
    n: int
    work: F32
    held: F32
    state: NDArray[np.int64]


@dataclass(frozen=True)
class StageFrame:
    """What stages may ask of the frame that they are prepared for, at one output size.

    Attributes:
        source: without its noise and spots where that was done; original: as it was read, which masks go by.
        camera: its colour by the profile in force; white: chromaticity of the light that is taken as white.
        numbers: (3,) camera numbers of that white, the largest at 1; pre: (3,) the balance before demosaicing.
        ev: exposure in stops, the file's and the profile's share in it.
        space: one of `SPACES`.
        guide: makes the base layer (see `tone.base`); layer: one of the finer ones by its name; haze: see `tone.haze`.
        look: makes what masks are read from, see `areas.look`.
        blurred: makes the picture blurred inside of an area, see `stages.blur`: by its id, its parts and all areas' by their ids.
        noise: deviation of the roots of balanced values.
    """

    source: "Source"
    original: "Source"
    camera: "CameraColour"
    white: tuple[float, float]
    numbers: F64
    pre: F64
    ev: float
    geometry: "Geometry"
    space: str
    guide: Callable[[], F32]
    layer: Callable[[str], F32]
    haze: Callable[[], tuple[F32, F32]]
    look: Callable[[], "AreaLook"]
    blurred: Callable[[str, Any, Mapping[str, Any]], F32]
    noise: Callable[[], float]

    @property
    def table_first(self) -> bool:
        """A hue and saturation table comes before exposure, as the DNG specification orders it (source: dng17)."""
        return bool(self.camera.hue_sat) or self.camera.input_table is not None


Prepare = Callable[["StageFrame", "Development", bool], Any]


@dataclass(frozen=True)
class Stage:
    """
    Attributes:
        name: also the name of its parameters.
        groups: adjustments that are declared in its file.
        prepare: (frame, development, moved) to a NamedTuple of arrays and numbers whose `on` is False when there is nothing to do;
            moved: areas move its parameters. What costs something is remembered with the source, see `core.memory`.
        row: kernel (r, g, b, at, parameters): float32 rows of n px, changed in place.
        fields: how many of its parameters areas may move, px by px.
        start: what those parameters are without areas, from the stage's own, (fields,).
        moves: (frame, an area's settings) to what the area adds to them where its mask is 1, (fields,).
        row_fields: kernel (r, g, b, at, parameters, field) with field (fields, n): the parameters of each px.
        again: areas may move all else of its adjustments: it is then done once more for each such area, on a copy, and laid in
            by the mask. Its parameters must have one shape whatever their values, and `prepare` gives it them when moved.
        kind: of its parameters, where `again`.
    """

    name: str
    groups: tuple[type[Group], ...] = ()
    prepare: Prepare | None = None
    row: Callable[..., None] | None = None
    fields: int = 0
    start: Callable[[Any], Sequence[float]] | None = None
    moves: Callable[["StageFrame", Mapping[str, Any]], Sequence[float]] | None = None
    row_fields: Callable[..., None] | None = None
    again: tuple[str, ...] = ()
    kind: Any = None


@kernel
def keep_row(r: F32, g: F32, b: F32, to: F32, first: int, n: int) -> None:
    """A row of px into three rows of others."""
    for j in range(n):
        to[first, j] = r[j]
    for j in range(n):
        to[first + 1, j] = g[j]
    for j in range(n):
        to[first + 2, j] = b[j]


@kernel
def lay_in_row(r: F32, g: F32, b: F32, copies: F32, m: F32, n: int) -> None:
    """By a mask, how far rows 6 to 8 of copies differ from rows 3 to 5."""
    for j in range(n):
        r[j] += m[j] * (copies[6, j] - copies[3, j])
    for j in range(n):
        g[j] += m[j] * (copies[7, j] - copies[4, j])
    for j in range(n):
        b[j] += m[j] * (copies[8, j] - copies[5, j])


@kernel
def any_of(which: NDArray[np.int32], touched: NDArray[np.bool_]) -> bool:
    found = False
    for k in range(which.shape[0]):
        found |= touched[which[k]]
    return found


@kernel
def gain_row(r: F32, g: F32, b: F32, gain: F32, n: int) -> None:
    """Multiply a row of px by a gain of its own each."""
    for j in range(n):
        r[j] *= gain[j]
    for j in range(n):
        g[j] *= gain[j]
    for j in range(n):
        b[j] *= gain[j]


def f32(values: Any) -> F32:
    return np.ascontiguousarray(values, dtype=np.float32)


def _written_again(stage: Stage, plain: str) -> list[str]:
    """What is done once more for areas, each on a copy that is laid in by its mask."""
    each = ", ".join(f"areas.again.{stage.name}_{f}[k]" for f in stage.kind._fields)
    return [
        f"if any_of(areas.again.{stage.name}_of, touched):",
        "    keep_row(r, g, b, copies, 0, at.n)",
        f"    if parameters.{stage.name}.on:",
        f"        {plain}",
        "    keep_row(r, g, b, copies, 3, at.n)",
        f"    for k in range(areas.again.{stage.name}_of.shape[0]):",
        f"        if not touched[areas.again.{stage.name}_of[k]]:",
        "            continue",
        "        keep_row(copies[0], copies[1], copies[2], copies, 6, at.n)",
        f"        {stage.name}(copies[6], copies[7], copies[8], at, {stage.name}_kind({each}))",
        f"        lay_in_row(r, g, b, copies, masks[areas.again.{stage.name}_of[k]], at.n)",
        f"elif parameters.{stage.name}.on:",
        f"    {plain}",
    ]


def _written_with_fields(stage: Stage, plain: str, first: int) -> list[str]:
    """A stage whose fields begin at `first`: by its fields where an area moves one in this row."""
    moved = " or ".join(f"moved[{n}]" for n in range(first, first + stage.fields))
    field = f"field[{first}:{first + stage.fields}]"
    return [
        f"if parameters.{stage.name}.on:",
        f"    if {moved}:",
        f"        {stage.name}_fields(r, g, b, at, parameters.{stage.name}, {field})",
        f"    elif areas.alone[{first}]:",
        f"        {plain}",
    ]


ROOM = "planes, y0, x0, width, height, work, held, state"
"""What all functions that `fuse` writes are given: a block, where it lies, and `At`'s room for its rows."""
MORE_ROOM = "areas, field, masks, moved, touched, copies"
"""
With areas besides `fields.Areas`, and of one row: field, float32 (fields, n), parameters of each px; masks, float32 (areas, n); moved,
bool (fields,), whether any area moves it; touched, bool (areas,), whether there is anything in an area's mask; copies, float32 (9, n).
"""


def fuse(
    stages: Sequence[Stage], name: str, fill: Callable[..., None] | None = None, *, with_again: bool = False
) -> Callable[..., None]:
    """One function for kernels that runs the row kernels of stages in order on each row of a block, each when it is on.

    Its arguments are `ROOM`, parameters and, with fields, `MORE_ROOM`. Where no area moves a stage in a row, the stage goes as without
    areas. The rows are gone through within it: the parameters are some hundred arrays, and handing them on takes a tenth of the time.
    The calls are written out as text because numba cannot loop over functions of different types.

    Args:
        name: no other function of a process may have it.
        fill: with fields: what finds out what areas do in a row, see `fields.fill_fields`.
        with_again: besides fields, stages may be done once more for areas. A function of its own: with every stage called in two
            places it is a tenth slower.
    """
    known: dict[str, Any] = {
        "keep_row": keep_row, "lay_in_row": lay_in_row, "any_of": any_of, "fill": fill, "At": At,
    }  # fmt: skip
    each = ["r, g, b = planes[0, i], planes[1, i], planes[2, i]"]
    each.append("at = At(y0 + i, x0, width, height, planes.shape[2], work, held, state)")
    if fill:
        each.append("fill(areas, at.y, at.x0, field, masks, work, at.n, moved, touched)")
    first = 0
    for stage in stages:
        known |= {stage.name: stage.row, f"{stage.name}_fields": stage.row_fields, f"{stage.name}_kind": stage.kind}
        plain = f"{stage.name}(r, g, b, at, parameters.{stage.name})"
        if with_again and stage.again:
            each += _written_again(stage, plain)
        elif fill and stage.row_fields is not None:
            each += _written_with_fields(stage, plain, first)
        else:
            each += [f"if parameters.{stage.name}.on:", f"    {plain}"]
        first += stage.fields
    lines = [
        f"def {name}({ROOM}, parameters{f', {MORE_ROOM}' if fill else ''}):",
        "    for i in range(planes.shape[1]):",
    ]
    exec("\n".join(lines + [f"        {line}" for line in each]), known)
    written = known[name]

    # numba asks for a function of exactly these arguments.
    if fill:

        def fused(
            planes, y0, x0, width, height, work, held, state, parameters, areas, field, masks, moved, touched, copies
        ):  # type: ignore[no-untyped-def]
            raise NotImplementedError("runs inside kernels only")

        @overload(fused)
        def _with(
            planes, y0, x0, width, height, work, held, state, parameters, areas, field, masks, moved, touched, copies
        ):  # type: ignore[no-untyped-def]
            return written
    else:

        def fused(planes, y0, x0, width, height, work, held, state, parameters):  # type: ignore[no-untyped-def,misc]
            raise NotImplementedError("runs inside kernels only")

        @overload(fused)
        def _without(planes, y0, x0, width, height, work, held, state, parameters):  # type: ignore[no-untyped-def]
            return written

    return fused
