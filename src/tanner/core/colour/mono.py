"""Black and white: how light each hue becomes, and a tint of its shadows and highlights."""

from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.spec import Group, param
from tanner.core.colour.ranges import HUES, coloured, mixed, shares

F64 = NDArray[np.float64]
STRONGEST = 0.10
"""Chroma of Oklab at a tint of 100 %."""


def _weight(name: str) -> Any:
    return param(
        0.0,
        -100.0,
        100.0,
        label=name.capitalize(),
        full=f"{name.capitalize()} as grey",
        unit="%",
        help=f"How light {name} becomes.",
        tab="Weights",
    )


class Mono(Group):
    key: ClassVar[str] = "mono"
    rank: ClassVar[int] = 76
    title: ClassVar[str] = "Black and white"
    about: ClassVar[str] = "Greys by hue, with a tint."

    amount: float = param(
        0.0,
        0.0,
        100.0,
        label="Black and white",
        unit="%",
        help="100 is without colour; less leaves a rest of it.",
        tab="Weights",
    )
    red: float = _weight("red")
    orange: float = _weight("orange")
    yellow: float = _weight("yellow")
    green: float = _weight("green")
    cyan: float = _weight("cyan")
    blue: float = _weight("blue")
    violet: float = _weight("violet")
    pink: float = _weight("pink")
    shadow_hue: float = param(
        60.0,
        0.0,
        360.0,
        label="Hue of shadows",
        unit="°",
        help="Where on the colour circle: 60 is a warm brown.",
        tab="Tint",
    )
    shadow_tint: float = param(0.0, 0.0, 100.0, label="Tint of shadows", unit="%", help="How strong.", tab="Tint")
    highlight_hue: float = param(
        85.0,
        0.0,
        360.0,
        label="Hue of highlights",
        unit="°",
        help="Where on the colour circle: 85 is cream.",
        tab="Tint",
    )
    highlight_tint: float = param(0.0, 0.0, 100.0, label="Tint of highlights", unit="%", help="How strong.", tab="Tint")


def _moved(light: F64, chroma: F64) -> F64:
    """How much lighter a weight of 100 % makes a colour: a strong one more than a weak one, greys not at all; black and white stay."""
    strong = coloured(chroma) * np.clip(chroma / 0.15, 0.3, 1.2)
    return np.asarray(strong * 1.4 * light * (1 - light))


APART = (1, 4, 12)
"""px between the places that are compared, on a picture with a long edge of some 160 px."""
SURE = 0.03
"""Difference of Oklab's lightness from which the order of two places must stay."""
TURNED = 0.01
"""Share of such pairs that may change their order."""
MOST = 60.0
RIDGE = 0.02
"""What holds weights back that change little, as a share of the mean of what they do."""


def weights_for(lab: F64) -> dict[str, float]:
    """Weights for a picture, in %, under which neighbouring colours stay as different as they were, and which of them is lighter too.

    Differences of neighbouring places in Oklab are to become differences of grey: what a weight does to them is linear, so
    that the best weights are a least-squares solution; the sign of a difference is that of its lightness, else of its
    yellowness (yellow is seen as light, blue as dark). They are taken back as far as the order of lightness asks.
    The idea is that of gooch2005 (source: gooch2005), their way of solving it is not used.

    Args:
        lab: (h, w, 3), Oklab of a small picture.
    """
    light, a, b = (lab[..., k] for k in range(3))
    chroma = np.hypot(a, b)
    each = shares(np.rad2deg(np.arctan2(b, a)) % 360) * _moved(light, chroma)  # (8, h, w)
    rows, downs, yellows, sizes = [], [], [], []
    for step in APART:
        for first, second in ((np.s_[:, step:], np.s_[:, :-step]), (np.s_[step:], np.s_[:-step])):
            down, yellow = light[first] - light[second], b[first] - b[second]
            rows.append(
                (each[(slice(None), *_both(first))] - each[(slice(None), *_both(second))]).reshape(len(each), -1)
            )
            downs.append(down.ravel())
            yellows.append(yellow.ravel())
            sizes.append(np.sqrt(down**2 + (a[first] - a[second]) ** 2 + yellow**2).ravel())
    m = np.concatenate(rows, axis=1)
    down, yellow, size = (np.concatenate(v) for v in (downs, yellows, sizes))
    normal = m @ m.T
    scale = float(np.trace(normal)) / len(normal)
    if scale <= 0:
        return dict.fromkeys(HUES, 0.0)  # a picture without colours
    sure = np.abs(down) > SURE

    def off(weights: F64) -> float:
        return float(((np.abs(down + weights @ m) - size) ** 2).sum())

    best = np.zeros(len(normal))
    # What is nearly of one lightness by its yellowness; or all of it by its lightness, which never turns an order.
    for sign in (np.where(np.abs(down) > SURE / 3, np.sign(down), np.sign(yellow)), np.sign(down)):
        wanted = m @ (sign * size - down)
        found = np.clip(np.linalg.solve(normal + RIDGE * scale * np.eye(len(normal)), wanted), -MOST / 100, MOST / 100)
        while sure.any() and np.mean((down + found @ m)[sure] * down[sure] < 0) > TURNED:
            found *= 0.9
        best = min(best, np.round(100 * found) / 100, key=off)
    return {name: float(np.round(100 * v)) + 0.0 for name, v in zip(HUES, best, strict=True)}


def _both(part: Any) -> tuple[Any, ...]:
    return part if isinstance(part, tuple) else (part,)


def weighed(mono: Mono, light: F64, chroma: F64, hue: F64) -> tuple[F64, F64, F64]:
    """Oklab's lightness and the two colour axes after black and white, without its tint; arrays of one shape, hue in degrees."""
    rad = np.deg2rad(hue)
    a, b = chroma * np.cos(rad), chroma * np.sin(rad)
    share = mono.amount / 100
    if not share:
        return light, a, b
    weight = mixed(shares(hue), [getattr(mono, name) / 100 for name in HUES])
    return light + share * weight * _moved(light, chroma), a * (1 - share), b * (1 - share)


def tint(mono: Mono, light: F64) -> tuple[F64, F64]:
    """What the tint adds to the colour axes of a grey of that lightness: full between black and white, none at them."""
    ends = np.sqrt(np.clip(4 * light * (1 - light), 0, 1))
    tints = ((mono.shadow_hue, mono.shadow_tint, 1 - light), (mono.highlight_hue, mono.highlight_tint, light))
    more = [(mono.amount / 100 * t / 100 * STRONGEST * part * ends, np.deg2rad(h)) for h, t, part in tints]
    return sum(c * np.cos(h) for c, h in more), sum(c * np.sin(h) for c, h in more)


def greyed(mono: Mono, light: F64, chroma: F64, hue: F64) -> tuple[F64, F64, F64]:
    """`weighed`, then `tint`."""
    light, a, b = weighed(mono, light, chroma, hue)
    more = tint(mono, light)
    return light, a + more[0], b + more[1]
