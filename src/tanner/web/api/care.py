"""The catalogue's care: when it was backed up, how large it is, where its room goes, and what is set for that."""

from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict

from tanner.core.errors import TannerError
from tanner.core.limits import change
from tanner.web.api.common import WithServices

router = APIRouter(prefix="/api/care", tags=["care"])


class BudgetsWish(BaseModel):
    """What is to be set; the rest stays. What each means and may be, `core.limits` says."""

    model_config = ConfigDict(extra="forbid")
    backup_hours: float | None = None
    backups_kept: int | None = None
    previews_gigabytes: float | None = None
    blocks_gigabytes: float | None = None
    quiet_gigabytes: float | None = None


@router.get("")
def report(services: WithServices) -> dict[str, Any]:
    """The catalogue, its backups, and what lies beside it."""
    return services.care.report()


@router.post("")
def wanted(body: BudgetsWish, services: WithServices) -> dict[str, Any]:
    """Set how often backups are made, how many are kept, and what room is used; kept in settings.toml."""
    change(services.catalogue.folder, body.model_dump(exclude_none=True))
    services.take_budgets()
    return services.care.report()


@router.post("/backup")
def back_up(services: WithServices) -> dict[str, Any]:
    """Back the catalogue up now; the copy is checked."""
    if services.care.back_up(every_s=0) is None:
        raise TannerError(services.care.trouble or "There is nothing to back up yet.")
    return services.care.report()
