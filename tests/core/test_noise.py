"""Noise: its model, the transform that evens it out, the methods, and quiet copies of raw files."""

import os
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from made import exposure
from test_reader import dng
from typer.testing import CliRunner

from tanner.cli import app
from tanner.core.adjust.registry import develop
from tanner.core.colour.difference import ciede2000
from tanner.core.noise import tiles
from tanner.core.noise.controls import Noise
from tanner.core.noise.faults import without_hot_pixels, without_moire
from tanner.core.noise.kept import KEPT
from tanner.core.noise.methods import BLACK, METHODS, MIX, Strength, cleaned
from tanner.core.noise.model import estimated, noise_model, tiles_of
from tanner.core.noise.planes import cleaned_planes
from tanner.core.noise.prepass import NoiseError, denoise_file, target_of
from tanner.core.noise.stabilise import stabilised, unbiased
from tanner.core.noise.stage import CLEANED, denoised_source, method_for, notes, waits
from tanner.core.noise.table import TABLE
from tanner.core.raw.facts import FrameFacts
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.render import plain_planes, render
from tanner.core.sharing import with_threads
from tanner.studio.camera import take

ELECTRONS, READ = 225.0, 3.0


def frame(linear: np.ndarray, electrons: float = ELECTRONS, seed: int = 0, pattern: tuple[int, int] = (0, 0)) -> Source:
    """A Bayer frame of a linear picture (H, W, 3) of balanced values, with its true model in the facts."""
    rng = np.random.default_rng(seed)
    neutral = np.array([0.5, 1.0, 0.6])
    h, w = linear.shape[:2]
    mosaic = np.empty((h, w))
    ry, rx = pattern
    for y in range(2):
        for x in range(2):
            c = 0 if (y, x) == (ry, rx) else 2 if (y, x) == (1 - ry, 1 - rx) else 1
            mosaic[y::2, x::2] = linear[y::2, x::2, c] * neutral[c]
    counted = (rng.poisson(mosaic * electrons) + rng.normal(0, READ, mosaic.shape)) / electrons
    facts = FrameFacts(
        path="x", kind="bayer", width=w, height=h, black=(1024,) * 4, white=16383, pattern=pattern,
        neutral=tuple(neutral), noise_profile=(1 / electrons, (READ / electrons) ** 2),
        colour_matrices=((1.0, 0, 0, 0, 1.0, 0, 0, 0, 1.0),), illuminants=(21,),
    )  # fmt: skip
    return Source(facts, np.clip(np.rint(counted * (16383 - 1024) + 1024), 0, 16383).astype(np.uint16))


def shapes(size: int = 240) -> np.ndarray:
    """Even areas, gradients, edges and a texture: something to keep and something to clean."""
    y, x = np.mgrid[0:size, 0:size] / size
    picture = np.stack([0.1 + 0.3 * x, 0.1 + 0.3 * y, 0.25 - 0.1 * x], axis=-1)
    picture[size // 3 : size // 2] *= np.array([1.8, 0.6, 0.5])
    picture[(x - 0.7) ** 2 + (y - 0.7) ** 2 < 0.03] = (0.5, 0.45, 0.3)
    stripes = 0.2 * np.sin(np.arange(size) * 1.1)[None, :, None] * (y > 0.85)[..., None]
    return np.clip(picture * (1 + stripes), 0.002, 1)


@pytest.fixture(scope="module")
def noisy() -> Source:
    return frame(shapes())


def balanced(source: Source) -> np.ndarray:
    planes = plain_planes(source, 10**6)
    return planes if source.facts.kind == "bayer" else planes / np.array([0.5, 1.0, 0.6], np.float32).reshape(3, 1, 1)


def off(source: Source) -> float:
    return float(np.sqrt(np.mean((balanced(source)[:, 6:-6, 6:-6] - np.moveaxis(shapes(), -1, 0)[:, 6:-6, 6:-6]) ** 2)))


# --- the transform -----------------------------------------------------------------------------------


@settings(deadline=None)
@given(electrons=st.floats(60, 40_000), read_noise=st.floats(0.5, 8), level=st.floats(0.0, 1.0))
def test_the_inverse_gives_the_mean_back(electrons: float, read_noise: float, level: float) -> None:
    """Exact and unbiased: the inverse of the mean of transformed values is the mean of the values (source: makitalo2013)."""
    a, b = 1 / electrons, (read_noise / electrons) ** 2
    rng = np.random.default_rng(int(electrons))
    values = (rng.poisson(level * electrons, 60_000) + rng.normal(0, read_noise, 60_000)) / electrons
    found = float(unbiased(np.array(stabilised(values, a, b).mean()), a, b))
    # Within sampling error, and the closed form's own, which is largest where there are hardly any electrons.
    assert abs(found - level) < 5 * np.sqrt((a * level + b) / 60_000) + 0.35 * a


def test_the_transform_evens_noise_out() -> None:
    a, b = 1 / 500, (3 / 500) ** 2
    rng = np.random.default_rng(1)
    for level in (0.02, 0.1, 0.5, 1.0):
        values = (rng.poisson(level * 500, 40_000) + rng.normal(0, 3, 40_000)) / 500
        assert stabilised(values, a, b).std() == pytest.approx(1.0, abs=0.04)


def test_the_kernels_do_what_the_transform_says() -> None:
    """In and out through the kernels of mosaics and of planes, against the transform and its inverse above."""
    a, b = np.array([2e-3, 1e-3, 1e-3, 3e-3]), np.array([4e-6, 1e-6, 1e-6, 9e-6])
    f32 = np.float32
    data = np.random.default_rng(5).integers(900, 16_000, (12, 20)).astype(np.uint16)
    rows, columns = np.array([0, 0, 1, 1]), np.array([0, 1, 0, 1])
    black, scale, ground = np.full(4, 1024, f32), (1 / 15_359 / a).astype(f32), (b / a**2).astype(f32)
    mixed = np.empty((4, 6, 10), f32)
    tiles.enter(data, 0, 6, rows, columns, black, scale, (0.375 + ground).astype(f32), MIX, mixed)
    values = np.stack([data[y::2, x::2] for y, x in ((0, 0), (0, 1), (1, 0), (1, 1))]) / 15_359.0 - 1024 / 15_359
    spread = (a.reshape(4, 1, 1), b.reshape(4, 1, 1))
    assert np.allclose(np.tensordot(MIX.T, mixed, axes=1), stabilised(values, *spread), rtol=1e-4, atol=1e-3)
    low = np.minimum(stabilised(np.zeros(4), a, b), 1.5).astype(f32)
    out = np.empty_like(data)
    tiles.leave(mixed, 0, 6, 0, rows, columns, a.astype(f32), ground, low, MIX, BLACK, 65535, False, out)
    back = np.stack([out[y::2, x::2] for y, x in ((0, 0), (0, 1), (1, 0), (1, 1))])
    wanted = unbiased(np.tensordot(MIX.T, mixed.astype(float), axes=1), *spread) * (65535 - BLACK) + BLACK
    assert np.abs(back - np.clip(wanted, 0, 65535)).max() < 2


# --- the model ---------------------------------------------------------------------------------------


@pytest.mark.parametrize("electrons", [225.0, 900.0, 6000.0])
def test_noise_is_estimated_within_a_tenth(electrons: float) -> None:
    source = frame(shapes(720), electrons, seed=3)
    a, b = estimated(tiles_of(source))  # type: ignore[misc]
    for value in (0.05, 0.2, 0.4):
        truth = np.sqrt(value / electrons + (READ / electrons) ** 2)
        assert np.abs(np.sqrt(a * value + b) / truth - 1).max() < 0.1


def test_where_the_model_comes_from(noisy: Source) -> None:
    assert noise_model(noisy).source == "file" and noise_model(noisy).a[1] == pytest.approx(1 / ELECTRONS)

    def other(**facts: object) -> Source:
        return Source(noisy.facts.model_copy(update=facts), noisy.data)

    assert noise_model(other(noise_profile=())).source == "frame"
    for absurd in ((float("nan"), 0.0), (-1.0, 0.0), (5.0, 0.0), (0.0, 0.0), (1e-3,)):
        assert noise_model(other(noise_profile=absurd)).source == "frame"
    small = Source(noisy.facts.model_copy(update={"noise_profile": (), "iso": 800}), noisy.data[:40, :60])
    assert noise_model(small).source == "usual"
    six = other(noise_profile=(1e-3, 1e-6, 2e-3, 2e-6, 3e-3, 3e-6))
    assert noise_model(six).a.tolist() == [1e-3, 2e-3, 2e-3, 3e-3]


# --- the methods -------------------------------------------------------------------------------------


@pytest.mark.parametrize("method", METHODS)
def test_noise_is_halved_and_more(method: str, noisy: Source) -> None:
    assert off(cleaned(noisy, method)) < 0.55 * off(noisy)


def test_fine_is_better_than_quick(noisy: Source) -> None:
    assert off(cleaned(noisy, "fine")) < off(cleaned(noisy, "quick"))


@pytest.mark.parametrize("method", METHODS)
@pytest.mark.parametrize("level", [0.02, 0.18, 0.5])
def test_level_and_colour_stay(method: str, level: float) -> None:
    """No shift in even areas: CIEDE2000 of the means at most 0.3."""
    colour = np.array([level, level * 0.8, level * 0.5])
    source = frame(np.broadcast_to(colour, (200, 200, 3)), electrons=900.0, seed=9)
    inner = np.s_[:, 10:-10, 10:-10]
    found = balanced(cleaned(source, method))[inner].mean(axis=(1, 2))
    # As sRGB numbers to XYZ: any fixed matrix will do for a difference.
    to_xyz = np.array([[0.4124, 0.3576, 0.1805], [0.2126, 0.7152, 0.0722], [0.0193, 0.1192, 0.9505]])
    labs = [_lab(to_xyz @ c) for c in (found, colour)]
    assert float(ciede2000(*labs)) < 0.3


def _lab(xyz: np.ndarray) -> np.ndarray:
    t = xyz / np.array([0.9505, 1.0, 1.089])
    f = np.where(t > 216 / 24389, np.cbrt(t), (24389 / 27 * t + 16) / 116)
    return np.array([116 * f[1] - 16, 500 * (f[0] - f[1]), 200 * (f[1] - f[2])])


@pytest.mark.parametrize("method", METHODS)
def test_no_pattern_of_the_mosaic_is_left(method: str) -> None:
    source = frame(np.full((200, 200, 3), 0.2), seed=4)
    planes = balanced(cleaned(source, method))[:, 20:-20, 20:-20]
    for plane in planes:
        means = [plane[y::2, x::2].mean() for y in range(2) for x in range(2)]
        assert np.ptp(means) < 0.004


@pytest.mark.parametrize("method", METHODS)
def test_hardly_noisy_frames_are_left_unharmed(method: str) -> None:
    clean = frame(shapes(), electrons=60_000.0)
    assert off(cleaned(clean, method)) <= 1.02 * off(clean)


def test_strengths(noisy: Source) -> None:
    none = cleaned(noisy, "fine", Strength(0, 0))
    assert np.abs(balanced(none) - balanced(noisy)).mean() < 0.002
    half, full = (off(cleaned(noisy, "fine", Strength(s, s))) for s in (50, 100))
    assert full < half < off(noisy)
    grey = cleaned(noisy, "fine", Strength(0, 100))
    assert off(full_s := cleaned(noisy, "fine")) < off(grey) < off(noisy)
    kept = cleaned(noisy, "fine", Strength(detail=100))
    assert not np.array_equal(kept.data, full_s.data)


@pytest.mark.parametrize("method", METHODS)
@pytest.mark.parametrize("pattern", [(0, 1), (1, 0), (1, 1)])
def test_every_order_of_the_mosaic(method: str, pattern: tuple[int, int]) -> None:
    source = frame(shapes(), pattern=pattern)
    assert off(cleaned(source, method)) < 0.6 * off(source)


@pytest.mark.parametrize("method", METHODS)
@pytest.mark.parametrize("size", [(16, 16), (24, 130), (90, 18)])
def test_frames_smaller_than_a_tile_and_saturated_ones(method: str, size: tuple[int, int]) -> None:
    tiny = frame(np.full((*size, 3), 0.3))
    assert np.isfinite(balanced(cleaned(tiny, method))).all()
    white = Source(tiny.facts, np.full(size, 16383, np.uint16))
    done = cleaned(white, method)
    assert balanced(done).min() > 0.9


def test_fine_is_the_same_for_any_number_of_threads_and_in_strips() -> None:
    """Tall enough for several strips, and of odd sizes, which the second tiling and the first fill otherwise."""
    tall = np.tile(shapes(96), (28, 1, 1))[:2601, :61]
    source = frame(tall)
    one, two = cleaned(source, "fine"), cleaned(source, "fine", threads=2)
    assert np.array_equal(one.data, two.data)
    part = Source(source.facts, np.ascontiguousarray(source.data[600:840]))
    apart = np.abs(cleaned(part, "fine").data[80:160].astype(float) - one.data[680:760])
    assert np.median(apart) < 40 and apart.mean() < 120  # of 65,535; blocks of the filter lie a little otherwise


def test_an_export_has_its_frame_cleaned_by_all_its_threads() -> None:
    """It was cleaned by one, while the others waited."""
    source = frame(np.tile(shapes(96), (28, 1, 1))[:2600, :61])
    handed: list[Any] = []
    alone = cleaned(source, "fine")

    class Watched(ThreadPoolExecutor):
        def submit(self, function: Any, /, *args: Any, **named: Any) -> Any:
            handed.append(function)
            return super().submit(function, *args, **named)

    with Watched(2) as pool, with_threads(pool):
        shared = cleaned(source, "fine")
    assert len(handed) >= 4 and np.array_equal(alone.data, shared.data)


# --- as a stage of development -----------------------------------------------------------------------


@pytest.fixture
def kept(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setattr(KEPT, "folder", tmp_path / "quiet")
    return tmp_path / "quiet"


def test_a_method_is_worked_out_once_and_kept_on_disk(evening: Path, kept: Path) -> None:
    noise = Noise(method="fine")
    source = read(evening)
    assert waits(source, noise)
    # A draft does not wait: quick stands in, and nothing is kept.
    draft = denoised_source(source, noise, draft=True)
    assert np.array_equal(draft.data, cleaned(source, "quick").data) and not kept.exists()
    first = denoised_source(source, noise)
    assert len(list(kept.glob("*.npy"))) == 1 and not waits(read(evening), noise)
    again = denoised_source(read(evening), noise, draft=True)
    assert np.array_equal(first.data, again.data) and np.array_equal(first.data, cleaned(source, "fine").data)
    # Strengths start from what is kept.
    half = denoised_source(read(evening), Noise(method="fine", luminance=50))
    assert len(list(kept.glob("*.npy"))) == 1 and not np.array_equal(half.data, first.data)
    # A file that changed is another file.
    os.utime(evening, ns=(1, 1))
    assert waits(read(evening), noise)


def test_what_is_kept_stays_within_its_budget(
    kept: Path, evening: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(KEPT, "budget", 2_500_000)
    for n in range(4):
        path = tmp_path / f"{n}"
        path.write_text("x")
        KEPT.keep(str(path), "fine", np.zeros(1_000_000, np.uint8))
        os.utime(next(iter(sorted(kept.glob("*.npy"), key=lambda p: -p.stat().st_mtime))), (n + 1, n + 1))
    assert [KEPT.has(str(tmp_path / str(n)), "fine") for n in range(4)] == [False, False, True, True]
    # A damaged file is worked out again.
    next(kept.glob("*.npy")).write_bytes(b"no array")
    assert sum(KEPT.find(str(tmp_path / str(n)), "fine") is not None for n in range(4)) == 1
    # A disk that takes nothing does no harm.
    monkeypatch.setattr(KEPT, "folder", tmp_path / "0" / "below a file")
    KEPT.keep(str(tmp_path / "1"), "fine", np.zeros(10))


@pytest.mark.parametrize("method", METHODS)
def test_rendering_uses_the_method(method: str, evening: Path) -> None:
    """Even places of the finished picture get quieter, and keep their level."""
    source = read(evening)
    plain = render(source, develop({}), (400, 600)).astype(float)
    quiet = render(source, develop({"noise.method": method}), (400, 600)).astype(float)
    patch = np.s_[20:60, 20:60]
    assert quiet[patch].std(axis=(0, 1)).mean() < 0.6 * plain[patch].std(axis=(0, 1)).mean()
    assert abs(quiet[patch].mean() - plain[patch].mean()) < 1.5


def test_a_strength_that_is_moved_costs_a_mix_only(evening: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The noise of a small draft is shrunk once, also beside moire; what comes is as from the start."""
    from tanner.core.noise import quick as quick_module

    calls: list[int] = []
    shrunk = quick_module.quick
    monkeypatch.setattr(quick_module, "quick", lambda *a, **k: calls.append(1) or shrunk(*a, **k))  # type: ignore[func-returns-value]
    source = read(evening)

    def drawn(source: Source, luminance: float) -> np.ndarray:
        values = {"noise.method": "quick", "noise.luminance": luminance, "noise.moire": 30.0}
        return render(source, develop(values), (100, 150), draft=True, keep=True)

    first, second = drawn(source, 100.0), drawn(source, 40.0)
    assert len(calls) == 1 and not np.array_equal(first, second)
    assert np.array_equal(second, drawn(read(evening), 40.0)) and len(calls) == 2


@pytest.mark.parametrize("tile", [40, 24])
def test_pieces_of_a_learned_frame_leave_no_seams(noisy: Source, monkeypatch: pytest.MonkeyPatch, tile: int) -> None:
    """Pieces whose sides are no multiples of 4, against one."""
    from tanner.core.noise import learned as module

    values = np.ascontiguousarray(tiles_of(noisy)[:, :111, :93])
    a, b, clip = (np.full(4, v, np.float32) for v in (1 / ELECTRONS, (READ / ELECTRONS) ** 2, 1.0))
    whole = module.learned(values, a, b, clip)
    assert whole.shape == (3, 222, 186) and np.isfinite(whole).all()
    monkeypatch.setattr(module, "HIGH", tile)
    monkeypatch.setattr(module, "WIDE", tile)
    parts = module.learned(values, a, b, clip, threads=2)
    assert np.array_equal(parts, module.learned(values, a, b, clip))
    assert np.sqrt(np.mean((parts - whole) ** 2)) < 0.1 * ELECTRONS**-0.5 and np.abs(parts - whole).max() < 0.1


def test_small_drafts_are_shrunk_at_their_size(evening: Path) -> None:
    source = read(evening)
    noise = develop({"noise.method": "quick"})
    small, whole = (render(source, noise, (100, 150), draft=d).astype(float) for d in (True, False))
    plain = render(source, develop({}), (100, 150)).astype(float)
    assert np.abs(small - whole).mean() < np.abs(plain - whole).mean()
    assert source.memory.keys(CLEANED) == ["quick"]


def test_denoised_files_and_other_sensors(evening: Path) -> None:
    source = read(evening)
    marked = Source(source.facts.model_copy(update={"applied": ("noise",)}), source.data)
    assert method_for(marked, Noise(method="fine")) == "none"
    assert "already" in notes(marked, Noise(method="fine"))[0] and not notes(marked, Noise())
    camera = Source(source.facts.model_copy(update={"kind": "camera", "pattern": None}), plain_planes(source, 10**6))
    assert method_for(camera, Noise(method="learned")) == "fine"
    assert "Bayer" in notes(camera, Noise(method="learned"))[0]


@pytest.mark.parametrize("method", ["quick", "fine"])
@pytest.mark.parametrize("colours", [1, 3])
def test_sensors_without_a_bayer_mosaic(method: str, colours: int) -> None:
    """Linear colour as the decoder interpolates it (coarse noise), and a monochrome sensor's."""
    rng = np.random.default_rng(3)
    clean = np.moveaxis(np.repeat(shapes(), 2, axis=0).repeat(2, axis=1), -1, 0)
    if colours == 1:
        clean = np.broadcast_to(clean[1], clean.shape)
    noise = (
        rng.normal(size=clean.shape) if colours == 3 else np.broadcast_to(rng.normal(size=clean.shape[1:]), clean.shape)
    )
    noise = np.stack([cv2.GaussianBlur(n, (0, 0), 0.7) for n in noise]) * 2.4
    data = (clean + noise * np.sqrt(clean / 900)).astype(np.float32)
    facts = FrameFacts(path="", kind="camera", width=480, height=480, iso=3200)
    found = cleaned_planes(Source(facts, data), method, Strength()).data
    before, after = (np.sqrt(np.mean((d - clean) ** 2)) for d in (data, found))
    assert after < 0.7 * before
    assert np.abs(found.mean(axis=(1, 2)) - clean.mean(axis=(1, 2))).max() < 0.002


def test_an_x_trans_file_gets_a_quiet_copy(tmp_path: Path) -> None:
    pixels = np.random.default_rng(1).poisson(60, (600, 600)).astype(np.uint16) * 40
    pattern = bytes(
        [1, 2, 1, 1, 0, 1, 0, 1, 0, 2, 1, 2, 1, 2, 1, 1, 0, 1, 1, 0, 1, 1, 2, 1, 2, 1, 2, 0, 1, 0, 1, 0, 1, 1, 2, 1]
    )
    path = tmp_path / "x.dng"
    path.write_bytes(dng(pixels, 32803, [(33421, 3, 2, (6, 6), True), (33422, 1, 36, pattern, True)]))
    done = denoise_file(path, "quick", Strength())
    before, after = read(path), read(Path(done["target"]))
    assert after.facts.kind == "camera" and "noise" in after.facts.applied and after.size == before.size
    inner = np.s_[:, 40:-40, 40:-40]
    assert after.data[inner].std() < 0.6 * before.data[inner].std()
    assert after.data[inner].mean() == pytest.approx(before.data[inner].mean(), rel=0.01)
    with pytest.raises(NoiseError, match="Bayer"):
        denoise_file(path, "learned", Strength())


# --- faults ------------------------------------------------------------------------------------------


def test_hot_pixels_are_filled_and_small_lights_stay() -> None:
    source = frame(shapes(), electrons=4000.0)
    data = np.array(source.data)
    hot = [(40, 51), (101, 60), (150, 151), (199, 30), (77, 200)]
    for y, x in hot:
        data[y, x] = 16383
    data[120, 40] = 1024  # a dead one, in a light place
    # A glint, spread by the lens over the pixels around it.
    glint = np.zeros(data.shape)
    glint[60, 170] = 40_000
    data = np.minimum(data + cv2.GaussianBlur(glint, (0, 0), 0.8), 16383).astype(np.uint16)
    filled, count = without_hot_pixels(Source(source.facts, data))
    assert count >= len(hot)
    for y, x in hot:
        assert abs(int(filled.data[y, x]) - int(source.data[y, x])) < 1500
    assert np.array_equal(filled.data[58:63, 168:173], data[58:63, 168:173])
    # And a frame without any is left alone but for what noise makes.
    assert without_hot_pixels(source)[1] <= 1


def test_moire_is_taken_out_of_cloth_and_edges_stay() -> None:
    """Grey stripes finer than the colour grid: false colour goes down, the colour of plain areas and edges stays."""
    y, x = np.mgrid[0:320, 0:320]
    weave = 0.3 + 0.2 * np.sin(2 * np.pi * (x / 2.25 + y / 2.4))
    picture = np.stack([weave] * 3, axis=-1)
    picture[:, :120] = (0.4, 0.2, 0.15)
    picture[:150, :60] = (0.1, 0.2, 0.35)
    source = frame(picture, electrons=40_000.0)

    def colour(s: Source) -> np.ndarray:
        planes = balanced(s)
        return np.abs(cv2.GaussianBlur(planes[0] - planes[1], (0, 0), 2)) + np.abs(
            cv2.GaussianBlur(planes[2] - planes[1], (0, 0), 2)
        )

    before, after = colour(source), colour(without_moire(source, source, 1.0))
    cloth, rest = np.s_[20:-20, 180:-20], np.s_[:, :100]
    assert before[cloth].mean() > 0.02 and after[cloth].mean() < 0.5 * before[cloth].mean()
    assert np.abs(after[rest] - before[rest]).mean() < 0.003


# --- what is known of a camera -----------------------------------------------------------------------


def test_noise_is_learned_by_camera_and_iso(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, noisy: Source) -> None:
    monkeypatch.setattr(TABLE, "file", tmp_path / "noise.json")
    named = noisy.facts.model_copy(update={"noise_profile": (), "make": "Alder", "model": "Three", "iso": 1600})
    assert noise_model(Source(named, noisy.data)).source == "frame"
    for iso, a in ((800, 1e-3), (3200, 4e-3)):
        for n in range(3):
            TABLE.add("Alder Three", iso, [a * (0.9 + 0.1 * n)] * 4, [a / 100] * 4)
    model = noise_model(Source(named, noisy.data))
    assert model.source == "camera" and model.a == pytest.approx([2e-3] * 4, rel=1e-6)
    far = named.model_copy(update={"iso": 25_600})
    assert noise_model(Source(far, noisy.data)).source == "frame"
    (tmp_path / "noise.json").write_text("{")
    assert noise_model(Source(named, noisy.data)).source == "frame"


# --- quiet copies ------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def evening(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("evening") / "E0001.DNG"
    path.write_bytes(take(exposure("E0001.DNG", iso=6400, upright=True, width=600, height=400)))
    return path


@pytest.mark.parametrize("method", METHODS)
def test_a_quiet_copy_keeps_what_the_original_knows(method: str, evening: Path, tmp_path: Path) -> None:
    before = evening.read_bytes()
    done = denoise_file(evening, method, Strength(), tmp_path)
    assert evening.read_bytes() == before
    original, copy = read(evening), read(Path(done["target"]))
    assert Path(done["target"]).name == "E0001-quiet.dng" and done["model"] == "file"
    assert "noise" in copy.facts.applied and "noise" not in original.facts.applied
    for name in (
        "make",
        "model",
        "serial",
        "lens",
        "iso",
        "taken",
        "orientation",
        "focal_length_mm",
        "warp",
        "vignette",
    ):
        assert getattr(copy.facts, name) == getattr(original.facts, name), name
    assert copy.facts.exposure_s == pytest.approx(original.facts.exposure_s)
    assert np.allclose(copy.facts.neutral, original.facts.neutral, atol=1e-5)
    assert np.allclose(copy.facts.colour_matrices, original.facts.colour_matrices, atol=1e-5)
    assert copy.size == original.size and copy.lens is not None
    assert copy.facts.kind == ("camera" if method == "learned" else "bayer")
    assert method == "learned" or copy.facts.black[0] == BLACK
    with pytest.raises(NoiseError, match="already"):
        denoise_file(Path(done["target"]), method, Strength(), tmp_path)
    again = denoise_file(evening, method, Strength(), tmp_path)
    assert Path(again["target"]).name == "E0001-quiet-2.dng"


def test_files_that_cannot_be_denoised(tmp_path: Path, evening: Path) -> None:
    from PIL import Image

    finished = tmp_path / "a.png"
    Image.new("RGB", (64, 64)).save(finished)
    with pytest.raises(NoiseError, match="finished picture"):
        denoise_file(finished, "quick", Strength())
    for wrong in ("{nam}", "{name}", "a/b", ""):
        with pytest.raises(NoiseError, match="name"):
            target_of(evening, None, wrong, "fine")


def test_the_command_goes_on_after_a_bad_file(tmp_path: Path, evening: Path) -> None:
    bad = tmp_path / "bad.dng"
    bad.write_bytes(b"")
    run = CliRunner().invoke(
        app, ["denoise", str(bad), str(evening), "--to", str(tmp_path / "out"), "--method", "quick", "--json"]
    )
    assert run.exit_code == 1 and "bad.dng" in run.output
    assert (tmp_path / "out" / "E0001-quiet.dng").exists() and '"method": "quick"' in run.output
    run = CliRunner().invoke(app, ["denoise", str(evening), "--method", "strong"])
    assert run.exit_code == 2 and "quick, fine, learned" in run.output


def test_the_non_local_mean_is_what_it_says() -> None:
    """Against the sum written out for every place and offset; blocks of columns, sides and few planes included."""
    from tanner.core.noise.nonlocal_means import COLUMNS, averaged

    rng = np.random.default_rng(3)
    for n, h, w in ((4, 9, COLUMNS + 21), (1, 14, 17), (3, 6, 30)):
        noisy = rng.normal(0, 1, (n, h, w)).astype(np.float32)
        noisy[0] += np.arange(w) // 8 % 2
        reach, base, width, own = 3, 1.5, 2.0, 0.25
        total, norm = own * noisy.astype(np.float64), np.full((h, w), own)
        for dy in range(-reach, reach + 1):
            for dx in range(-reach, reach + 1):
                ys, xs = np.arange(max(0, -dy), min(h, h - dy)), np.arange(max(0, -dx), min(w, w - dx))
                if (dy or dx) and len(ys) and len(xs):
                    a = noisy[:, ys[0] : ys[-1] + 1, xs[0] : xs[-1] + 1].astype(np.float64)
                    b = noisy[:, ys[0] + dy : ys[-1] + dy + 1, xs[0] + dx : xs[-1] + dx + 1]
                    d = cv2.blur(((a - b) ** 2).mean(axis=0), (3, 3), borderType=cv2.BORDER_REPLICATE)
                    weight = np.maximum(1 - np.maximum(d - base, 0) / width, 0) ** 2
                    total[:, ys[0] : ys[-1] + 1, xs[0] : xs[-1] + 1] += weight * b
                    norm[ys[0] : ys[-1] + 1, xs[0] : xs[-1] + 1] += weight
        # At the sides the surroundings are taken a little otherwise.
        inner = np.s_[:, reach + 1 : -reach - 1, reach + 1 : -reach - 1] if min(h, w) > 2 * reach + 2 else np.s_[:, :0]
        found = averaged(noisy, reach, base, width, own)
        assert found.shape == noisy.shape and np.allclose(found[inner], (total / norm)[inner], atol=1e-5)
        assert np.abs(found - total / norm).max() < 0.6
    even = averaged(np.full((4, 5, 6), 2.0, np.float32), 10, 2.3, 4.0, 0.25)
    assert np.allclose(even, 2.0)


@pytest.mark.parametrize("size", [(40, 61), (9, 13)])
def test_the_wiener_filter_is_what_it_says(size: tuple[int, int]) -> None:
    """Against SciPy's cosine transform of every block, of pictures smaller than a block, too."""
    from scipy.fft import dctn, idctn

    from tanner.core.noise.wiener import SIZE, filtered

    step, (h, w) = 5, size
    rng = np.random.default_rng(4)
    noisy = rng.normal(0, 1, (1, h, w)).astype(np.float32) + np.arange(w, dtype=np.float32) // 8
    pilot = cv2.blur(noisy[0], (3, 3))[None]
    right = SIZE + step + -(w + 2 * SIZE + step) % 16
    mode = "reflect" if min(size) > right else "symmetric"
    a, b = (np.pad(v[0], ((SIZE, SIZE + step), (SIZE, right)), mode=mode).astype(float) for v in (noisy, pilot))  # type: ignore[call-overload]
    window = np.outer(np.hanning(SIZE + 2)[1:-1], np.hanning(SIZE + 2)[1:-1])
    total, norm = np.zeros_like(a), np.zeros_like(a)
    for y in range(0, a.shape[0] - SIZE + 1, step):
        for x in range(0, a.shape[1] - SIZE + 1, step):
            block = np.s_[y : y + SIZE, x : x + SIZE]
            strong = dctn(b[block], norm="ortho") ** 2
            share = strong / (strong + 1)
            count = window / ((share**2).sum() + 0.5)
            total[block] += count * idctn(dctn(a[block], norm="ortho") * share, norm="ortho")
            norm[block] += count
    inner = np.s_[SIZE : SIZE + h, SIZE : SIZE + w]
    assert np.abs(filtered(noisy, pilot, step)[0] - (total / np.maximum(norm, 1e-12))[inner]).max() < 2e-5


def test_three_ways_are_joined_as_told() -> None:
    """Against the same in whole arrays; strips with rows beside them give what the whole gives."""
    from tanner.core.noise.tiles import AGREE, FROM_FINE, FROM_OWN, join

    rng = np.random.default_rng(8)
    joint, own, fine = (rng.uniform(0, 1, (3, 23, 31)).astype(np.float32) for _ in range(3))
    own[:, :, :15] = joint[:, :, :15] + rng.normal(0, 0.01, (3, 23, 15)).astype(np.float32)
    scale, offset = np.full(3, 400, np.float32), np.full(3, 2.0, np.float32)
    ungain = np.array([0.5, 1.0, 0.6], np.float32)

    def joined(first: int, last: int, even: float) -> np.ndarray:
        above, below = max(0, first - 2), min(23, last + 2)
        parts = [np.ascontiguousarray(v[:, above:below]) for v in (joint, own, fine)]
        out = np.empty((3, last - first, 31), np.float32)
        join(*parts, first - above, scale, offset, np.float32(even), ungain, out)
        return out

    coded = [2 * np.sqrt(np.maximum(v, 0) * 400.0 + 2.0) for v in (joint, own)]
    apart = cv2.blur(((coded[0] - coded[1]) ** 2).mean(axis=0), (5, 5), borderType=cv2.BORDER_REPLICATE)
    for even in (0.0, 0.7):
        agree = np.maximum(1 - apart / AGREE, 0) ** 3 * (1 - even) + even
        wanted = joint + FROM_OWN * agree * (own - joint) + FROM_FINE * (fine - own)
        wanted = np.maximum(wanted, 0) * ungain[:, None, None]
        assert np.allclose(joined(0, 23, even), wanted, atol=2e-5)
        strips = [joined(top, min(23, top + 6), even) for top in range(0, 23, 6)]
        assert np.allclose(np.concatenate(strips, axis=1), wanted, atol=2e-5)
    assert apart[:, :10].mean() < AGREE < apart[:, 20:].mean()


def test_a_name_that_is_taken_meanwhile_gets_a_number(
    evening: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Two workers may write copies of the same name: the work of the second is not lost, nor the file of the first."""
    from tanner.core.noise import prepass

    cleaned_first = prepass.cleaned

    def slow(*arguments: object) -> Source:
        (tmp_path / f"{evening.stem}-quiet.dng").write_bytes(b"another")
        return cleaned_first(*arguments)  # type: ignore[arg-type]

    monkeypatch.setattr(prepass, "cleaned", slow)
    made = prepass.denoise_file(evening, "quick", Strength(), tmp_path)
    written = Path(made["target"])
    assert (tmp_path / f"{evening.stem}-quiet.dng").read_bytes() == b"another"
    assert written.parent == tmp_path and written.stat().st_size > 10_000 and len(list(tmp_path.iterdir())) == 2
