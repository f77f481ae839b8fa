"""How long a delivery takes: the work of its frames, and seconds for so much of it from what was written here before."""

import statistics
from collections import defaultdict
from collections.abc import Iterable
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from tanner.catalogue.models import DeliveryItem, Frame

Size = tuple[int, int]
DECODED = 0.6
"""Work of decoding and demosaicing a megapixel, over that of developing one: 24 MP took 1.43 s of CPU at full size, and 0.66 s at 2048 px."""
CLEANED = {"quick": 0.7, "fine": 5.0, "learned": 30.0}
"""Work of a method against noise, for each megapixel of the file: 24 MP took 0.6, 4.2 and 27 s of CPU on the same machine."""
LEAST = 6
"""Frames that must have been written here before a time is told: the first ones wait for the program itself."""
METHOD = "noise.method"
OF_WORK = (
    DeliveryItem.width,
    DeliveryItem.height,
    Frame.width,
    Frame.height,
    func.json_extract(DeliveryItem.settings, f'$."{METHOD}"'),
)
"""What `work_of` wants of an item and its frame in a query: the method without reading all of its settings."""


def work_of(source: Size, written: Iterable[Size], method: str | None) -> float:
    """Megapixels of work of one frame: it is decoded and its noise taken out once, and developed for each of its files."""
    decoded, developed = source[0] * source[1], sum(w * h for w, h in written)
    return ((DECODED + CLEANED.get(method or "none", 0.0)) * decoded + developed) / 1e6


def seconds_each(session: Session) -> float | None:
    """Seconds of a process for one megapixel of work, from the last files written here; None before there are enough.

    The median of frames: those that had to wait, for what is found in them or for the program to be loaded, say
    little of the others.
    """
    query = (
        select(DeliveryItem.delivery_id, DeliveryItem.frame_id, DeliveryItem.seconds, *OF_WORK)
        .join(Frame, Frame.id == DeliveryItem.frame_id)
        .where(DeliveryItem.state == "done", DeliveryItem.seconds > 0)
    )
    frames: dict[tuple[int, int], list[Any]] = defaultdict(list)
    for delivery, frame, *row in session.execute(query.order_by(DeliveryItem.id.desc()).limit(200)):
        frames[delivery, frame].append(row)
    if len(frames) < LEAST:
        return None
    rates = []
    for rows in frames.values():
        source, method = (rows[0][3], rows[0][4]), rows[0][5]
        rates.append(sum(r[0] for r in rows) / work_of(source, [(r[1], r[2]) for r in rows], method))
    return float(statistics.median(rates))
