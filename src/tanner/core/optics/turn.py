"""Quarter turns and mirroring of a picture that is cropped and corrected already: the same part stays kept."""

from typing import Literal

import numpy as np

from tanner.core.optics.perspective import angles, rotation


def turned(
    settings: dict[str, float | str | bool], by: Literal["90", "180", "270", "mirror"]
) -> dict[str, float | str | bool]:
    """Settings of crop and perspective after another quarter turn (clockwise) or a mirroring of the picture as seen.

    What is kept stays the same part of the picture.

    Args:
        settings: values by full name; what is left out is neutral.
    """
    value = {**_TURN_NEUTRAL, **settings}
    left, top, right, bottom = (float(value[f"crop.{k}"]) for k in ("left", "top", "right", "bottom"))
    vertical, horizontal = float(value["perspective.vertical"]), float(value["perspective.horizontal"])
    if by == "mirror":
        return {
            "crop.mirror": not value["crop.mirror"],
            "crop.left": 1 - right,
            "crop.right": 1 - left,
            "crop.straighten": -float(value["crop.straighten"]) + 0.0,
            "perspective.horizontal": -horizontal + 0.0,
        }
    result: dict[str, float | str | bool] = {}
    # Mirrored pictures turn the other way underneath.
    step = int(by) if not value["crop.mirror"] else 360 - int(by)
    result["crop.turn"] = str((int(value["crop.turn"]) + step) % 360)
    for _ in range(int(by) // 90):
        left, top, right, bottom = 1 - bottom, left, 1 - top, right
    ratio = str(value["crop.ratio"])
    if int(by) % 180 and ":" in ratio:
        a, b = ratio.split(":")
        result["crop.ratio"] = f"{b}:{a}"
    result |= {"crop.left": left, "crop.top": top, "crop.right": right, "crop.bottom": bottom}
    if vertical or horizontal:
        # Angles about turned axes: the same rotation, taken apart again. What rolls goes to the straightening.
        quarter = np.linalg.matrix_power(np.array([[0, -1, 0], [1, 0, 0], [0, 0, 1]]), int(by) // 90)
        vertical, horizontal, roll = angles(quarter @ rotation(vertical, horizontal) @ quarter.T)
        straighten = float(value["crop.straighten"]) + roll
        result |= {
            "perspective.vertical": vertical,
            "perspective.horizontal": horizontal,
            "crop.straighten": straighten,
        }
    stretch = float(value["perspective.stretch"])
    if stretch and int(by) % 180:
        result["perspective.stretch"] = max(-30.0, 100 / (1 + stretch / 100) - 100)
    return {k: round(v, 5) if isinstance(v, float) else v for k, v in result.items()}


_TURN_NEUTRAL: dict[str, float | str | bool] = {
    "crop.left": 0.0, "crop.top": 0.0, "crop.right": 1.0, "crop.bottom": 1.0, "crop.turn": "0", "crop.mirror": False,
    "crop.ratio": "free", "crop.straighten": 0.0, "perspective.vertical": 0.0, "perspective.horizontal": 0.0,
    "perspective.stretch": 0.0,
}  # fmt: skip
