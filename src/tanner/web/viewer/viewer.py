"""Renders views for the Bench: decoded frames are kept, so that a moved control costs a render only."""

import threading
import time
from collections import OrderedDict
from collections.abc import Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from tanner.catalogue.originals import stamp_of
from tanner.core.adjust.registry import Development, develop
from tanner.core.areas.find import NotFound
from tanner.core.colour.printing import Intent, proof_table
from tanner.core.colour.profile_store import PROFILE_STORE
from tanner.core.colour.spaces import SPACES, outside
from tanner.core.errors import TannerError
from tanner.core.measure import histogram, mark_clipping, mark_outside, mark_rebuilt
from tanner.core.noise import stage
from tanner.core.noise.controls import Method, Noise
from tanner.core.noise.stage import held_bytes
from tanner.core.optics.crop import Crop, kept
from tanner.core.output.jpeg import encode_in_bands, encode_strip
from tanner.core.piece import piece, sample_region
from tanner.core.raw.source import Source
from tanner.core.render import full_size, notes, render, view_of
from tanner.core.render.linear import make_linear
from tanner.core.render.masking import mask_of, sampled
from tanner.core.render.views import places
from tanner.core.spots.apply import done_in
from tanner.core.tone.cube import through_cube
from tanner.core.tone.light import Light
from tanner.jobs.tasks import read_source
from tanner.jobs.workers import Workers
from tanner.web.viewer.mosaics import MosaicStore
from tanner.web.viewer.overlays import TINTS, MaskShown, fine_only, shown_mask

MOST_EDGE = 2400
MARGIN = 0.3
"""What the crop tool shows around the frame, in shares of it, where the crop may go beyond."""
KEEP = 4
MOST_BYTES = 1 << 30


class AskedView(BaseModel):
    """What part of the picture is wanted, and how.

    Attributes:
        width, height: the place for it, in device px.
        zoom: 0 fits the whole picture; else device px per picture px.
        x, y: centre of the part, in shares of the picture, when zoomed.
        draft: a quick, half-sized one while a control moves.
        whole: the uncropped, unturned frame, for choosing the crop.
        before: as it was at the start, with the same geometry.
        sharpening: where the development sharpens, in grey, instead of the picture.
        places: tell where px lie on the frame, for masks (see `core.render.views.places`).
        spots: tell what became of the frame's spots; specks: what is fine in it with its contrast raised, in grey.
        area: id of an area whose mask is shown, in the way `shown` says.
        rebuilt: mark where the colour of clipped places was rebuilt.
        outside: mark colours that the output space (sRGB, or the proof's profile) cannot hold.
        proof: key of a user's ICC profile to show the picture as printed with; intent, paper: how.
    """

    model_config = ConfigDict(extra="forbid")

    width: int = Field(ge=16, le=8192)
    height: int = Field(ge=16, le=8192)
    zoom: float = Field(default=0, ge=0, le=4)
    x: float = Field(default=0.5, ge=0, le=1)
    y: float = Field(default=0.5, ge=0, le=1)
    draft: bool = False
    whole: bool = False
    before: bool = False
    marks: bool = False
    outside: bool = False
    rebuilt: bool = False
    places: bool = False
    sharpening: bool = False
    spots: bool = False
    specks: bool = False
    area: str = Field(default="", max_length=8)
    shown: MaskShown = "tint"
    proof: str = Field(default="", max_length=200)
    intent: Intent = "relative"
    paper: bool = True


@dataclass
class OpenSource:
    """A decoded frame, or the promise of one; its lock lets one render at a time use the caches.

    Attributes:
        file: its stamp before it was read.
    """

    future: Future[Source]
    file: str = ""
    lock: threading.Lock = field(default_factory=threading.Lock)


@dataclass
class Shown:
    """A rendered view; its px as they are, and with marks on what the output cannot hold and what was rebuilt."""

    jpeg: bytes
    header: dict[str, Any]
    pixels: NDArray[np.uint8]
    marked: NDArray[np.uint8]


class Viewer:
    """Keeps the frames used last in memory and renders views of them."""

    def __init__(self, workers: Workers) -> None:
        self._workers = workers
        self._entries: OrderedDict[str, OpenSource] = OrderedDict()
        self._lock = threading.Lock()
        self._pool = ThreadPoolExecutor(2, thread_name_prefix="render")
        # Another frame's render must not stand before what finishes a picture.
        self._beside = ThreadPoolExecutor(2, thread_name_prefix="beside")
        self._put_by = MosaicStore()

    def entry(self, path: str) -> OpenSource:
        """The entry of a frame; decoding starts in a worker process when it is not kept yet."""
        with self._lock:
            found = self._entries.get(path)
            if found is not None and found.future.done() and found.future.exception() is not None:
                found = None
            if found is None:
                file = stamp_of(Path(path))
                kept = self._put_by.holds(path)
                opened = self._beside.submit(self._back, path) if kept else self._workers.soon(read_source, path)
                found = OpenSource(opened, file)
                self._entries[path] = found
            self._entries.move_to_end(path)
            while len(self._entries) > KEEP or (self._bytes() > MOST_BYTES and len(self._entries) > 1):
                gone, entry = self._entries.popitem(last=False)
                if entry.future.done() and entry.future.exception() is None:
                    self._beside.submit(self._put_by.put, gone, entry.future.result(), entry.file)
            return found

    def _back(self, path: str) -> Source:
        """A frame that was put by, or read anew where that was given up meanwhile."""
        found = self._put_by.take(path)
        return found if found is not None else self._workers.soon(read_source, path).result()

    def _bytes(self) -> int:
        done = [e.future for e in self._entries.values() if e.future.done() and not e.future.exception()]
        return sum(held_bytes(f.result()) for f in done)

    def source(self, path: str) -> Source:
        return self.entry(path).future.result()

    def show(self, path: str, values: Mapping[str, Any], starting: Mapping[str, Any], view: AskedView) -> Shown:
        """Render a view of a frame with settings."""
        entry = self.entry(path)
        source = entry.future.result()
        began = time.perf_counter()
        with entry.lock:
            pixels, marked, header, mask = self._pixels(source, values, starting, view)
        rendered = time.perf_counter()
        # Of the picture, not of what is drawn on it; counted while it is encoded.
        counted = self._beside.submit(histogram, pixels)
        header["draft"], header["before"] = view.draft, view.before
        shown = mark_clipping(marked) if view.marks and not view.before else marked
        if view.specks and not view.before:
            shown = fine_only(shown)
        if mask is not None:
            shown = shown_mask(shown, mask[0], view.shown, TINTS[mask[1]])
        quality, chroma = (82, "420") if view.draft else (90, "444")
        jpeg = encode_in_bands(shown, quality, chroma, self._beside, fast=view.draft)
        header["histogram"] = counted.result()
        header["ms"] = {
            "render": round((rendered - began) * 1000, 1),
            "encode": round((time.perf_counter() - rendered) * 1000, 1),
        }
        return Shown(jpeg, header, pixels, marked)

    def _pixels(
        self, source: Source, values: Mapping[str, Any], starting: Mapping[str, Any], view: AskedView
    ) -> tuple[NDArray[np.uint8], NDArray[np.uint8], dict[str, Any], tuple[NDArray[np.float32], int] | None]:
        wanted = _before(values, starting) if view.before else dict(values)
        crop = develop(wanted).group(Crop)
        asked = develop(wanted)
        margin = 0.0
        if view.whole:
            # The crop tool shows the whole frame, and what lies around it where the crop may go there.
            margin = MARGIN if crop.outside != "never" else 0.0
            edges = {"crop.left": -margin, "crop.top": -margin, "crop.right": 1 + margin, "crop.bottom": 1 + margin}
            wanted = {**wanted, **edges, "crop.straighten": 0.0}
        development = develop(wanted)
        full = full_size(source, development)
        mapped = view_of(source, development)[0]
        up = mapped.upright
        cx, cy, w, h = kept(crop, *up)
        header: dict[str, Any] = {
            "full": full,
            "upright": up,
            "kept": [cx / up[0], cy / up[1], w / up[0], h / up[1]],
            "straighten": crop.straighten,
            "margin": margin,
            "notes": notes(source, asked),
            "waits": stage.waits(source, asked.group(Noise)),
        }
        if view.zoom == 0:
            size = _fit(full, view.width, view.height, view.draft)
            header |= {"size": size, "region": [0, 0, *size], "whole": True}
            header |= {"places": places(source, development, size)} if view.places else {}
            header |= {"spots": _spots_shown(source, development, size)} if view.spots else {}
            pixels, marked = self._drawn(source, development, size, view, None)
            return pixels, marked, header, self._mask(source, development, size, view, None, header)
        # Zoomed: device px per picture px of 1 or more are picture px, enlarged by the page.
        scale = min(view.zoom, 1.0)
        size = max(1, round(full[0] * scale)), max(1, round(full[1] * scale))
        enlarge = view.zoom / scale
        rw, rh = min(size[0], round(view.width / enlarge)), min(size[1], round(view.height / enlarge))
        left = min(max(round(view.x * size[0] - rw / 2), 0), size[0] - rw)
        top = min(max(round(view.y * size[1] - rh / 2), 0), size[1] - rh)
        region = (left, top, left + rw, top + rh)
        header |= {"size": size, "region": list(region), "whole": (rw, rh) == size}
        header |= {"places": places(source, development, size)} if view.places else {}
        header |= {"spots": _spots_shown(source, development, size)} if view.spots else {}
        pixels, marked = self._drawn(source, development, size, view, region)
        return pixels, marked, header, self._mask(source, development, size, view, region, header)

    def _mask(
        self,
        source: Source,
        development: Development,
        size: tuple[int, int],
        view: AskedView,
        region: tuple[int, int, int, int] | None,
        header: dict[str, Any],
    ) -> tuple[NDArray[np.float32], int] | None:
        """The mask of the area that the view asks for, and its colour; why there is none is told in the header."""
        thing = next((t for t in development.lists.get("areas", ()) if t.id == view.area), None)
        if thing is None or view.before:
            return None
        try:
            return mask_of(source, development, view.area, size, region), getattr(thing.parts, "tint", 0)
        except NotFound as error:
            header["areaOff"] = str(error)
            return None

    def mask(self, path: str, values: Mapping[str, Any], area: str, edge: int) -> NDArray[np.float32]:
        """An area's mask on the finished picture, at most so many px long.

        Raises:
            NotFound: it is off on this frame.
        """
        entry = self.entry(path)
        source = entry.future.result()
        development = develop(values)
        with entry.lock:
            return mask_of(source, development, area, _fit(full_size(source, development), edge, edge, False))

    def sample(self, path: str, values: Mapping[str, Any], at: tuple[float, float]) -> dict[str, Any]:
        """Lightness and colour of a place as ranges see them."""
        entry = self.entry(path)
        source = entry.future.result()
        with entry.lock:
            light, lab = sampled(source, develop(values), at)
        return {"lightness": light, "lab": lab}

    def _drawn(
        self,
        source: Source,
        development: Development,
        size: tuple[int, int],
        view: AskedView,
        region: tuple[int, int, int, int] | None,
    ) -> tuple[NDArray[np.uint8], NDArray[np.uint8]]:
        """The pixels of a view, proofed as it asks, and the same with marks on them."""
        pixels, lost = self._proofed(source, development, size, view, region)
        marked = pixels if lost is None else mark_outside(pixels, lost)
        if view.rebuilt and not view.before and development.group(Light).clipped_colour > 0:
            light = development.group(Light).model_copy(update={"clipped_colour": 0.0})
            plain = Development({**development.groups, "light": light}, development.lists)
            white = self._proofed(source, plain, size, view, region)[0].astype(np.int16)
            marked = mark_rebuilt(marked, np.abs(pixels - white).max(axis=-1) > 1)
        return pixels, marked

    def _proofed(
        self,
        source: Source,
        development: Development,
        size: tuple[int, int],
        view: AskedView,
        region: tuple[int, int, int, int] | None,
    ) -> tuple[NDArray[np.uint8], NDArray[np.bool_] | None]:
        """The pixels of a view as they are printed or shown, and which of them the output cannot hold, where that is asked."""

        def drawn(space: str, bits: int) -> NDArray[Any]:
            return render(
                source,
                development,
                size,
                space=space,
                bits=bits,
                region=region,
                pool=self._pool,
                keep=region is None,
                draft=True,
                show_sharpening=view.sharpening,
            )

        icc = PROFILE_STORE.icc(view.proof) if view.proof else None
        if view.proof and icc is None:
            raise TannerError("This ICC profile is no longer in Kit.")
        if icc is None and not view.outside:
            return drawn("srgb", 8), None
        wide = drawn("prophoto", 16)
        if icc is None:
            pixels = drawn("srgb", 8)
            lost = outside(SPACES["prophoto"].decode(wide / np.float32(65535)).astype(np.float32), "srgb")
        else:
            table, held = proof_table(icc, view.intent, True, view.paper)
            pixels = np.empty(wide.shape, dtype=np.uint8)
            through_cube(wide, table, pixels)
            at = ((wide.astype(np.uint32) * (len(held) - 1) + 32767) // 65535).astype(np.intp)
            lost = held[at[..., 0], at[..., 1], at[..., 2]]
        return pixels, lost if view.outside else None

    def picture(self, path: str, values: Mapping[str, Any], edge: int) -> bytes:
        """A small JPEG of a kept frame, for presets on the own picture."""
        entry = self.entry(path)
        source = entry.future.result()
        development = develop(values)
        with entry.lock:
            full = full_size(source, development)
            size = _fit(full, edge, edge, False)
            pixels = render(source, development, size, pool=self._pool, keep=True, draft=True)
        return encode_strip(pixels, 85, "420")

    def piece(
        self, path: str, values: Mapping[str, Any], method: Method, at: tuple[float, float], most: tuple[int, int]
    ) -> bytes:
        """A JPEG of a piece at 100 % by a method against noise, around a place in shares of the picture."""
        entry = self.entry(path)
        source = entry.future.result()
        development = develop(values)
        with entry.lock:
            full = full_size(source, development)
            w, h = min(most[0], full[0]), min(most[1], full[1])
            left = min(max(round(at[0] * full[0] - w / 2), 0), full[0] - w)
            top = min(max(round(at[1] * full[1] - h / 2), 0), full[1] - h)
            pixels = piece(source, development, method, (left, top, left + w, top + h), self._pool)
        return encode_strip(pixels, 94, "444")

    def sample_region(self, path: str, values: Mapping[str, Any]) -> tuple[float, float]:
        entry = self.entry(path)
        source = entry.future.result()
        with entry.lock:
            return sample_region(source, develop(values))

    def full(self, path: str, values: Mapping[str, Any]) -> tuple[int, int]:
        return full_size(self.source(path), develop(values))

    def close(self) -> None:
        for pool in (self._pool, self._beside):
            pool.shutdown(wait=False, cancel_futures=True)


def _spots_shown(source: Source, development: Development, size: tuple[int, int]) -> dict[str, Any]:
    """What became of each spot: where it was taken from, and what is to be said of it; by the numbers that the view shows."""
    done = done_in(make_linear(source, development, size, draft=True).source)
    return {
        i: {"source": d.source, "said": d.said, "path": d.path, "size": d.size, "left": d.left} for i, d in done.items()
    }


def _before(values: Mapping[str, Any], starting: Mapping[str, Any]) -> dict[str, Any]:
    """The start of a frame with the geometry that it has now, so that both lie on one another."""
    kept_groups = ("crop.", "optics.", "perspective.")
    return {**starting, **{k: v for k, v in values.items() if k.startswith(kept_groups)}}


def _fit(full: tuple[int, int], width: int, height: int, draft: bool) -> tuple[int, int]:
    """The picture's size inside a place; never larger than the picture or than is useful on a screen."""
    scale = min(width / full[0], height / full[1], MOST_EDGE / max(full), 1.0)
    if draft:
        scale *= 0.5
    return max(1, round(full[0] * scale)), max(1, round(full[1] * scale))
