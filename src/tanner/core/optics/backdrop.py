"""A plain backdrop carried on beyond the picture's border: its gradient, its level at the border, its noise.

Method (our own): along each side the level of a narrow band is read, and its running median is taken. Where the band lies
near that it is backdrop; where it does not, the level goes straight on between its neighbours. Beyond the border the
level goes on by the gradient that the backdrop has towards it, ever more slowly, and the farther out the more its level
is that of a longer stretch of the border, so that no streaks run outwards. The noise is a piece of the backdrop itself at
the same scale, without its gradient. A side with too much else on it is not plain, and that is said; where something
small reaches the border it ends there, and that is said as well.
"""

from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.optics.crop import BEYOND

F32 = NDArray[np.float32]
BAND = 0.03
"""Width of the band along the border whose level is carried on, in shares of the frame."""
SLOPE = 0.10
"""Width of the band whose gradient is carried on."""
PLAIN = 0.04
"""How far, relatively, a plain backdrop may lie off its curve (averaged over about a 200th of the frame)."""
MOST_ODD = 0.12
"""The share of a side that may be something else."""
SLOWS = 0.15
SPREADS = (1.5, 6.0, 18.0)
"""How far along the border levels are averaged, in px of the small picture: near it, and at two distances from it."""
SIDES = ("left", "top", "right", "bottom")


@dataclass(frozen=True)
class Backdrop:
    """Linear planes that reach BEYOND the frame on all sides, and what is to be said.

    Attributes:
        planes: float32 (3, h, w), over shares -BEYOND to 1 + BEYOND both ways.
        odd: for each of SIDES the share of its band that is no backdrop.
        plain: (h, w) of the frame itself, True where it lies on the surface.
    """

    planes: F32
    odd: tuple[float, float, float, float]
    plain: NDArray[np.bool_]

    def notes(self, sides: tuple[bool, bool, bool, bool]) -> list[str]:
        """What to know about the sides that are asked for."""
        found = []
        for name, share, asked in zip(SIDES, self.odd, sides, strict=True):
            if asked and share > MOST_ODD:
                found.append(
                    f"The {name} border is not plain: {share:.0%} of it is no even backdrop. What is shown there is a guess."
                )
            elif asked and share > 0.01:
                found.append(f"Something reaches the {name} border and ends there ({share:.0%} of it).")
        return found


def carried_on(picture: F32) -> Backdrop:
    """Carry the border of a small linear picture on.

    Args:
        picture: float32 (3, h, w), the whole frame; about 200 px long is enough.
    """
    _, h, w = picture.shape
    level = max(float(np.median(picture)), 1e-5)
    logs = np.log(np.maximum(picture, level * 0.02)).astype(np.float64)
    # Each side as rows that run along it, the outermost first.
    sides = [logs.transpose(0, 2, 1), logs, logs[:, :, ::-1].transpose(0, 2, 1), logs[:, ::-1]]
    borders = [_border(side) for side in sides]
    mx, my = round(BEYOND * w), round(BEYOND * h)
    ey, ex = np.mgrid[-my : h + my, -mx : w + mx]
    bx, by = np.clip(ex, 0, w - 1), np.clip(ey, 0, h - 1)
    inside = (ex == bx) & (ey == by)
    total, weight = np.zeros((3, *ex.shape)), np.zeros(ex.shape)
    steps = ((bx - ex) / w, (by - ey) / h, (ex - bx) / w, (ey - by) / h)
    along = (by, bx, by, bx)
    lengths = (w, h, w, h)
    for n, (levels, slope, _) in enumerate(borders):
        out = np.maximum(steps[n], 0.0)
        # In a corner both sides have a say, by how far out of each a place lies.
        say = out**2
        near = np.clip(out / (2 * SPREADS[1] / lengths[n]), 0, 2)
        index = np.minimum(near.astype(int), 1)
        share = near - index
        at = along[n]
        value = levels[index, :, at] * (1 - share)[..., None] + levels[index + 1, :, at] * share[..., None]
        value = value + slope[:, at].transpose(1, 2, 0) * (SLOWS * (1 - np.exp(-out / SLOWS)))[..., None]
        total += say * np.moveaxis(value, -1, 0)
        weight += say
    filled = total / np.maximum(weight, 1e-12)
    planes = np.exp(np.where(inside, logs[:, by, bx], filled)).astype(np.float32)
    odd = tuple(float(b[2].mean()) for b in borders)
    return Backdrop(planes, odd, _plain(logs, borders))  # type: ignore[arg-type]


def _border(rows: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.bool_]]:
    """Levels (3 spreads, 3 colours, n) along a side, gradient outwards per frame (3, n), and what is no backdrop (n,).

    Args:
        rows: (3, depth, n), the side's border first.
    """
    depth, n = rows.shape[1:]
    band, deep = max(2, round(BAND * depth)), max(4, round(SLOPE * depth))
    outer = rows[:, :band].mean(axis=1)
    spread = rows[:, :band].std(axis=1).max(axis=0)
    inner = rows[:, band:deep].mean(axis=1)
    curves = np.stack([_curve(v) for v in outer])
    odd = (np.abs(outer - curves).max(axis=0) > 2 * PLAIN) | (spread > 2 * PLAIN) | _apart(outer)
    odd = cv2.dilate(odd.astype(np.uint8)[None], np.ones((1, 5), np.uint8))[0] > 0
    # The outermost row's own level, not the band's mean: no step may be seen at the border. Over what is odd the
    # level goes straight on from its neighbours.
    edge = rows[:, 0].copy()
    if odd.any() and not odd.all():
        places = np.arange(n)
        for c in range(3):
            edge[c, odd] = np.interp(places[odd], places[~odd], curves[c][~odd])
    levels = np.stack(
        [cv2.GaussianBlur(edge, (0, 0), sigmaX=k, sigmaY=0.01, borderType=cv2.BORDER_REPLICATE) for k in SPREADS]
    )
    run = (deep + band) / 2 - band / 2
    slope = np.where(odd, 0.0, np.clip((outer - inner) / run * depth, -1.5, 1.5))
    slope = cv2.GaussianBlur(slope, (0, 0), sigmaX=n / 12, sigmaY=0.01, borderType=cv2.BORDER_REPLICATE)
    return levels, slope, odd


def _curve(values: NDArray[np.float64]) -> NDArray[np.float64]:
    """The running median over a tenth of a side: keeps slopes, soft shadows and steps, and leaves out what is small."""
    k = max(2, len(values) // 20)
    padded = np.pad(values, k, mode="reflect", reflect_type="odd")
    return np.median(np.lib.stride_tricks.sliding_window_view(padded, 2 * k + 1), axis=-1)


def _apart(levels: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Parts of a side behind a hard edge that do not take the backdrop's level up again: things, no backdrop.

    Parts are judged from the longest one outwards, each by the level that the last one of the backdrop ended with.
    """
    n = levels.shape[1]
    hard = np.abs(levels[:, 2:] - levels[:, :-2]).max(axis=0) > 3 * PLAIN
    hard = np.concatenate([[False], hard, [False]])
    ends = np.flatnonzero(np.diff(np.concatenate([[True], hard, [True]]).astype(int)))
    parts = [(a, b) for a, b in zip(ends[::2], ends[1::2], strict=False) if b > a]
    result = hard.copy()
    if not parts:
        return np.ones(n, bool)
    longest = max(range(len(parts)), key=lambda k: parts[k][1] - parts[k][0])
    for way in (range(longest + 1, len(parts)), range(longest - 1, -1, -1)):
        first, last = parts[longest]
        end = last - 1 if way.step > 0 else first
        for k in way:
            a, b = parts[k]
            near, far = (a, b - 1) if way.step > 0 else (b - 1, a)
            # By how much the level was on its way: a soft shadow goes on behind a cord.
            before = int(np.clip(end - 4 * way.step, 0, n - 1))
            way_on = (levels[:, end] - levels[:, before]) / 4 * abs(near - end)
            if np.abs(levels[:, near] - levels[:, end] - np.clip(way_on, -0.3, 0.3)).max() > 4 * PLAIN:
                result[a:b] = True
            else:
                end = far
    return result


def _plain(logs: NDArray[np.float64], borders: list[tuple[Any, Any, NDArray[np.bool_]]]) -> NDArray[np.bool_]:
    """Where the frame is smooth and joined to a plain part of its border."""
    _, h, w = logs.shape
    rough = np.zeros((h, w))
    for c in range(3):
        plane = logs[c].astype(np.float32)
        rough = np.maximum(rough, np.abs(plane - cv2.blur(plane, (7, 7))))
    # Noise is not roughness: what the border itself has is allowed.
    edge = np.concatenate([rough[:4].ravel(), rough[-4:].ravel(), rough[:, :4].ravel(), rough[:, -4:].ravel()])
    smooth = (cv2.blur(rough, (5, 5)) < max(PLAIN / 2, 2.0 * float(np.median(edge)))).astype(np.uint8)
    count, labels = cv2.connectedComponents(smooth)
    left, top, right, bottom = (b[2] for b in borders)
    touching = set(labels[~left, 0]) | set(labels[0, ~top]) | set(labels[~right, -1]) | set(labels[-1, ~bottom])
    joined = np.isin(labels, [t for t in touching if t > 0]) if count > 1 else smooth > 0
    return joined & (smooth > 0)


def _terms(x: NDArray[np.float64], y: NDArray[np.float64]) -> NDArray[np.float64]:
    u, v = x - 0.5, y - 0.5
    return np.stack([np.ones_like(u), u, v, u * u, u * v, v * v], axis=-1)


def without_gradient(piece: F32) -> F32:
    """A piece of backdrop (3, h, w) as relative deviations from its own quadratic surface: the noise."""
    _, h, w = piece.shape
    y, x = np.mgrid[0:h, 0:w]
    terms = _terms((x.ravel() + 0.5) / w, (y.ravel() + 0.5) / h)
    result = np.empty_like(piece)
    for c in range(3):
        values = piece[c].ravel().astype(np.float64)
        surface = terms @ np.linalg.lstsq(terms, values, rcond=None)[0]
        result[c] = (values / np.maximum(surface, 1e-6) - 1).reshape(h, w)
    return np.clip(result, -0.9, 3.0)


def quietest(plain: NDArray[np.bool_], window: tuple[float, float, float, float]) -> tuple[float, float, float] | None:
    """Middle and half side, in shares of the frame, of the largest plain square inside a window; None without one.

    Half the side is a share of the frame's longer side.
    """
    h, w = plain.shape
    left, top, right, bottom = (round(v * n) for v, n in zip(window, (w, h, w, h), strict=True))
    inner = np.zeros((h + 2, w + 2), np.uint8)
    inner[1:-1, 1:-1][max(top, 0) : bottom, max(left, 0) : right] = plain[max(top, 0) : bottom, max(left, 0) : right]
    reach = cv2.distanceTransform(inner, cv2.DIST_C, 3)[1:-1, 1:-1]
    y, x = np.unravel_index(int(reach.argmax()), reach.shape)
    if reach[y, x] < 3:
        return None
    return (float(x) + 0.5) / w, (float(y) + 0.5) / h, (float(reach[y, x]) - 1) / max(h, w)
