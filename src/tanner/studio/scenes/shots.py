"""Which scenes there are: name -> (what builds it, the turn or pose, whether the camera stands upright)."""

from collections.abc import Callable

from tanner.studio.scenes import people, products, still, workshop
from tanner.studio.scenes.stage import Stage

Builder = Callable[[Stage, float], None]

SHOTS: dict[str, tuple[Builder, float, bool]] = {
    **{f"lamp-{k + 1}": (products.lamp, 40.0 * k, False) for k in range(5)},
    **{f"instrument-{k + 1}": (products.instrument, (-38.0, -20.0, 0.0, 24.0, 48.0)[k], True) for k in range(5)},
}
SHOTS |= {
    "colour-chart": (still.chart, 0.0, False),
    "detail": (still.detail, 0.0, False),
    "table-top": (still.table_top, 0.0, False),
    "workshop-1": (workshop.workshop, -30.0, False),
}


def _posed(person: str, **pose: float) -> tuple[Builder, float, bool]:
    def build(stage: Stage, turn: float) -> None:
        people.portrait(stage, people.PEOPLE[person], people.Pose(**pose))  # type: ignore[arg-type]

    return build, 0.0, True


SHOTS |= {
    "wren-1": _posed("wren", body=-24, head=14, tilt=2, look=-6),
    "wren-2": _posed("wren", body=30, head=-22, tilt=-3, nod=4, look=-4),
    "wren-3": _posed("wren", body=-75, head=8, look=-6),
    "rowan-1": _posed("rowan", body=22, head=-12, tilt=-2),
    "rowan-2": _posed("rowan", body=-38, head=20, nod=6, look=-12),
    "rowan-3": _posed("rowan", body=-160, head=-10, nod=4),
}
