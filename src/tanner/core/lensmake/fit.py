"""Distortion from straight edges, lateral colour from the seams along them, fall-off from an even surface.

Straight lines have to be straight (source: devernay1995, after brown1971's plumb lines): the coefficients are those
that make the edges of the picture most nearly straight once the lens is undone. The models are those of the open lens
database: `ptlens` for distortion (radius 1 at half of the shorter side), `poly3` for lateral colour, `pa` for fall-off
(radius 1 in the corner).
"""

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.errors import TannerError
from tanner.core.lensmake.edges import Chain

Array = NDArray[np.float64]
F32 = NDArray[np.float32]
LEAST_CHAINS = 6
PER_CHAIN = 60


class MakeError(TannerError):
    """A lens cannot be measured from these frames, with the reason and what to do."""


@dataclass(frozen=True)
class Distortion:
    """a, b, c of r_d = r_u (a r_u^3 + b r_u^2 + c r_u + 1 - a - b - c); residuals in px of the picture."""

    a: float
    b: float
    c: float
    before: float
    after: float
    lines: int


@dataclass(frozen=True)
class Seams:
    """v and b of r_d = r_u (b r_u^2 + v) for red and blue; residuals in px, at the edge points."""

    red: tuple[float, float]
    blue: tuple[float, float]
    before: float
    after: float
    points: int


@dataclass(frozen=True)
class FallOff:
    """k1, k2, k3 of the light that is left, 1 + k1 r^2 + k2 r^4 + k3 r^6; unevenness in EV over the frame."""

    k1: float
    k2: float
    k3: float
    before: float
    after: float


def unbent(points: Array, model: Array, size: tuple[int, int]) -> Array:
    """Ideal positions (N, 2) of recorded ones, in px: Newton's method on the radius."""
    a, b, c = model
    centre, half = np.array(size) / 2, min(size) / 2
    at = (points - centre) / half
    recorded = np.hypot(*at.T)
    r = recorded.copy()
    for _ in range(12):
        value = r * (r * (r * (a * r + b) + c) + 1 - a - b - c) - recorded
        slope = r * (r * (4 * a * r + 3 * b) + 2 * c) + 1 - a - b - c
        r = np.clip(r - value / np.where(np.abs(slope) < 0.05, 0.05, slope), 0, 4 * recorded + 0.1)
    result: Array = at * (r / np.maximum(recorded, 1e-12))[:, None] * half + centre
    return result


def straightness(groups: Sequence[Array]) -> Array:
    """Distances of points from the best line through each group (total least squares), one after the other."""
    off = []
    for points in groups:
        d = points - points.mean(axis=0)
        normal = np.linalg.svd(d, full_matrices=False)[2][-1]
        off.append(d @ normal)
    return np.concatenate(off)


def distortion(frames: Sequence[tuple[Sequence[Chain], tuple[int, int]]]) -> Distortion:
    """Coefficients from the edges of one or several frames of one lens at one focal length.

    Args:
        frames: per frame its chains and its size in px; all sizes are the same.

    Raises:
        MakeError: too few edges, or edges that do not agree.
    """
    size = frames[0][1]
    groups = [_thinned(c.points) for found, _ in frames for c in found[:160]]
    if len(groups) < LEAST_CHAINS:
        raise MakeError(
            f"Only {len(groups)} long edges were found; {LEAST_CHAINS} are needed. Take a frame of shelves, a line grid or a "
            "printed chequerboard that fills the picture."
        )
    reach = max(float(np.hypot(*((g - np.array(size) / 2) / (min(size) / 2)).T).max()) for g in groups)
    if reach < 0.8:
        raise MakeError("All edges lie near the middle, where a lens hardly bends. Fill the picture up to its corners.")
    sizes = [len(g) for g in groups]
    points = np.concatenate(groups)
    cuts = np.cumsum(sizes)[:-1]

    def residual(model: Array) -> Array:
        ideal = unbent(points, model, size)
        # Held in px of the recorded picture, so that a smaller ideal picture wins nothing.
        centre = np.array(size) / 2
        scale = np.hypot(*(points - centre).T) / np.maximum(np.hypot(*(ideal - centre).T), 1e-9)
        return straightness(np.split(ideal, cuts)) * scale

    before = residual(np.zeros(3))
    good = np.ones(len(points), bool)
    model = np.zeros(3)
    for _ in range(3):

        def aim(m: Array, good: NDArray[np.bool_] = good) -> Array:
            return np.concatenate([residual(m)[good], 0.02 * m])

        from scipy.optimize import least_squares  # heavy, and seldom needed

        model = least_squares(aim, model, loss="soft_l1", f_scale=0.3, max_nfev=60).x
        off = residual(model)
        # Edges that are bent by themselves are left out: a cup's rim is no plumb line.
        each = np.array([np.sqrt(np.mean(part**2)) for part in np.split(off, cuts)])
        limit = max(3.0 * float(np.median(each)), 0.15)
        good = np.repeat(each <= limit, sizes)
        if (each <= limit).sum() < LEAST_CHAINS:
            raise MakeError(
                "The edges do not agree on one lens. Are they straight in life, and all frames of one focal length?"
            )
    after = residual(model)[good]
    r = np.linspace(0, reach, 60)
    a, b, c = model
    if ((4 * a * r + 3 * b) * r * r + 2 * c * r + 1 - a - b - c <= 0.1).any():
        raise MakeError(
            "The distortion that these edges ask for folds the picture over. Take a frame with more straight edges."
        )
    lines = int((np.bincount(np.repeat(np.arange(len(sizes)), sizes), weights=good) > 0).sum())
    return Distortion(float(a), float(b), float(c), _rms(before[good]), _rms(after), lines)


def _rms(values: Array) -> float:
    return float(np.sqrt(np.mean(values**2)))


def _thinned(points: Array) -> Array:
    """At most PER_CHAIN points, each the mean of its neighbours: noise falls, the bend stays."""
    if len(points) <= PER_CHAIN:
        return points
    parts = np.array_split(points, PER_CHAIN)
    return np.array([p.mean(axis=0) for p in parts])


@dataclass(frozen=True)
class Samples:
    """One colour as it was sampled: sample (i, j) stands at (step j + x, step i + y) px of the edges' picture."""

    plane: F32
    step: float
    x: float
    y: float

    def profile(self, x: Array, y: Array) -> Array:
        at = [((v - o) / self.step).astype(np.float32) for v, o in ((x, self.x), (y, self.y))]
        return cv2.remap(self.plane, at[0], at[1], cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE).astype(np.float64)


def seams(colours: Sequence[Sequence[Samples]], size: tuple[int, int], found: Sequence[Chain]) -> Seams:
    """Lateral colour: how far red and blue lie from green across edges, fitted over the radius.

    Demosaicing draws the colours together, so that half of a seam is hidden in its result: the mosaic's own samples are
    measured instead.

    Args:
        colours: samples of red, green and blue, of roots of linear numbers; several of a colour are averaged.
        size: width and height of the picture in which the edges were found.
    """
    w, h = size
    points = np.concatenate([c.points[:: max(1, len(c.points) // 120)] for c in found])
    normals = np.concatenate([c.normals[:: max(1, len(c.points) // 120)] for c in found])
    centre, half = np.array([w, h]) / 2, min(w, h) / 2
    radial = (points - centre) / half
    r = np.hypot(*radial.T)
    along = (normals * radial).sum(axis=1) / np.maximum(r, 1e-9)
    use = (np.abs(along) > 0.5) & (r > 0.15)
    if use.sum() < 200:
        raise MakeError("Too few edges lie across the radius, so colour seams cannot be measured.")
    points, normals, r, along = points[use], normals[use], r[use], along[use]
    steps = np.arange(-4, 4.01, 0.5)
    mx, my = points[:, :1] + normals[:, :1] * steps, points[:, 1:] + normals[:, 1:] * steps
    places = []
    sharp = []
    for several in colours:
        measured = [_place_of_edge(s.profile(mx, my), steps) for s in several]
        places.append(np.mean([m[0] for m in measured], axis=0))
        sharp.append(np.all([m[1] for m in measured], axis=0))
    good = sharp[0] & sharp[1] & sharp[2]
    if good.sum() < 200:
        raise MakeError("Too few edges are seen by all three colours, so colour seams cannot be measured.")
    terms = np.stack([r, r**3], axis=1) * (along * half)[:, None]
    result: list[tuple[float, float]] = []
    before: list[float] = []
    after: list[float] = []
    for plane in (0, 2):
        shift = places[plane] - places[1]
        ok = good & (np.abs(shift) < 2.5)

        def aim(m: Array, ok: NDArray[np.bool_] = ok, shift: Array = shift) -> Array:
            return np.asarray(terms[ok] @ m - shift[ok])

        from scipy.optimize import least_squares  # heavy, and seldom needed

        fit = least_squares(aim, np.zeros(2), loss="soft_l1", f_scale=0.1)
        result.append((1 + float(fit.x[0]), float(fit.x[1])))
        # The mean over places of like radius: single points carry the noise of the mosaic.
        bins = np.digitize(r[ok], np.linspace(0.15, r.max(), 9))
        for rest, out in ((shift[ok], before), (shift[ok] - terms[ok] @ fit.x, after)):
            signed = rest * np.sign(along[ok])
            out += [abs(float(np.median(signed[bins == b]))) for b in np.unique(bins) if (bins == b).sum() > 20]
    return Seams(result[0], result[1], float(np.max(before)), float(np.max(after)), int(good.sum()))


def _place_of_edge(profile: Array, steps: Array) -> tuple[Array, NDArray[np.bool_]]:
    """Where across the edge each profile (N, steps) changes most, and whether it changes enough to say so."""
    slope = np.maximum(np.gradient(profile, axis=1) * np.sign(profile[:, -1:] - profile[:, :1]), 0)
    place = np.zeros(len(profile))
    strength = slope.sum(axis=1)
    # Only what belongs to this edge: a window that follows its place, so that it does not draw it to the middle.
    for _ in range(4):
        weight = slope * np.exp(-0.5 * ((steps[None] - place[:, None]) / 1.5) ** 2)
        total = np.maximum(weight.sum(axis=1), 1e-12)
        centre = (weight * steps).sum(axis=1) / total
        # A window of the edge's own width halves each step towards its place: twice the step goes all the way.
        place = np.clip(place + 1.6 * (centre - place), -3, 3)
    return place, strength > 0.015


def fall_off(green: F32) -> FallOff:
    """Fall-off from a frame of an even surface; a gradient of the light over the frame is taken out.

    Args:
        green: float32 (h, w), linear, some hundred px are enough.

    Raises:
        MakeError: the surface is not even, or clipped.
    """
    h, w = green.shape
    small = cv2.GaussianBlur(green, (0, 0), max(h, w) / 150)
    if float(np.percentile(small, 99.5)) > 0.98:
        raise MakeError("The even surface is clipped. Expose it about one stop less.")
    level = float(small[h // 2 - h // 10 : h // 2 + h // 10, w // 2 - w // 10 : w // 2 + w // 10].mean())
    if level < 0.02:
        raise MakeError("The even surface is too dark to measure. Expose it to a middle grey.")
    y, x = np.mgrid[0:h, 0:w]
    u, v = (x + 0.5 - w / 2) / np.hypot(w / 2, h / 2), (y + 0.5 - h / 2) / np.hypot(w / 2, h / 2)
    r2 = (u * u + v * v).ravel()
    values = (small / level).ravel().astype(np.float64)
    terms = np.stack([np.ones_like(r2), u.ravel(), v.ravel(), r2, r2**2, r2**3], axis=1)
    fit = np.linalg.lstsq(terms, values, rcond=None)[0]
    rest = values - terms @ fit
    if rest.std() > 0.02:
        raise MakeError(
            "The surface is not even: its brightness varies by more than a lens explains. Use a plain wall or a diffuser."
        )
    k = fit[3:] / fit[0]
    light = 1 + terms[:, 3:] @ k
    if light.min() <= 0.02:
        raise MakeError("The fall-off of this frame is not that of a lens.")
    # Unevenness without the gradient of the light itself.
    lit = values / (1 + (terms[:, 1:3] @ fit[1:3]) / fit[0])
    return FallOff(float(k[0]), float(k[1]), float(k[2]), _span(lit), _span(lit / light))


def _span(values: Array) -> float:
    low, high = np.percentile(values, [0.5, 99.5])
    return float(np.log2(high / low))
