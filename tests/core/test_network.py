"""The network for noise: its convolutions against onnxruntime and SciPy, px by px work against whole arrays."""

from pathlib import Path

import numpy as np
import onnxruntime
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.signal import correlate

from tanner.core.noise.coding import INPUTS, OUTPUTS, coded, guess, linear, planes
from tanner.core.noise.convolve import (
    ABOVE_ZERO,
    ADDED,
    PLACES,
    PLAIN,
    ROOM,
    convolve,
    double,
    field,
    grouped,
    halve,
    mixed,
)
from tanner.core.noise.network import WEIGHTS, network, seen_field
from tanner.core.noise.pieces import enter, leave

ONNX = Path(__file__).parents[2] / "training/network.onnx"
RNG = np.random.default_rng(38)


def random(*shape: int) -> np.ndarray:
    return RNG.normal(size=shape).astype(np.float32)


def padded(values: np.ndarray) -> np.ndarray:
    """A field of values (h, w, channels)."""
    result = field(*values.shape)
    result[1 : values.shape[0] + 1, 1 : values.shape[1] + 1] = values
    return result


def rooms(*channels: int) -> list[np.ndarray]:
    # Numbers that are left over from before must not come into a result.
    return [np.full(PLACES * ROOM * n, np.nan, np.float32) for n in channels]


@pytest.mark.parametrize("h, w", [(4, 8), (64, 64), (68, 212)])
def test_the_network_says_what_onnxruntime_says(h: int, w: int) -> None:
    """The same weights in an open form, run by a reference library."""
    seen = np.abs(random(INPUTS, h, w))
    room = seen_field(h, w)
    room[1 : h + 1, 1 : w + 1, :INPUTS] = seen.transpose(1, 2, 0)
    found = network().run(room, h, w)[1 : h + 1, 1 : w + 1, :OUTPUTS].transpose(2, 0, 1)
    session = onnxruntime.InferenceSession(str(ONNX), providers=["CPUExecutionProvider"])
    told = session.run(None, {"planes": seen[None]})[0][0]
    assert np.abs(told).max() > 0.1
    assert np.abs(found - told).max() < 1e-5


@settings(max_examples=40, deadline=None)
@given(
    st.integers(1, 13),
    st.integers(1, 150),
    st.sampled_from([16, 32, 64]),
    st.sampled_from([16, 32, 48, 64, 80, 112]),
    st.sampled_from([PLAIN, ABOVE_ZERO, ADDED]),
)
def test_convolutions_of_any_size(h: int, w: int, channels: int, results: int, way: int) -> None:
    """Against SciPy in float64; borders stay nothing, whatever stood in the rooms to work in."""
    values, weights, bias = random(h, w, channels), random(results, channels, 3, 3), random(results)
    before = random(h, w, results)
    out = padded(before)
    convolve(padded(values), mixed(weights), bias, way, out, h, w, *rooms(channels, results))
    for k in (0, results // 2, results - 1):
        told = bias[k] + sum(
            correlate(np.pad(values[..., c].astype(np.float64), 1), weights[k, c].astype(np.float64), "valid")
            for c in range(channels)
        )
        told = np.maximum(told, 0) if way == ABOVE_ZERO else told + (before[..., k] if way == ADDED else 0)
        assert np.abs(out[1 : h + 1, 1 : w + 1, k] - told).max() < 2e-5 * np.sqrt(channels) * 30
    out[1 : h + 1, 1 : w + 1] = 0
    assert not out.any()


@settings(max_examples=20, deadline=None)
@given(st.integers(1, 9), st.integers(1, 40))
def test_halving_and_doubling(h: int, w: int) -> None:
    """Steps of two, as sums over four places."""
    fine, coarse = random(2 * h, 2 * w, 32), random(h, w, 64)
    down, up, bias = random(64, 32, 2, 2), random(64, 32, 2, 2), random(64)
    work = np.full((w + 16) * 2 * 64, np.nan, np.float32)
    found = field(h, w, 64)
    rows = [down[:, :, i].transpose(2, 1, 0).reshape(-1, 64) for i in range(2)]
    halve(padded(fine), np.concatenate([grouped(r) for r in rows]), np.tile(bias, w), found, h, w, work)
    told = bias + sum(np.einsum("hwc,oc->hwo", fine[i::2, j::2], down[:, :, i, j]) for i in range(2) for j in range(2))
    assert np.abs(found[1 : h + 1, 1 : w + 1] - told).max() < 1e-4

    sums = padded(fine)
    rows = [up[:, :, i].transpose(0, 2, 1).reshape(64, -1) for i in range(2)]
    double(padded(coarse), np.concatenate([grouped(r) for r in rows]), np.tile(bias[:32], 2 * w), sums, h, w, work)
    whole = fine.copy()
    for i in range(2):
        for j in range(2):
            whole[i::2, j::2] += np.einsum("hwc,co->hwo", coarse, up[:, :, i, j]) + bias[:32]
    assert np.abs(sums[1 : 2 * h + 1, 1 : 2 * w + 1] - whole).max() < 1e-4


def test_pieces_enter_and_leave_as_whole_arrays_say() -> None:
    values = np.abs(random(4, 40, 44)) * np.float32(0.3)
    a, b, clip = (np.array(v, np.float32) for v in ([1e-3] * 4, [1e-6] * 4, [1, 0.9, 0.9, 1.1]))
    rows, columns = np.arange(4, 36), np.arange(4, 40)
    inside = np.s_[:, 4:36, 4:40]
    seen = seen_field(32, 36)
    offset, spread = (0.375 * a + b / a).astype(np.float32), (2 * np.sqrt(a)).astype(np.float32)
    enter(values, rows, columns, offset, spread, clip, seen)
    told = planes(np.ascontiguousarray(values[inside]), a, b, clip)
    assert np.allclose(seen[1:33, 1:37, :INPUTS].transpose(2, 0, 1), told, atol=1e-6)
    assert not seen[..., INPUTS:].any()

    answer = random(OUTPUTS, 32, 36) * np.float32(0.1)
    found, out = field(32, 36, 16), np.empty((3, 48, 56), np.float32)
    found[1:33, 1:37, :OUTPUTS] = answer.transpose(1, 2, 0)
    leave(seen, found, 4, out)
    whole = linear(guess(coded(values))[inside] + answer)[:, 8:-8, 8:-8]
    assert np.allclose(out, whole, atol=1e-6)


def test_weights_that_ship_are_those_of_the_open_file() -> None:
    """The ONNX file holds the bytes of each."""
    held = ONNX.read_bytes()
    assert network().depth == 7
    with np.load(WEIGHTS) as kept:
        assert all(value.dtype == np.float16 and value.tobytes() in held for value in kept.values())
