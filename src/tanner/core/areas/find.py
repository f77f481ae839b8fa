"""What is found by what it is: the subject before a backdrop, people, skin. Masks on the grid of the look."""

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.areas import networks
from tanner.core.areas.edges import guided, settled
from tanner.core.areas.look import AreaLook
from tanner.core.errors import TannerError

F32 = NDArray[np.float32]
F64 = NDArray[np.float64]
Picture = NDArray[np.uint8]
EDGE = 1000
"""Long edge of the picture that things are found in; their edges are worked out on the look itself."""
CUT = 500
"""Long edge of the picture that is cut into two."""
LEAST = 0.004
"""Least share of the frame that counts as something."""


class NotFound(TannerError):
    """There is nothing of this kind in the frame, with what to do instead."""


@dataclass(frozen=True)
class Seen:
    """A frame as finders see it.

    Attributes:
        picture: plain finished, (h, w, 3), its long edge `EDGE`; look: see there.
    """

    look: AreaLook
    picture: Picture

    @classmethod
    def of(cls, look: AreaLook) -> "Seen":
        return cls(look, look.picture(EDGE))

    # The subject, people and skin each ask for both.
    @cached_property
    def faces(self) -> list[F64]:
        return faces_in(self.picture)

    @cached_property
    def person(self) -> F32 | None:
        """People at the picture's size, cut along edges; None where there is nobody."""
        return _person(self)

    # The subject of a picture without people, and the shadow that it throws.
    @cached_property
    def thing(self) -> F32:
        """What lies on an even backdrop, at the picture's size."""
        return _thing(self)


def found(what: str, seen: Seen) -> F32:
    """A mask on the look's grid, (h, w) from 0 to 1.

    Args:
        what: subject, people or skin; the backdrop is what the subject is not.

    Raises:
        NotFound: there is none.
    """
    return FINDERS[what](seen)


def _as_large(mask: F32, shape: tuple[int, ...]) -> F32:
    return np.asarray(cv2.resize(mask, (shape[1], shape[0]), interpolation=cv2.INTER_LINEAR), np.float32)


# --- people ----------------------------------------------------------------------------------------


def faces_in(picture: Picture) -> list[F64]:
    """The points of every face, (468, 2) in px of the picture, the largest first."""
    from tanner.core.series.subjects import FACE_EDGE, faces

    h, w = picture.shape[:2]
    share = FACE_EDGE / max(h, w)
    small = cv2.resize(picture, (round(w * share), round(h * share)), interpolation=cv2.INTER_AREA)
    result = []
    for box, _ in faces(small):
        points, sure = networks.face_points(picture, tuple(v / share for v in box))  # type: ignore[arg-type]
        if sure >= networks.SURE:
            result.append(points)
    return result


def _person(seen: Seen) -> F32 | None:
    rough = networks.people(seen.picture)
    decided = float(((rough < 0.1) | (rough > 0.9)).mean())
    core = cv2.erode((rough > 0.9).astype(np.uint8), np.ones((9, 9), np.uint8))
    size = float(core.mean())
    if size < 0.01 or (not seen.faces and not (size > 0.06 and decided > 0.9)):
        return None
    back = cv2.dilate((rough > 0.1).astype(np.uint8), np.ones((15, 15), np.uint8)) == 0
    return _cut(seen.picture, back, core > 0, rough)


def _cut(picture: Picture, back: NDArray[np.bool_], front: NDArray[np.bool_], rough: F32) -> F32:
    """The picture cut into front and back where its colours part (source: rother2004), at the picture's size."""
    h, w = picture.shape[:2]
    share = CUT / max(h, w)
    size = (round(w * share), round(h * share))
    small = cv2.resize(picture, size, interpolation=cv2.INTER_AREA)

    def at(mask: NDArray[np.bool_]) -> NDArray[np.bool_]:
        return np.asarray(cv2.resize(mask.astype(np.uint8), size, interpolation=cv2.INTER_NEAREST) > 0)

    marks = np.where(cv2.resize(rough, size, interpolation=cv2.INTER_AREA) > 0.5, cv2.GC_PR_FGD, cv2.GC_PR_BGD)
    marks = marks.astype(np.uint8)
    marks[at(back)], marks[at(front)] = cv2.GC_BGD, cv2.GC_FGD
    if not (marks & 1).any() or (marks & 1).all():
        return rough
    # The same cut each time.
    cv2.setRNGSeed(1)
    cv2.grabCut(small, marks, None, np.zeros((1, 65)), np.zeros((1, 65)), 4, cv2.GC_INIT_WITH_MASK)
    return _as_large((marks & 1).astype(np.float32), (h, w))


# --- things ----------------------------------------------------------------------------------------


def _fitted(log: F32, even: NDArray[np.bool_], degree: int = 4) -> F32:
    """A smooth surface through what is even, (h, w, 3), for its shade and light: a polynomial in both directions."""
    h, w = even.shape
    # It is smooth: worked out on a small picture, and spread.
    step = max(1, max(h, w) // 200)
    y, x = np.meshgrid(np.linspace(-1, 1, h)[::step], np.linspace(-1, 1, w)[::step], indexing="ij")
    powers = [(i, j) for i in range(degree + 1) for j in range(degree + 1 - i)]
    basis = np.stack([x**i * y**j for i, j in powers], axis=-1)
    inside, seen = even[::step, ::step], log[::step, ::step]
    a = basis[inside]
    normal = a.T @ a + 1e-4 * len(a) * np.diag([(i + j) ** 2 / 16 for i, j in powers])
    surface = np.asarray(basis @ np.linalg.solve(normal, a.T @ seen[inside]), np.float32)
    # Its points lie on every `step`th px.
    rows, columns = np.meshgrid(
        np.arange(h, dtype=np.float32) / step, np.arange(w, dtype=np.float32) / step, indexing="ij"
    )
    return np.asarray(cv2.remap(surface, columns, rows, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE), np.float32)


def _even(seen: Seen) -> NDArray[np.bool_]:
    """The even backdrop, at the picture's size, without its rim.

    Raises:
        NotFound: there is none.
    """
    from tanner.core.series.area import EDGE as SMALL
    from tanner.core.series.area import NoArea, backdrop

    picture = seen.picture
    h, w = picture.shape[:2]
    try:
        area = backdrop(np.asarray(cv2.resize(picture, _size((h, w), SMALL), interpolation=cv2.INTER_AREA)))
    except NoArea:
        raise NotFound(
            "Neither a person nor an even backdrop is found in this frame. Paint the area, or draw its outline."
        ) from None
    return np.asarray(cv2.resize(area.mask.astype(np.uint8), (w, h), interpolation=cv2.INTER_NEAREST) > 0)


def _thing(seen: Seen) -> F32:
    """What stands before an even backdrop, at the picture's size.

    Raises:
        NotFound: there is no backdrop, or nothing before it.
    """
    even = _even(seen)
    linear = np.maximum(seen.look.working(seen.look.plain, EDGE), 1e-4)
    log = np.log2(cv2.GaussianBlur(linear, (0, 0), 1.0))
    ratio = log - _fitted(log, even)
    # Shade takes light away from all colours alike; what is of another colour, or has edges of its own, is no shade.
    light = ratio @ np.full(3, 1 / 3, np.float32)
    colour = np.maximum(np.maximum(*(np.abs(ratio[..., k] - light) for k in (0, 1))), np.abs(ratio[..., 2] - light))
    noise = float(np.quantile(colour[even], 0.98))
    other = colour > max(3 * noise, 0.12)
    lighter = light > max(0.25, 4 * float(np.std(light[even])))
    slope = np.hypot(cv2.Sobel(light, cv2.CV_32F, 1, 0, scale=0.125), cv2.Sobel(light, cv2.CV_32F, 0, 1, scale=0.125))
    quiet = float(np.quantile(slope[even], 0.98))
    edged = cv2.dilate((slope > max(4 * quiet, 0.05)).astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
    sure_front = cv2.morphologyEx((other | lighter).astype(np.uint8), cv2.MORPH_OPEN, np.ones((3, 3), np.uint8)) > 0
    # Backdrop that is seen between parts of the subject looks as it does elsewhere, edges near by or not.
    same = ~other & (np.abs(light) < max(0.1, 3 * float(np.std(light[even]))))
    shade = (~other & ~lighter & ~edged) | same
    return _assembled(seen, even, sure_front & ~even, shade, ratio)


def shade(seen: Seen) -> F32:
    """How much light is left on the backdrop, (h, w) at the picture's size: 1 where nothing throws its shadow.

    Raises:
        NotFound: there is no backdrop.
    """
    even = _even(seen)
    linear = np.maximum(seen.look.working(seen.look.plain, EDGE), 1e-4)
    log = np.log2(cv2.GaussianBlur(linear @ np.full(3, 1 / 3, np.float32), (0, 0), 2.0))[..., None]
    # A surface through the lit parts: what lies below it is shaded, and counts less each time.
    lit = even
    for _ in range(4):
        surface = _fitted(log, lit, 4)
        below = (log - surface.reshape(log.shape))[..., 0]
        lit = even & (below > -0.04)
        if lit.sum() < 0.1 * even.sum():
            break
    subject = cv2.dilate((seen.thing > 0.5).astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
    left = np.clip(np.exp2(np.minimum(below + 0.04, 0)), 0, 1).astype(np.float32)
    left[subject] = 0
    # Under the subject's edge the shade of what is beside it.
    weight = (~subject).astype(np.float32)
    near = cv2.blur(left, (15, 15)) / np.maximum(cv2.blur(weight, (15, 15)), 1e-3)
    return np.asarray(np.where(subject, np.clip(near, 0, 1), left), np.float32)


def _size(shape: tuple[int, int], edge: int) -> tuple[int, int]:
    share = edge / max(shape)
    return round(shape[1] * share), round(shape[0] * share)


def _assembled(
    seen: Seen, even: NDArray[np.bool_], front: NDArray[np.bool_], shade: NDArray[np.bool_], ratio: F32
) -> F32:
    """Cut what is left open, on a picture without the backdrop's own light and shade."""
    h, w = even.shape
    size = _size((h, w), CUT)
    light = ratio @ np.full(3, 1 / 3, np.float32)
    tint = ratio - light[..., None]
    coded = np.stack(
        [
            128 + 40 * np.clip(light, -3, 3),
            128 + 90 * np.clip(tint[..., 0], -1.4, 1.4),
            128 + 90 * np.clip(tint[..., 2], -1.4, 1.4),
        ],
        -1,
    )
    small = np.clip(cv2.resize(coded.astype(np.float32), size, interpolation=cv2.INTER_AREA), 0, 255).astype(np.uint8)

    def at(mask: NDArray[np.bool_], share: float = 0.5) -> NDArray[np.bool_]:
        return np.asarray(cv2.resize(mask.astype(np.float32), size, interpolation=cv2.INTER_AREA) > share)

    marks = np.full(size[::-1], cv2.GC_PR_FGD, np.uint8)
    marks[at(shade)] = cv2.GC_PR_BGD
    marks[at(front, 0.9)] = cv2.GC_FGD
    marks[at(even, 0.9)] = cv2.GC_BGD
    if not (marks == cv2.GC_FGD).any():
        marks[cv2.erode((marks == cv2.GC_PR_FGD).astype(np.uint8), np.ones((9, 9), np.uint8)) > 0] = cv2.GC_FGD
    if not (marks & 1).any():
        raise NotFound("Nothing is found before the backdrop of this frame. Paint the area, or draw its outline.")
    cv2.setRNGSeed(1)
    cv2.grabCut(small, marks, None, np.zeros((1, 65)), np.zeros((1, 65)), 5, cv2.GC_INIT_WITH_MASK)
    cut = _as_large((marks & 1).astype(np.float32), (h, w))
    # Cutting shortens what is thin: what is certain by its colour stays, where it is joined to what was cut out.
    both = ((cut > 0.5) | front).astype(np.uint8)
    _, labels = cv2.connectedComponents(both, connectivity=8)
    joined = np.isin(labels, np.unique(labels[cut > 0.5])) & (both > 0)
    return np.maximum(cut, joined.astype(np.float32))


# --- the three --------------------------------------------------------------------------------------


def _finished(seen: Seen, rough: F32) -> F32:
    """A mask at the picture's size brought to the look's grid, its edge worked out there."""
    w, h = seen.look.grid.size
    if (rough > 0.5).mean() < LEAST:
        raise NotFound("What is found in this frame is too small to be an area. Paint it, or draw its outline.")
    large = _as_large(rough, (h, w))
    picture = seen.look.floating(max(w, h))
    reach = max(4, round(max(w, h) / 200))
    return settled(picture, large, reach)


def _subject(seen: Seen) -> F32:
    person = seen.person
    return _finished(seen, seen.thing if person is None else person)


def _people(seen: Seen) -> F32:
    person = seen.person
    if person is None:
        raise NotFound("Nobody is found in this frame. Paint the area, or draw its outline.")
    return _finished(seen, person)


def _skin(seen: Seen) -> F32:
    """Faces without eyes, brows and lips, and what is of their colour where people are."""
    picture = seen.picture
    shape = (picture.shape[0], picture.shape[1])
    faces = seen.faces
    if not faces:
        raise NotFound("No face is found in this frame, so that skin is not known. Paint the area.")
    oval, features = np.zeros(shape, np.float32), np.zeros(shape, np.float32)
    for points in faces:
        oval = np.maximum(oval, networks.polygon(shape, points[networks.OVAL]))
        for which in (*networks.EYES, *networks.BROWS, networks.LIPS):
            middle = points[which].mean(axis=0)
            features = np.maximum(features, networks.polygon(shape, middle + 1.25 * (points[which] - middle)))
    inner = cv2.erode((oval > 0.5).astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
    lab = cv2.cvtColor(cv2.GaussianBlur(picture, (0, 0), 1.5).astype(np.float32) / 255, cv2.COLOR_RGB2Lab)
    known = lab[inner & (features < 0.1)]
    if len(known) < 50:
        raise NotFound("The face of this frame is too small, so that skin is not known. Paint the area.")
    # Hue and chroma of this skin, by its own spread; lightness hardly counts, for light falls off over a body.
    middle = np.median(known, axis=0)
    spread = np.maximum(1.4826 * np.median(np.abs(known - middle), axis=0), (9.0, 3.0, 3.0))
    d = (lab - middle) / spread
    off = np.sqrt((d[..., 0] / 3) ** 2 + d[..., 1] ** 2 + d[..., 2] ** 2)
    near = cv2.dilate((oval > 0.5).astype(np.uint8), np.ones((9, 9), np.uint8)) > 0
    # Hair and cloth may come near to it in colour: away from the face it has to be nearer, and not much darker.
    off = np.where(near, off, 1.5 * np.sqrt((d[..., 0] / 2) ** 2 + d[..., 1] ** 2 + d[..., 2] ** 2))
    like = np.clip((3.4 - off) / 1.2, 0, 1).astype(np.float32)
    person = seen.person
    body = np.ones(shape, np.float32) if person is None else person
    rough = np.maximum(like * body, 0.7 * oval * (off < 5)) * (1 - features)
    rough = cv2.morphologyEx(rough, cv2.MORPH_OPEN, np.ones((5, 5), np.uint8))
    w, h = seen.look.grid.size
    large = _as_large(np.asarray(rough, np.float32), (h, w))
    return guided(seen.look.floating(max(w, h)), large, max(2, max(w, h) // 400), 1e-3)


FINDERS: dict[str, Callable[[Seen], F32]] = {
    "subject": _subject, "people": _people, "skin": _skin,
}  # fmt: skip
