"""The record of a delivery: every file with its size, checksum, time and message, as plain data."""

from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session, defer

from tanner.catalogue.models import WITH_GONE, Delivery, DeliveryItem, Frame


def item_rows(delivery_id: int) -> Any:
    return (
        select(DeliveryItem, Frame.name)
        .join(Frame, Frame.id == DeliveryItem.frame_id)
        .where(DeliveryItem.delivery_id == delivery_id)
        .order_by(DeliveryItem.id)
        .options(defer(DeliveryItem.settings))
        .execution_options(**WITH_GONE)
    )


def item_row(item: DeliveryItem, name: str) -> dict[str, Any]:
    """One file of a delivery, as pages and records show it."""
    return {
        "id": item.id,
        "frame": item.frame_id,
        "original": name,
        "spec": item.spec,
        "number": item.number,
        "path": item.target,
        "state": item.state,
        "width": item.width,
        "height": item.height,
        "bytes": item.bytes,
        "sha256": item.content,
        "seconds": item.seconds,
        "message": item.message,
    }


def record_of(session: Session, delivery: Delivery) -> dict[str, Any]:
    """The record of a delivery: what was written where, from what, with checksums."""
    items = []
    query = item_rows(delivery.id).add_columns(Frame.path, Frame.content, Frame.facts)
    for item, name, path, content, facts in session.execute(query):
        row = item_row(item, name)
        row["original_path"], row["original_sha256"] = path, content
        row["original_bytes"] = facts.get("file_bytes", 0)
        items.append(row)
    return {
        "delivery": delivery.id,
        "created": delivery.created.isoformat(),
        "folder": delivery.folder,
        "state": delivery.state,
        "specs": delivery.specs,
        "documents": delivery.options.get("written", []),
        "total": len(items),
        "done": sum(i["state"] in ("done", "skipped", "failed", "cancelled") for i in items),
        "items": items,
    }
