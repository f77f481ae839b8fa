"""What worker processes do: plain functions of plain values, one per kind of work."""

import fcntl
import io
import time
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack
from functools import partial
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.registry import defaults, develop
from tanner.core.colour.spaces import SPACES
from tanner.core.colour.temperature import xy_to_temperature
from tanner.core.errors import TannerError
from tanner.core.noise.model import measured
from tanner.core.output.develop import encode, one_pass, size_for, target_path, write_file
from tanner.core.output.files import stay_within
from tanner.core.output.naming import name_values
from tanner.core.output.sizing import output_size, parse_size
from tanner.core.output.spec import OutputSpec
from tanner.core.output.words import Words
from tanner.core.profile.chart import published24
from tanner.core.profile.detect import shows_chart
from tanner.core.raw.damage import damage_of
from tanner.core.raw.facts import FrameFacts
from tanner.core.raw.reader import RAW, Source, read
from tanner.core.render import as_shot_white, full_size, render
from tanner.core.series.depends import About
from tanner.core.series.preset import Preset
from tanner.core.small import read_small
from tanner.jobs import journal as journals

PREVIEW = 512
"""Long edge of the pictures on the Sheet."""


def starting(facts: FrameFacts, *, lens: bool) -> dict[str, Any]:
    """Layer 1 of a frame's settings: defaults by rule."""
    return defaults(raw=facts.is_raw, lens=lens, applied=facts.applied)


def about(source: Source) -> About:
    """What values of a preset may depend on."""
    w, h = full_size(source, develop({}))
    facts = source.facts
    kelvin = xy_to_temperature(as_shot_white(source))[0]
    return About(facts.iso, kelvin, facts.camera_name, facts.lens, h > w)


def read_source(path: str) -> Source:
    return read(Path(path))


def read_facts(path: str) -> dict[str, Any]:
    """Facts of a file with what the catalogue wants to know besides."""
    source = read(Path(path), pixels=False)
    lens = source.lens
    kelvin, tint = xy_to_temperature(as_shot_white(source))
    return {
        **source.facts.summary(),
        "lens_source": lens.source if lens else None,
        "lens_found": lens.name if lens else None,
        "as_shot": [round(kelvin, 1), round(tint, 2)],
        "starting": starting(source.facts, lens=lens is not None),
    }


def embedded_preview(path: str) -> bytes | None:
    """The JPEG that the camera put into a raw file, made small; None when there is none."""
    if Path(path).suffix.lower() not in RAW:
        return None
    import rawpy
    from PIL import Image, ImageOps

    try:
        with rawpy.imread(path) as raw:
            thumb = raw.extract_thumb()
        if thumb.format != rawpy.ThumbFormat.JPEG:
            return None
        with Image.open(io.BytesIO(thumb.data)) as image:
            small = ImageOps.exif_transpose(image).convert("RGB")
            small.thumbnail((PREVIEW, PREVIEW))
            out = io.BytesIO()
            small.save(out, "JPEG", quality=82)
            return out.getvalue()
    except Exception:  # no preview, or one that cannot be read: the rendered one follows
        return None


def descriptor(picture: NDArray[np.uint8]) -> list[float]:
    """Likeness of pictures: an 8 x 8 Lab thumbnail as 192 numbers, lightness counted half."""
    small = cv2.resize(picture, (8, 8), interpolation=cv2.INTER_AREA).astype(np.float32) / 255
    lab = cv2.cvtColor(small, cv2.COLOR_RGB2Lab)
    lab[..., 0] *= 0.5
    return [round(float(v), 2) for v in lab.ravel()]


def picture(source: Source, settings: dict[str, Any], edge: int) -> NDArray[np.uint8]:
    """A small developed picture."""
    development = develop(settings)
    size = output_size(parse_size(f"long:{edge}"), *full_size(source, development))
    # Small pictures are drafts: they do not wait for methods that take seconds.
    result: NDArray[np.uint8] = render(source, development, size, draft=True)
    return result


def jpeg(pixels: NDArray[np.uint8], quality: int = 82) -> bytes:
    import simplejpeg

    data: bytes = simplejpeg.encode_jpeg(pixels, quality=quality, colorsubsampling="420", fastdct=True)
    return data


def preview(path: str, settings: dict[str, Any], first: bool = True) -> dict[str, Any]:
    """A rendered preview with what is measured on it; `first`: the frame's noise too, which takes a while."""
    source = read_small(Path(path))
    pixels = picture(source, settings, PREVIEW)
    noise, chart = None, False
    if first:
        small = SPACES["srgb"].decode(pixels / 255).astype(np.float32)
        chart = shows_chart(small, published24())
    if (
        first
        and source.facts.kind == "bayer"
        and not source.facts.noise_profile
        and "noise" not in source.facts.applied
    ):
        # What the file does not say of its noise is learned from the user's own frames.
        found = measured(source)
        noise = [v.tolist() for v in found] if found else None
    return {
        "jpeg": jpeg(pixels),
        "descriptor": descriptor(pixels),
        "size": pixels.shape[1::-1],
        "noise": noise,
        "chart": chart,
        "damage": damage_of(Path(path)) if first else "",
    }


def develop_file(
    path: str,
    settings: dict[str, Any],
    specs: list[dict[str, Any]],
    folder: str,
    *,
    rules: bool = True,
    threads: int = 1,
    words: dict[str, Any] | None = None,
    tokens: dict[str, Any] | None = None,
    targets: list[str] | None = None,
    within: str = "",
    preset: tuple[dict[str, Any], float] | None = None,
    journal: tuple[str, list[int]] | None = None,
) -> list[dict[str, Any]]:
    """Decode and develop a file once and write it through several specs.

    Args:
        settings: sparse; with `rules` they stand above the defaults by rule.
        words: fields of `Words`, whose texts may hold tokens; tokens: values of `name_values` for them, for names and
            for watermarks.
        targets: full paths, one per spec, where the caller has chosen them already.
        within: a folder that no target may lead out of, be it by links; "": the target's own folder is meant.
        preset: a preset and its amount, under the settings.
        journal: a file that is told of each file right before it is put in place, and a number for each spec.

    Returns:
        One result per spec, in their order: see `write_file`; or {"path", "error"}.
    """
    original = Path(path)
    results: list[dict[str, Any]] = [{} for _ in specs]
    with ExitStack() as held:
        if journal:
            # Held from the start: a program that starts anew waits for workers that outlive the one before.
            busy = held.enter_context(Path(f"{journal[0]}.busy").open("w"))
            fcntl.flock(busy, fcntl.LOCK_SH)
        said = journals.lines_of(Path(journal[0])) if journal else {}
        started = time.perf_counter()
        source = read(original)
        decoded = time.perf_counter() - started
        start = starting(source.facts, lens=source.lens is not None) if rules else {}
        if preset:
            start |= Preset(**preset[0]).at(preset[1], about(source))
        development = develop({**start, **settings})
        parsed = [OutputSpec(**values) for values in specs]
        pool = held.enter_context(ThreadPoolExecutor(threads)) if threads > 1 else None
        for place, index in enumerate(one_pass(source, development, parsed)):
            spec = parsed[index]
            size = size_for(source, development, spec)
            given = {"taken": source.facts.taken, **(tokens or {})}
            values = name_values(name=original.stem, spec=spec.title, size=size, **given)
            target = Path(targets[index]) if targets else target_path(Path(folder), spec, values)
            # Done already by a worker that ended before it could say so.
            line = journals.placed(said, journal[1][index], target.parent) if journal else None
            if line:
                made = {"width": size[0], "height": size[1], "seconds": 0.0, "warnings": [], "skipped": False}
                results[index] = {"file": path, "spec": spec.title, **line, **made}
                continue
            try:
                if within or not targets:
                    stay_within(Path(within or folder), target)
                done = write_file(
                    source,
                    development,
                    spec,
                    target,
                    words=Words(**(words or {})).with_tokens(values),
                    pool=pool,
                    original=original,
                    tokens=values,
                    announce=partial(journals.note, journal[0], journal[1][index]) if journal else None,
                    tag=f"{Path(journal[0]).stem}-" if journal else "",
                )
                done["seconds"] = round(done.get("seconds", 0) + (decoded if place == 0 else 0), 3)
            except Exception as error:
                done = {"path": str(target), "error": str(error)}
            results[index] = {"file": path, "spec": spec.title, **done}
    return results


def encoded(
    path: str, settings: dict[str, Any], spec: dict[str, Any], words: dict[str, Any], tokens: dict[str, Any]
) -> tuple[bytes, tuple[int, int]]:
    """One finished file as bytes, and its size in px, without writing it: a proof."""
    source = read(Path(path))
    parsed, development = OutputSpec(**spec), develop(settings)
    size = size_for(source, development, parsed)
    values = name_values(name=Path(path).stem, spec=parsed.title, size=size, **tokens)
    return encode(source, development, parsed, Words(**words).with_tokens(values), tokens=values)


# --- camera profiles -----------------------------------------------------------------------------


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
    from tanner.core.profile.chart import published24, read_cgats
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
    import cv2

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


def ready() -> bool:
    """Loads what a worker process needs, so that its first real item does not wait for it."""
    import rawpy  # noqa: F401

    return True
