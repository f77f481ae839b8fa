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
from tanner.core.raw.source import Source
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


def coded(linear: F32) -> F32:
    """sRGB values of linear ones."""
    v = np.clip(linear, 0, 1)
    return np.where(v <= 0.0031308, 12.92 * v, 1.055 * v ** (1 / 2.4) - 0.055).astype(np.float32)


def decoded(values: F32) -> F32:
    v = np.clip(values, 0, 1)
    return np.where(v <= 0.04045, v / 12.92, ((v + 0.055) / 1.055) ** 2.4).astype(np.float32)


Rows = list[tuple[float, float, float]]
Reference = tuple[Callable[[F32, float, float], F32], tuple[float, ...]]


def references() -> dict[str, Reference]:
    """Methods of reference libraries on the demosaiced picture (linear, electrons at white, a setting), with settings."""
    from skimage.restoration import denoise_nl_means, denoise_tv_chambolle, denoise_wavelet

    from tanner.core.noise.stabilise import stabilised, unbiased

    means = {"patch_size": 5, "patch_distance": 6, "fast_mode": True, "channel_axis": 2}

    def opencv(linear: F32, _: float, h: float) -> F32:
        numbers = np.rint(coded(linear) * 255).astype(np.uint8)
        return decoded(cv2.fastNlMeansDenoisingColored(numbers, None, h, h, 5, 13).astype(np.float32) / 255)

    def wavelet(linear: F32, _: float, times: float) -> F32:
        values = coded(linear)
        from skimage.restoration import estimate_sigma

        sigma = times * float(np.mean(estimate_sigma(values, channel_axis=2)))
        return decoded(denoise_wavelet(values, sigma=sigma, channel_axis=2, convert2ycbcr=True, rescale_sigma=True))

    def non_local(linear: F32, _: float, h: float) -> F32:
        return decoded(denoise_nl_means(coded(linear), h=h, sigma=0.8 * h, preserve_range=True, **means))

    def stable(linear: F32, electrons: float, run: Callable[[F32], F32]) -> F32:
        gains = (1 / NEUTRAL).astype(np.float32)
        a, b = gains / electrons, (READ / electrons * gains) ** 2
        return np.asarray(unbiased(run(stabilised(linear, a, b)), a, b), np.float32)

    def total_variation(linear: F32, electrons: float, weight: float) -> F32:
        return stable(linear, electrons, lambda v: denoise_tv_chambolle(v, weight=weight, channel_axis=2))

    def stable_non_local(linear: F32, electrons: float, h: float) -> F32:
        return stable(linear, electrons, lambda v: denoise_nl_means(v, h=h, sigma=0.8, preserve_range=True, **means))

    return {
        "OpenCV non-local means, sRGB": (opencv, (4, 8, 14, 22)),
        "wavelets (BayesShrink), sRGB": (wavelet, (1.0, 1.6, 2.4)),
        "non-local means, sRGB": (non_local, (0.02, 0.04, 0.08, 0.14)),
        "transform + total variation": (total_variation, (0.7, 1.2, 2.0)),
        "transform + non-local means": (stable_non_local, (0.5, 0.7, 0.9)),
    }


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--tune", action="store_true")
    options = parser.parse_args()
    print("ISO    method                              PSNR    SSIM   s/MP", flush=True)
    for iso, electrons in FULL.items():
        frames = [(truth, taken(truth, electrons, n)) for n, (_, truth) in enumerate(pictures(options.tune))]
        ours: dict[str, Rows] = {}
        theirs: Rows = []
        for name, run in methods().items():
            rows = ours[name] = []
            for truth, source in frames:
                source.memory.clear()
                began = time.process_time()
                found = run(source)
                rows.append(_figures(found, truth, began))
            _tell(iso, name, [rows])
        if options.tune:
            continue
        plain = [(truth, developed(source)) for truth, source in frames]
        for name, (run, settings) in references().items():
            tried = []
            for setting in settings:
                rows = []
                for truth, linear in plain:
                    began = time.process_time()
                    rows.append(_figures(run(linear, electrons, setting), truth, began))
                tried.append(rows)
            theirs = max(_tell(iso, name, tried), theirs, key=lambda rows: np.mean(rows, axis=0)[0] if rows else 0)
        for name in list(ours)[1:]:
            better = [sum(o[n] > t[n] for o, t in zip(ours[name], theirs, strict=True)) for n in (0, 1)]
            print(
                f"{iso:6} {name}: above the best of them on {better[0]} of {len(theirs)} in PSNR, {better[1]} in SSIM"
            )


def _figures(found: F32, truth: F32, began: float) -> tuple[float, float, float]:
    seconds = (time.process_time() - began) / truth[..., 0].size * 1e6
    return psnr(found, truth), ssim(found, truth), seconds


def _tell(iso: str, name: str, tried: list[Rows]) -> Rows:
    """The setting with the best mean PSNR."""
    best = max(tried, key=lambda rows: float(np.mean(rows, axis=0)[0]))
    p, s, t = np.mean(best, axis=0)
    print(f"{iso:6} {name:34} {p:6.2f}  {s:.3f}  {t:5.2f}", flush=True)
    return best


if __name__ == "__main__":
    main()
