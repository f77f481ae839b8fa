"""Textures as arrays from 0 to 1, all made here: grain, weave, knitting, scratches, ornaments."""

import cv2
import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]


def cloud(height: int, width: int, seed: int, slope: float = 1.6, stretch: float = 1.0) -> F32:
    """Fractal noise that tiles; stretch > 1 draws it out along x. Mean 0, deviation 1."""
    rng = np.random.default_rng(seed)
    fy = np.fft.fftfreq(height)[:, None] * height
    fx = np.fft.rfftfreq(width)[None] * width * stretch
    power = (fx**2 + fy**2 + 1) ** (-slope / 2)
    power[0, 0] = 0
    phase = np.exp(2j * np.pi * rng.random(power.shape))
    noise = np.fft.irfft2(power * phase * rng.rayleigh(1, power.shape), s=(height, width))
    return ((noise - noise.mean()) / noise.std()).astype(np.float32)


def grain(height: int, width: int, seed: int, rings: float = 28, fine: float = 0.5) -> F32:
    """Wood cut along the trunk: rings along x, wandering slowly, with pores and fibres."""
    y = np.linspace(0, 1, height, dtype=np.float32)[:, None]
    wander = cloud(height, width, seed, 2.6, 9)
    depth = y * rings + 0.5 * wander + 0.25 * cloud(height, width, seed + 1, 2.2, 20)
    phase = depth % 1
    ring = np.clip(phase**2.2 * np.clip((1 - phase) * 9, 0, 1), 0, 1)
    fibre = cloud(height, width, seed + 2, 0.7, 60)
    pores = np.clip(cloud(height, width, seed + 3, 0.35, 26) - 1.7, 0, 1)
    return np.clip(0.45 * ring + 0.28 + 0.10 * fine * fibre + 0.5 * pores, 0, 1).astype(np.float32)


def weave(size: int, threads: int, seed: int) -> tuple[F32, F32]:
    """Plain weave: height 0..1, and shade 0..1 with uneven threads. Square, tiles."""
    x = np.linspace(0, threads * np.pi, size, endpoint=False, dtype=np.float32)
    rng = np.random.default_rng(seed)
    row = 1 + 0.25 * rng.standard_normal(threads).astype(np.float32)
    index = (np.arange(size) * threads // size).astype(int)
    sx, sy = np.sin(x)[None], np.sin(x)[:, None]
    over = (index[None] + index[:, None]) % 2 == 0
    warp = np.abs(sx) ** 0.6 * (0.55 + 0.45 * np.abs(np.cos(x / 1)[:, None]) * 0 + 0.45 * np.abs(sy))
    weft = np.abs(sy) ** 0.6 * (0.55 + 0.45 * np.abs(sx))
    height = np.where(over, warp, weft)
    shade = np.where(over, row[index][None], row[index][:, None]) * 0.5 + 0.12 * cloud(size, size, seed, 0.6)
    return height.astype(np.float32), np.clip(shade, 0, 1).astype(np.float32)


def scratches(size: int, count: int, seed: int) -> tuple[F32, NDArray[np.float64]]:
    """Fine straight and curved scratches: a mask, and their ends (count, 4) in texture places."""
    rng = np.random.default_rng(seed)
    mask = np.zeros((size, size), np.uint8)
    ends = []
    for _ in range(count):
        start = rng.random(2)
        angle, length, bend = rng.random() * 6.3, 0.02 + 0.13 * rng.random(), 0.4 * rng.standard_normal()
        t = np.linspace(0, 1, 40)[:, None]
        heading = angle + bend * t
        line = start + np.cumsum(np.concatenate([np.cos(heading), np.sin(heading)], 1), axis=0) * length / 40
        cv2.polylines(
            mask, [np.round(line * size * 16).astype(np.int32)], False, 255, 1 + int(rng.random() > 0.8), cv2.LINE_AA, 4
        )
        ends.append([*line[0], *line[-1]])
    return (mask / np.float32(255)).astype(np.float32), np.array(ends)


def leaves(height: int, width: int, count: int) -> F32:
    """A painted band: a stem with leaves, and a finch now and then. Tiles along x."""
    mask = np.zeros((height * 2, width * 2), np.uint8)
    h, w = mask.shape
    x = np.arange(w)
    stem = h * (0.5 + 0.14 * np.sin(x / w * 2 * np.pi * count / 2))
    cv2.polylines(mask, [np.stack([x, stem], 1).astype(np.int32)], False, 255, max(2, h // 60))
    for k in range(count):
        cx = int((k + 0.5) * w / count)
        for side in (-1, 1):
            cy = int(stem[cx] + side * h * 0.17)
            size = (int(w / count * 0.34), int(h * 0.075))
            cv2.ellipse(mask, (cx, cy), size, side * 38 + (8 if k % 2 else -8), 0, 360, 255, -1)
            cv2.ellipse(mask, (cx, cy), (size[0], 1), side * 38 + (8 if k % 2 else -8), 0, 360, 60, max(1, h // 120))
        if k % 4 == 1:  # a small bird on the stem
            cx, cy, r = int((k + 1.0) * w / count), int(stem[int((k + 1.0) * w / count) % w] - h * 0.16), h * 0.085
            cv2.ellipse(mask, (cx, cy), (int(r * 1.6), int(r)), -18, 0, 360, 255, -1)
            cv2.circle(mask, (int(cx + r * 1.5), int(cy - r * 0.9)), int(r * 0.68), 255, -1)
            beak = np.array([[cx + r * 2.1, cy - r * 1.1], [cx + r * 2.7, cy - r * 0.8], [cx + r * 2.1, cy - r * 0.7]])
            tail = np.array([[cx - r * 1.2, cy - r * 0.1], [cx - r * 3.2, cy + r * 0.9], [cx - r * 1.2, cy + r * 0.8]])
            cv2.fillPoly(mask, [beak.astype(np.int32), tail.astype(np.int32)], 255)
    small = cv2.resize(mask, (width, height), interpolation=cv2.INTER_AREA)
    return (small / np.float32(255)).astype(np.float32)


def lettering(height: int, width: int, lines: list[tuple[str, float]], frame: bool = True) -> F32:
    """Engraved words: each line with its size as a part of the height. 1 where metal is cut away."""
    big = np.zeros((height * 2, width * 2), np.uint8)
    h, w = big.shape
    y = h * 0.5 - sum(s for _, s in lines) * h * 0.72
    for text, size in lines:
        face, scale = cv2.FONT_HERSHEY_TRIPLEX, size * h / 30
        thick = max(2, int(scale * 1.6))
        (tw, _), _ = cv2.getTextSize(text, face, scale, thick)
        y += size * h * 1.45
        cv2.putText(big, text, (int((w - tw) / 2), int(y)), face, scale, 255, thick, cv2.LINE_AA)
    if frame:
        for inset in (0.05, 0.075):
            d = int(inset * w)
            cv2.rectangle(big, (d, d), (w - d, h - d), 255, max(2, h // 180), cv2.LINE_AA)
    small = cv2.resize(big, (width, height), interpolation=cv2.INTER_AREA)
    return (small / np.float32(255)).astype(np.float32)
