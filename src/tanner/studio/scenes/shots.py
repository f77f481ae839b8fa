"""Which scenes there are: name -> (what builds it, the turn, whether the camera stands upright). Portraits: see figure/sitting.py."""

from collections.abc import Callable

from tanner.studio.scenes import products, still, workshop
from tanner.studio.scenes.stage import SceneStage

Builder = Callable[[SceneStage, float], None]

TURNS = (0.0, 40.0, 80.0, 120.0, 160.0, 200.0, 240.0, 280.0, 320.0, 20.0, 60.0, 100.0)
"""Degrees of the lamp: the first shoot has the first five, the sitting behind glass all twelve."""

SHOTS: dict[str, tuple[Builder, float, bool]] = {
    **{f"lamp-{k + 1}": (products.lamp, turn, False) for k, turn in enumerate(TURNS)},
    **{f"instrument-{k + 1}": (products.instrument, (-38.0, -20.0, 0.0, 24.0, 48.0)[k], True) for k in range(5)},
}
SHOTS |= {
    "colour-chart": (still.chart, 0.0, False),
    "detail": (still.detail, 0.0, False),
    "detail-deep": (still.detail_deep, 0.0, False),
    "table-top": (still.table_top, 0.0, False),
    "workshop-1": (workshop.workshop, -30.0, False),
}
