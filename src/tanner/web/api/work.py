"""All long work in one place: what runs, how far it is, how long it will take, what failed and why."""

from typing import Any

from fastapi import APIRouter
from sqlalchemy import func, select

from tanner.catalogue.models import Delivery, DeliveryItem, Shoot
from tanner.core.errors import TannerError
from tanner.web.api.common import WithServices
from tanner.web.serving.services import Services

router = APIRouter(prefix="/api", tags=["work"])

DENOISING = {"copies": "Copies without noise", "ahead": "Noise worked out ahead", "view": "Noise for the Bench"}
LATEST = 6  # deliveries that are looked at: the newest


def _row(kind: str, number: int, title: str, **more: Any) -> dict[str, Any]:
    """One piece of work; cancel, pause, resume: paths to post to, where that can be done."""
    usual: dict[str, Any] = {
        "done": 0,
        "count": 0,
        "left_s": None,
        "over": False,
        "text": "",
        "failed": [],
        "open": None,
    }
    return {"kind": kind, "id": number, "title": title, **usual, **more}


def _imports(services: Services, names: dict[int, str]) -> list[dict[str, Any]]:
    rows = []
    for number, job in list(services.importer.jobs.items())[-LATEST:]:
        failed = [f"{i.path.name}: {i.message}" for i in job.items if i.state == "failed"]
        over = job.stage == "done"
        rows.append(
            _row(
                "import",
                number,
                f"Import into {names.get(job.shoot_id, 'a shoot')}",
                done=job.done,
                count=len(job.items),
                over=over,
                text="cancelled" if job.cancelled.is_set() else "",
                failed=failed,
                cancel=None if over else f"/api/imports/{number}/cancel",
                open=f"/shoots/{job.shoot_id}/import",
            )
        )
    return rows


def _matches(services: Services) -> list[dict[str, Any]]:
    rows = []
    for job in services.matching.jobs.all():
        state = job.as_dict()
        failed = [f"{r['name']}: {r['error']}" for r in state["rows"] if r.get("error")]
        rows.append(
            _row(
                "match",
                job.number,
                f"Match to {state['reference']}",
                done=state["done"],
                count=state["count"],
                left_s=state["left_s"],
                over=job.over,
                text=state["message"],
                failed=failed,
                cancel=None if job.over else f"/api/match/{job.number}/cancel",
            )
        )
    return rows


def _searches(services: Services, names: dict[int, str]) -> list[dict[str, Any]]:
    rows = []
    for job in services.following.jobs.all():
        state = job.as_dict()
        rows.append(
            _row(
                "areas",
                job.number,
                f"Find areas in {names.get(job.shoot, 'a shoot')}",
                done=state["done"],
                count=state["count"],
                left_s=state["left_s"],
                over=job.over,
                text=state["message"],
                failed=[f"{r['name']}: {r['error']}" for r in state["rows"] if r.get("error")],
                cancel=None if job.over else f"/api/areas/finds/{job.number}/cancel",
            )
        )
    return rows


def _questions(services: Services, names: dict[int, str]) -> list[dict[str, Any]]:
    rows = []
    for job in services.retouch.jobs.all():
        rows.append(
            _row(
                "question",
                job.number,
                f"{job.title}, in {names.get(job.shoot, 'a shoot')}",
                done=job.done,
                count=job.count,
                over=job.over,
                text="Cancelled." if job.cancelled and job.over else "",
                failed=[job.error] if job.error else [],
                cancel=None if job.over else f"/api/questions/{job.number}/cancel",
            )
        )
    return rows


def _merges(services: Services) -> list[dict[str, Any]]:
    rows = []
    for job in services.merges.jobs.all():
        state = job.as_dict()
        over = state["state"] != "working"
        failed = [state["text"]] if state["state"] == "failed" else []
        rows.append(
            _row(
                "merge",
                job.number,
                "Join frames",
                done=round(100 * state["share"]),
                count=100,
                over=over,
                text=state["text"],
                failed=failed,
                cancel=None if over else f"/api/merges/{job.number}/cancel",
            )
        )
    return rows


def _denoising(services: Services) -> list[dict[str, Any]]:
    rows = []
    for job in services.denoising.jobs.all():
        state = job.as_dict()
        rows.append(
            _row(
                "noise",
                job.number,
                DENOISING.get(state["kind"], "Noise"),
                done=round(100 * state["share"]),
                count=100,
                left_s=state["left_s"],
                over=state["over"],
                text=state["current"] or "",
                failed=[f"{f['name']}: {f['message']}" for f in state["failed"]],
                cancel=None if state["over"] else f"/api/quiet/{job.number}/cancel",
            )
        )
    return rows


def _checks(services: Services, names: dict[int, str]) -> list[dict[str, Any]]:
    rows = []
    for job in services.checks.jobs.all():
        state = job.as_dict()
        rows.append(
            _row(
                "check",
                job.number,
                f"Check originals of {names.get(job.shoot, 'a shoot')}",
                done=state["done"],
                count=state["count"],
                left_s=state["left_s"],
                over=job.over,
                text=state["message"],
                failed=[f"{t['name']} {t['trouble']}" for t in state["troubles"]],
                cancel=None if job.over else f"/api/checks/{job.number}/cancel",
            )
        )
    return rows


def _making(services: Services) -> list[dict[str, Any]]:
    job = services.making
    if job is None or (job.plan is None and not job.failed):
        return []
    return [
        _row(
            "making",
            1,
            f"Frames of {job.plan.shoot}" if job.plan else "Frames of the demo",
            done=job.done,
            count=len(job.plan.steps) if job.plan else 0,
            over=job.over,
            failed=list(job.failed),
            cancel=None if job.over else "/api/making/cancel",
        )
    ]


@router.post("/making/cancel")
def cancel_making(services: WithServices) -> dict[str, bool]:
    """Stop making the frames of a shoot; the next start goes on with it."""
    if services.making is None:
        raise TannerError("No shoot is being made.")
    services.making.cancel()
    return {"cancelled": True}


@router.get("/work")
def work(services: WithServices) -> dict[str, Any]:
    """All that runs, and what ended lately, the newest first within its kind."""
    with services.catalogue.read() as session:
        names: dict[int, str] = dict(session.execute(select(Shoot.id, Shoot.name)).all())  # type: ignore[arg-type]
        deliveries = list(session.scalars(select(Delivery).order_by(Delivery.id.desc()).limit(LATEST)))
        counting = select(DeliveryItem.delivery_id, DeliveryItem.state, func.count(), func.min(DeliveryItem.message))
        chosen = counting.where(DeliveryItem.delivery_id.in_([d.id for d in deliveries]))
        counts = list(session.execute(chosen.group_by(DeliveryItem.delivery_id, DeliveryItem.state)))
        rows = []
        for d in deliveries:
            states = {state: (n, message) for number, state, n, message in counts if number == d.id}
            count = sum(n for n, _ in states.values())
            waiting = sum(states.get(s, (0, ""))[0] for s in ("waiting", "running"))
            failed, why = states.get("failed", (0, ""))
            path = f"/api/deliveries/{d.id}"
            rows.append(
                _row(
                    "delivery",
                    d.id,
                    f"Delivery from {names.get(d.shoot_id, 'a shoot')}",
                    done=count - waiting,
                    count=count,
                    left_s=services.deliveries.progress.seconds_left(d.id) if d.state == "running" else None,
                    over=d.state in ("done", "cancelled"),
                    text="" if d.state == "running" else d.state,
                    failed=[f"{failed} not written: {why}"] if failed else [],
                    open=f"/shoots/{d.shoot_id}/deliver",
                    cancel=f"{path}/cancel" if d.state in ("running", "paused") else None,
                    pause=f"{path}/pause" if d.state == "running" else None,
                    resume=f"{path}/resume" if d.state == "paused" else None,
                )
            )
    rows += _imports(services, names) + _matches(services) + _merges(services)
    rows += _making(services) + _denoising(services) + _checks(services, names) + _searches(services, names)
    rows += _questions(services, names)
    return {"work": sorted(rows, key=lambda row: row["over"])}
