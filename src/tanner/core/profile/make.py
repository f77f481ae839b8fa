"""One service behind the command line and the page: chart shots in, a camera profile and its report out."""

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from tanner.core.colour import spectra
from tanner.core.colour.dcp import CameraProfile
from tanner.core.colour.difference import ciede2000
from tanner.core.colour.spaces import pcs_to_working
from tanner.core.colour.temperature import xy_to_temperature
from tanner.core.measure import xyz_to_lab
from tanner.core.profile.chart import SETS, Chart, ChartError, published24
from tanner.core.profile.detect import EDGE, find_corners
from tanner.core.profile.fit import Fit, evened, fit_light
from tanner.core.profile.readings import Readings, read_patches
from tanner.core.raw.source import Source
from tanner.core.render import camera_picture

F64 = NDArray[np.float64]


@dataclass(frozen=True)
class Shot:
    """A chart shot with the name of its light; corners by hand, or None to find them."""

    source: Source
    light: str
    corners: F64 | None = None


@dataclass(frozen=True)
class TakenShot:
    """A shot that was read: the spectrum, code and chromaticity of its light, and its patches."""

    shot: Shot
    lit: F64
    code: int
    xy: tuple[float, float]
    corners: F64
    readings: Readings


@dataclass(frozen=True)
class MadeProfile:
    profile: CameraProfile
    report: dict[str, Any]


def chart_picture(source: Source) -> NDArray[np.float32]:
    """Camera numbers (H, W, 3) of the upright frame, lens faults and fall-off corrected where the lens is known."""
    return camera_picture(source, EDGE)


def _balanced(picture: NDArray[np.float32], source: Source) -> NDArray[np.float32]:
    neutral = np.array(source.facts.neutral, dtype=np.float32)
    return np.asarray(picture / neutral, dtype=np.float32)


def locate(source: Source, chart: Chart | None = None) -> F64:
    """The chart's corners in a frame, in shares of the upright picture (see `detect.find_corners`)."""
    return find_corners(_balanced(chart_picture(source), source), chart or published24())


def chart_neutral(source: Source) -> F64:
    """Camera numbers of white from the grey patches of a chart in the frame.

    Raises:
        ChartError: no chart, or no grey patch that can be used.
    """
    chart = published24()
    readings = read_patches(chart_picture(source), locate(source, chart), chart)
    greys = [i for i in chart.greys() if not readings.refused[i]]
    if not greys:
        raise ChartError("No grey patch of the chart can be used.")
    neutral: F64 = readings.numbers[greys].sum(axis=0)
    return neutral / neutral.max()


Aim = Literal["published", "seen"]
"""What patches are brought to: the colours that the chart is published with, the same under every light; or the colours
that the patches have for an eye under the light of the shot."""


def make_profile(
    shots: list[Shot],
    name: str,
    chart: Chart | None = None,
    *,
    table: bool = False,
    copyright_: str = "",
    aim: Aim = "published",
) -> MadeProfile:
    """Make a profile from one shot, or from two under two lights.

    Args:
        chart: None for the published set of the 24 patches that fits the shots best.

    Raises:
        ChartError: a frame that is no raw file, no chart, too few good patches, two cameras, twice the same light.
    """
    if not 1 <= len(shots) <= 2:
        raise ChartError("A profile is made from one chart shot, or from two under two lights.")
    models = {(s.source.facts.make, s.source.facts.model) for s in shots}
    if len(models) > 1:
        raise ChartError(f"The shots come from two cameras: {' and '.join(m for _, m in sorted(models))}.")
    taken = [_taken(shot, chart or published24()) for shot in shots]
    fitting = [] if chart else _fitting(taken, aim)
    chart = chart or published24(fitting[0]["key"])
    parts = [_one_light(t, chart, table, aim) for t in taken]
    if len(parts) == 2:
        parts.sort(key=lambda p: xy_to_temperature(p["xy"])[0])
        if abs(1e6 / xy_to_temperature(parts[0]["xy"])[0] - 1e6 / xy_to_temperature(parts[1]["xy"])[0]) < 20:
            raise ChartError(
                "Both shots are under the same light. Take the second one under another, or use one alone."
            )
    facts = shots[0].source.facts
    fits: list[Fit] = [p["fit"] for p in parts]
    profile = CameraProfile(
        name=name,
        model=facts.unique_model or facts.camera_name,
        illuminants=tuple(p["code"] for p in parts),
        lights=tuple(p["xy"] if p["code"] == 255 else None for p in parts)
        if any(p["code"] == 255 for p in parts)
        else (),
        colour=tuple(f.colour for f in fits),
        forward=tuple(f.forward for f in fits),
        hue_sat=tuple(f.table for f in fits if f.table),
        copyright=copyright_,
        policy=0,
    )
    lights = [{k: v for k, v in p.items() if k not in ("fit", "xy", "code")} for p in parts]
    return MadeProfile(profile, {"name": name, "camera": profile.model, "chart": chart.name, "chart_source": chart.source,
                          "aim": aim, "sets": fitting, "table": table, "lights": lights})  # fmt: skip


def _taken(shot: Shot, chart: Chart) -> TakenShot:
    source = shot.source
    if not source.facts.is_raw:
        raise ChartError(f"{source.facts.path} is no raw file: a camera profile needs the sensor's own numbers.")
    try:
        lit, code, xy = spectra.light(shot.light)
    except ValueError as error:
        raise ChartError(str(error)) from None
    picture = chart_picture(source)
    corners = (
        find_corners(_balanced(picture, source), chart)
        if shot.corners is None
        else np.asarray(shot.corners, dtype=np.float64)
    )
    return TakenShot(shot, lit, code, xy, corners, read_patches(picture, corners, chart))


def _good(taken: TakenShot, count: int) -> NDArray[np.intp]:
    good = np.flatnonzero(taken.readings.good)
    if len(good) < 8:
        reasons = sorted({r for r in taken.readings.refused if r})
        raise ChartError(f"Only {len(good)} of {count} patches can be used ({', '.join(reasons)}).")
    return good


def _fitting(taken: list[TakenShot], aim: Aim) -> list[dict[str, Any]]:
    """The published sets of the 24 patches, the one that a plain matrix brings the shots nearest to first."""
    found = []
    for key, (title, _) in SETS.items():
        chart = published24(key)
        if aim == "seen" and chart.reflectance is None:
            continue
        off = []
        for t in taken:
            good, wanted, places = _good(t, 24), chart.under(t.lit if aim == "seen" else None), _places(chart)
            fit = _fit(t.readings.numbers[good], wanted[good], good, chart, places[good], t.xy, False)
            seen = fit.xyz(evened(t.readings.numbers[good], places[good], fit.slope))
            off.append(ciede2000(xyz_to_lab(seen), xyz_to_lab(wanted[good])).mean())
        found.append({"key": key, "title": title, "mean": round(float(np.mean(off)), 3)})
    return sorted(found, key=lambda f: f["mean"])


def _one_light(taken: TakenShot, chart: Chart, table: bool, aim: Aim) -> dict[str, Any]:
    shot, source, code, xy = taken.shot, taken.shot.source, taken.code, taken.xy
    corners, readings = taken.corners, taken.readings
    wanted = chart.under(taken.lit if aim == "seen" else None)
    good = _good(taken, len(wanted))
    places = _places(chart)
    fit = _fit(readings.numbers[good], wanted[good], good, chart, places[good], xy, table)
    even = evened(readings.numbers, places, fit.slope)
    after = xyz_to_lab(fit.xyz(even))
    before = xyz_to_lab(_by_file(source, even, fit.neutral, wanted, good))
    lab = xyz_to_lab(wanted)
    left_out = _leave_one_out(readings, wanted, good, chart, places, xy, fit)
    plausible = float(np.median(ciede2000(after[good], lab[good])))
    if plausible > 8:
        raise ChartError(
            f"The readings do not fit this chart (half of the patches are off by more than {plausible:.0f} CIEDE2000). "
            "Is it another chart, another light, or are the corners wrong?"
        )
    return {
        "light": shot.light, "code": code, "xy": xy, "fit": fit,
        "kelvin": round(xy_to_temperature(xy)[0]),
        "corners": [[round(float(v), 5) for v in p] for p in corners],
        "slope_ev": [round(v, 3) for v in fit.slope],
        "used": len(good),
        "before": _figures(before[good], lab[good]), "after": _figures(after[good], lab[good]),
        "leave_one_out": _figures(*left_out),
        "neutral_axis": _neutral(after, lab, chart, readings),
        "patches": [
            {
                "name": chart.patches[i], "refused": readings.refused[i], "uneven": round(float(readings.spread[i]), 4),
                "reference": _rounded(lab[i]), "measured": _rounded(after[i]), "before": _rounded(before[i]),
                "difference": round(float(ciede2000(after[i], lab[i])), 2),
                "difference_before": round(float(ciede2000(before[i], lab[i])), 2),
            }
            for i in range(len(lab))
        ],
    }  # fmt: skip


def _places(chart: Chart) -> F64:
    r, c = np.mgrid[0 : chart.rows, 0 : chart.columns]
    x = c.ravel() / max(chart.columns - 1, 1) * 2 - 1
    y = r.ravel() / max(chart.rows - 1, 1) * 2 - 1
    return np.column_stack([x, y]).astype(np.float64)


def _fit(
    numbers: F64,
    wanted: F64,
    index: NDArray[np.intp],
    chart: Chart,
    places: F64,
    xy: tuple[float, float],
    table: bool,
    near: Fit | None = None,
) -> Fit:
    at = {int(i): k for k, i in enumerate(index)}
    greys = np.array([at[int(i)] for i in chart.greys() if int(i) in at], dtype=np.intp)
    return fit_light(numbers, wanted, greys, places, xy, table=table, near=near)


def _leave_one_out(
    readings: Readings,
    wanted: F64,
    good: NDArray[np.intp],
    chart: Chart,
    places: F64,
    xy: tuple[float, float],
    near: Fit,
) -> tuple[F64, F64]:
    """Each patch as a profile sees it that was made without it: what overfitting cannot flatter."""
    seen = []
    greys = {int(i) for i in chart.greys()}
    for i in good:
        rest = good[good != i]
        if not greys & {int(v) for v in rest}:
            rest = good
        fit = _fit(readings.numbers[rest], wanted[rest], rest, chart, places[rest], xy, near.table is not None, near)
        seen.append(fit.xyz(evened(readings.numbers[i : i + 1], places[i : i + 1], fit.slope))[0])
    return xyz_to_lab(np.array(seen)), xyz_to_lab(wanted[good])


def _by_file(source: Source, numbers: F64, neutral: F64, wanted: F64, good: NDArray[np.intp]) -> F64:
    """XYZ by the file's own matrix, white balanced on the same greys and brought to the same brightness."""
    camera = source.camera
    white = camera.neutral_to_white(neutral)
    xyz = numbers @ camera.to_working(white).T @ np.linalg.inv(pcs_to_working()).T
    scale = (wanted[good, 1] * xyz[good, 1]).sum() / (xyz[good, 1] ** 2).sum()
    return np.asarray(xyz * scale)


def _figures(seen: F64, wanted: F64) -> dict[str, float]:
    delta = ciede2000(seen, wanted)
    return {
        "mean": round(float(delta.mean()), 3),
        "p95": round(float(np.percentile(delta, 95)), 3),
        "max": round(float(delta.max()), 3),
    }


def _neutral(after: F64, lab: F64, chart: Chart, readings: Readings) -> list[dict[str, Any]]:
    """The grey patches, light to dark: how far a* and b* lie from what they should be."""
    return [
        {
            "name": chart.patches[i],
            "lightness": round(float(lab[i, 0]), 1),
            "l": round(float(after[i, 0] - lab[i, 0]), 2),
            "a": round(float(after[i, 1] - lab[i, 1]), 2),
            "b": round(float(after[i, 2] - lab[i, 2]), 2),
        }
        for i in chart.greys()
        if not readings.refused[i]
    ]


def _rounded(lab: F64) -> list[float]:
    return [round(float(v), 2) for v in lab]
