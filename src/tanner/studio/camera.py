"""The simulated cameras: scene radiance to valid DNG files, with known truth."""

from functools import cache, lru_cache
from pathlib import Path
from zlib import crc32

import cv2
import numpy as np
import simplejpeg
from numpy.typing import NDArray

from tanner.core.colour.spaces import SPACES
from tanner.core.jit import kernel
from tanner.core.optics.lens import OpcodeLens
from tanner.core.output.files import write_whole
from tanner.core.raw.dng import DngTags, opcode_list, write_bayer_dng
from tanner.studio import bands, light, pictures
from tanner.studio.drawn import SCENES, Canvas
from tanner.studio.exposure import LENSES, Exposure
from tanner.studio.faults import dust_shade, out_of_focus, pane, shaken
from tanner.studio.flat import FLAT, look_of
from tanner.studio.truth import known

DRAWN = SCENES | FLAT
BLACK, WHITE = 512, 16383
FULL_WELL = 52_000.0
READ_NOISE = 3.0


@cache
def _matrices(camera: str) -> tuple[tuple[NDArray[np.float64], ...], tuple[NDArray[np.float64], ...]]:
    pairs = [light.fitted_matrices(k, camera) for k in (2856.0, 6504.0)]
    return tuple(p[0] for p in pairs), tuple(p[1] for p in pairs)


def radiance(shot: Exposure, width: int, height: int) -> NDArray[np.float32]:
    """Noise-free camera numbers of a scene, before lens and exposure: (3, rows, columns), upright.

    A drawn scene has the size that is asked for; a rendered one its own.
    """
    lit = shot.spectrum()
    if shot.scene in DRAWN:
        canvas = Canvas(width, height, look_of(lit, shot.camera), shot.seed)
        DRAWN[shot.scene](canvas, shot.turn)
        return np.ascontiguousarray(np.moveaxis(canvas.pixels, -1, 0))
    weights = bands.weights(light.sensitivities(shot.camera), lit).astype(np.float32)
    # Light adds up: each lamp's own picture, as strong as it burns.
    parts = [(f"{shot.scene}-{name}", strength) for name, strength in shot.lights] or [(shot.scene, 1.0)]
    seen: NDArray[np.float32] | None = None
    for name, strength in parts:
        planes = pictures.planes(name)
        part = np.empty((3, *planes.shape[1:]), np.float32)
        _weighed(planes, np.ascontiguousarray(weights * np.float32(strength), np.float32), part)
        seen = part if seen is None else seen + part
    assert seen is not None
    if shot.focus or shot.opening:
        seen = out_of_focus(seen, shot)
    return shaken(seen, shot) if any(shot.moved) else seen


def noise_profile(iso: int) -> tuple[float, float]:
    """Scale and offset of the variance of values from 0 to 1 (source: dng17, NoiseProfile)."""
    electrons = FULL_WELL * 100 / iso
    return 1 / electrons, (READ_NOISE / electrons) ** 2


def mosaic(shot: Exposure) -> tuple[NDArray[np.uint16], NDArray[np.float32]]:
    """The sensor's numbers, and the noise-free values (H, W) from 0 to 1 that they came from."""
    w, h = (shot.height, shot.width) if shot.upright else (shot.width, shot.height)
    scene = radiance(shot, w, h)
    rendered = shot.scene not in DRAWN
    values = np.empty((shot.height, shot.width), dtype=np.float32)
    if shot.upright:
        scene = np.ascontiguousarray(np.rot90(scene, axes=(1, 2)))  # the camera lay on its side: EXIF orientation 6
    taps = cv2.INTER_CUBIC if rendered else cv2.INTER_LINEAR
    glass = pane(shot.width, shot.height) if shot.behind_glass else None
    ground = np.float32(0.5) * scene.mean(axis=(1, 2))
    # The lens moves each colour in its own way.
    for plane, places in ((0, [(0, 0)]), (1, [(0, 1), (1, 0)]), (2, [(1, 1)])):
        for y0, x0 in places:
            mx, my, shade = _places(shot, scene.shape[1:], rendered, plane, (y0, x0), 2)
            if glass is not None:
                dx, dy, through, added = (part[y0::2, x0::2] for part in glass)
                size = np.float32(shot.span * max(scene.shape[1:]) / max(shot.width, shot.height))
                mx, my = mx + dx * size, my + dy * size
            sampled = cv2.remap(scene[plane], mx, my, taps, borderMode=cv2.BORDER_REPLICATE)
            if glass is not None:
                sampled = sampled * through + added * ground[plane]
            values[y0::2, x0::2] = sampled * shade
    if shot.dusty:
        values *= dust_shade(shot)
    rng = np.random.default_rng(shot.seed * 7919 + 17)
    noise = np.array((0.62 * 2**shot.ev, *noise_profile(shot.iso)), np.float32)
    numbers = np.empty(values.shape, np.uint16)
    _exposed(values, rng.standard_normal(values.shape, dtype=np.float32), noise, numbers)
    return numbers, values


@kernel
def _weighed(planes, weights, out):
    """Bands (6, H, W) by weights (3, 6) as camera numbers (3, H, W)."""
    for y in range(planes.shape[1]):
        for c in range(3):
            line = out[c, y]
            line[:] = 0
            for band in range(planes.shape[0]):
                weight, row = weights[c, band], planes[band, y]
                for x in range(len(line)):
                    line[x] += weight * row[x]


@kernel
def _exposed(values, normal, how, out):
    """Values (H, W) as they are exposed, in place, and the sensor's numbers of them.

    Args:
        normal: deviations of a normal variable; how: (3,) exposure, and the scale and offset of the variance.
    """
    gain, scale, offset = how[0], how[1], how[2]
    span, black = np.float32(WHITE - BLACK), np.float32(BLACK)
    for y in range(values.shape[0]):
        row, apart, numbers = values[y], normal[y], out[y]
        for x in range(len(row)):
            value = max(row[x], np.float32(0)) * gain
            row[x] = value
            number = np.rint((value + np.sqrt(value * scale + offset) * apart[x]) * span + black)
            numbers[x] = np.uint16(min(max(number, np.float32(0)), np.float32(WHITE)))


def _places(
    shot: Exposure, scene: tuple[int, ...], rendered: bool, plane: int, first: tuple[int, int], step: int
) -> tuple[NDArray[np.float32], NDArray[np.float32], NDArray[np.float32]]:
    """Where px of the sensor (every `step`th from the first) lie in the scene's picture of (h, w) px, and the lens's shade."""
    span, (left, top) = (shot.span, shot.corner()) if rendered else (1.0, (0.0, 0.0))
    if shot.upright:
        left, top = top, 1 - left - span
    # From places in the frame to places in the scene's picture: a part of it, as the photographer framed it.
    sx, sy = span * scene[1] / shot.width, span * scene[0] / shot.height
    ox, oy = left * scene[1], top * scene[0]
    rows = (np.arange(first[0], shot.height, step) + 0.5) / shot.height * 125
    cols = (np.arange(first[1], shot.width, step) + 0.5) / shot.width * 188
    mx, my = np.meshgrid(cols.astype(np.float32), rows.astype(np.float32))
    through = _through(shot.lens, shot.width, shot.height, plane)
    fx, fy, fs = (cv2.remap(field, mx, my, cv2.INTER_LINEAR) for field in through)
    if rendered and any(shot.turned):
        x, y = _turned(shot, fx / np.float32(shot.width), fy / np.float32(shot.height))
        return x * np.float32(scene[1]) - np.float32(0.5), y * np.float32(scene[0]) - np.float32(0.5), fs
    return fx * np.float32(sx) + np.float32(ox - 0.5), fy * np.float32(sy) + np.float32(oy - 0.5), fs


@lru_cache(maxsize=16)
def _through(name: str, width: int, height: int, plane: int) -> tuple[NDArray[np.float32], ...]:
    """Where a colour's places lie before the lens, x and y in px, and its shade, on a grid of 126 x 189 over the frame."""
    model = LENSES[name]
    lens = OpcodeLens(np.array(model.warp), np.array(model.vignette), (width, height))
    # The lens maps ideal to recorded; a picture is taken the other way, by a few fixed-point steps.
    gx, gy = np.meshgrid(np.linspace(0, width, 189), np.linspace(0, height, 126))
    ix, iy = gx.copy(), gy.copy()
    for _ in range(6):
        at = lens.positions(ix, iy)[plane]
        ix, iy = ix + gx - at[0], iy + gy - at[1]
    return tuple(field.astype(np.float32) for field in (ix, iy, 1 / lens.gain(gx, gy)))


def _turned(shot: Exposure, across: NDArray[np.float32], below: NDArray[np.float32]) -> tuple[NDArray[np.float32], ...]:
    """Places of the sensor to places of the scene's picture as it lies on the sensor, both from 0 to 1."""
    u, v = (1 - below, across) if shot.upright else (across, below)
    rows = shot.to_scene().astype(np.float32)
    a, b, c = (row[0] * u + row[1] * v + row[2] for row in rows)
    u, v = a / c, b / c
    return (v, 1 - u) if shot.upright else (u, v)


def true_mask(shot: Exposure, name: str = "subject") -> NDArray[np.float32]:
    """How much of each px of the upright frame, lens faults and all, a thing has, by the truth of that name; (h, w) from 0 to 1."""
    mask = known(shot.scene, name)
    if shot.upright:
        mask = np.ascontiguousarray(np.rot90(mask))
    mx, my, _ = _places(shot, mask.shape, True, 1, (0, 0), 1)
    found = cv2.remap(mask, mx, my, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    return np.ascontiguousarray(np.rot90(found, -1)) if shot.upright else found


def camera_picture(shot: Exposure, values: NDArray[np.float32]) -> tuple[bytes, tuple[int, int]]:
    """The small JPEG that a camera puts into its raw files: quick and plain, from 8 x 8 blocks.

    Args:
        values: noise-free mosaic (H, W), red at the top left.
    """
    h, w = values.shape[0] // 8, values.shape[1] // 8
    whole = values[: h * 8, : w * 8]
    red, green1, green2, blue = (
        cv2.resize(whole[y::2, x::2], (w, h), interpolation=cv2.INTER_AREA) for y in (0, 1) for x in (0, 1)
    )
    rgb = np.stack([red, (green1 + green2) / 2, blue], axis=-1)
    believed = light.light(shot.believed)
    neutral = light.camera_response(np.ones_like(believed), believed, shot.camera)
    forward = light.fitted_matrices(shot.believed, shot.camera)[1]
    to_srgb = np.linalg.inv(SPACES["srgb"].to_pcs()) @ forward @ np.diag(1 / neutral)
    encoded = SPACES["srgb"].encode(np.clip(rgb @ to_srgb.T * 1.25, 0, 1))
    pixels = np.rint(encoded * 255).astype(np.uint8)
    return simplejpeg.encode_jpeg(np.ascontiguousarray(pixels), quality=82, colorsubsampling="420"), (w, h)


def take(shot: Exposure, compress: bool = True) -> bytes:
    """One DNG file."""
    numbers, values = mosaic(shot)
    preview, preview_size = camera_picture(shot, values)
    model = LENSES[shot.lens]
    colour, forward = _matrices(shot.camera)
    believed = light.light(shot.believed)
    neutral = light.camera_response(np.ones_like(believed), believed, shot.camera)
    neutral = neutral / neutral.max()
    scale, offset = noise_profile(shot.iso)
    tags = DngTags(
        make="Alder",
        model=shot.camera,
        black=BLACK,
        white=WHITE,
        pattern=(0, 1, 1, 2),
        neutral=(float(neutral[0]), float(neutral[1]), float(neutral[2])),
        matrices=colour,
        illuminants=(17, 21),
        forward=forward,
        noise_profile=(scale, offset) * 3,
        opcodes3=opcode_list(np.array(model.warp), np.array(model.vignette)),
        lens=model.name,
        focal_length=model.focal_length,
        focal_length_35mm=round(model.focal_length),
        aperture=model.aperture,
        exposure=shot.shutter,
        iso=shot.iso,
        taken=shot.taken,
        orientation=6 if shot.upright else 1,
        serial={"Alder One": "AF-0001", "Alder Two": "AF-0202"}[shot.camera],
        preview=preview,
        preview_size=preview_size,
    )
    return write_bayer_dng(numbers, tags, compress)


def write(shot: Exposure, path: Path, *, compress: bool = True, replace: bool = False) -> None:
    """One DNG file, whole or not at all, with the time of its exposure for its own: so cameras leave them on a card."""
    data = take(shot, compress)
    # What is kept of a file is known by its length and time: its thousandths tell renderings of one frame apart.
    apart = crc32(data) % 1000 / 1000
    write_whole(path, data, replace=replace, modified=shot.taken.timestamp() + apart)
