"""From patch readings to a profile: matrices with white kept, and a smooth table for what they leave.

The ForwardMatrix is fitted for the least weighted CIEDE2000, held towards the least-squares solution (a ridge), so
that few patches cannot bend it; white-balanced white maps to D50 exactly. ColorMatrix follows from it. The table holds
smooth corrections of hue, saturation and value over the plane of hue and saturation (Gaussian radial basis, ridge
chosen by leaving one patch out), fading to nothing at neutral and bounded.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.colour.dcp import HueSatTable
from tanner.core.colour.difference import ciede2000
from tanner.core.colour.spaces import D50_XYZ, adaptation, pcs_to_working, xy_to_xyz
from tanner.core.measure import xyz_to_lab
from tanner.core.profile.chart import ChartError

F64 = NDArray[np.float64]
HUES, SATURATIONS = 36, 16
MOST_SHIFT, MOST_FACTOR = 18.0, 1.35
RIDGE = 0.6
"""CIEDE2000 that a matrix entry pays for being 0.1 away from the least-squares one, over the root of the patches."""
LEAST_SLOPE = 0.03
"""EV from the middle to the edge of the chart below which light counts as even: colours are not bent for less."""
REACH = 0.20
"""Width of one patch's say in the plane of hue and saturation."""


@dataclass(frozen=True)
class Fit:
    """One light's part of a profile.

    Attributes:
        forward: white-balanced camera to XYZ D50, (3, 3); rows sum to D50.
        colour: XYZ to camera, (3, 3).
        neutral: camera numbers of white, largest at 1.
        scale: what white-balanced numbers are multiplied with so that white has Y = 1.
        slope: log2 of the light's change across the chart, to the right and downwards, that was taken out.
        table: HueSatMap, or None.
    """

    forward: F64
    colour: F64
    neutral: F64
    scale: float
    slope: tuple[float, float]
    table: HueSatTable | None = None

    def xyz(self, numbers: F64) -> F64:
        """XYZ relative to D50 of camera numbers (N, 3) of evenly lit patches."""
        straight = (numbers / self.neutral * self.scale) @ self.forward.T
        if self.table is None:
            return straight
        working = straight @ pcs_to_working().T
        return through_table(working, self.table) @ np.linalg.inv(pcs_to_working()).T


def through_table(working: F64, table: HueSatTable) -> F64:
    """A table on working values (N, 3), by the same kernel that pictures go through."""
    from tanner.core.tone.table import apply_table, packed

    rows = [np.ascontiguousarray(working[:, c], dtype=np.float32) for c in range(3)]
    n = len(working)
    r, g, b = rows
    apply_table(r, g, b, *packed(table.cells, table.srgb), np.float32(1), n)
    return np.stack(rows, axis=1).astype(np.float64)


def fit_light(
    numbers: F64,
    wanted: F64,
    greys: NDArray[np.intp],
    places: F64,
    white: tuple[float, float],
    *,
    table: bool,
    near: Fit | None = None,
) -> Fit:
    """Fit one light.

    Args:
        numbers: (N, 3) camera numbers of the patches that count.
        wanted: (N, 3) XYZ relative to D50.
        greys: indexes of nearly neutral patches among them, at least one.
        places: (N, 2) where the patches lie in the chart, from -1 to 1.
        white: chromaticity of the light.
        near: a fit of nearly the same patches to start from; its slope is kept.
    """
    if len(numbers) < 8:
        raise ChartError(f"Only {len(numbers)} patches can be used; a profile needs 8.")
    if len(greys) == 0:
        raise ChartError("No grey patch can be used: white balance cannot be told from this chart.")
    slope = near.slope if near else (0.0, 0.0)
    even = evened(numbers, places, slope)
    for _ in range(0 if near else 3):
        fit = _matrix(even, wanted, greys, white, near, 8)
        moved = _slope(fit, even, wanted, places)
        if max(abs(v) for v in moved) < (0.004 if any(slope) else LEAST_SLOPE):
            break
        slope = (slope[0] + moved[0], slope[1] + moved[1])
        even, near = evened(numbers, places, slope), fit
    fit = _matrix(even, wanted, greys, white, near, 15 if near else 30)
    fit = Fit(fit.forward, fit.colour, fit.neutral, fit.scale, slope)
    if table:
        fit = Fit(fit.forward, fit.colour, fit.neutral, fit.scale, slope, _table(fit.xyz(even), wanted))
    return fit


def evened(numbers: F64, places: F64, slope: tuple[float, float]) -> F64:
    return numbers / 2.0 ** (places @ np.array(slope))[:, None]


def _slope(fit: Fit, numbers: F64, wanted: F64, places: F64) -> tuple[float, float]:
    """How the light changes across the chart, from the lightness of all patches: robust, and bounded."""
    seen = fit.xyz(numbers)[:, 1]
    usable = (wanted[:, 1] > 0.02) & (seen > 0)
    if usable.sum() < 8:
        return 0.0, 0.0
    ratio = np.log2(seen[usable] / wanted[usable, 1])
    design = np.column_stack([places[usable], np.ones(int(usable.sum()))])

    def off(p: F64) -> F64:
        return np.asarray(design @ p - ratio)

    from scipy.optimize import least_squares  # heavy, and seldom needed

    solved = least_squares(off, np.zeros(3), loss="soft_l1", f_scale=0.05)
    return float(np.clip(solved.x[0], -0.7, 0.7)), float(np.clip(solved.x[1], -0.7, 0.7))


def _matrix(
    numbers: F64, wanted: F64, greys: NDArray[np.intp], white: tuple[float, float], near: Fit | None, rounds: int
) -> Fit:
    share = numbers[greys].sum(axis=0)
    neutral = share / share.max()
    balanced = numbers / neutral
    scale = float((wanted[greys, 1] * balanced[greys].mean(axis=1)).sum() / (balanced[greys].mean(axis=1) ** 2).sum())
    balanced = balanced * scale
    # White kept: each row is two free numbers and a third that completes D50.
    rest = balanced[:, :2] - balanced[:, 2:]
    weight = 1 / (0.03 + wanted[:, 1:2])
    start = np.empty((3, 2))
    for row in range(3):
        target = wanted[:, row] - balanced[:, 2] * D50_XYZ[row]
        start[row] = np.linalg.lstsq(rest * weight, target * weight[:, 0], rcond=None)[0]
    lab = xyz_to_lab(wanted)
    # Dark patches count less: their readings carry more noise and flare.
    importance = np.sqrt(np.clip(lab[:, 0] / 45, 0.35, 1.0))
    importance[greys] *= 1.3
    hold = RIDGE * 10 / np.sqrt(len(numbers))

    def forward_of(p: F64) -> F64:
        free = start + p[:6].reshape(3, 2)
        return np.column_stack([free, D50_XYZ - free.sum(axis=1)])

    def cost(p: F64) -> F64:
        tinted = balanced * np.exp([p[7], 0.0, p[8]]) * np.exp(p[6])
        seen = xyz_to_lab(np.maximum(tinted @ forward_of(p).T, 0))
        delta = np.sqrt(ciede2000(seen, lab) ** 2 + 0.01)
        return np.concatenate([delta * importance, p[:6] * hold, p[6:7] * 10, p[7:9] * 60])

    first = np.zeros(9)
    if near:
        first[:6] = (near.forward[:, :2] - start).ravel()
    from scipy.optimize import least_squares  # heavy, and seldom needed

    solved = least_squares(cost, first, max_nfev=rounds, x_scale=0.05)
    p = solved.x
    neutral = neutral / np.exp([p[7], 0.0, p[8]])
    scale = scale * float(np.exp(p[6])) * neutral.max()
    neutral = neutral / neutral.max()
    forward = forward_of(p)
    colour = np.diag(neutral) @ np.linalg.inv(forward) @ adaptation(xy_to_xyz(white), D50_XYZ)
    return Fit(forward, colour / (colour @ D50_XYZ).max(), neutral, float(scale), (0.0, 0.0))


# --- the table --------------------------------------------------------------------------------------------


def _hsv(rgb: F64) -> F64:
    """Hue in degrees, saturation, value of working values (N, 3)."""
    top, low = rgb.max(axis=1), np.maximum(rgb.min(axis=1), 0)
    span = np.maximum(top - low, 1e-12)
    r, g, b = rgb.T
    hue = np.where(top == r, (g - b) / span, np.where(top == g, 2 + (b - r) / span, 4 + (r - g) / span))
    return np.column_stack([hue * 60 % 360, span / np.maximum(top, 1e-12), top])


def _basis(places: F64, centres: F64) -> F64:
    gap = ((places[:, None] - centres[None]) ** 2).sum(axis=-1)
    return np.asarray(np.exp(-gap / (2 * REACH**2)))


def _table(seen: F64, wanted: F64) -> HueSatTable:
    """A smooth table from what is seen to what is wanted, XYZ (N, 3) each."""
    to_working = pcs_to_working()
    have, want = _hsv(np.maximum(seen @ to_working.T, 1e-6)), _hsv(np.maximum(wanted @ to_working.T, 1e-6))
    angle = np.radians(have[:, 0])
    places = np.column_stack([have[:, 1] * np.cos(angle), have[:, 1] * np.sin(angle)])
    counts = np.clip((have[:, 1] - 0.03) / 0.12, 0, 1)
    shift = (want[:, 0] - have[:, 0] + 180) % 360 - 180
    asked = np.column_stack([
        shift * counts,
        np.log(np.clip(want[:, 1] / np.maximum(have[:, 1], 1e-3), 0.5, 2)) * counts * 60,
        np.log(np.clip(want[:, 2] / np.maximum(have[:, 2], 1e-6), 0.5, 2)) * counts * 60,
    ])  # fmt: skip
    kernel = _basis(places, places)
    best: tuple[float, Any] | None = None
    for ridge in (0.03, 0.1, 0.3, 1.0, 3.0):
        smooth = kernel @ np.linalg.inv(kernel + ridge * np.eye(len(kernel)))
        # Leaving one out in closed form: the residual over one minus its own share.
        left_out = (asked - smooth @ asked) / (1 - np.diag(smooth))[:, None]
        error = float((left_out**2).sum())
        if best is None or error < best[0]:
            best = (error, np.linalg.solve(kernel + ridge * np.eye(len(kernel)), asked))
    assert best is not None
    hues, sats = np.meshgrid(np.arange(HUES) * 2 * np.pi / HUES, np.linspace(0, 1, SATURATIONS), indexing="ij")
    grid = np.column_stack([(sats * np.cos(hues)).ravel(), (sats * np.sin(hues)).ravel()])
    found = _basis(grid, places) @ best[1]
    fade = np.clip((sats.ravel() - 0.03) / 0.12, 0, 1)[:, None]
    found = found * fade
    cells = np.empty((HUES, SATURATIONS, 1, 3), dtype=np.float32)
    cells[..., 0, 0] = np.clip(found[:, 0], -MOST_SHIFT, MOST_SHIFT).reshape(HUES, SATURATIONS)
    for k in (1, 2):
        factor = np.exp(np.clip(found[:, k] / 60, -np.log(MOST_FACTOR), np.log(MOST_FACTOR)))
        cells[..., 0, k] = factor.reshape(HUES, SATURATIONS)
    return HueSatTable(cells)
