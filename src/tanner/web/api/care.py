"""The catalogue's care: when it was backed up, how large it is, where its room goes, and what is set for that."""

from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict, Field

from tanner.core.errors import TannerError
from tanner.core.limits import change
from tanner.web.api.common import WithServices

router = APIRouter(prefix="/api/care", tags=["care"])


class Wanted(BaseModel):
    """What is to be set; the rest stays. The meaning and the limits are those of `core.limits`."""

    model_config = ConfigDict(extra="forbid")
    backup_hours: float | None = Field(default=None, ge=0, le=8760)
    backups_kept: int | None = Field(default=None, ge=1, le=1000)
    previews_gigabytes: float | None = Field(default=None, ge=0.05, le=100_000)
    blocks_gigabytes: float | None = Field(default=None, ge=0.05, le=100_000)
    quiet_gigabytes: float | None = Field(default=None, ge=0.05, le=100_000)


@router.get("")
def told(services: WithServices) -> dict[str, Any]:
    """The catalogue, its backups, and what lies beside it."""
    return services.care.told()


@router.post("")
def wanted(body: Wanted, services: WithServices) -> dict[str, Any]:
    """Set how often backups are made, how many are kept, and what room is used; kept in settings.toml."""
    change(services.catalogue.folder, body.model_dump(exclude_none=True))
    services.take_budgets()
    return services.care.told()


@router.post("/backup")
def back_up(services: WithServices) -> dict[str, Any]:
    """Back the catalogue up now; the copy is checked."""
    if services.care.back_up(every_s=0) is None:
        raise TannerError(services.care.trouble or "There is nothing to back up yet.")
    return services.care.told()
