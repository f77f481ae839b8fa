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
    from tanner.core.areas.look import Look
    from tanner.core.colour.camera import CameraColour
    from tanner.core.optics.geometry import Geometry
    from tanner.core.raw.reader import Source

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
class Frame:
    """What stages may ask of the frame that they are prepared for, at one output size.

    Attributes:
        camera: its colour by the profile in force; white: chromaticity of the light that is taken as white.
        numbers: (3,) camera numbers of that white, the largest at 1; pre: (3,) the balance before demosaicing.
        ev: exposure in stops, the file's and the profile's share in it.
        space: one of `SPACES`.
        guide: makes the base layer (see `tone.base`); layer: one of the finer ones by its name; haze: see `tone.haze`.
        look: makes what masks are read from, see `areas.look`.
        noise: deviation of the roots of balanced values.
    """

    source: "Source"
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
    look: Callable[[], "Look"]
    noise: Callable[[], float]

    @property
    def table_first(self) -> bool:
        """A hue and saturation table comes before exposure, as the DNG specification orders it (source: dng17)."""
        return bool(self.camera.hue_sat) or self.camera.input_table is not None


Prepare = Callable[["Frame", "Development", bool], Any]


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
    """

    name: str
    groups: tuple[type[Group], ...] = ()
    prepare: Prepare | None = None
    row: Callable[..., None] | None = None
    fields: int = 0
    start: Callable[[Any], Sequence[float]] | None = None
    moves: Callable[["Frame", Mapping[str, Any]], Sequence[float]] | None = None
    row_fields: Callable[..., None] | None = None


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


def fuse(stages: Sequence[Stage], name: str, *, with_fields: bool = False) -> Callable[..., None]:
    """One function for kernels that runs the row kernels of stages in order, each when it is on.

    Without fields its arguments are (r, g, b, at, parameters), with them also field (fields, n) and used bool (fields,).
    The calls are written out as text because numba cannot loop over functions of different types.

    Args:
        name: no other function of a process may have it.
    """
    arguments = "r, g, b, at, parameters" + (", field, used" if with_fields else "")
    lines, known, first = [f"def {name}({arguments}):"], {}, 0
    for stage in stages:
        known[stage.name] = stage.row
        plain = f"{stage.name}(r, g, b, at, parameters.{stage.name})"
        lines.append(f"    if parameters.{stage.name}.on:")
        if with_fields and stage.row_fields is not None:
            known[f"{stage.name}_fields"] = stage.row_fields
            used = " or ".join(f"used[{n}]" for n in range(first, first + stage.fields))
            local = f"{stage.name}_fields(r, g, b, at, parameters.{stage.name}, field[{first}:{first + stage.fields}])"
            # A stage whose parameters no area moves goes as without areas.
            lines += [f"        if {used}:", f"            {local}", "        else:", f"            {plain}"]
        else:
            lines.append(f"        {plain}")
        first += stage.fields
    exec("\n".join(lines), known)
    written = known[name]

    # numba asks for a function of exactly these arguments.
    if with_fields:

        def fused(r, g, b, at, parameters, field, used):  # type: ignore[no-untyped-def]
            raise NotImplementedError("runs inside kernels only")

        @overload(fused)
        def _with(r, g, b, at, parameters, field, used):  # type: ignore[no-untyped-def]
            return written
    else:

        def fused(r, g, b, at, parameters):  # type: ignore[no-untyped-def,misc]
            raise NotImplementedError("runs inside kernels only")

        @overload(fused)
        def _without(r, g, b, at, parameters):  # type: ignore[no-untyped-def]
            return written

    return fused
