"""What frames of a shoot show: their layers, resolved; leads and the shoot's preset are looked up once."""

import hashlib
import json
from collections.abc import Callable, Mapping
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from tanner.catalogue.dust import within
from tanner.catalogue.models import Frame, FrameSet, Shoot
from tanner.catalogue.profiles import Rule, chosen_by_rule
from tanner.core.adjust.items import renamed
from tanner.core.adjust.registry import blend, declared
from tanner.core.errors import TannerError
from tanner.core.series.conditional import About, resolve_conditional
from tanner.core.series.resolve import Layers, Resolved, followed, resolve


class Resolver:
    """Resolves frames of one shoot; leads and the shoot's preset are looked up once.

    Attributes:
        coming: own values that leads are about to get in the same action as their followers.
    """

    def __init__(self, session: Session, shoot_id: int) -> None:
        shoot = session.get(Shoot, shoot_id)
        if shoot is None:
            raise TannerError("This shoot is no longer there.")
        self.shoot = shoot
        self._preset = renamed(_known(shoot.preset.get("values", {})), shoot.preset.get("name", ""))
        self._amount = shoot.preset.get("amount", 100) / 100
        self._preset_at: dict[About, dict[str, Any]] = {}
        query = select(FrameSet).where(FrameSet.shoot_id == shoot_id)
        self.sets = {s.id: s for s in session.scalars(query)}
        leads = [s.lead_id for s in self.sets.values() if s.lead_id]
        self.leads = {f.id: f for f in session.scalars(select(Frame).where(Frame.id.in_(leads)))}
        self.coming: dict[int, Mapping[str, Any]] = {}
        self._followed: dict[int, tuple[Mapping[str, Any], dict[str, Any]]] = {}
        self.rules: list[Rule] = session.info.get("rules", list)()
        self._dust: Callable[[Frame], Mapping[str, Any]] = session.info.get("dust", lambda _: {})

    def lead_of(self, frame: Frame) -> Frame | None:
        """The lead whose development this frame takes over; None for frames on their own.

        A lead has one itself where its set stands under another set.
        """
        group = self.sets.get(frame.set_id or 0)
        if group is None or not frame.follows:
            return None
        if group.lead_id == frame.id:
            group = self.sets.get(group.under_id or 0)
        lead = self.leads.get(group.lead_id or 0) if group else None
        return None if lead is None or lead.id == frame.id else lead

    def chain(self, frame: Frame) -> list[Frame]:
        """A frame's lead, the lead above that, and so on."""
        chain: list[Frame] = []
        lead = self.lead_of(frame)
        while lead is not None and lead.id != frame.id and lead not in chain:
            chain.append(lead)
            lead = self.lead_of(lead)
        return chain

    def led_by(self, frame: Frame) -> dict[str, Any]:
        """What a frame takes over from its lead, and that from the lead above it, and so on."""
        chain = self.chain(frame)
        if len(chain) == 1:
            return self._given(chain[0])
        values: dict[str, Any] = {}
        for each in reversed(chain):
            values |= self._given(each)
        return values

    def _given(self, lead: Frame) -> dict[str, Any]:
        """What a lead's followers take from it, worked out again only when its own values are others."""
        own = self.coming.get(lead.id, lead.own)
        known = self._followed.get(lead.id)
        if known is None or known[0] is not own:
            known = self._followed[lead.id] = own, followed(own)
        return known[1]

    def relative_to_lead(self, frame: Frame) -> bool:
        """Whether corrections of exposure and light are kept as offsets. A lead's are values, for its followers take them."""
        return self.lead_of(frame) is not None and not self.is_lead(frame)

    def is_lead(self, frame: Frame) -> bool:
        group = self.sets.get(frame.set_id or 0)
        return group is not None and group.lead_id == frame.id

    def layers(self, frame: Frame, own: Mapping[str, Any] | None = None) -> Layers:
        kelvin, tint = frame.as_shot or (5500.0, 0.0)
        preset, lead = self._by_preset(frame), self.led_by(frame)
        own = frame.own if own is None else own
        # Where the frame's own leave too little room, the least sure of the dust stays.
        dust = within(self._dust(frame), (preset, lead, own))
        return Layers(
            defaults={**frame.starting, **self._by_rule(frame, kelvin), **dust},
            preset=preset,
            lead=lead,
            own=own,
            offsets=frame.offsets,  # type: ignore[arg-type]
            as_shot=(kelvin, tint),
        )

    def _by_preset(self, frame: Frame) -> dict[str, Any]:
        """The shoot's preset for this frame: its values may depend on what the frame is."""
        if not self._preset:
            return {}
        about = about_of(frame)
        if about not in self._preset_at:
            self._preset_at[about] = blend(resolve_conditional(self._preset, about), self._amount)
        return self._preset_at[about]

    def _by_rule(self, frame: Frame, kelvin: float) -> dict[str, Any]:
        """Defaults that the user's rules give: the camera profile for this camera in this light."""
        key = chosen_by_rule(self.rules, frame.camera_names, kelvin) if self.rules else ""
        return {"profile.camera": key} if key else {}

    def resolve(self, frame: Frame) -> Resolved:
        return resolve(self.layers(frame))


def about_of(frame: Frame) -> About:
    """What values of a preset may depend on."""
    kelvin = frame.as_shot[0] if frame.as_shot else None
    return About(frame.iso, kelvin, frame.camera, frame.lens, frame.height > frame.width)


def _known(values: Mapping[str, Any]) -> dict[str, Any]:
    return {k: v for k, v in values.items() if declared(k)}


def version(frame: Frame, values: Mapping[str, Any]) -> str:
    """A short name for what a frame looks like: changes with its file or its settings."""
    text = json.dumps([frame.content, sorted(values.items())])
    return hashlib.sha256(text.encode()).hexdigest()[:16]
