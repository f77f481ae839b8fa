"""Where a lead's mask lies on another frame: found by features of both pictures, in and around the mask.

A perspective map is taken where enough features agree on one, else a similarity; how sure it is goes by how many agree, how
they are spread over the mask, and whether the pictures look alike under the map.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.areas.look import AreaLook

F32 = NDArray[np.float32]
F64 = NDArray[np.float64]
EDGE = 1400
"""Long edge in px of the pictures that features are taken from."""
MOST = 3000
AGREE = 2.0
"""px within which a feature agrees with a map."""
FEW, MANY = 8, 22
"""Features that have to agree for any map, and for one with perspective."""
NOT_HERE = [1.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 0.0]
"""What is found where nothing is."""


@dataclass(frozen=True)
class Features:
    """Of a frame: places (N, 2) in shares of the long edge from the middle, descriptors, and a grey picture."""

    at: F64
    what: NDArray[np.float32]
    grey: NDArray[np.uint8]

    def packed(self) -> NDArray[np.uint8]:
        """As one row of bytes, for keeping; descriptors of SIFT are whole numbers up to 255."""
        h, w = self.grey.shape
        head = np.array([len(self.at), h, w], np.int64)
        parts = head, self.at.astype(np.float32), np.rint(self.what).astype(np.uint8), self.grey
        return np.frombuffer(b"".join(p.tobytes() for p in parts), np.uint8)

    @classmethod
    def unpacked(cls, data: NDArray[np.uint8]) -> "Features":
        count, h, w = (int(v) for v in np.frombuffer(data[:24].tobytes(), np.int64))
        a, b = 24 + 8 * count, 24 + (8 + 128) * count
        at = np.frombuffer(data[24:a].tobytes(), np.float32).reshape(count, 2).astype(np.float64)
        what = data[a:b].reshape(count, 128).astype(np.float32)
        return cls(at, what, np.ascontiguousarray(data[b : b + h * w].reshape(h, w)))


def features(look: AreaLook, mask: F32 | None = None) -> Features:
    """Features of a frame; mask: (h, w) on the look's grid, outside of which (and a rim around it) none are taken."""
    picture = look.picture(EDGE)
    grey = cv2.cvtColor(picture, cv2.COLOR_RGB2GRAY)
    even = cv2.createCLAHE(2.5, (8, 8)).apply(grey)
    only = None
    if mask is not None:
        only = (cv2.resize(mask, grey.shape[::-1], interpolation=cv2.INTER_AREA) > 0.05).astype(np.uint8)
        rim = max(3, EDGE // 60)
        only = cv2.dilate(only, np.ones((2 * rim + 1, 2 * rim + 1), np.uint8))
    sift = cv2.SIFT.create(MOST, contrastThreshold=0.01)
    keys, what = sift.detectAndCompute(even, only)
    h, w = grey.shape
    long = max(look.grid.size) * max(h, w) / max(look.grid.size)
    px = np.array([k.pt for k in keys], np.float64).reshape(-1, 2)
    at = (px - ((w - 1) / 2, (h - 1) / 2)) / long
    return Features(at, np.zeros((0, 128), np.float32) if what is None else what, grey)


def pairs(lead: Features, here: Features) -> tuple[F64, F64]:
    """Places of the lead and of a frame, (N, 2) each, that look like the same thing."""
    if min(len(lead.at), len(here.at)) < FEW:
        return np.zeros((0, 2)), np.zeros((0, 2))
    # Root SIFT: Hellinger distance tells more apart (source: arandjelovic2012).
    a, b = _rooted(lead.what), _rooted(here.what)
    found = cv2.BFMatcher().knnMatch(a, b, k=2)
    good = [p[0] for p in found if len(p) == 2 and p[0].distance < 0.82 * p[1].distance]
    # Each thing is one thing: many that look like the same one agree on a map that folds all into a point.
    best: dict[int, cv2.DMatch] = {}
    for m in good:
        if m.trainIdx not in best or m.distance < best[m.trainIdx].distance:
            best[m.trainIdx] = m
    good = list(best.values())
    at = [m.queryIdx for m in good], [m.trainIdx for m in good]
    return lead.at[at[0]].reshape(-1, 2), here.at[at[1]].reshape(-1, 2)


def again(lead: Features, here: Features, mask: F32 | None = None) -> list[float]:
    """How places of the lead come to lie here: eight numbers of a perspective map, then how sure it is, 0 to 1.

    Args:
        mask: of the area on the lead, (h, w) of any size over its frame, for how well the features cover it.
    """
    start, end = pairs(lead, here)
    if len(start) < FEW:
        return list(NOT_HERE)
    best, inside = _map_of(start, end)
    if best is None:
        return list(NOT_HERE)
    count = int(inside.sum())
    share = count / max(len(start), 1)
    spread = _spread(start[inside], mask)
    alike = _alike(lead, here, best, mask)
    if mask is not None and alike > 0:
        best = _polished(lead, here, best, mask)
    sure = min(1.0, count / 40) * min(1.0, share / 0.3) * (0.4 + 0.6 * spread) * alike
    return [*(round(float(v), 7) for v in best.ravel()[:8]), round(float(min(max(sure, 0.0), 1.0)), 3)]


def map_of(start: F64, end: F64) -> tuple[F64 | None, int]:
    """The map (3, 3) that most pairs of places (N, 2) agree on, and how many; None where too few agree on any."""
    best, inside = _map_of(start, end) if len(start) >= FEW else (None, np.zeros(0, bool))
    return best, int(inside.sum())


def _map_of(start: F64, end: F64) -> tuple[F64 | None, NDArray[np.bool_]]:
    step = AGREE / EDGE
    similar, agree = cv2.estimateAffinePartial2D(
        start * EDGE, end * EDGE, method=cv2.RANSAC, ransacReprojThreshold=2 * AGREE, maxIters=4000, confidence=0.999
    )
    if similar is None or int(agree.sum()) < FEW or not 0.2 < float(np.hypot(*similar[:, 0])) < 5:
        # A subject that is seen at a slant agrees on no similarity.
        similar = None
    best, count, inside = None, 0, np.zeros(len(start), bool)
    if len(start) >= MANY:
        cv2.setRNGSeed(1)
        map_, ok = cv2.findHomography(start * EDGE, end * EDGE, cv2.USAC_MAGSAC, AGREE, maxIters=5000, confidence=0.999)
        if map_ is not None and int(ok.sum()) >= MANY and _sane(map_):
            best, inside = _px_to_places(map_), ok.ravel() > 0
            count = int(inside.sum())
    if similar is not None and int(agree.sum()) > 1.25 * count:
        best, inside = _px_to_places(np.vstack([similar, [0, 0, 1]])), agree.ravel() > 0
        count = int(inside.sum())
    if best is None:
        return None, inside
    if count >= MANY:
        best = _least_squares(best, start[inside], end[inside], step)
        best = _simpler(best, start[inside], end[inside])
    return best, inside


def _rooted(what: F32) -> F32:
    return np.asarray(np.sqrt(what / np.maximum(np.abs(what).sum(axis=1, keepdims=True), 1e-6)), np.float32)


def _px_to_places(map_: F64) -> F64:
    """A map of places in px (times EDGE) as one of shares."""
    scale = np.diag([EDGE, EDGE, 1.0])
    found = np.linalg.inv(scale) @ map_ @ scale
    return np.asarray(found / found[2, 2])


def _sane(map_: F64) -> bool:
    """Whether a map keeps sides and does not fold what lies in the frame."""
    if abs(map_[2, 2]) < 1e-9:
        return False
    m = _px_to_places(np.asarray(map_))
    size = np.linalg.det(m[:2, :2])
    corners = np.array([[x, y, 1.0] for x in (-0.5, 0.5) for y in (-0.5, 0.5)]) @ m.T
    return bool(0.05 < size < 20 and (corners[:, 2] > 0.3).all() and np.abs(m[2, :2]).max() < 0.6)


def _simpler(m: F64, start: F64, end: F64) -> F64:
    """A similarity in place of a map with perspective, where it says as much: what has fewer numbers is surer at the rim."""
    x, y = start.T
    one, zero = np.ones_like(x), np.zeros_like(x)
    a = np.concatenate([np.stack([x, -y, one, zero], 1), np.stack([y, x, zero, one], 1)])
    (c, s, dx, dy), *_ = np.linalg.lstsq(a, np.concatenate([end[:, 0], end[:, 1]]), rcond=None)
    similar = np.array([[c, -s, dx], [s, c, dy], [0, 0, 1.0]])
    off = [float(np.sqrt(((through(way, start) - end) ** 2).mean())) for way in (m, similar)]
    # As good but for what eight numbers fit better than four by chance alone.
    count = 2 * len(x)
    return similar if off[1] * np.sqrt((count - 8) / (count - 4)) <= 1.05 * off[0] else m


def _polished(lead: Features, here: Features, m: F64, mask: F32) -> F64:
    """The map made better by all px in and around the mask, by their correlation (source: evangelidis2008); where that ends
    near to where it began, else the map as it was."""
    h, w = lead.grey.shape
    part = cv2.resize(mask, (w, h), interpolation=cv2.INTER_AREA) > 0.05
    if not part.any():
        return m
    rim = EDGE // 70
    ys, xs = np.nonzero(part)
    top, left = max(0, ys.min() - rim), max(0, xs.min() - rim)
    bottom, right = min(h, ys.max() + rim + 1), min(w, xs.max() + rim + 1)
    near = cv2.dilate(part[top:bottom, left:right].astype(np.uint8), np.ones((rim, rim), np.uint8)) * 255
    to_a = np.array([[EDGE, 0, (w - 1) / 2 - left], [0, EDGE, (h - 1) / 2 - top], [0, 0, 1.0]])
    gh, gw = here.grey.shape
    to_b = np.array([[EDGE, 0, (gw - 1) / 2], [0, EDGE, (gh - 1) / 2], [0, 0, 1.0]])
    start = to_b @ m @ np.linalg.inv(to_a)
    rule = (cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 10, 1e-6)
    try:
        _, found = cv2.findTransformECC(
            lead.grey[top:bottom, left:right], here.grey, (start / start[2, 2]).astype(np.float32),
            cv2.MOTION_HOMOGRAPHY, rule, cv2.warpPerspective(near, start, (gw, gh)), 5,
        )  # fmt: skip
    except cv2.error:  # it ran away
        return m
    better = np.linalg.inv(to_b) @ found.astype(np.float64) @ to_a
    better /= better[2, 2]
    corners = np.array([[x, y] for x in (left, right) for y in (top, bottom)]) - ((w - 1) / 2, (h - 1) / 2)
    step = np.linalg.norm(through(better, corners / EDGE) - through(m, corners / EDGE), axis=1).max()
    return better if step < 4 / EDGE else m


def through(m: F64, at: F64) -> F64:
    """Places (N, 2) under a map (3, 3)."""
    there = np.column_stack([at, np.ones(len(at))]) @ m.T
    return np.asarray(there[:, :2] / there[:, 2:])


def _least_squares(m: F64, start: F64, end: F64, step: float) -> F64:
    """The map made better by all that agree, large errors counting less (Gauss-Newton with Huber's weights)."""
    p = m.ravel()[:8].copy()
    for _ in range(6):
        full = np.append(p, 1.0).reshape(3, 3)
        x, y = start.T
        d = full[2, 0] * x + full[2, 1] * y + 1
        u = (full[0, 0] * x + full[0, 1] * y + full[0, 2]) / d
        v = (full[1, 0] * x + full[1, 1] * y + full[1, 2]) / d
        zero, one = np.zeros_like(x), np.ones_like(x)
        ju = np.stack([x, y, one, zero, zero, zero, -u * x, -u * y], 1) / d[:, None]
        jv = np.stack([zero, zero, zero, x, y, one, -v * x, -v * y], 1) / d[:, None]
        error = np.concatenate([end[:, 0] - u, end[:, 1] - v])
        weight = np.minimum(1.0, 0.5 * step / np.maximum(np.abs(error), 1e-12))
        j = np.concatenate([ju, jv])
        normal = (j * weight[:, None]).T @ j
        # Held near to where it was where the features say little.
        change = np.linalg.solve(normal + 1e-9 * np.trace(normal) * np.eye(8), (j * weight[:, None]).T @ error)
        p += change
        if np.abs(change).max() < 1e-8:
            break
    return np.append(p, 1.0).reshape(3, 3)


def _spread(at: F64, mask: F32 | None) -> float:
    """How much of a mask lies within the reach of the features that agree, 0 to 1."""
    if mask is None:
        return 1.0
    h, w = mask.shape
    long = max(h, w)
    small = cv2.resize(mask, (max(1, w * 64 // long), max(1, h * 64 // long)), interpolation=cv2.INTER_AREA) > 0.3
    if not small.any():
        return 0.5
    px = at * 64 + ((small.shape[1] - 1) / 2, (small.shape[0] - 1) / 2)
    hull = cv2.convexHull(px.astype(np.float32))
    inside = np.zeros(small.shape, np.uint8)
    cv2.fillConvexPoly(inside, np.rint(hull).astype(np.int32), 1)
    inside = cv2.dilate(inside, np.ones((7, 7), np.uint8))
    return float((inside[small] > 0).mean())


def _alike(lead: Features, here: Features, m: F64, mask: F32 | None) -> float:
    """Correlation of the two pictures under the map, within the mask: 0 below 0.2, 1 from 0.6 on."""
    h, w = (v // 2 for v in lead.grey.shape)
    a = cv2.resize(lead.grey, (w, h), interpolation=cv2.INTER_AREA)
    b = cv2.resize(here.grey, (here.grey.shape[1] // 2, here.grey.shape[0] // 2), interpolation=cv2.INTER_AREA)
    long_a, long_b = max(a.shape), max(b.shape)
    to_a = np.array([[long_a, 0, (w - 1) / 2], [0, long_a, (h - 1) / 2], [0, 0, 1.0]])
    to_b = np.array([[long_b, 0, (b.shape[1] - 1) / 2], [0, long_b, (b.shape[0] - 1) / 2], [0, 0, 1.0]])
    back = to_b @ m @ np.linalg.inv(to_a)
    moved = cv2.warpPerspective(b, back, (w, h), flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP)
    seen = cv2.warpPerspective(np.full_like(b, 255), back, (w, h), flags=cv2.INTER_NEAREST | cv2.WARP_INVERSE_MAP) > 0
    if mask is not None:
        grown = cv2.dilate(cv2.resize(mask, (w, h), interpolation=cv2.INTER_AREA), np.ones((15, 15), np.uint8))
        part = grown > 0.3
        shown = float(seen[part].mean()) if part.any() else 0.0
        seen &= part
    else:
        shown = 1.0
    if seen.sum() < 200 or shown < 0.25:
        return 0.0
    # What is fine is compared: light that drifted counts nothing.
    fine = [g.astype(np.float32) - cv2.GaussianBlur(g.astype(np.float32), (0, 0), 6) for g in (a, moved)]
    x, y = (f[seen] for f in fine)
    bottom = float(np.sqrt((x * x).mean() * (y * y).mean()))
    return float(np.clip(((x * y).mean() / max(bottom, 1e-6) - 0.2) / 0.4, 0, 1))


# --- faces -----------------------------------------------------------------------------------------


def faces_of(picture: NDArray[np.uint8], mask: F32) -> F64 | None:
    """Points (468, 2) of the face that an area lies on, in places; None where it lies on none."""
    from tanner.core.areas.find import faces_in

    h, w = picture.shape[:2]
    here = cv2.resize(mask, (w, h), interpolation=cv2.INTER_LINEAR) > 0.3
    for points in faces_in(picture):
        inside = np.zeros((h, w), np.uint8)
        cv2.fillConvexPoly(inside, cv2.convexHull(points.astype(np.float32)).astype(np.int32), 1)
        # On the face, or the face a good part of it: cheeks, eyes, a whole head.
        if here.any() and (inside[here] > 0).mean() > 0.3:
            return _in_places(points, (h, w))
    return None


def _in_places(points: F64, shape: tuple[int, ...]) -> F64:
    h, w = shape[:2]
    return np.asarray((points - ((w - 1) / 2, (h - 1) / 2)) / max(h, w))


def by_faces(lead: F64, faces: Sequence[F64], shape: tuple[int, ...], before: list[float]) -> list[float]:
    """Where an area on a face lies on the largest face of another picture: moved, scaled and turned as its points are.

    How sure that is goes by how well the points fit: a head that was turned away fits badly.
    """
    if not faces:
        return before
    there = _in_places(faces[0], shape)
    fit, _ = cv2.estimateAffinePartial2D(lead * EDGE, there * EDGE, method=cv2.LMEDS)
    if fit is None:
        return before
    m = _px_to_places(np.vstack([fit, [0, 0, 1]]))
    size = float(np.linalg.norm(there.max(axis=0) - there.min(axis=0)))
    off = float(np.median(np.linalg.norm(through(m, lead) - there, axis=1))) / max(size, 1e-6)
    # 2 % of a face off in the middle is as good as the same pose, 7 % a profile.
    sure = float(np.clip((0.07 - off) / 0.05, 0, 1)) * 0.9
    if sure <= before[8]:
        return before
    return [*(round(float(v), 7) for v in m.ravel()[:8]), round(sure, 3)]
