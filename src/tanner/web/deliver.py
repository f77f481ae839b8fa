"""The Deliver page's data: specs, the table before anything is written, the job, its record."""

from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict, Field
from sqlalchemy import select

from tanner.catalogue.models import Delivery
from tanner.core.errors import TannerError
from tanner.core.output.spec import OutputSpec
from tanner.jobs.deliveries import plan, record_of
from tanner.web.common import Desk, frames_of

router = APIRouter(prefix="/api")


class Wish(BaseModel):
    """Frames through specs into a folder."""

    model_config = ConfigDict(extra="forbid")
    frames: list[int] = Field(min_length=1, max_length=20_000)
    specs: list[OutputSpec] = Field(min_length=1, max_length=20)
    folder: str


@router.post("/shoots/{shoot_id}/plan")
def planned(shoot_id: int, body: Wish, desk: Desk) -> dict[str, Any]:
    """What would be written, without writing it."""
    folder = desk.folders.allow(body.folder)
    with desk.catalogue.read() as session:
        rows = plan(session, shoot_id, frames_of(session, body.frames), body.specs, folder)
    for row in rows:
        row.pop("settings")
    return {"rows": rows, "folder": str(folder)}


@router.post("/shoots/{shoot_id}/deliver")
def deliver(shoot_id: int, body: Wish, desk: Desk) -> dict[str, Any]:
    folder = desk.folders.allow(body.folder)
    return {"delivery": desk.deliveries.create(shoot_id, body.frames, body.specs, folder)}


@router.get("/shoots/{shoot_id}/deliveries")
def deliveries(shoot_id: int, desk: Desk) -> dict[str, Any]:
    with desk.catalogue.read() as session:
        query = select(Delivery).where(Delivery.shoot_id == shoot_id).order_by(Delivery.id.desc())
        found = [record_of(session, d) for d in session.scalars(query)]
    return {"deliveries": [{k: v for k, v in r.items() if k != "items"} for r in found]}


@router.get("/deliveries/{delivery_id}")
def record(delivery_id: int, desk: Desk) -> dict[str, Any]:
    with desk.catalogue.read() as session:
        delivery = session.get(Delivery, delivery_id)
        if delivery is None:
            raise TannerError("This delivery is no longer there.")
        return record_of(session, delivery)


@router.post("/deliveries/{delivery_id}/stop")
def stop(delivery_id: int, desk: Desk) -> dict[str, Any]:
    desk.deliveries.stop(delivery_id)
    return {"stopped": True}


@router.post("/deliveries/{delivery_id}/resume")
def resume(delivery_id: int, desk: Desk) -> dict[str, Any]:
    desk.deliveries.enqueue(delivery_id)
    return {"resumed": True}
