"""Weights of black and white from the picture: neighbouring colours stay apart, and which of them is lighter."""

import numpy as np
import pytest
from skimage import data
from skimage.transform import resize

from tanner.core.adjust.registry import defaults
from tanner.core.colour.mono import SURE, TURNED, Mono, greyed, weights_for
from tanner.core.colour.ranges import HUES
from tanner.core.colour.spaces import SPACES, oklab, working_to
from tanner.core.raw.source import Source
from tanner.core.series import automatic


def small_oklab(picture: np.ndarray) -> np.ndarray:
    """Oklab of a finished picture, small."""
    h, w = picture.shape[:2]
    small = resize(picture / 255, (round(160 * h / max(h, w)), round(160 * w / max(h, w))), anti_aliasing=True)
    return oklab(SPACES["srgb"].decode(small) @ np.linalg.inv(working_to(SPACES["srgb"])).T)


def grey(lab: np.ndarray, weights: dict[str, float]) -> np.ndarray:
    light, a, b = (lab[..., k] for k in range(3))
    return greyed(Mono(amount=100, **weights), light, np.hypot(a, b), np.rad2deg(np.arctan2(b, a)) % 360)[0]


PLAIN = dict.fromkeys(HUES, 0.0)


@pytest.mark.parametrize(
    ("first", "second"), [("red", "green"), ("yellow", "blue"), ("orange", "cyan"), ("pink", "green")]
)
def test_colours_of_one_lightness_are_told_apart(first: str, second: str) -> None:
    lab = np.zeros((40, 60, 3))
    lab[..., 0] = 0.6
    for part, name in ((np.s_[:, :30], first), (np.s_[:, 30:], second)):
        lab[part][..., 1:] = 0.14 * np.array([np.cos(np.deg2rad(HUES[name])), np.sin(np.deg2rad(HUES[name]))])
    assert np.ptp(grey(lab, PLAIN)) < 1e-9
    shown = grey(lab, weights_for(lab))
    assert np.ptp(shown) > 0.1
    # Of two colours of one lightness the yellower one becomes the lighter.
    yellower = np.sin(np.deg2rad(HUES[first])) > np.sin(np.deg2rad(HUES[second]))
    assert (shown[0, 0] > shown[0, -1]) == yellower


@pytest.mark.parametrize("name", ["astronaut", "coffee", "chelsea", "retina", "rocket"])
def test_pictures_keep_their_order_and_lose_no_contrast(name: str) -> None:
    """Pictures that ship with scikit-image: the differences of neighbours are nearer to those in colour than a plain grey's."""
    lab = small_oklab(getattr(data, name)()[..., :3])
    weights = weights_for(lab)
    assert all(abs(w) <= 60 and w == round(w) for w in weights.values())
    plain, shown = grey(lab, PLAIN), grey(lab, weights)
    off = {"plain": 0.0, "shown": 0.0}
    for step in (1, 4, 12):
        down = plain[:, step:] - plain[:, :-step]
        now = shown[:, step:] - shown[:, :-step]
        size = np.linalg.norm(lab[:, step:] - lab[:, :-step], axis=-1)
        off["plain"] += float(((np.abs(down) - size) ** 2).sum())
        off["shown"] += float(((np.abs(now) - size) ** 2).sum())
        sure = np.abs(down) > SURE
        assert np.mean(now[sure] * down[sure] < 0) < 2 * TURNED
    assert off["shown"] < off["plain"]


def test_a_picture_without_colours_has_no_weights() -> None:
    lab = np.zeros((20, 30, 3))
    lab[..., 0] = np.linspace(0, 1, 30)
    assert weights_for(lab) == PLAIN


def test_the_picture_of_a_frame_is_seen_in_oklab(source: Source, monkeypatch: pytest.MonkeyPatch) -> None:
    """A blue lamp before a grey backdrop: what the weights are made from has these hues."""
    seen: list[np.ndarray] = []
    monkeypatch.setattr(automatic, "weights_for", lambda lab: seen.append(lab) or {})
    automatic.mono_weights(source, defaults(raw=True, lens=True))
    light, a, b = (seen[0][..., k] for k in range(3))
    chroma, hue = np.hypot(a, b), np.rad2deg(np.arctan2(b, a)) % 360
    assert light.min() > -0.01 and light.max() < 1.05
    assert np.median(chroma[:20]) < 0.03
    blue = (chroma > 0.1) & (hue > 230) & (hue < 290)
    assert 0.01 < blue.mean() < 0.3
