"""The Deliver page's data: which frames, the table before anything is written, a proof, the job, its record and checks."""

import io
from pathlib import Path
from typing import Annotated, Any

from fastapi import APIRouter, Query
from fastapi.responses import JSONResponse, Response
from pydantic import BaseModel, ConfigDict, Field
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from tanner.catalogue.captions import written_captions
from tanner.catalogue.models import Delivery, DeliveryItem, Frame
from tanner.catalogue.resolver import Resolver
from tanner.catalogue.search.find import condition, ordered, take
from tanner.catalogue.store import as_json
from tanner.core.errors import TannerError
from tanner.core.output.spec import OutputSpec
from tanner.core.series.lineup import line_up
from tanner.jobs.delivery.documents import Documents, checksums_of, table_of
from tanner.jobs.delivery.pace import METHOD, seconds_each, work_of
from tanner.jobs.delivery.planning import (
    CLIPPED,
    DeliveryPlan,
    clipped_share,
    estimate,
    tokens_of,
    written_before,
)
from tanner.jobs.delivery.record import record_of
from tanner.jobs.delivery.tasks import encoded
from tanner.web.api.common import WithServices, check_there, frame_of, frames_of
from tanner.web.serving.services import MadeProof, Services

router = APIRouter(prefix="/api", tags=["deliveries"])
SHOWN = {"jpeg": "image/jpeg", "png": "image/png", "png16": "image/png", "webp": "image/webp", "avif": "image/avif",
         "avif10": "image/avif", "avif12": "image/avif", "svg": "image/svg+xml"}  # fmt: skip
"""Formats that a browser shows as they are."""


class DeliveryWish(BaseModel):
    """Frames through specs into a folder.

    Attributes:
        filter: an expression (see `tanner.catalogue.search`) that chooses from the frames, or from the whole shoot.
        text, start: for the names' tokens.
        documents: what is written beside the files.
    """

    model_config = ConfigDict(extra="forbid")
    frames: list[int] | None = Field(default=None, max_length=20_000)
    filter: str = Field(default="", max_length=1000)
    specs: list[OutputSpec] = Field(min_length=1, max_length=20)
    folder: str
    text: str = Field(default="", max_length=100)
    start: int = Field(default=1, ge=0, le=999_999)
    documents: Documents = Documents()


class Choice(BaseModel):
    """Frames by an expression."""

    model_config = ConfigDict(extra="forbid")
    filter: str = Field(default="", max_length=1000)


class FramesAsked(BaseModel):
    """Frames of a shoot."""

    model_config = ConfigDict(extra="forbid")
    frames: list[int] = Field(min_length=1, max_length=20_000)


class Proof(BaseModel):
    """One frame through one spec, not written."""

    model_config = ConfigDict(extra="forbid")
    frame: int
    spec: OutputSpec
    text: str = Field(default="", max_length=100)
    number: int = Field(default=1, ge=0, le=999_999)


def chosen(session: Session, shoot_id: int, frames: list[int] | None, text: str) -> list[Frame]:
    """The frames that are named, or all of the shoot in order of time, as far as a filter takes them."""
    if frames is not None:
        check_there(session, frames)
    return take(session, shoot_id, text, frames, light=True)


@router.post("/shoots/{shoot_id}/choose")
def choose(shoot_id: int, body: Choice, services: WithServices) -> dict[str, Any]:
    """Frames that an expression takes, in order of time."""
    with services.catalogue.read() as session:
        return {"frames": list(session.scalars(ordered(condition(body.filter, shoot=shoot_id))))}


@router.post("/shoots/{shoot_id}/plan", response_model=None)
def planned(shoot_id: int, body: DeliveryWish, services: WithServices) -> Response:
    """What would be written, without writing it: sizes, names, notes, about how many bytes and seconds."""
    folder = services.folders.allow(body.folder)
    with services.catalogue.read() as session:
        frames = chosen(session, shoot_id, body.frames, body.filter)
        rows = DeliveryPlan(session, shoot_id, folder, body.text, body.start).rows(frames, body.specs)
        each = seconds_each(session)
        before = written_before(session, shoot_id, body.specs)
        busy = {f.id: _busy(services, f) for f in frames}
        ratios = [_ratio(rate, busy, services, session) for rate in before]
        sizes = {f.id: (f.width, f.height) for f in frames}
    written: dict[int, tuple[list[tuple[int, int]], str | None]] = {}
    for row in rows:
        method = row.pop("settings").get(METHOD)
        size = row["width"], row["height"]
        row["bytes"] = estimate(body.specs[row["spec"]], size, busy[row["frame"]], ratios[row["spec"]])
        written.setdefault(row["frame"], ([], method))[0].append(size)
    left = None
    if each is not None:
        work = sum(work_of(sizes[frame], *of_frame) for frame, of_frame in written.items())
        left = round(each * work / services.delivery_workers.processes, 1)
    total = sum(r["bytes"] for r in rows)
    said = as_json({"rows": rows, "folder": str(folder), "bytes": total, "seconds": left})
    return Response(said, media_type="application/json")


def _busy(services: Services, frame: Frame) -> float | None:
    """Bytes a px of a frame's preview: how much there is in it."""
    path = services.pictures.best(frame.id)
    if path is None or path.name.endswith("-embedded.jpg"):
        return None
    long, short = max(frame.width, frame.height), min(frame.width, frame.height)
    return float(path.stat().st_size / (512 * max(1, round(512 * short / long))))


def _ratio(
    written: list[tuple[int, float]], busy: dict[int, float | None], services: Services, session: Session
) -> float | None:
    """Bytes a px of written files over those of their frames' previews."""
    pairs = []
    for frame_id, rate in written[:50]:
        known = busy.get(frame_id)
        frame = session.get(Frame, frame_id) if known is None else None
        known = _busy(services, frame) if frame else known
        if known:
            pairs.append(rate / known)
    return sorted(pairs)[len(pairs) // 2] if pairs else None


@router.post("/shoots/{shoot_id}/checks", response_model=None)
def checks(shoot_id: int, body: FramesAsked, services: WithServices) -> Response:
    """What pictures tell of frames: outside the tolerance of the Line-up, clipped. Ask again while some are pending."""
    notes: dict[int, list[str]] = {}
    pending = 0
    with services.catalogue.read() as session:
        frames = frames_of(session, body.frames)
        resolver = Resolver(session, shoot_id)
        groups: dict[int, list[Frame]] = {}
        for frame in frames:
            groups.setdefault(frame.set_id or 0, []).append(frame)
            path = services.pictures.best(frame.id)
            share = clipped_share(path) if path else 0.0
            if share > CLIPPED:
                notes.setdefault(frame.id, []).append(f"clipped: {100 * share:.0f} % without detail")
        for set_id, members in groups.items():
            group = resolver.sets.get(set_id)
            lead = resolver.leads.get(group.lead_id or 0) if group else None
            if group is None or lead is None:
                continue
            readings, waiting = services.lineups.readings(resolver, [f for f in members if not f.error], lead, None)
            pending += waiting
            for row in line_up(readings, lead.id)["frames"]:
                if row["outside"] and not row["accepted"]:
                    notes.setdefault(row["frame"], []).append(f"outside the Line-up: {row['words']}")
    return JSONResponse({"notes": notes, "pending": pending})


@router.post("/shoots/{shoot_id}/proof")
def proof(shoot_id: int, body: Proof, services: WithServices) -> dict[str, Any]:
    """Make one file without writing it: its size in px and bytes, and a number to look at it by."""
    with services.catalogue.read() as session:
        frame = frame_of(session, body.frame)
        resolver = Resolver(session, shoot_id)
        group = resolver.sets.get(frame.set_id or 0)
        tokens = tokens_of(frame, body.number, resolver.shoot.name, group.name if group else "", body.text)
        captions = written_captions(session, resolver.shoot, frame)
        arguments = frame.path, resolver.resolve(frame).values, body.spec.model_dump(), captions
    data, size = services.delivery_workers.submit(encoded, *arguments, tokens).result()
    proof = services.proofs.add(
        lambda number: MadeProof(
            number, data, body.spec.suffix.removeprefix(".") if body.spec.cut == "outline" else body.spec.format
        )
    )
    shown = body.spec.format != "dng"
    return {"proof": proof.number, "bytes": len(data), "width": size[0], "height": size[1], "shown": shown}


@router.get("/proofs/{number}")
def proof_picture(number: int, services: WithServices) -> Response:
    """A proof as it would be written; formats that browsers do not show as a PNG of the same pixels."""
    found = services.proofs.get(number)
    if found is None:
        raise TannerError("This proof is no longer there. Ask for it again.")
    if found.kind in SHOWN:
        return Response(found.data, media_type=SHOWN[found.kind])
    return Response(_png(found.data), media_type="image/png")


def _png(data: bytes) -> bytes:
    import numpy as np
    import pillow_jxl  # noqa: F401
    import tifffile
    from PIL import Image

    out = io.BytesIO()
    if data[:2] in (b"II", b"MM"):
        with tifffile.TiffFile(io.BytesIO(data)) as tiff:
            pixels, profile = tiff.pages[0].asarray(), tiff.pages[0].tags.get(34675)
        pixels = (pixels >> 8).astype(np.uint8) if pixels.dtype == np.uint16 else pixels
        icc = bytes(profile.value) if profile else None
        Image.fromarray(pixels).save(out, "PNG", icc_profile=icc, compress_level=1)
    else:
        with Image.open(io.BytesIO(data)) as image:
            image.convert("RGB").save(out, "PNG", icc_profile=image.info.get("icc_profile"), compress_level=1)
    return out.getvalue()


@router.post("/shoots/{shoot_id}/deliver")
def deliver(shoot_id: int, body: DeliveryWish, services: WithServices) -> dict[str, Any]:
    """Start a delivery; its number."""
    folder = services.folders.allow(body.folder)
    with services.catalogue.read() as session:
        ids = [f.id for f in chosen(session, shoot_id, body.frames, body.filter)]
    number = services.deliveries.create(
        shoot_id, ids, body.specs, folder, text=body.text, start=body.start, documents=body.documents
    )
    return {"delivery": number}


@router.get("/shoots/{shoot_id}/deliveries")
def deliveries(shoot_id: int, services: WithServices) -> dict[str, Any]:
    """Deliveries of a shoot, the newest first, with counts."""
    with services.catalogue.read() as session:
        query = (
            select(Delivery, func.count(DeliveryItem.id))
            .outerjoin(DeliveryItem, DeliveryItem.delivery_id == Delivery.id)
            .where(Delivery.shoot_id == shoot_id)
            .group_by(Delivery.id)
            .order_by(Delivery.id.desc())
        )
        return {
            "deliveries": [
                {"delivery": d.id, "created": d.created.isoformat(), "folder": d.folder, "state": d.state, "total": n}
                for d, n in session.execute(query)
            ]
        }


def delivery_of(session: Session, delivery_id: int) -> Delivery:
    delivery = session.get(Delivery, delivery_id)
    if delivery is None:
        raise TannerError("This delivery is no longer there.")
    return delivery


@router.get("/deliveries/{delivery_id}", response_model=None)
def record(delivery_id: int, services: WithServices) -> Response:
    """The whole record of a delivery."""
    with services.catalogue.read() as session:
        return JSONResponse(record_of(session, delivery_of(session, delivery_id)))


@router.get("/deliveries/{delivery_id}/list.{kind}")
def listed(delivery_id: int, kind: str, services: WithServices) -> Response:
    """The record as CSV, or its checksums (sha256)."""
    with services.catalogue.read() as session:
        found = record_of(session, delivery_of(session, delivery_id))
    makers = {"csv": (table_of, "text/csv"), "sha256": (checksums_of, "text/plain")}
    if kind not in makers:
        raise TannerError("A list is csv or sha256.")
    make, media = makers[kind]
    headers = {"content-disposition": f'attachment; filename="delivery-{delivery_id}.{kind}"'}
    return Response(make(found), media_type=media, headers=headers)


@router.get("/deliveries/{delivery_id}/progress", response_model=None)
def progress(delivery_id: int, services: WithServices, since: Annotated[int, Query(ge=-1)] = -1) -> Response:
    """Counts by state, time left, and what changed after a counter."""
    with services.catalogue.read() as session:
        return JSONResponse(services.deliveries.progress.report(session, delivery_id, since))


@router.post("/deliveries/{delivery_id}/pause")
def pause(delivery_id: int, services: WithServices) -> dict[str, Any]:
    """Let a delivery rest after the files that are under way."""
    services.deliveries.pause(delivery_id)
    return {"paused": True}


@router.post("/deliveries/{delivery_id}/cancel")
def cancel(delivery_id: int, services: WithServices) -> dict[str, Any]:
    """End a delivery; what is written stays."""
    services.deliveries.cancel(delivery_id)
    return {"cancelled": True}


@router.post("/deliveries/{delivery_id}/resume")
def resume(delivery_id: int, services: WithServices) -> dict[str, Any]:
    """Go on; failed files are tried again."""
    services.deliveries.enqueue(delivery_id)
    return {"resumed": True}


@router.post("/deliveries/{delivery_id}/check")
def check(delivery_id: int, services: WithServices) -> dict[str, Any]:
    """Compare every written file with its checksum, in the background."""
    services.deliveries.checks.start(delivery_id)
    return {"checking": True}


@router.get("/deliveries/{delivery_id}/check")
def checked(delivery_id: int, services: WithServices) -> dict[str, Any]:
    """How far the check of a delivery's files is, and which are missing or changed."""
    found = services.deliveries.checks.state(delivery_id)
    if found is None:
        raise TannerError("This delivery was not checked yet.")
    return found


@router.get("/deliveries/{delivery_id}/items/{item_id}/picture")
def written_picture(delivery_id: int, item_id: int, services: WithServices) -> Response:
    """A written file, small; where it cannot be shown, its frame's picture."""
    with services.catalogue.read() as session:
        item = session.get(DeliveryItem, item_id)
        if item is None or item.delivery_id != delivery_id:
            raise TannerError("This file is no longer there.")
        delivery = session.get_one(Delivery, delivery_id)
        kind, path, frame_id = delivery.specs[item.spec]["format"], Path(item.target), item.frame_id
    small = _small(path) if kind in SHOWN and item.state == "done" else None
    if small is None:
        small = services.pictures.read(services.pictures.best(frame_id))
    if small is None:
        return Response(status_code=404)
    return Response(small, media_type="image/jpeg")


def _small(path: Path) -> bytes | None:
    from PIL import Image

    try:
        with Image.open(path) as image:
            image.draft("RGB", (400, 400))
            small = image.convert("RGB")
            small.thumbnail((400, 400))
            out = io.BytesIO()
            small.save(out, "JPEG", quality=82, icc_profile=image.info.get("icc_profile"))
            return out.getvalue()
    except OSError:
        return None
