"""What worker processes measure on frames for profiles, lenses, upright lines and white balance."""

from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.registry import defaults, develop
from tanner.core.errors import TannerError
from tanner.core.profile.chart import published24
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.render import full_size, render
from tanner.jobs.tasks import jpeg, starting


def chart_preview(path: str) -> bytes:
    """The frame as `find_chart` sees it, for a person to set corners on."""
    from tanner.core.profile.make import chart_picture

    source = read(Path(path))
    numbers = chart_picture(source) / np.array(source.facts.neutral, dtype=np.float32)
    top = max(float(np.percentile(numbers, 99.5)), 1e-6)
    return jpeg(np.rint(np.clip(numbers / top, 0, 1) ** (1 / 2.2) * 255).astype(np.uint8), 88)


def find_chart(path: str) -> list[list[float]]:
    from tanner.core.profile.make import locate

    corners: list[list[float]] = np.round(locate(read(Path(path))), 5).tolist()
    return corners


def made_profile(
    paths: list[str],
    lights: list[str],
    corners: list[list[list[float]] | None],
    name: str,
    table: bool,
    chart: str | None,
    chart_set: str = "",
    aim: str = "published",
) -> tuple[bytes, dict[str, Any]]:
    """A profile as the bytes of its file, and its report.

    Args:
        chart: the text of a CGATS.17 file; chart_set: else one of `chart.SETS`, or "" for the one that fits best.
    """
    import tempfile

    from tanner.core.colour.dcp import write_dcp
    from tanner.core.profile.chart import read_cgats
    from tanner.core.profile.make import Shot, make_profile

    target = published24(chart_set) if chart_set else None
    if chart is not None:
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "chart.txt"
            file.write_text(chart)
            target = read_cgats(file)
    shots = [
        Shot(read(Path(p)), light, np.array(c) if c else None)
        for p, light, c in zip(paths, lights, corners, strict=True)
    ]
    made = make_profile(shots, name, target, table=table, aim="seen" if aim == "seen" else "published")
    return write_dcp(made.profile), made.report


def made_lens(paths: list[str], even: str | None) -> tuple[str, dict[str, Any]]:
    """A lens file's XML measured from frames, and its report (see `core.lensmake.make`)."""
    from tanner.core.lensmake.make import make_lens

    return make_lens([read(Path(p)) for p in paths if p != even], read(Path(even)) if even else None)


def upright_by_itself(path: str, values: dict[str, Any], limit: float) -> dict[str, Any]:
    """Settings that make a frame's own lines stand, or {"trouble": why not} (see `core.upright.automatic`)."""
    from tanner.core.upright import automatic

    try:
        return automatic(read(Path(path)), develop(values), limit)
    except ValueError as error:
        return {"trouble": str(error)}


def white_by(path: str, method: str, profile: str) -> dict[str, Any]:
    """White balance that a method finds, as {"values", "words"}: "auto" (see `find_white`) or "chart" (its grey patches)."""
    from tanner.core.colour.auto_white import find_white
    from tanner.core.colour.white import picked
    from tanner.core.profile.chart import ChartError
    from tanner.core.profile.make import chart_neutral, chart_picture

    source = read(Path(path))
    if not source.facts.is_raw:
        raise TannerError("This is a finished picture: its white balance can be picked, but not found from its sensor.")
    camera = source.colour_by(profile)[0]
    try:
        return {"values": picked(camera, chart_neutral(source)), "words": "by the grey patches of a chart"}
    except ChartError:
        if method == "chart":
            raise
    numbers = chart_picture(source)
    found = find_white(camera, numbers, source.facts.neutral, _skin_numbers(source, numbers))
    return {"values": found.values, "words": f"{found.words}; sure to {found.confidence:.0%}"}


def _skin_numbers(source: Source, numbers: NDArray[np.float32]) -> NDArray[np.float64] | None:
    """Mean camera numbers of the skin of the largest face; None without one."""

    from tanner.core.series.area import NoArea
    from tanner.core.series.subjects import area_of

    development = develop(defaults(raw=True, lens=source.lens is not None))
    w, h = full_size(source, development)

    def at(edge: int) -> NDArray[np.uint8]:
        share = min(1.0, edge / max(w, h))
        return render(source, development, (max(8, round(w * share)), max(8, round(h * share))))

    try:
        mask = area_of("skin", at).mask
    except NoArea:
        return None
    small = cv2.resize(numbers, mask.shape[::-1], interpolation=cv2.INTER_AREA)
    mean: NDArray[np.float64] = small[mask].mean(axis=0).astype(np.float64)
    return mean


def measured_for_automatic(path: str, values: dict[str, Any], ev: float) -> Any:
    """What the automatic start goes by, of one frame (see `core.series.automatic`)."""
    from tanner.core.series.automatic import measured
    from tanner.core.small import read_small

    source = read_small(Path(path))
    starting = defaults(raw=source.facts.is_raw, lens=source.lens is not None)
    return measured(source, {**starting, **values}, ev)


def level_ends_of(path: str, values: dict[str, Any], share: float, channel: str) -> tuple[float, float]:
    """Black and white for levels (see `core.series.automatic.level_ends`)."""
    from tanner.core.series.automatic import level_ends
    from tanner.core.small import read_small

    return level_ends(read_small(Path(path)), values, share, channel)


def mono_weights_of(path: str, values: dict[str, Any]) -> dict[str, float]:
    """Weights of black and white from the picture (see `core.series.automatic.mono_weights`)."""
    from tanner.core.series.automatic import mono_weights
    from tanner.core.small import read_small

    return mono_weights(read_small(Path(path)), values)


def exact_of(path: str, values: dict[str, Any]) -> dict[str, Any]:
    """How exact colours came out in a frame, as {"rows"}: see `core.series.exactness.measured`."""
    from tanner.core.series.exactness import measured

    return {"rows": measured(*_small(path, values))}


def sample_of(path: str, values: dict[str, Any], at: tuple[float, float]) -> list[float]:
    """See `core.series.exactness.sample_at`."""
    from tanner.core.series.exactness import sample_at

    return sample_at(*_small(path, values), at)


def range_of(path: str, values: dict[str, Any], at: tuple[float, float]) -> list[float]:
    """See `core.series.exactness.range_at`."""
    from tanner.core.series.exactness import range_at

    return range_at(*_small(path, values), at)


def _small(path: str, values: dict[str, Any]) -> tuple[Source, dict[str, Any]]:
    """A frame for small pictures, and its settings above the defaults by rule."""
    from tanner.core.small import read_small

    source = read_small(Path(path))
    return source, {**starting(source.facts, lens=source.lens is not None), **values}
