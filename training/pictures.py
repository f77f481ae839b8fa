"""Procedural pictures to train on: linear RGB with edges, textures and shading as pictures of things have them.

Dead leaves (source: lee2001): shapes whose sizes follow a power law cover each other, which gives the statistics of edges
in natural pictures. Each is filled with a gradient and often with a texture: noise of a random spectrum, threads,
gratings, grain of wood, hair, letters. Some layers are out of focus; the whole may be blurred as by a lens. Calm pictures
are what backdrops, skin and the unsharp parts of photographs are: wide soft shapes, slow shading, faint textures. Crops
of our own rendered scenes are mixed in by the training itself.
"""

import cv2
import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]
SIZE = 320


def _colour(rng: np.random.Generator) -> F32:
    """A reflectance: mostly dull, sometimes strong."""
    grey = float(np.exp(rng.normal(-1.5, 0.9)))
    spread = rng.choice([0.08, 0.25, 0.7], p=[0.4, 0.4, 0.2])
    return np.clip(grey * np.exp(rng.normal(0, spread, 3)), 0.002, 1.2).astype(np.float32)


def _cloud(rng: np.random.Generator, n: int, slope: float, stretch: float = 1.0) -> F32:
    """Noise whose spectrum falls with a power of the frequency, with mean 0 and deviation 1."""
    fy, fx = np.meshgrid(np.fft.fftfreq(n), np.fft.rfftfreq(n), indexing="ij")
    turn = rng.uniform(0, np.pi)
    u, v = fx * np.cos(turn) + fy * np.sin(turn), -fx * np.sin(turn) + fy * np.cos(turn)
    f = np.hypot(u, v * stretch) + 1e-3
    spectrum = rng.normal(size=f.shape) + 1j * rng.normal(size=f.shape)
    spectrum *= f**-slope
    spectrum[0, 0] = 0
    field = np.fft.irfft2(spectrum, s=(n, n))
    return (field / (field.std() + 1e-9)).astype(np.float32)


def _texture(rng: np.random.Generator, n: int, depth: float | None = None) -> F32:
    """A factor per pixel (n, n), around 1; depth is its deviation in natural logarithms."""
    kind = rng.choice(
        ["cloud", "grain", "weave", "lines", "hair", "dots", "letters"], p=[0.28, 0.16, 0.16, 0.12, 0.12, 0.08, 0.08]
    )
    depth = float(rng.uniform(0.05, 0.6)) if depth is None else depth
    y, x = np.mgrid[0:n, 0:n].astype(np.float32)
    turn = rng.uniform(0, np.pi)
    u, v = x * np.cos(turn) + y * np.sin(turn), -x * np.sin(turn) + y * np.cos(turn)
    if kind == "cloud":
        field = _cloud(rng, n, rng.uniform(0.3, 1.6))
    elif kind == "grain":
        field = _cloud(rng, n, rng.uniform(0.5, 1.3), rng.uniform(4, 30))
    elif kind == "weave":
        period = rng.uniform(2.2, 14)
        bend = _cloud(rng, n, 1.6) * rng.uniform(0, 1.5)
        field = np.sin(2 * np.pi * (u + bend) / period) * np.sin(
            2 * np.pi * (v + bend) / (period * rng.uniform(0.6, 1.6))
        )
    elif kind == "lines":
        period = rng.uniform(2.2, 24)
        bend = _cloud(rng, n, 1.8) * rng.uniform(0, 3)
        field = np.tanh(np.sin(2 * np.pi * (u + bend) / period) * rng.uniform(0.7, 6))
    elif kind == "hair":
        drawn = np.full((n, n), 128, np.uint8)
        way = rng.uniform(0, 2 * np.pi)
        for _ in range(int(rng.uniform(60, 400))):
            at = rng.uniform(0, n, 2)
            steps = []
            angle = way + rng.normal(0, 0.25)
            for _ in range(10):
                steps.append(at.copy())
                at += np.array([np.cos(angle), np.sin(angle)]) * n / 12
                angle += rng.normal(0, 0.08)
            points = (np.array(steps) * 8).astype(np.int32).reshape(-1, 1, 2)
            cv2.polylines(drawn, [points], False, _ink(rng), int(rng.choice([1, 1, 2, 3])), cv2.LINE_AA, 3)
        field = (drawn.astype(np.float32) - 128) / 45
    elif kind == "dots":
        drawn = np.full((n, n), 128, np.uint8)
        for _ in range(int(rng.uniform(30, 300))):
            cx, cy = rng.integers(0, n, 2)
            cv2.circle(drawn, (int(cx), int(cy)), int(rng.integers(1, 7)), _ink(rng), -1, cv2.LINE_AA)
        field = (drawn.astype(np.float32) - 128) / 45
    else:
        drawn = np.zeros((n, n), np.uint8)
        for row in range(0, n, int(rng.integers(10, 26))):
            words = "".join(chr(int(c)) for c in rng.integers(48, 122, 40))
            cv2.putText(
                drawn, words, (0, row), int(rng.integers(0, 7)), float(rng.uniform(0.25, 0.8)), 255, 1, cv2.LINE_AA
            )
        field = drawn.astype(np.float32) / 255 - 0.3
    return np.exp(depth * np.clip(field, -3, 3)).astype(np.float32)


def _ink(rng: np.random.Generator) -> int:
    return int(np.clip(128 + 45 * rng.normal(), 0, 255))


def _shape(rng: np.random.Generator, n: int, radius: float) -> F32:
    """A mask with soft edges of a sub-pixel's width."""
    mask = np.zeros((n, n), np.uint8)
    cx, cy = rng.uniform(-0.1 * n, 1.1 * n, 2)
    kind = rng.choice(["ellipse", "polygon", "bar", "blob"])
    fix = 16
    if kind == "ellipse":
        axes = (max(1, int(radius * fix)), max(1, int(radius * rng.uniform(0.3, 1) * fix)))
        cv2.ellipse(
            mask, (int(cx * fix), int(cy * fix)), axes, float(rng.uniform(0, 180)), 0, 360, 255, -1, cv2.LINE_AA, 4
        )
    else:
        if kind == "bar":
            a = rng.uniform(0, np.pi)
            d, e = (
                np.array([np.cos(a), np.sin(a)]) * radius * 3,
                np.array([-np.sin(a), np.cos(a)]) * radius * rng.uniform(0.05, 0.3),
            )
            corners = np.array([d + e, d - e, -d - e, -d + e])
        else:
            count = int(rng.integers(3, 9)) if kind == "polygon" else 24
            angle = np.sort(rng.uniform(0, 2 * np.pi, count))
            reach = radius * (
                rng.uniform(0.5, 1, count) if kind == "polygon" else 0.75 + 0.2 * np.sin(angle * rng.integers(1, 5))
            )
            corners = np.stack([np.cos(angle) * reach, np.sin(angle) * reach], axis=1)
        points = ((corners + (cx, cy)) * fix).astype(np.int32).reshape(-1, 1, 2)
        cv2.fillPoly(mask, [points], 255, cv2.LINE_AA, 4)
    return mask.astype(np.float32) / 255


def picture(seed: int, n: int = SIZE) -> F32:
    """Linear RGB (n, n, 3) from 0; about 1 is white, highlights reach beyond."""
    rng = np.random.default_rng(seed)
    big = 2 * n if rng.random() < 0.5 else n  # half are made large and reduced: finer, softer edges
    image = np.empty((big, big, 3), np.float32)
    image[:] = _colour(rng)
    if rng.random() < 0.7:
        image *= _texture(rng, big)[..., None]
    y, x = np.mgrid[0:big, 0:big].astype(np.float32) / big - 0.5
    for _ in range(int(rng.integers(6, 70))):
        radius = float(np.clip(0.03 * rng.pareto(1.1) + 0.02, 0.015, 0.7)) * big
        mask = _shape(rng, big, radius)
        if rng.random() < 0.25:
            mask = cv2.GaussianBlur(mask, (0, 0), float(rng.uniform(0.5, 8)))
        fill = np.empty_like(image)
        fill[:] = _colour(rng)
        way = rng.uniform(0, 2 * np.pi)
        fill *= np.exp(rng.normal(0, 0.8) * (x * np.cos(way) + y * np.sin(way)))[..., None]
        if rng.random() < 0.55:
            texture = _texture(rng, big)
            # Some textures change the colour too.
            fill *= texture[..., None] ** (1 + rng.normal(0, 0.25, 3)).astype(np.float32)
        image += mask[..., None] * (fill - image)
        if rng.random() < 0.08:
            # A highlight.
            image += (_shape(rng, big, radius * 0.15) * rng.uniform(0.5, 4))[..., None]
    if rng.random() < 0.6:
        way = rng.uniform(0, 2 * np.pi)
        image *= np.exp(rng.normal(0, 1.2) * (x * np.cos(way) + y * np.sin(way)))[..., None]
    if rng.random() < 0.35:
        image = cv2.GaussianBlur(image, (0, 0), float(rng.uniform(0.3, 2.2)))
    return _exposed(rng, image, n)


def calm(seed: int, n: int = SIZE) -> F32:
    """As `picture`, but mostly soft and even: unsharp shapes, slow shading, faint textures, few things that are sharp."""
    rng = np.random.default_rng(seed)
    big = 2 * n if rng.random() < 0.4 else n
    y, x = np.mgrid[0:big, 0:big].astype(np.float32) / big - 0.5
    image = np.empty((big, big, 3), np.float32)
    image[:] = _colour(rng)

    def shaded(fill: F32) -> F32:
        way = rng.uniform(0, 2 * np.pi)
        fill = fill * np.exp(rng.normal(0, 1.0) * (x * np.cos(way) + y * np.sin(way)))[..., None]
        if rng.random() < 0.5:
            # Slow shading, as of folds and cheeks; a little of it in colour.
            slow = np.exp(rng.uniform(0.05, 0.4) * np.clip(_cloud(rng, big, rng.uniform(1.6, 2.6)), -3, 3))
            fill = fill * slow[..., None] ** (1 + rng.normal(0, 0.15, 3)).astype(np.float32)
        if rng.random() < 0.5:
            faint = _texture(rng, big, float(np.exp(rng.uniform(np.log(0.005), np.log(0.15)))))
            fill = fill * faint[..., None]
        return fill

    image = shaded(image)
    behind = int(rng.integers(1, 14))
    unsharp = float(np.exp(rng.uniform(np.log(1.5), np.log(20)))) * big / n
    for _ in range(behind):
        mask = cv2.GaussianBlur(_shape(rng, big, float(rng.uniform(0.05, 0.6)) * big), (0, 0), unsharp)
        fill = np.empty_like(image)
        fill[:] = _colour(rng)
        image += mask[..., None] * (shaded(fill) - image)
    if rng.random() < 0.6:
        image = cv2.GaussianBlur(image, (0, 0), unsharp * float(rng.uniform(0.3, 1)))
    for _ in range(int(rng.integers(0, 5))):
        # What is in focus, in front of it.
        mask = _shape(rng, big, float(np.clip(0.04 * rng.pareto(1.1) + 0.03, 0.02, 0.5)) * big)
        soft = float(rng.choice([0, 0.7, 1.5]))
        mask = cv2.GaussianBlur(mask, (0, 0), soft) if soft else mask
        fill = np.empty_like(image)
        fill[:] = _colour(rng)
        image += mask[..., None] * (shaded(fill) - image)
    if rng.random() < 0.5:
        image = cv2.GaussianBlur(image, (0, 0), float(rng.uniform(0.4, 2.0)))
    return _exposed(rng, image, n)


def _exposed(rng: np.random.Generator, image: F32, n: int) -> F32:
    """At its size, and exposed as photographers do: a bright part near white, now and then too little or too much."""
    if image.shape[0] != n:
        image = cv2.resize(image, (n, n), interpolation=cv2.INTER_AREA)
    level = float(np.percentile(image, rng.uniform(90, 99.8)))
    image *= float(np.exp(rng.normal(-0.15, 0.5))) / max(level, 1e-4)
    return np.clip(image, 0, 4).astype(np.float32)
