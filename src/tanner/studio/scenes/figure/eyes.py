"""Eyes: one mesh with a cornea's bulge; the iris is painted as it is seen through it, by refraction to the camera."""

from dataclasses import dataclass

import numpy as np

from tanner.studio.scenes.figure.noise import F32, noise
from tanner.studio.scenes.shapes import F64, I64

RADIUS, IRIS, CORNEA = 1.385, 0.60, 0.80
"""Of the ball, of the iris and of the cornea's own curve, in cm. The ball is larger than an eye's: it meets the lids of the base mesh."""
INDEX = 1.336
"""Of refraction, of what lies behind the cornea (source: common optics of the eye)."""
Tones = tuple[tuple[float, float, float], tuple[float, float, float]]
"""Dark and light tone of an iris, linear sRGB."""


@dataclass
class Ball:
    """points (N, 3), quads, albedo (N, 3), and how much each point is iris."""

    points: F64
    quads: I64
    albedo: F32
    iris: F32


def _iris(rho: F64, phi: F64, tones: Tones, seed: int, pupil: float = 0.36) -> F64:
    """Albedo (N, 3) by distance (1 at the edge of the iris) and angle: fibres, their inner ring, a dark rim."""
    ring = np.stack([np.cos(phi), np.sin(phi)], 1)
    q = np.column_stack([ring * 2.2, rho * 0.35])
    fibre = noise(q, 0.09, seed) + 0.7 * noise(q, 0.045, seed + 1)
    wave = 0.03 * noise(np.column_stack([ring, rho * 0]), 0.35, seed + 2)
    inner = np.exp(-(((rho - 0.50 - wave) / 0.09) ** 2))
    t = np.clip(0.42 + 0.33 * fibre + 0.30 * inner - 0.25 * np.clip((rho - 0.75) / 0.25, 0, 1), 0, 1)[:, None]
    base, light = np.array(tones[0]), np.array(tones[1])
    colour = (base * (1 - t) + light * t) * (1 + 0.25 * noise(q, 0.4, seed + 5))[:, None]
    colour = colour * (1 - 0.82 * np.clip((rho - 0.80) / 0.2, 0, 1) ** 1.3)[:, None]
    edge = np.clip((rho - pupil - 0.4 * wave) / 0.035, 0, 1)[:, None]
    return np.asarray(0.006 * (1 - edge) + colour * edge)


def ball(centre: F64, gaze: F64, camera: F64, tones: Tones, seed: int, rings: int = 420, sides: int = 600) -> Ball:
    """An eye that looks along the unit vector gaze, as the camera sees it."""
    limit = np.arcsin(IRIS / RADIUS)
    theta = np.concatenate([np.linspace(0, limit * 1.35, rings), np.linspace(limit * 1.35, 1.9, rings // 2)[1:]])
    phi = np.linspace(0, 2 * np.pi, sides, endpoint=False)
    # The cornea's middle lies so that both curves meet where the white begins.
    c = RADIUS * np.cos(limit) - np.sqrt(CORNEA**2 - IRIS**2)
    bulge = c * np.cos(theta) + np.sqrt(np.maximum(CORNEA**2 - (c * np.sin(theta)) ** 2, 0))
    k = 0.012
    r = np.where(theta < 1.2, k * np.logaddexp(bulge / k, RADIUS / k), RADIUS)
    r = np.where(theta < limit * 1.6, r, RADIUS)
    z = gaze / np.linalg.norm(gaze)
    x = np.cross([0, 0, 1.0], z)
    x /= np.linalg.norm(x)
    frame = np.stack([x, np.cross(z, x), z], 1)
    t, p = np.meshgrid(theta, phi, indexing="ij")
    local = (np.stack([np.sin(t) * np.cos(p), np.sin(t) * np.sin(p), np.cos(t)], -1) * r[:, None, None]).reshape(-1, 3)
    points = local @ frame.T + centre
    i, j = np.arange(len(theta) - 1)[:, None] * sides, np.arange(sides)[None]
    quads = np.stack([i + j, i + sides + j, i + sides + (j + 1) % sides, i + (j + 1) % sides], -1).reshape(-1, 4)
    # Where the ray from the camera goes below the cornea.
    d = local - (np.asarray(camera) - centre) @ frame
    d /= np.linalg.norm(d, axis=1, keepdims=True)
    normal = local - [0, 0, c]
    normal /= np.linalg.norm(normal, axis=1, keepdims=True)
    cosine = -(d * normal).sum(1)
    eta = 1 / INDEX
    root = np.sqrt(np.maximum(1 - eta**2 * (1 - cosine**2), 0))
    into = eta * d + (eta * cosine - root)[:, None] * normal
    depth = RADIUS * np.cos(limit) - 0.03
    hit = local + np.maximum((depth - local[:, 2]) / np.minimum(into[:, 2], -1e-3), 0)[:, None] * into
    tt = t.ravel()
    rho = np.hypot(hit[:, 0], hit[:, 1]) / IRIS
    rho = np.where(tt > limit, np.maximum(np.sin(tt) * RADIUS / IRIS, 1.0), np.minimum(rho, 1.05))
    colour = _iris(np.minimum(rho, 1), np.arctan2(hit[:, 1], hit[:, 0]), tones, seed)
    veins = np.clip(0.10 - np.abs(noise(local, 0.30, 91) + 0.4 * noise(local, 0.12, 92)), 0, 1) * 10
    veins = veins * np.clip(noise(local, 0.5, 93) + 0.1, 0, 1) * np.clip((tt - limit) / 0.5, 0, 1)
    pink = np.clip((tt - limit) / 0.9, 0, 1)[:, None]
    white = np.array([0.42, 0.38, 0.36]) * (1 - pink) + np.array([0.38, 0.25, 0.22]) * pink
    white = white * (1 - 0.45 * veins[:, None] * np.array([0.25, 1, 1])) * (1 + 0.03 * noise(local, 0.2, 94)[:, None])
    w = np.clip((tt - limit + 0.075) / 0.15, 0, 1)
    w = (w * w * (3 - 2 * w))[:, None]
    return Ball(points, quads, (colour * (1 - w) + white * w).astype(np.float32), (1 - w[:, 0]).astype(np.float32))
