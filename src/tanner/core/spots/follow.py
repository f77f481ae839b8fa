"""Where a lead's spots lie on another frame, and whether what lies there is still the same.

What holds to the setup goes by features off the subject: a camera that stands still needs none. What holds to the subject goes
by the features of the subject near by, so that a thing that is turned carries its scratches along. Then both pictures are laid
over one another around the place: where they differ, something else lies there, and the spot is left alone.
"""

from collections.abc import Mapping
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.areas.follow import EDGE, FEW, MANY, Features, map_of, pairs, through
from tanner.core.areas.place import SURE
from tanner.core.spots.declare import SpotParts

F32 = NDArray[np.float32]
F64 = NDArray[np.float64]
STILL = 1.2 / EDGE
"""A camera whose features moved by less stood still."""
NEAR, AROUND = 24, 0.22
"""Features that say how the subject moved at a place, and how far off (shares of the long edge) they may lie."""
UNLIKE = 3.0
"""From how much of what a rim itself varies by (and of the least that the eye sees) it counts as another thing's."""
MANY_THERE = 120
"""Features of a setup of which some are found again where it is the same."""
LEAST = 5.0
"""Grey levels of 255 by which two pictures of the same thing differ anyway."""
Found = tuple[list[float], str]
"""The map (see `place.Again`), and why the spot is left alone: "", "covered" or "lost"."""


@dataclass(frozen=True)
class SpotLead:
    """A lead: features over all of it, and its subject, (h, w) from 0 to 1 over the frame, where one was found."""

    features: Features
    subject: F32 | None


def spots_again(lead: SpotLead, here: Features, spots: Mapping[str, SpotParts]) -> dict[str, Found]:
    """How spots of a lead come to lie on a frame, by their ids."""
    start, end = pairs(lead.features, here)
    on = _on_subject(lead, start)
    setup = _setup(start[~on], end[~on], int((~_on_subject(lead, lead.features.at)).sum()))
    grey = here.grey.astype(np.float32)
    shown = grey, np.ones_like(grey)
    found: dict[str, Found] = {}
    for ident, spot in spots.items():
        if spot.holds == "subject":
            way = _near(start[on], end[on], np.mean(spot.path, axis=0))
        else:
            way = setup
        if way is None:
            found[ident] = [*np.eye(3).ravel()[:8].tolist(), 0.0], "lost"
            continue
        m, sure = way
        why = "" if _same(lead.features, shown, m, spot) else "covered"
        rounded = [round(float(v), 7) for v in m.ravel()[:8]]
        found[ident] = [*rounded, round(min(sure, SURE / 2) if why else sure, 3)], why
    return found


def _on_subject(lead: SpotLead, at: F64) -> NDArray[np.bool_]:
    if lead.subject is None or not len(at):
        return np.zeros(len(at), bool)
    h, w = lead.subject.shape
    x, y = (at * max(h, w) + ((w - 1) / 2, (h - 1) / 2)).T
    xs, ys = np.clip(np.rint(x), 0, w - 1).astype(int), np.clip(np.rint(y), 0, h - 1).astype(int)
    return np.asarray(lead.subject[ys, xs] > 0.5)


def _setup(start: F64, end: F64, count: int) -> tuple[F64, float] | None:
    """How the camera moved, and how sure that is; it stood still where nothing says otherwise.

    Args:
        count: features of the lead off its subject: of many some have to be here, or this is another setup.
    """
    still = int((np.linalg.norm(end - start, axis=1) < STILL).sum()) if len(start) else 0
    moved, agree = map_of(start, end)
    if moved is not None and still < 0.8 * agree:
        return moved, min(1.0, agree / 30)
    if still < FEW and count > MANY_THERE:
        return None
    # Even ground has no features: nothing else is known then.
    return np.eye(3), 1.0 if still >= MANY else 0.6


def _near(start: F64, end: F64, at: F64) -> tuple[F64, float] | None:
    """How the subject moved, grew and turned at a place, by the features near it; else as a whole."""
    if len(start) < FEW:
        return None
    far = np.linalg.norm(start - at, axis=1)
    near = np.argsort(far)[:NEAR]
    near = near[far[near] < AROUND]
    if len(near) >= FEW:
        fit, agree = cv2.estimateAffinePartial2D(
            start[near] * EDGE, end[near] * EDGE, method=cv2.RANSAC, ransacReprojThreshold=2.5, maxIters=2000
        )
        count = 0 if fit is None else int(agree.sum())
        if count >= max(5, 0.3 * len(near)) and 0.4 < np.hypot(*fit[:, 0]) < 2.5:
            m = np.vstack([fit[:, :2], np.zeros((1, 2))])
            return np.column_stack([m, [*(fit[:, 2] / EDGE), 1.0]]), min(1.0, count / 12)
    moved, count = map_of(start, end)
    return None if moved is None else (moved, min(1.0, count / 30))


def _same(lead: Features, shown: tuple[F32, F32], m: F64, spot: SpotParts) -> bool:
    """Whether a frame shows around a spot what the lead shows there: laid over one another by the map, but for light.

    Args:
        shown: the frame's grey picture, and ones of its size.
    """
    h, w = lead.grey.shape
    long = max(h, w)
    points = np.asarray(spot.path) * long + ((w - 1) / 2, (h - 1) / 2)
    radius = max(spot.size * long, 1.0)
    rim = radius + max(7.0, 0.8 * radius)
    low, high = np.floor(points.min(axis=0) - rim).astype(int), np.ceil(points.max(axis=0) + rim).astype(int) + 1
    left, top = max(0, low[0]), max(0, low[1])
    right, bottom = min(w, high[0]), min(h, high[1])
    if right - left < 3 or bottom - top < 3:
        return True  # beyond the frame nothing is healed anyway
    gh, gw = shown[0].shape
    to_lead = np.array([[long, 0, (w - 1) / 2 - left], [0, long, (h - 1) / 2 - top], [0, 0, 1.0]])
    to_here = np.array([[max(gh, gw), 0, (gw - 1) / 2], [0, max(gh, gw), (gh - 1) / 2], [0, 0, 1.0]])
    back = to_here @ m @ np.linalg.inv(to_lead)
    size, flags = (int(right - left), int(bottom - top)), cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
    b, inside = (cv2.warpPerspective(v, back, size, flags=flags) for v in shown)
    seen = inside > 0.5
    a = lead.grey[top:bottom, left:right].astype(np.float32)
    cover = np.zeros(a.shape, np.uint8)
    corner = np.rint(points - (left, top)).astype(np.int32)
    wide = max(1, round(2 * radius * 1.25))
    if spot.closed and len(corner) > 2:
        cv2.fillPoly(cover, [corner], 1)
    cv2.polylines(cover, [corner], spot.closed, 1, wide) if len(corner) > 1 else cv2.circle(
        cover, corner[0].tolist(), wide // 2 + 1, 1, -1
    )
    around = (cover == 0) & seen
    if around.sum() < 12:
        return bool(seen.mean() > 0.5)
    if _blemished(a, b, cover > 0, around):
        return True
    # A little out of place is no other thing: edges are calmed.
    a, b = (cv2.GaussianBlur(v, (0, 0), 1.5) for v in (a, b))
    x, y = a[around], b[around]
    here, there = _median(x), _median(y)
    off = y - float(np.clip(there / max(here, 1.0), 0.6, 1.6)) * x
    step = abs(there - here)
    varied = _median(np.abs(x - np.float32(here))) * 1.4826
    left_over = float(np.sqrt(np.mean(np.minimum(np.abs(off), 60.0) ** 2)))
    return left_over < max(UNLIKE * LEAST, 0.9 * varied) and step < 48


def _median(values: F32) -> float:
    """The median of some; numpy's own takes five times as long for a few hundred."""
    k = len(values) // 2
    if len(values) % 2:
        return float(np.partition(values, k)[k])
    two = np.partition(values, (k - 1, k))
    return float(0.5 * (two[k - 1] + two[k]))


def _blemished(a: F32, b: F32, cover: NDArray[np.bool_], around: NDArray[np.bool_]) -> bool:
    """Whether what is wrong in one picture is wrong in the other: a bubble in glass stays, whatever moves behind it."""
    if not cover.any():
        return False
    fine = [v - cv2.GaussianBlur(v, (0, 0), 4.0) for v in (a, b)]
    x, y = (v[cover] - np.float32(_median(v[around])) for v in fine)
    own = float(np.sqrt((x * x).mean()))
    # It has to stand out from what is around it in both.
    noise = max(float(fine[1][around].std()), 1.0)
    share = float((x * y).mean()) / max(own * own, 1e-6)
    bottom = float(np.sqrt((x * x).mean() * (y * y).mean()))
    alike = float((x * y).mean()) / max(bottom, 1e-6)
    return own > 3.0 and alike > 0.75 and 0.4 < share < 2.5 and float(np.sqrt((y * y).mean())) > 1.2 * noise


def placed(spot: SpotParts, m: F64) -> SpotParts:
    """A spot as it lies on the frame that a map was found for."""
    at = through(m, np.asarray(spot.path, np.float64))
    middle = np.mean(spot.path, axis=0)
    step = 1e-4
    corner = through(m, np.array([middle, middle + (step, 0), middle + (0, step)]))
    scale = float(np.sqrt(abs(np.linalg.det((corner[1:] - corner[0]) / step))))
    along = [tuple(p) for p in through(m, np.asarray(spot.along, np.float64)).tolist()] if spot.along else []
    there = {"path": [tuple(p) for p in at.tolist()], "size": spot.size * scale, "along": along}
    return spot.model_copy(update={**there, "found": []})
