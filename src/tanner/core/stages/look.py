"""A look from a .cube file, after tone."""

from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from tanner.core.colour.camera import Profile
from tanner.core.colour.profile_store import PROFILE_STORE
from tanner.core.jit import kernel
from tanner.core.stages.stage import F32, At, Stage, StageFrame
from tanner.core.tone import cube

if TYPE_CHECKING:
    from tanner.core.adjust.registry import Development


class Look(NamedTuple):
    """See `cube.apply_cube` for what each is."""

    on: bool
    cube: F32
    line: F32
    to: F32
    back: F32
    domain: F32
    display: bool
    amount: np.float32


@kernel
def look_row(r: F32, g: F32, b: F32, at: At, p: Look) -> None:
    cube.apply_cube(r, g, b, p.cube, p.line, p.to, p.back, p.domain, p.display, p.amount, at.n)


def _prepare(frame: StageFrame, development: "Development", moved: bool) -> Look:
    profile = development.group(Profile)
    look = cube.LookTable(PROFILE_STORE.cube(profile.look), profile.look_space == "display", profile.look_amount / 100)
    return Look(bool(look.amount > 0), look.cube, look.line, look.to, look.back, look.domain, look.display, look.amount)


STAGE = Stage("look", prepare=_prepare, row=look_row)
