"""The table before a delivery: sizes, names, what to know, about how many bytes. Nothing is written."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from itertools import pairwise
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from tanner.catalogue.captions import shoot_captions
from tanner.catalogue.models import Delivery, DeliveryItem, Frame
from tanner.catalogue.resolver import Resolver
from tanner.core.adjust.registry import develop
from tanner.core.optics.crop import Crop
from tanner.core.optics.geometry import kept_size
from tanner.core.optics.view import orientation_of
from tanner.core.output.develop import target_text
from tanner.core.output.naming import LONGEST_PATH, TakenNames, folder_parts, name_values, remarks, size_values
from tanner.core.output.sizing import Layout
from tanner.core.output.spec import OutputSpec
from tanner.core.series.resolve import Layers, resolve

CLIPPED = 0.02
"""Share of white px without detail that is told of."""
PREVIEW_BYTES = 0.09
"""Bytes a px of a preview (512 px, JPEG 82), the mean of seven frames of the demo."""
BYTES: Mapping[str, float] = {"jpeg": 0.97, "webp": 0.55, "avif": 0.91, "jxl": 0.60}
"""Bytes a px over those of the preview, at 2048 px and quality 92: medians of the same frames, which lie within a third."""
PLAIN_BYTES: Mapping[str, float] = {"png": 1.1, "png16": 5.0}
"""Bytes a px without loss, which hardly depend on what is seen: noise decides."""
ALPHA_BYTES: Mapping[str, float] = {"png": 0.25, "png16": 0.79, "tiff8": 0.19, "tiff16": 0.63, "webp": 0.016}
"""Bytes a px that alpha adds to a compressed file; MASK_BYTES: of a mask alone. Medians of seven frames of the demo at 2048 px."""
MASK_BYTES: Mapping[str, float] = {"png": 0.031, "png16": 0.072, "tiff8": 0.024, "tiff16": 0.06}
OUTLINE_BYTES = 5.4
"""Bytes of an outline for each px of the long edge, measured alike."""
SHARES = ((1, 0.23), (30, 0.34), (60, 0.41), (75, 0.50), (85, 0.65), (92, 1.0), (97, 3.6), (100, 10.5))
"""Bytes of a JPEG by quality over those at 92, measured alike; from 93 on it keeps all samples of colour."""


def kept_of(frame: Frame, crop: Crop) -> tuple[int, int]:
    """What the crop keeps of a frame in px, from facts alone."""
    facts = frame.facts
    return kept_size((facts["width"], facts["height"]), orientation_of(facts["orientation"], crop), crop)


def tokens_of(frame: Frame, number: int, shoot: str, group: str, text: str) -> dict[str, Any]:
    """Values of a frame's tokens, as keywords of `name_values` besides its name, its size and the spec."""
    return {
        "taken": frame.taken,
        "number": number,
        "shoot": shoot,
        "group": group,
        "text": text,
        "stars": frame.stars,
        "label": frame.label,
        "camera": frame.camera,
        "lens": frame.lens,
        "iso": frame.iso,
        "keyword": str(frame.keywords[0]) if frame.keywords else "",
        "alternate": frame.alternate or "",
    }


@dataclass
class DeliveryPlan:
    """What a plan needs to know besides the frames and specs.

    Attributes:
        text: the names' own text; start: the first number.
        reserved: targets of the same delivery that were planned earlier.
    """

    session: Session
    shoot_id: int
    folder: Path
    text: str = ""
    start: int = 1
    reserved: Sequence[str] = ()
    taken: TakenNames = field(default_factory=TakenNames)

    def __post_init__(self) -> None:
        self.resolver = Resolver(self.session, self.shoot_id)
        self.taken.add(self.reserved)

    def rows(self, frames: Sequence[Frame], specs: Sequence[OutputSpec]) -> list[dict[str, Any]]:
        """Per frame and spec: frame, name, spec (index), number, target, width, height, settings, notes."""
        rows = []
        crops: dict[str, Crop] = {}
        layouts: dict[tuple[int, tuple[int, int]], Layout] = {}
        all_rights = shoot_captions(self.resolver.shoot).get("rights")
        for number, frame in enumerate(frames, self.start):
            layers = self.resolver.layers(frame)
            values = resolve(layers).values
            # Most frames of a set share a development, and validating one takes longer than all the rest of its rows.
            same = repr(values)
            if same not in crops:
                crops[same] = develop(values).group(Crop)
            kept = kept_of(frame, crops[same])
            about = _about(frame, layers)
            group = self.resolver.sets.get(frame.set_id or 0)
            tokens = tokens_of(frame, number, self.resolver.shoot.name, group.name if group else "", self.text)
            named = name_values(name=Path(frame.name).stem, **tokens)
            rights = bool(frame.words.get("rights") or all_rights)
            of_frame = {"frame": frame.id, "name": frame.name, "number": number, "settings": values}
            for index, spec in enumerate(specs):
                if frame.alternate and not spec.alternates:
                    continue
                layout = layouts.get((index, kept)) or layouts.setdefault((index, kept), spec.layout(kept))
                width, height = layout.canvas
                target, said = self._target(spec, {**named, "spec": spec.title, **size_values(layout.canvas)})
                notes = said + about + _of_spec(spec, kept, layout, rights)
                rows.append(
                    {**of_frame, "spec": index, "target": target, "width": width, "height": height, "notes": notes}
                )
        return rows

    def _target(self, spec: OutputSpec, values: Mapping[str, object]) -> tuple[str, list[str]]:
        target = target_text(str(self.folder), spec, values)
        notes = [f"name: {r}" for r in remarks(spec.name, values)]
        notes += [f"subfolder: {r}" for part in folder_parts(spec.subfolder) for r in remarks(part, values)]
        if self.taken.there(target):
            notes.append(
                {
                    "number": "name taken: gets a number",
                    "skip": "name taken: left out",
                    "replace": "replaces the file that is there",
                }[spec.exists]
            )
        if self.taken.planned(target):
            notes.append("same name as another row: gets a number")
        target = self.taken.free(target, there=spec.exists == "number")
        self.taken.add([target])
        if len(target.encode()) > LONGEST_PATH:
            notes.append(f"the path is longer than {LONGEST_PATH} bytes: choose shorter folders")
        return target, notes


def _about(frame: Frame, layers: Layers) -> list[str]:
    """What is to be known of a frame, whatever is written of it."""
    notes = []
    if frame.verdict == "drop":
        notes.append("marked drop")
    if frame.error:
        notes.append(frame.error)
    elif not Path(frame.path).exists():
        notes.append("the original is not there. Is the drive connected?")
    if not (layers.own or layers.preset or layers.lead or layers.offsets):
        notes.append("not yet developed")
    return notes


def _of_spec(spec: OutputSpec, kept: tuple[int, int], layout: Layout, rights: bool) -> list[str]:
    notes = []
    if layout.drawn[0] > kept[0] or layout.drawn[1] > kept[1]:
        notes.append("enlarges")
    if spec.metadata != "none" and not rights:
        notes.append("no rights set")
    return notes


def plan(
    session: Session,
    shoot_id: int,
    frames: Sequence[Frame],
    specs: Sequence[OutputSpec],
    folder: Path,
    text: str = "",
    start: int = 1,
) -> list[dict[str, Any]]:
    """What a delivery would write, row by row (see `DeliveryPlan.rows`); two files never get the same name."""
    return DeliveryPlan(session, shoot_id, folder, text, start).rows(frames, specs)


# --- about how many bytes ---------------------------------------------------------------


def estimate(spec: OutputSpec, size: tuple[int, int], preview: float | None, known: float | None) -> int:
    """About how many bytes a file will have.

    Args:
        preview: bytes a px of the frame's preview, which tell how much there is in it; None where there is none.
        known: bytes a px, over those of the preview, of files that were written by this spec before.
    """
    w, h = size
    busy = preview or PREVIEW_BYTES
    stored = spec.format in ("tiff8", "tiff16") and spec.compression == "none"
    if spec.cut == "outline":
        return int(OUTLINE_BYTES * max(w, h))
    if spec.cut == "mask":
        return int(w * h * (spec.bits // 8 if stored else MASK_BYTES[spec.format])) + 3000
    alpha = 0.0 if spec.cut != "alpha" else w * h * (spec.bits // 8 if stored else ALPHA_BYTES[spec.format])
    if spec.format in ("tiff8", "tiff16", "dng"):
        whole = w * h * 3 * (1 if spec.format == "tiff8" else 2)
        return int(whole * (1 if spec.compression == "none" or spec.format == "dng" else 0.7) + alpha) + 4000
    if spec.format in PLAIN_BYTES:
        found = PLAIN_BYTES[spec.format] * w * h + alpha
    elif known is not None:
        found = known * busy * w * h
    else:
        # Larger pictures have less in each px.
        rate = BYTES[spec.family] * busy * quality_share(spec.quality) * (2048 / max(w, h)) ** 0.28
        found = rate * w * h + alpha
    found += 0 if spec.metadata == "none" else 3000
    return int(min(found, spec.most_kb * 1000) if spec.most_kb else found)


def quality_share(quality: int) -> float:
    """Bytes at a quality over those at 92: straight lines of logarithms between measured ones."""
    for (a, low), (b, high) in pairwise(SHARES):
        if quality <= b:
            share = (quality - a) / (b - a)
            return float(low * (high / low) ** share)
    return SHARES[-1][1]


def written_before(session: Session, shoot_id: int, specs: Sequence[OutputSpec]) -> list[list[tuple[int, float]]]:
    """For each spec the files that were written by it, all else alike: frame and bytes a px; the newest 200."""
    keys = [_look(s) for s in specs]
    found: list[list[tuple[int, float]]] = [[] for _ in specs]
    deliveries = session.scalars(select(Delivery).where(Delivery.shoot_id == shoot_id).order_by(Delivery.id.desc()))
    for delivery in list(deliveries)[:20]:
        for index, values in enumerate(delivery.specs):
            wanted = [n for n, k in enumerate(keys) if k == _look(OutputSpec(**values))]
            if not wanted or len(found[wanted[0]]) >= 200:
                continue
            query = select(DeliveryItem.frame_id, DeliveryItem.bytes, DeliveryItem.width, DeliveryItem.height).where(
                DeliveryItem.delivery_id == delivery.id, DeliveryItem.spec == index, DeliveryItem.state == "done"
            )
            rows = [(f, b / (w * h)) for f, b, w, h in session.execute(query.limit(200)) if w and h]
            for n in wanted:
                found[n] += rows
    return found


def _look(spec: OutputSpec) -> tuple[Any, ...]:
    """What the number of bytes depends on."""
    return (
        spec.size,
        spec.enlarge,
        spec.format,
        spec.quality,
        spec.most_kb,
        spec.chroma,
        spec.compression,
        spec.sharpen,
        spec.cut,
        spec.cut_area if spec.cut != "none" else "",
    )


@lru_cache(maxsize=20_000)
def clipped_share(preview: Path) -> float:
    """Share of a preview's px that are white without detail in some colour. Its name changes with what it shows."""
    import numpy as np
    from PIL import Image

    with Image.open(preview) as image:
        pixels = np.asarray(image.convert("RGB"))
    return float((pixels >= 254).any(axis=2).mean())
