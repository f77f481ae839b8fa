"""How an adjustment is declared: once, as a typed field with a frozen Spec beside it."""

from dataclasses import dataclass
from typing import Any, ClassVar, Literal, Self

from pydantic import BaseModel, ConfigDict, Field

Widget = Literal["rule", "switch", "choice", "curve", "frame", "profile", "look", "lens", "item"]
Affects = Literal["geometry", "noise", "colour"]
OffsetKind = Literal["ev", "mired", "tint", "place"]


@dataclass(frozen=True, kw_only=True)
class Spec:
    """What is known about an adjustment besides its type and range.

    Attributes:
        label: the word on the screen.
        unit: EV, K, %, px, degrees or empty.
        step: one press of an arrow key, in the unit.
        per_frame: belongs to one frame (crop), so it is not followed or carried over at first.
        offset: how a follower's relative correction adds to this adjustment, if it may have one.
        widget: which control shows it.
        default_rule: name of the fact about a file that gives it a starting value (see `defaults`).
        default_value: that starting value.
        computed: worked out for one frame, not chosen: no departure, never carried over, in no preset.
        structure: says what a listed thing is: never scaled by a preset's amount, and never left out for it.
        full: the word where it stands away from its tab: in lists, history and files for people; the label if empty.
        tab: under which word a group shows it, where there is too much for one list.
        help: one line.
    """

    label: str
    help: str
    unit: str = ""
    step: float = 1.0
    per_frame: bool = False
    structure: bool = False
    computed: bool = False
    offset: OffsetKind | None = None
    widget: Widget = "rule"
    default_rule: Literal["raw", "lens"] | None = None
    default_value: float | None = None
    tab: str = ""
    full: str = ""

    @property
    def title(self) -> str:
        """What it is called anywhere."""
        return self.full or self.label


def param(neutral: Any, low: float | None = None, high: float | None = None, **spec: Any) -> Any:
    """Declare a number (or switch, or list) with its neutral value, range and Spec."""
    numeric = low is not None or high is not None
    info: Any = Field(default=neutral, ge=low, le=high, allow_inf_nan=False if numeric else None)
    info.metadata.append(Spec(**spec))
    return info


class Group(BaseModel):
    """Adjustments that belong together; a subclass stands in the file of the stage that uses it.

    Attributes:
        key: how their full names begin; rank: where they stand among the groups, in working order.
        section: under which heading they stand on the Bench.
        affects: what a change makes anew: where px lie, the mosaic's noise, or colour and tone alone.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", validate_default=True)
    key: ClassVar[str]
    rank: ClassVar[int]
    affects: ClassVar[Affects] = "colour"
    section: ClassVar[str] = "Whole or part"
    title: ClassVar[str]
    about: ClassVar[str]

    enabled: bool = param(True, label="On", widget="switch", help="Switches the whole group off and on again.")

    def active(self) -> Self:
        """The group itself, or the neutral one when it is switched off."""
        return self if self.enabled else type(self)()
