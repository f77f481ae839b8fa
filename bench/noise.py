"""How good the methods against noise are: `python -m bench.noise [--tune]`.

On pictures that ship with scikit-image (none of them is used in training or tuning), made raw by the simulated sensor, with
PSNR in linear light and SSIM of the demosaiced result. `--tune` takes our own procedural pictures instead.
"""

import argparse
import time
from collections.abc import Callable, Iterator

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.raw.facts import FrameFacts
from tanner.core.raw.reader import Source
from tanner.core.render import plain_planes

F32 = NDArray[np.float32]
FULL = {"800": 3600.0, "3200": 900.0, "12800": 225.0}
"""Electrons at the sensor's white, by the ISO that they stand for."""
READ, NEUTRAL = 3.0, np.array([0.5, 1.0, 0.6])
BLACK, WHITE = 1024, 16383


def pictures(tune: bool) -> Iterator[tuple[str, F32]]:
    """Names and linear pictures (H, W, 3), from 0 to 1."""
    if tune:
        from training.pictures import picture

        for seed in range(900_000, 900_008):
            yield str(seed), np.clip(picture(seed), 0, 1)
        return
    from skimage import data

    for name in (
        "astronaut",
        "chelsea",
        "coffee",
        "rocket",
        "retina",
        "hubble_deep_field",
        "immunohistochemistry",
        "stereo_motorcycle",
    ):
        raw = getattr(data, name)()
        raw = raw[0] if isinstance(raw, tuple) else raw
        rgb = raw[..., :3].astype(np.float32) / 255
        if max(rgb.shape) > 800:
            rgb = cv2.resize(rgb, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA)
        linear = np.where(rgb <= 0.04045, rgb / 12.92, ((rgb + 0.055) / 1.055) ** 2.4)
        yield name, np.ascontiguousarray(linear[: rgb.shape[0] // 4 * 4, : rgb.shape[1] // 4 * 4])


def taken(linear: F32, electrons: float, seed: int) -> Source:
    """A Bayer frame of a picture, with its noise model in the facts."""
    rng = np.random.default_rng(seed)
    scene = linear * NEUTRAL
    h, w = linear.shape[:2]
    mosaic = np.empty((h, w))
    for y, x, c in ((0, 0, 0), (0, 1, 1), (1, 0, 1), (1, 1, 2)):
        mosaic[y::2, x::2] = scene[y::2, x::2, c]
    counted = (rng.poisson(mosaic * electrons) + rng.normal(0, READ, mosaic.shape)) / electrons
    data = np.clip(np.rint(counted * (WHITE - BLACK) + BLACK), 0, WHITE).astype(np.uint16)
    facts = FrameFacts(
        path="x", kind="bayer", width=w, height=h, black=(BLACK,) * 4, white=WHITE, pattern=(0, 0),
        neutral=tuple(NEUTRAL), noise_profile=(1 / electrons, (READ / electrons) ** 2),
        colour_matrices=((1.0, 0, 0, 0, 1.0, 0, 0, 0, 1.0),), illuminants=(21,),
    )  # fmt: skip
    return Source(facts, data)


def developed(source: Source) -> F32:
    """Demosaiced linear picture (H, W, 3), balanced."""
    planes = np.moveaxis(plain_planes(source, 10**6), 0, -1)
    # Camera colour is not balanced before the resampling, as a mosaic is.
    return planes if source.facts.kind == "bayer" else planes / NEUTRAL.astype(np.float32)


def psnr(found: F32, truth: F32) -> float:
    inner = np.s_[8:-8, 8:-8]
    return float(-10 * np.log10(np.mean((np.clip(found, 0, 1)[inner] - truth[inner]) ** 2)))


def ssim(found: F32, truth: F32) -> float:
    from skimage.metrics import structural_similarity

    coded = [np.clip(v, 0, 1) ** (1 / 2.2) for v in (found, truth)]
    return float(structural_similarity(*coded, channel_axis=2, data_range=1))


def methods() -> dict[str, Callable[[Source], F32]]:
    from tanner.core.noise.methods import METHODS, cleaned

    found: dict[str, Callable[[Source], F32]] = {"none": developed}
    for name in METHODS:
        found[name] = lambda s, name=name: developed(cleaned(s, name))
    return found


def reference(source: Source, electrons: float, h: float) -> F32:
    """scikit-image's non-local means on the demosaiced picture after the variance-stabilising transform."""
    from skimage.restoration import denoise_nl_means

    from tanner.core.noise.stabilise import stabilised, unbiased

    gains = (1 / NEUTRAL).astype(np.float32)
    a, b = gains / electrons, (READ / electrons * gains) ** 2
    stable = stabilised(developed(source), a, b)
    quiet = denoise_nl_means(
        stable, patch_size=5, patch_distance=6, h=h, sigma=0.8, fast_mode=True, channel_axis=2, preserve_range=True
    )
    return np.asarray(unbiased(quiet, a, b), np.float32)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--tune", action="store_true")
    options = parser.parse_args()
    chosen = methods()
    print("ISO    method    PSNR    SSIM   s/MP")
    for iso, electrons in FULL.items():
        rows: dict[str, list[tuple[float, float, float]]] = {}
        for n, (_, truth) in enumerate(pictures(options.tune)):
            for name, run in chosen.items():
                source = taken(truth, electrons, n)
                began = time.perf_counter()
                found = run(source)
                seconds = (time.perf_counter() - began) / truth[..., 0].size * 1e6
                rows.setdefault(name, []).append((psnr(found, truth), ssim(found, truth), seconds))
            if not options.tune:
                for h in (0.5, 0.7, 0.9):
                    source = taken(truth, electrons, n)
                    began = time.perf_counter()
                    found = reference(source, electrons, h)
                    seconds = (time.perf_counter() - began) / truth[..., 0].size * 1e6
                    rows.setdefault(f"vst + nlm {h}", []).append((psnr(found, truth), ssim(found, truth), seconds))
        for name, row in rows.items():
            p, s, t = np.mean(row, axis=0)
            print(f"{iso:6} {name:14} {p:6.2f}  {s:.3f}  {t:5.2f}", flush=True)


if __name__ == "__main__":
    main()
