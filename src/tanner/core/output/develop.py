"""From a source to finished files: the one service behind the command line and deliveries."""

import hashlib
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tanner.core.adjust.registry import Development
from tanner.core.colour.camera import Profile
from tanner.core.colour.printing import IccError, to_icc
from tanner.core.colour.profile_store import PROFILE_STORE
from tanner.core.colour.spaces import icc_profile
from tanner.core.errors import SettingsError, WriteFailed
from tanner.core.noise import stage
from tanner.core.noise.controls import Noise
from tanner.core.noise.methods import BLACK
from tanner.core.noise.sharpen import for_output
from tanner.core.optics.crop import Crop
from tanner.core.optics.lens import Optics
from tanner.core.output.captions import SPACES as NAMESPACES
from tanner.core.output.captions import Captions, exif_texts, xmp_properties
from tanner.core.output.cutout import mask_for, on_ground, shade_for, svg, without_fringe
from tanner.core.output.encoding import ENCODED_WITH, encoder, jpeg_segments
from tanner.core.output.enlarge import enlarged
from tanner.core.output.files import free_name, write_whole
from tanner.core.output.jpeg import encode_strip, join
from tanner.core.output.mark import DrawnMark, drawn
from tanner.core.output.metadata import Blocks, blocks
from tanner.core.output.naming import fill, fill_folder, filled
from tanner.core.output.sizing import Layout
from tanner.core.output.spec import OutputSpec
from tanner.core.raw.copies import raw_copy
from tanner.core.raw.source import Source
from tanner.core.render import (
    PAIRS,
    STRIP,
    TILES,
    Cancelled,
    Plan,
    camera_strips,
    full_size,
    linear_of,
    make_plan,
    render_strips,
    view_of,
)
from tanner.core.sharing import with_threads

MOST_PIXELS = {"jpeg": 900_000_000}
MOST_ELSE = 400_000_000
"""px of a finished file by format; all but JPEG are held in memory whole."""
LONGEST_EDGE = 65_500


def size_for(source: Source, development: Development, spec: OutputSpec) -> tuple[int, int]:
    """The size in px of the file that a spec gives a frame."""
    return spec.layout(full_size(source, development)).canvas


@dataclass
class FileWork:
    """One file to be made of a frame: what is known before its pixels are."""

    spec: OutputSpec
    layout: Layout
    plan: Plan
    profile: bytes
    own: bytes | None
    meta: Blocks
    mark: DrawnMark | None
    edge_directed: bool


def prepare(
    source: Source,
    development: Development,
    spec: OutputSpec,
    captions: Captions,
    tokens: Mapping[str, object] | None = None,
) -> FileWork:
    """Everything of one file but its pixels.

    Raises:
        TannerError: a profile or watermark that is not there, or a size that cannot be written.
    """
    full = full_size(source, development)
    layout = spec.layout(full)
    own = PROFILE_STORE.icc(spec.icc) if spec.icc and spec.format != "dng" else None
    if spec.icc and own is None and spec.format != "dng":
        raise IccError(f"The ICC profile {spec.icc} is not in Kit. Add it there, or choose another for {spec.title}.")
    w, h = layout.canvas
    if w * h > MOST_PIXELS.get(spec.format, MOST_ELSE) or max(*layout.canvas, *layout.drawn) > min(
        LONGEST_EDGE, ENCODED_WITH.get(spec.family, LONGEST_EDGE)
    ):
        raise SettingsError(f"{spec.title}: {w} × {h} px is more than can be written. Choose a smaller size.")
    medium = for_output(spec.sharpen, spec.sharpen_strength / 100, layout.drawn, spec.ppi)
    # Along edges a picture is enlarged from its finished full size; sharpened for its medium after that.
    edge_directed = spec.enlarge == "edges" and layout.drawn[0] > full[0] and spec.format != "dng"
    bits = 16 if own or edge_directed else spec.bits
    space = "prophoto" if own else spec.space
    facts = source.facts
    return FileWork(
        spec=spec,
        layout=layout,
        plan=make_plan(
            source,
            development,
            full if edge_directed else layout.drawn,
            space,
            bits,
            output_sharpening=None if edge_directed else medium,
            fine=True,
        ),
        profile=own or icc_profile(spec.space),
        own=own,
        meta=blocks(facts, captions, layout.canvas, spec.ppi, spec.metadata, spec.place, spec.keywords),
        mark=drawn(spec.mark, (layout.cut[2], layout.cut[3]), filled(spec.mark.text, tokens or {})),
        edge_directed=edge_directed,
    )


def encode(
    source: Source,
    development: Development,
    spec: OutputSpec,
    captions: Captions | None = None,
    pool: Executor | None = None,
    stop: Callable[[], bool] | None = None,
    tokens: Mapping[str, object] | None = None,
) -> tuple[bytes, tuple[int, int]]:
    """One finished file as bytes, with its size in px; tokens: for the watermark's text."""
    captions = captions or Captions()
    if spec.format == "dng":
        return _linear_dng(source, development, spec, captions)
    if spec.cut in ("mask", "outline"):
        return _mask_alone(source, development, spec, captions)
    with with_threads(pool):
        work = prepare(source, development, spec, captions, tokens)
    return _encoded(work, source, development, pool, stop), work.layout.canvas


def _mask_alone(
    source: Source, development: Development, spec: OutputSpec, captions: Captions
) -> tuple[bytes, tuple[int, int]]:
    """An area's mask in grey, or its outline, as large as the picture would be."""
    layout = spec.layout(full_size(source, development))
    (w, h), (left, top) = layout.canvas, layout.place
    x, y, cut_w, cut_h = layout.cut
    alpha = np.zeros((h, w), np.float32)
    found = mask_for(source, development, spec.cut_area, layout.drawn)
    alpha[top : top + cut_h, left : left + cut_w] = found[y : y + cut_h, x : x + cut_w]
    if spec.cut == "outline":
        return svg(alpha, spec.cut_area), layout.canvas
    meta = blocks(source.facts, captions, layout.canvas, spec.ppi, spec.metadata, spec.place, spec.keywords)
    grey = np.rint(alpha * (65535 if spec.bits == 16 else 255)).astype(np.uint16 if spec.bits == 16 else np.uint8)
    return encoder(spec, b"", meta, source.facts.taken)(grey), layout.canvas


def _cut_out(work: FileWork, source: Source, development: Development, canvas: NDArray[Any]) -> NDArray[Any]:
    """The canvas with what is not of the area taken away."""
    spec, layout = work.spec, work.layout
    x, y, cut_w, cut_h = layout.cut
    left, top = layout.place
    alpha = mask_for(source, development, spec.cut_area, layout.drawn)[y : y + cut_h, x : x + cut_w]
    part = canvas[top : top + cut_h, left : left + cut_w].copy()
    part = without_fringe(part, alpha)
    if spec.cut == "ground":
        shade = shade_for(source, development, layout.drawn, (x, y, x + cut_w, y + cut_h)) if spec.shadow else None
        canvas[:] = np.array(spec.colour) * (257 if spec.bits == 16 else 1)
        canvas[top : top + cut_h, left : left + cut_w] = on_ground(part, alpha, spec, shade)
        return canvas
    most = 65535 if spec.bits == 16 else 255
    whole = np.zeros((*canvas.shape[:2], 4), canvas.dtype)
    whole[top : top + cut_h, left : left + cut_w, :3] = part
    whole[top : top + cut_h, left : left + cut_w, 3] = np.rint(alpha * most).astype(canvas.dtype)
    return whole


def _encoded(
    work: FileWork, source: Source, development: Development, pool: Executor | None, stop: Callable[[], bool] | None
) -> bytes:
    spec, layout = work.spec, work.layout
    if spec.format == "jpeg" and layout.plain and not spec.most_kb and spec.cut == "none":
        # Nothing is held whole: strips are encoded as they come.
        strips = _strips(work, pool, stop, lambda s, y: encode_strip(_marked(work, s, y), spec.quality, spec.chroma))
        return join(strips, *layout.canvas, jpeg_segments(work.profile, work.meta), spec.ppi)
    w, h = layout.canvas
    x, y, cut_w, cut_h = layout.cut
    canvas = np.empty((h, w, 3), np.uint16 if spec.bits == 16 else np.uint8)
    if not layout.plain:
        canvas[:] = np.array(spec.colour) * (257 if spec.bits == 16 else 1)
    left, top = layout.place
    part = canvas[top : top + cut_h, left : left + cut_w]

    def laid(strip: NDArray[Any], at: int) -> None:
        first, last = max(at, y), min(at + strip.shape[0], y + cut_h)
        if first < last:
            part[first - y : last - y] = strip[first - at : last - at, x : x + cut_w]

    for _ in _strips(work, pool, stop, laid):
        pass
    if spec.cut != "none":
        canvas = _cut_out(work, source, development, canvas)
        part = canvas[top : top + cut_h, left : left + cut_w, :3]
    if work.mark:
        work.mark.over(part, 0)
    return encoder(spec, work.profile, work.meta, source.facts.taken)(canvas)


def _marked(work: FileWork, strip: NDArray[Any], y0: int) -> NDArray[Any]:
    return work.mark.over(strip, y0) if work.mark else strip


def _strips(
    work: FileWork, pool: Executor | None, stop: Callable[[], bool] | None, after: Callable[[NDArray[Any], int], Any]
) -> Iterator[Any]:
    """The drawn picture strip by strip in the file's own colours and bits, each handed on with its first row."""
    spec = work.spec

    def watched(strip: NDArray[Any], y0: int) -> Any:
        if stop and stop():
            raise Cancelled
        if work.own:
            strip = to_icc(strip, work.own, spec.intent, spec.black_point, spec.bits)
        elif work.edge_directed and spec.bits == 8:
            strip = (strip / np.float32(257) + np.float32(0.5)).astype(np.uint8)
        return after(strip, y0)

    if not work.edge_directed:
        yield from render_strips(work.plan, pool, after=watched)
        return
    medium = for_output(spec.sharpen, spec.sharpen_strength / 100, work.layout.drawn, spec.ppi)
    width, height = work.plan.size
    whole = np.empty((height, width, 3), np.uint16)

    def put(strip: NDArray[Any], y0: int) -> None:
        whole[y0 : y0 + len(strip)] = strip

    for _ in render_strips(work.plan, pool, after=put):
        if stop and stop():
            raise Cancelled
    at = 0
    for strip in enlarged(whole, work.layout.drawn, STRIP, medium):
        yield watched(strip, at)
        at += strip.shape[0]


def _linear_dng(
    source: Source, development: Development, spec: OutputSpec, captions: Captions
) -> tuple[bytes, tuple[int, int]]:
    """Camera colour in 16 bits with geometry and noise done and marked, and nothing of colour and tone."""
    facts = source.facts
    if not facts.is_raw:
        raise SettingsError(f"{spec.title}: a linear DNG is made of raw files; this is a finished picture.")
    layout = spec.layout(full_size(source, development))
    if layout.canvas[0] * layout.canvas[1] > MOST_ELSE:
        raise SettingsError(f"{spec.title}: {layout.canvas} px is more than can be written. Choose a smaller size.")
    plan = linear_of(source, development, layout.drawn, fine=True)
    x, y, w, h = layout.cut
    pixels = np.ascontiguousarray(camera_strips(plan, BLACK)[y : y + h, x : x + w])
    optics = development.group(Optics)
    applied = [n for n in ("distortion", "lateral_colour", "fall_off") if getattr(optics, n) > 0 and source.lens]
    quiet = stage.method_for(source, development.group(Noise)) != "none" or "noise" in facts.applied
    whole = layout.canvas == source.size and development.group(Crop) == Crop()
    let = captions.only(contact_only=spec.metadata == "contact", place=spec.place, keywords=spec.keywords)
    if spec.metadata == "none":
        let = Captions()
    spaces = "".join(f' xmlns:{k}="{v}"' for k, v in NAMESPACES.items())
    said = xmp_properties(let)
    xmp = f'<rdf:Description rdf:about=""{spaces}>{said}</rdf:Description>' if said else ""
    data = raw_copy(
        pixels, facts, black=BLACK, applied=[*applied, *facts.applied], quiet=quiet, upright=True, lens=whole and view_of(source, development)[0].untouched, ppi=spec.ppi, xmp=xmp,
        texts=exif_texts(let),
    )  # fmt: skip
    return data, (w, h)


def target_path(folder: Path, spec: OutputSpec, values: Mapping[str, object]) -> Path:
    """Where a spec puts a frame by its tokens' values (see `name_values`), before a taken name is dealt with."""
    return Path(target_text(str(folder), spec, values))


def target_text(folder: str, spec: OutputSpec, values: Mapping[str, object]) -> str:
    """The same as plain text, for thousands of rows."""
    below = fill_folder(spec.subfolder, values)
    return f"{folder.rstrip('/')}/{f'{below}/' if below else ''}{fill(spec.name, values)}{spec.suffix}"


def one_pass(source: Source, development: Development, specs: Sequence[OutputSpec]) -> list[int]:
    """The order in which a frame's files are made, the largest first, so that what it demosaics serves the others, too."""
    full = full_size(source, development)
    sizes = [spec.layout(full).drawn for spec in specs]
    order = sorted(range(len(specs)), key=lambda n: -sizes[n][0] * sizes[n][1])
    # Averages that smaller sizes will ask for.
    ratios = [full[0] / max(1, size[0]) for size in sizes]
    source.wanted = frozenset({2} if len(specs) > 1 and any(PAIRS <= r < TILES for r in ratios) else ())
    return order


def write_file(
    source: Source,
    development: Development,
    spec: OutputSpec,
    target: Path,
    *,
    captions: Captions | None = None,
    pool: Executor | None = None,
    stop: Callable[[], bool] | None = None,
    original: Path | None = None,
    tokens: Mapping[str, object] | None = None,
    announce: Callable[[Path, str, int], None] | None = None,
    tag: str = "",
) -> dict[str, Any]:
    """Render, encode and write one file; what was done, as plain data.

    Args:
        announce: told the path, the SHA-256 and the size in bytes right before the file is put in place.
        tag: see `write_whole`.

    Raises:
        NameTaken, WriteFailed: nothing was written.
        Cancelled: by `stop`.
    """
    started = time.perf_counter()
    warnings = list(source.facts.warnings)
    colour = source.colour_by(development.group(Profile).camera)[1]
    lens = source.lens_by(development.group(Optics).chosen_lens)[1]
    warnings += [w for w in (colour, lens) if w]
    if original and target.exists() and target.resolve() == original.resolve():
        raise WriteFailed(target, "is the original, which is never written to. Choose another folder or name.")
    if target.exists() and spec.exists == "skip":
        return {"path": str(target), "skipped": True, "warnings": ["The name is taken; left out."]}
    if spec.exists == "number":
        target = free_name(target)
    data, size = encode(source, development, spec, captions, pool, stop, tokens)
    content = hashlib.sha256(data).hexdigest()
    if announce:
        announce(target, content, len(data))
    write_whole(target, data, replace=spec.exists == "replace", tag=tag)
    return {
        "path": str(target),
        "width": size[0],
        "height": size[1],
        "bytes": len(data),
        "content": content,
        "seconds": round(time.perf_counter() - started, 3),
        "warnings": warnings,
        "skipped": False,
    }
