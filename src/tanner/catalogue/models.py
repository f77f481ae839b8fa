"""The tables of the catalogue. Paths and facts of frames; development as small JSON; history as patches."""

from datetime import UTC, datetime
from typing import Any

from sqlalchemy import JSON, ForeignKey, Index, MetaData, UniqueConstraint
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column

WITH_GONE = {"with_gone": True}
"""Execution options of queries that want frames which were taken out of their shoot, too; see `store`."""
LABELS = ("none", "red", "yellow", "green", "blue", "violet")


def now() -> datetime:
    return datetime.now(UTC)


class Base(DeclarativeBase):
    metadata = MetaData(
        naming_convention={
            "ix": "ix_%(column_0_label)s",
            "uq": "uq_%(table_name)s_%(column_0_name)s",
            "fk": "fk_%(table_name)s_%(column_0_name)s_%(referred_table_name)s",
            "pk": "pk_%(table_name)s",
        }
    )
    type_annotation_map = {dict[str, Any]: JSON, list[Any]: JSON}


class Shoot(Base):
    """One commission or session.

    Attributes:
        preset: {"name", "values", "amount"} of the preset under all its frames, or empty; "match" with a stored reference.
        sidecars: development is written to XMP files beside the originals.
        words: what is said of all its frames, by fields of `core.output.captions` (author and rights stand apart).
        away: put away, so that the list of shoots is short; nothing else changes.
        recipe: how its files came in last, see `jobs.bring_in.recipe`.
    """

    __tablename__ = "shoot"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    created: Mapped[datetime] = mapped_column(default=now)
    creator: Mapped[str] = mapped_column(default="")
    rights: Mapped[str] = mapped_column(default="")
    preset: Mapped[dict[str, Any]] = mapped_column(default=dict)
    sidecars: Mapped[bool] = mapped_column(default=False)
    words: Mapped[dict[str, Any]] = mapped_column(default=dict)
    away: Mapped[bool] = mapped_column(default=False)
    recipe: Mapped[dict[str, Any]] = mapped_column(default=dict)


class FrameSet(Base):
    """Frames taken under one setup; a set without frames is not shown, so that undo can bring it back.

    Attributes:
        under_id: another set whose lead this set's lead follows: the same light, other things.
    """

    __tablename__ = "frame_set"
    id: Mapped[int] = mapped_column(primary_key=True)
    shoot_id: Mapped[int] = mapped_column(ForeignKey("shoot.id"), index=True)
    name: Mapped[str]
    reason: Mapped[str] = mapped_column(default="")
    lead_id: Mapped[int | None] = mapped_column(default=None)
    under_id: Mapped[int | None] = mapped_column(default=None)


CAMERA_NAMES = ("make", "model", "unique_model")
SENSOR = ("kind", "serial", "width", "height", "orientation")


class Frame(Base):
    """One file and its development.

    Attributes:
        own, offsets: the frame's own layer (see core.series.resolve): derived from the history, kept here.
        camera, lens, iso, taken: from the facts, for lists and searches that need not read all of them.
        facts: of the file; starting: layer 1, defaults by rule.
        as_shot: [kelvin, tint].
        accepted: why the Line-up takes the frame as it is, or empty.
        worn: presets that were put on the frame, the first lowest (see core.series.applied_presets).
        seen: what it was recognised as: {"chart": true}, {"bracket": [place, count]}.
        sidecar: short hash of the sidecar as it was written or read last, or empty.
        words: what is said of this frame, over its shoot's words.
        alternate: 0, or which further development of the same file it is.
        gone: taken out of the shoot; kept so that it can come back.
        stamp: size and time of the file when its content was last compared, see `originals`; "": not yet.
        trashed: its files that were put into the system's trash, see `core.output.trash`.
        place: where the frame stands when frames are ordered by hand, in seconds as `taken`; None: where its time puts it.
        measured: what Choosing measured of the picture, see `core.choosing.hints`; empty until then.
    """

    __tablename__ = "frame"
    __table_args__ = (
        UniqueConstraint("shoot_id", "content", "alternate"),
        Index("ix_frame_shoot_set", "shoot_id", "set_id"),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    shoot_id: Mapped[int] = mapped_column(ForeignKey("shoot.id"))
    set_id: Mapped[int | None] = mapped_column(ForeignKey("frame_set.id"), default=None, index=True)
    path: Mapped[str] = mapped_column(index=True)
    name: Mapped[str]
    content: Mapped[str] = mapped_column(index=True)
    taken: Mapped[datetime | None] = mapped_column(default=None)
    camera: Mapped[str] = mapped_column(default="")
    lens: Mapped[str] = mapped_column(default="")
    iso: Mapped[int | None] = mapped_column(default=None)
    facts: Mapped[dict[str, Any]]
    starting: Mapped[dict[str, Any]]
    as_shot: Mapped[list[Any]]
    descriptor: Mapped[list[Any]] = mapped_column(default=list)
    width: Mapped[int]
    height: Mapped[int]
    error: Mapped[str] = mapped_column(default="")
    stars: Mapped[int] = mapped_column(default=0)
    label: Mapped[str] = mapped_column(default="none")
    verdict: Mapped[str] = mapped_column(default="undecided")
    keywords: Mapped[list[Any]] = mapped_column(default=list)
    follows: Mapped[bool] = mapped_column(default=True)
    own: Mapped[dict[str, Any]] = mapped_column(default=dict)
    offsets: Mapped[dict[str, Any]] = mapped_column(default=dict)
    accepted: Mapped[str] = mapped_column(default="")
    worn: Mapped[list[Any]] = mapped_column(default=list)
    seen: Mapped[dict[str, Any]] = mapped_column(default=dict)
    sidecar: Mapped[str] = mapped_column(default="")
    words: Mapped[dict[str, Any]] = mapped_column(default=dict)
    alternate: Mapped[int] = mapped_column(default=0)
    gone: Mapped[bool] = mapped_column(default=False)
    stamp: Mapped[str] = mapped_column(default="")
    measured: Mapped[dict[str, Any]] = mapped_column(default=dict)
    trashed: Mapped[list[Any]] = mapped_column(default=list)
    place: Mapped[float | None] = mapped_column(default=None)

    @property
    def camera_names(self) -> list[str]:
        """Make, model and unique model: what profiles and rules know a camera by."""
        return [str(self.facts.get(k) or "") for k in CAMERA_NAMES]

    @property
    def sensor(self) -> list[str]:
        """Kind of the file, serial number, width, height and orientation: what dust on a sensor is told by."""
        return [str(self.facts.get(k) or "") for k in SENSOR]


class Action(Base):
    """One step of the user: what undo takes back and redo brings again."""

    __tablename__ = "action"
    id: Mapped[int] = mapped_column(primary_key=True)
    shoot_id: Mapped[int] = mapped_column(ForeignKey("shoot.id"), index=True)
    at: Mapped[datetime] = mapped_column(default=now)
    label: Mapped[str]
    state: Mapped[str] = mapped_column(default="done")  # done, undone, or left (redo no longer possible)


class Patch(Base):
    """What one action changed on one frame, set or shoot: only the fields that differ."""

    __tablename__ = "patch"
    id: Mapped[int] = mapped_column(primary_key=True)
    action_id: Mapped[int] = mapped_column(ForeignKey("action.id"), index=True)
    kind: Mapped[str]
    target: Mapped[int] = mapped_column(index=True)
    before: Mapped[dict[str, Any]]
    after: Mapped[dict[str, Any]]


class Delivery(Base):
    """One run of frames through output specs. States: waiting, running, done, paused, cancelled.

    Attributes:
        options: {"text", "start", "documents", "written"}: the names' own text, the first number, the documents that are
            asked for, and those that were written.
    """

    __tablename__ = "delivery"
    id: Mapped[int] = mapped_column(primary_key=True)
    shoot_id: Mapped[int] = mapped_column(ForeignKey("shoot.id"), index=True)
    created: Mapped[datetime] = mapped_column(default=now)
    folder: Mapped[str]
    specs: Mapped[list[Any]]
    state: Mapped[str] = mapped_column(default="waiting")
    options: Mapped[dict[str, Any]] = mapped_column(default=dict)


class DeliveryItem(Base):
    """One file of a delivery. States: waiting, running, done, failed, skipped, cancelled.

    Attributes:
        settings: the resolved development at the time the delivery was asked for.
    """

    __tablename__ = "delivery_item"
    __table_args__ = (
        Index("ix_delivery_item_delivery_state", "delivery_id", "state"),
        Index("ix_delivery_item_frame_state", "frame_id", "state"),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    delivery_id: Mapped[int] = mapped_column(ForeignKey("delivery.id"), index=True)
    frame_id: Mapped[int] = mapped_column(ForeignKey("frame.id"))
    spec: Mapped[int]
    number: Mapped[int]
    target: Mapped[str]
    settings: Mapped[dict[str, Any]]
    state: Mapped[str] = mapped_column(default="waiting")
    started: Mapped[datetime | None] = mapped_column(default=None)
    width: Mapped[int] = mapped_column(default=0)
    height: Mapped[int] = mapped_column(default=0)
    bytes: Mapped[int] = mapped_column(default=0)
    content: Mapped[str] = mapped_column(default="")
    seconds: Mapped[float] = mapped_column(default=0.0)
    message: Mapped[str] = mapped_column(default="")


class Facet(Base):
    """What searches ask of a frame, in a narrow row: written by the database itself whenever the frame changes.

    Attributes:
        tick: counts changes over all rows, so that what was read once is brought up to date by what changed since.
        focal (mm), aperture (f-number), shutter (s): as the file says; month: "2026-03".
        error, has_areas, has_spots, developed: of the frame itself.
        profile: key of the camera profile that is set on the frame; presets, keywords: one a line.
        sharp: see `core.choosing.hints`.
    """

    __tablename__ = "frame_facet"
    __table_args__ = (
        Index("ix_frame_facet_time", "gone", "taken", "name"),
        Index("ix_frame_facet_shoot", "shoot_id", "gone", "taken", "name"),
    )
    frame_id: Mapped[int] = mapped_column(ForeignKey("frame.id", ondelete="CASCADE"), primary_key=True)
    tick: Mapped[int] = mapped_column(index=True)
    gone: Mapped[bool]
    shoot_id: Mapped[int]
    set_id: Mapped[int | None] = mapped_column(index=True)
    name: Mapped[str]
    taken: Mapped[datetime | None]
    month: Mapped[str | None]
    verdict: Mapped[str]
    stars: Mapped[int]
    label: Mapped[str]
    camera: Mapped[str] = mapped_column(index=True)
    lens: Mapped[str] = mapped_column(index=True)
    iso: Mapped[int | None]
    focal: Mapped[float | None]
    aperture: Mapped[float | None]
    shutter: Mapped[float | None]
    upright: Mapped[bool]
    follows: Mapped[bool]
    alternate: Mapped[int]
    error: Mapped[bool]
    profile: Mapped[str | None]
    presets: Mapped[str | None]
    keywords: Mapped[str | None]
    has_areas: Mapped[bool]
    has_spots: Mapped[bool]
    developed: Mapped[bool]
    chart: Mapped[bool]
    bracket: Mapped[bool]
    sharp: Mapped[float | None]


class FrameKeyword(Base):
    """Keywords of frames, one a row: written by the database itself whenever a frame's keywords change."""

    __tablename__ = "frame_keyword"
    frame_id: Mapped[int] = mapped_column(ForeignKey("frame.id", ondelete="CASCADE"), primary_key=True)
    keyword: Mapped[str] = mapped_column(primary_key=True, index=True)


class Keyword(Base):
    """A keyword's place in the tree, and other words for the same; keywords need none to be used."""

    __tablename__ = "keyword"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    parent_id: Mapped[int | None] = mapped_column(ForeignKey("keyword.id"), default=None, index=True)
    synonyms: Mapped[list[Any]] = mapped_column(default=list)


class StandingSearch(Base):
    """A search that is kept, and gives what it finds at the time it is asked."""

    __tablename__ = "standing_search"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    expression: Mapped[str]
    sort: Mapped[str] = mapped_column(default="-taken")


class Collection(Base):
    """Frames of any shoots, gathered and ordered by hand."""

    __tablename__ = "collection"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    created: Mapped[datetime] = mapped_column(default=now)


class Gathered(Base):
    """One frame of a collection; `place` orders them."""

    __tablename__ = "gathered"
    collection_id: Mapped[int] = mapped_column(ForeignKey("collection.id", ondelete="CASCADE"), primary_key=True)
    frame_id: Mapped[int] = mapped_column(ForeignKey("frame.id", ondelete="CASCADE"), primary_key=True, index=True)
    place: Mapped[float] = mapped_column(default=0.0)
