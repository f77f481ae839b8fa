"""An automatic start: plain values of Light and Colour from how bright and colourful frames are, worked out for a set as a whole.

Each frame is measured once, without what is to be worked out; the measurements of a set are put together, so that all its
frames get the same values and stay as alike as they were. Methods of our own, no source; targets are stated beside them.
"""

from collections.abc import Mapping, Sequence
from typing import Any, Literal, NamedTuple, get_args

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.registry import develop
from tanner.core.colour.camera import Profile
from tanner.core.colour.mono import weights_for
from tanner.core.colour.spaces import OKLAB_AXES, SPACES, oklab, oklab_cones
from tanner.core.raw.source import Source
from tanner.core.render import full_size, render
from tanner.core.tone.curve import Curve
from tanner.core.tone.levels import CHANNELS, Levels
from tanner.core.tone.light import Light, tone_of

F64 = NDArray[np.float64]
What = Literal["exposure", "ends", "contrast", "shadows", "highlights", "white", "saturation"]
ALL: tuple[What, ...] = get_args(What)
EDGE = 256
"""px of the long edge at which frames are measured."""
DARKER = 3.0
"""EV by which a frame is darkened while it is measured, so that nothing bright is lost."""
BINS = 1024
STOPS = (-12.0, 4.0)
"""The range of the histogram of light, in stops from the sensor's white."""
MIDDLE = 0.115
"""Scene-linear light, about two thirds of a stop under mid-grey, to which the middle of the picture's light is brought."""
CLIPPED = 0.001
"""Share of px that may become black, and white."""
SPREAD, CHROMA = 0.21, 0.075
"""Targets: deviation of display values, and mean chroma of Oklab of what has a colour."""


class Measured(NamedTuple):
    """
    Attributes:
        light: (BINS,) shares of px by stops of scene-linear luminance, even over STOPS.
        chroma: mean chroma of Oklab, weighted by itself, so that greys say little.
        curve: share of the base curve that is in force.
    """

    light: F64
    chroma: float
    curve: float


def measured(source: Source, values: Mapping[str, Any], ev: float = 0.0) -> Measured:
    """A frame without exposure, contrast, ends, levels and curves: what the automatic start goes by.

    Args:
        values: its resolved settings; white balance, profile, crop and lens stay as they are.
        ev: exposure that stays: its own offset, or all of it where exposure is not worked out.
    """
    kept = {k: v for k, v in values.items() if k.split(".")[0] in ("profile", "white", "crop", "optics", "perspective")}
    curve = develop(values).group(Profile).curve_strength / 100
    development = develop({**kept, "profile.curve_strength": 0.0, "light.exposure": -DARKER})
    width, height = full_size(source, development)
    share = min(1.0, EDGE / max(width, height))
    size = max(8, round(width * share)), max(8, round(height * share))
    coded = render(source, development, size, space="prophoto", bits=16, draft=True) / 65535
    linear = SPACES["prophoto"].decode(coded) * 2 ** (DARKER + ev)
    luminance = linear @ np.array(SPACES["prophoto"].to_pcs())[1]
    stops = np.clip(np.log2(np.maximum(luminance, 2.0 ** STOPS[0])), *STOPS)
    light = np.histogram(stops, BINS, STOPS)[0].astype(np.float64)
    return Measured(light / light.sum(), _chroma(linear, luminance), curve)


def _chroma(linear: F64, luminance: F64) -> float:
    """Of colours scaled to a common middle brightness, so that a dark frame is not taken for a dull one."""
    scaled = linear.reshape(-1, 3) * (0.18 / max(float(np.median(luminance)), 1e-4))
    cones = np.cbrt(np.clip(scaled, 0, 1) @ oklab_cones(SPACES["prophoto"])[0].T)
    chroma = np.hypot(cones @ OKLAB_AXES[1], cones @ OKLAB_AXES[2])
    return float((chroma**2).sum() / max(chroma.sum(), 1e-9))


def _quantile(light: F64, share: float) -> float:
    """The light, in stops, under which a share of px lies."""
    edges = np.linspace(*STOPS, BINS + 1)
    return float(np.interp(share, np.concatenate([[0.0], np.cumsum(light)]), edges))


def automatic(frames: Sequence[Measured], what: Sequence[What] = ALL) -> dict[str, float]:
    """Values for all frames together; without white balance, which is looked for in the sensor's own values (see `colour.auto_white`).

    Returns:
        Settings by name, rounded to the steps of their controls; only what was asked for.
    """
    light = np.mean([f.light for f in frames], axis=0)
    curve = float(np.mean([f.curve for f in frames]))
    found: dict[str, float] = {}
    ev = 0.0
    if "exposure" in what:
        # The middle half of the light says where the picture lies; its brightest two per cent how far it may go.
        middle = np.mean([_quantile(light, q) for q in np.linspace(0.25, 0.75, 11)])
        room = 0.9 - _quantile(light, 0.98)
        ev = float(np.clip(min(np.log2(MIDDLE) - middle, room), -3, 3))
        found["light.exposure"] = ev = round(ev / 0.05) * 0.05
    stops = (np.linspace(*STOPS, BINS + 1)[:-1] + np.linspace(*STOPS, BINS + 1)[1:]) / 2
    shown = _display(2.0 ** (stops + ev), curve)
    low, high = (float(np.interp(q, np.cumsum(light), shown)) for q in (CLIPPED, 1 - CLIPPED))
    if "ends" in what:
        # Black and white reach the picture's ends, as `light.tone_of` moves them; white is never pulled down far.
        found["light.black_point"] = float(np.round(np.clip(-low / 0.0012, -60, 0)))
        found["light.white_point"] = float(np.round(np.clip((1 - high) / 0.0025, -20, 50)))
        black, white = -0.0012 * found["light.black_point"], 1 - 0.0025 * found["light.white_point"]
        shown = np.clip((shown - black) / (white - black), 0, 1)
    mean = float((light * shown).sum())
    spread = float(np.sqrt((light * (shown - mean) ** 2).sum()))
    dark, bright = float(light[shown < 0.16].sum()), float(light[shown > 0.9].sum())
    if "contrast" in what:
        found["light.contrast"] = float(np.round(np.clip((SPREAD - spread) * 150, -15, 20)))
    if "shadows" in what:
        found["light.shadows"] = float(np.round(np.clip((dark - 0.12) * 120, 0, 40)))
    if "highlights" in what:
        found["light.highlights"] = float(np.round(-np.clip((bright - 0.05) * 160, 0, 50)))
    if "saturation" in what:
        chroma = float(np.mean([f.chroma for f in frames]))
        found["colour.vibrance"] = float(np.round(np.clip((CHROMA - chroma) * 300, -10, 20)))
    return {k: v + 0.0 for k, v in found.items()}


def _display(linear: F64, curve: float) -> F64:
    """Scene-linear light to display values from 0 to 1 and a little over, by the base curve alone."""
    y = tone_of(linear, Light(), Levels(), Curve(), curve)
    return np.where(y <= 1, SPACES["srgb"].encode(np.clip(y, 0, 1)), 1 + (y - 1) * 1.055 / 2.4)


def level_ends(source: Source, values: Mapping[str, Any], share: float, channel: str = "all") -> tuple[float, float]:
    """Black and white in % between which all but a share of the picture's display values lie, as levels find them.

    Args:
        share: 0 to 0.1, at each end; channel: red, green or blue of the working space, or "all" of them together.
    """
    # What comes after levels on the path says nothing of what they see.
    later = (
        "levels.",
        "curve.",
        "colour.",
        "ranges.",
        "balance.",
        "mono.",
        "profile.look",
        "detail.",
        "finish.grain",
        "areas/",
    )
    development = develop({k: v for k, v in values.items() if not k.startswith(later)})
    width, height = full_size(source, development)
    scale = min(1.0, 2 * EDGE / max(width, height))
    size = max(8, round(width * scale)), max(8, round(height * scale))
    linear = SPACES["prophoto"].decode(render(source, development, size, space="prophoto", bits=16, draft=True) / 65535)
    shown = SPACES["srgb"].encode(linear if channel == "all" else linear[..., CHANNELS.index(channel)])
    low, high = (float(v) for v in np.quantile(shown, [share, 1 - share]))
    # Steps of half a per cent, outwards, and never closer than levels may be.
    black, white = np.floor(low * 200) / 2, np.ceil(high * 200) / 2
    return float(min(black, 98.0)), float(min(100.0, max(white, black + 2)))


def mono_weights(source: Source, values: Mapping[str, Any]) -> dict[str, float]:
    """Weights of black and white from the picture as it is developed without it, by full name; see `core.colour.mono`."""
    later = ("mono.", "finish.", "detail.", "areas/", "exact/")
    development = develop({k: v for k, v in values.items() if not k.startswith(later)})
    width, height = full_size(source, development)
    scale = min(1.0, 160 / max(width, height))
    size = max(16, round(width * scale)), max(16, round(height * scale))
    linear = SPACES["prophoto"].decode(render(source, development, size, space="prophoto", bits=16, draft=True) / 65535)
    found = weights_for(oklab(np.maximum(linear, 0)))
    return {f"mono.{name}": weight for name, weight in found.items()}
