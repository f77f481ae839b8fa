"""Finds a chart in a picture: flat square patches, the lattice that they form, and which way round it is."""

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.profile.chart import Chart, ChartError

F32 = NDArray[np.float32]
F64 = NDArray[np.float64]
EDGE = 1200
"""Long edge of the picture that is searched."""


def find_corners(numbers: F32, chart: Chart) -> F64:
    """The chart's four outer corners (of the patches' lattice), in shares of the picture.

    Args:
        numbers: linear camera numbers (H, W, 3), roughly balanced.

    Returns:
        (4, 2): top left, top right, bottom right, bottom left of the upright chart.

    Raises:
        ChartError: no chart, half of one, or one that is mirrored.
    """
    h, w = numbers.shape[:2]
    picture = np.clip(numbers / max(float(np.percentile(numbers, 99.5)), 1e-6), 0, 1) ** 0.45
    best: tuple[float, F64, bool] | None = None
    squares: list[F64] = []
    for blur in (3, 5, 9):
        squares = _squares(picture, blur)
        for lattice in _lattices(squares):
            found = _placed(numbers, lattice, chart)
            if found and (best is None or found[0] > best[0]):
                best = found
        if best and best[0] > 0.93:
            break
    if best is None or best[0] < 0.75:
        count = len(squares)
        why = "there is nothing like its patches" if count < 6 else "its patches do not fit the chart that was chosen"
        raise ChartError(f"No chart was found in the picture: {why}. Set its four corners by hand.")
    if best[2]:
        raise ChartError(
            "The chart is mirrored in the picture. Turn the picture round before a profile is made from it."
        )
    corners = best[1] / [w, h]
    if corners.min() < -0.002 or corners.max() > 1.002:
        raise ChartError("The chart is not whole in the picture. Take it again with some room around it.")
    return corners


def shows_chart(numbers: F32, chart: Chart) -> bool:
    """Whether a small picture (about 500 px) shows the chart: one look, for telling many frames apart.

    Args:
        numbers: linear (H, W, 3), roughly balanced.
    """
    picture = np.clip(numbers / max(float(np.percentile(numbers, 99.5)), 1e-6), 0, 1) ** 0.45
    squares = _squares(np.asarray(picture, np.float32), 3)
    found = [p for lattice in _lattices(squares) if (p := _placed(numbers, lattice, chart))]
    return any(score >= 0.75 for score, _, _ in found)


def _squares(picture: F32, blur: int) -> list[F64]:
    """Corners (4, 2) of flat quadrilaterals, in px."""
    eight = np.rint(picture * 255).astype(np.uint8)
    soft = cv2.medianBlur(eight, blur)
    size = 2 * (max(picture.shape) // 300) + 3
    reach = np.ones((size, size), np.uint8)
    steep = (cv2.dilate(soft, reach).astype(np.int16) - cv2.erode(soft, reach)).max(axis=2)
    flat = (steep < 18).astype(np.uint8)
    outlines, _ = cv2.findContours(flat, cv2.RETR_LIST, cv2.CHAIN_APPROX_NONE)
    found: list[F64] = []
    area_low, area_high = (max(picture.shape[:2]) / 90) ** 2, picture.shape[0] * picture.shape[1] / 20
    for outline in outlines:
        area = cv2.contourArea(outline)
        if not area_low < area < area_high:
            continue
        box = cv2.boxPoints(cv2.minAreaRect(outline))
        quad = cv2.approxPolyDP(cv2.convexHull(outline), 0.06 * cv2.arcLength(outline, True), True)
        corners = quad.reshape(-1, 2).astype(np.float64) if len(quad) == 4 else box.astype(np.float64)
        sides = np.linalg.norm(np.roll(corners, -1, axis=0) - corners, axis=1)
        if (
            sides.min() < 4
            or sides.max() > 1.9 * sides.min()
            or area < 0.75 * cv2.contourArea(corners.astype(np.float32))
        ):
            continue
        if not any(np.linalg.norm(corners.mean(0) - q.mean(0)) < 4 for q in found):
            found.append(corners)
    return found


def _lattices(squares: list[F64]) -> list[dict[tuple[int, int], F64]]:
    """Groups of squares with whole-number places, found by walking from neighbour to neighbour."""
    if len(squares) < 6:
        return []
    middles = np.array([s.mean(axis=0) for s in squares])
    sizes = np.array([np.sqrt(cv2.contourArea(s.astype(np.float32))) for s in squares])
    result = []
    used: set[int] = set()
    for seed in np.argsort(-sizes):
        if int(seed) in used:
            continue
        steps = _steps(int(seed), middles, sizes)
        if steps is None:
            continue
        places, local = {int(seed): (0, 0)}, {int(seed): steps}
        queue = [int(seed)]
        while queue:
            here = queue.pop(0)
            for (di, dj), step in (
                ((1, 0), local[here][0]),
                ((-1, 0), -local[here][0]),
                ((0, 1), local[here][1]),
                ((0, -1), -local[here][1]),
            ):
                distance = np.linalg.norm(middles - (middles[here] + step), axis=1)
                near = int(np.argmin(distance))
                if (
                    near in places
                    or distance[near] > 0.25 * np.linalg.norm(step)
                    or not 0.6 < sizes[near] / sizes[here] < 1.6
                ):
                    continue
                places[near] = (places[here][0] + di, places[here][1] + dj)
                moved = middles[near] - middles[here]
                a, b = local[here]
                local[near] = (moved * di, b) if di else (a, moved * dj)
                queue.append(near)
        used |= set(places)
        if len(places) >= 6:
            result.append({place: middles[i] for i, place in places.items()})
    return result


def _steps(seed: int, middles: F64, sizes: F64) -> tuple[F64, F64] | None:
    """Two steps to neighbours at about a right angle, (column step, row step)."""
    offsets = middles - middles[seed]
    distance = np.linalg.norm(offsets, axis=1)
    near = [
        i for i in np.argsort(distance) if 0.9 < distance[i] / sizes[seed] < 2.2 and 0.6 < sizes[i] / sizes[seed] < 1.6
    ][:8]
    for i in near:
        for j in near:
            a, b = offsets[i], offsets[j]
            cross = a[0] * b[1] - a[1] * b[0]
            if cross > 0.8 * distance[i] * distance[j] and 0.6 < distance[i] / distance[j] < 1.6:
                return a, b
    return None


def _placed(numbers: F32, lattice: dict[tuple[int, int], F64], chart: Chart) -> tuple[float, F64, bool] | None:
    """The best position of the chart on a lattice: score, corners in px, and whether it is mirrored."""
    cells = np.array(list(lattice), dtype=np.float64)
    points = np.array(list(lattice.values()))
    if len({tuple(c) for c in cells[:, :1]}) < 2 or len({tuple(c) for c in cells[:, 1:]}) < 2:
        return None
    matrix, inside = cv2.findHomography(cells, points, cv2.RANSAC, 4.0)
    if matrix is None or inside.sum() < 6:
        return None
    cells = cells[inside.ravel() > 0]
    low, high = cells.min(axis=0), cells.max(axis=0)
    wanted = _signature(chart.under(None) @ _XYZ_TO_RGB.T)
    best: tuple[float, F64, bool] | None = None
    for turn in range(4):
        across, down = (chart.columns, chart.rows) if turn % 2 == 0 else (chart.rows, chart.columns)
        for i0 in range(int(high[0]) - across + 1, int(low[0]) + 1):
            for j0 in range(int(high[1]) - down + 1, int(low[1]) + 1):
                for mirrored in (False, True):
                    grid = _grid(chart, turn, mirrored, i0, j0)
                    seen = _sample(numbers, matrix, grid)
                    if seen is None:
                        continue
                    score = _likeness(_signature(seen), wanted)
                    if best is None or score > best[0]:
                        best = (score, _outer(chart, matrix, grid), mirrored)
    return best


_XYZ_TO_RGB = np.array([[3.1339, -1.6169, -0.4906], [-0.9788, 1.9161, 0.0335], [0.0719, -0.2290, 1.4052]])
"""D50 to linear sRGB (Bradford), rounded: only for telling which way round a chart is."""


def _grid(chart: Chart, turn: int, mirrored: bool, i0: int, j0: int) -> F64:
    """Lattice places of the patches in reading order, (N, 2)."""
    r, c = np.mgrid[0 : chart.rows, 0 : chart.columns]
    if mirrored:
        c = chart.columns - 1 - c
    i, j = {
        0: (c, r),
        1: (chart.rows - 1 - r, c),
        2: (chart.columns - 1 - c, chart.rows - 1 - r),
        3: (r, chart.columns - 1 - c),
    }[turn]
    return np.stack([i0 + i.ravel(), j0 + j.ravel()], axis=1).astype(np.float64)


def _project(matrix: F64, points: F64) -> F64:
    full = np.column_stack([points, np.ones(len(points))]) @ matrix.T
    return full[:, :2] / full[:, 2:]


def _sample(numbers: F32, matrix: F64, grid: F64) -> F64 | None:
    at = np.rint(_project(matrix, grid)).astype(int)
    h, w = numbers.shape[:2]
    if (at < 3).any() or (at[:, 0] > w - 4).any() or (at[:, 1] > h - 4).any():
        return None
    return np.array(
        [numbers[y - 2 : y + 3, x - 2 : x + 3].reshape(-1, 3).mean(axis=0) for x, y in at], dtype=np.float64
    )


def _signature(rgb: F64) -> F64:
    """What stays when the light changes: logs of red and blue over green, and lightness, without their means."""
    log = np.log(np.clip(rgb, 0.004 * max(float(rgb.max()), 1e-9), None))
    parts = np.stack([log[:, 0] - log[:, 1], log[:, 2] - log[:, 1], 0.7 * log[:, 1]], axis=1)
    return parts - parts.mean(axis=0)


def _likeness(a: F64, b: F64) -> float:
    return float((a * b).sum() / np.sqrt((a * a).sum() * (b * b).sum() + 1e-12))


def _outer(chart: Chart, matrix: F64, grid: F64) -> F64:
    """Outer corners of the lattice of cells, half a step beyond the middles of the corner patches."""
    by_place = grid.reshape(chart.rows, chart.columns, 2)
    right = by_place[0, 1] - by_place[0, 0] if chart.columns > 1 else np.array([1.0, 0])
    down = by_place[1, 0] - by_place[0, 0] if chart.rows > 1 else np.array([0, 1.0])
    ends = [
        by_place[0, 0] - right / 2 - down / 2,
        by_place[0, -1] + right / 2 - down / 2,
        by_place[-1, -1] + right / 2 + down / 2,
        by_place[-1, 0] - right / 2 + down / 2,
    ]
    return _project(matrix, np.array(ends))
