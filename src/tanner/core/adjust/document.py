"""The page docs/adjustments.md, from the declarations: `python -m tanner.core.adjust.document FILE`."""

import sys
from pathlib import Path

from tanner.core.adjust.items import Listed, name_of
from tanner.core.adjust.registry import GROUPS, LISTS, Adjustment, adjustments, declared


def _range(a: Adjustment) -> str:
    if a.low is None or a.high is None:
        return {"switch": "on or off", "curve": "2 to 16 points"}.get(a.spec.widget, "")
    return f"{a.low:g} to {a.high:g} {a.spec.unit}".strip().replace("-", "−")


def _neutral(a: Adjustment) -> str:
    if a.neutral is None:
        return "as shot"
    if isinstance(a.neutral, bool):
        return "on" if a.neutral else "off"
    if a.spec.widget == "curve":
        return "a straight line"
    return f"{a.neutral:g}" if isinstance(a.neutral, int | float) else str(a.neutral)


def adjustments_page() -> str:
    """The page as Markdown."""
    lines = [
        "# Adjustments",
        "",
        "Made from the declarations by `make docs`. Names are those of presets, settings files and `--set`.",
    ]
    for key, group in GROUPS.items():
        lines += [
            "",
            f"## {group.title}",
            "",
            group.about,
            "",
            "| name | | range | neutral | |",
            "|---|---|---|---|---|",
        ]
        for a in adjustments().values():
            if a.group == key:
                own = " Belongs to one frame." if a.spec.per_frame else ""
                lines.append(f"| `{a.key}` | {a.spec.title} | {_range(a)} | {_neutral(a)} | {a.spec.help}{own} |")
    for listed in LISTS.values():
        lines += _listed(listed)
    return "\n".join(lines) + "\n"


def _listed(listed: Listed) -> list[str]:
    """A list of things: what each has of its own, and what it changes as a difference from the picture's."""
    head = [
        "",
        f"## {listed.title}s",
        "",
        f"{listed.parts.about} Each has an id of eight hexadecimal digits in its names.",
    ]
    lines = [*head, "", "| name | | range | neutral | |", "|---|---|---|---|---|"]
    for name in (*listed.parts.model_fields, *listed.adjustments):
        a = declared(name_of(listed.key, "00000000", name))
        assert a is not None
        about = f"{a.spec.help} A difference from the picture's." if name in listed.adjustments else a.spec.help
        text = _neutral(a) if a.spec.widget != "item" else ""
        lines.append(f"| `{listed.key}/ID/{name}` | {a.spec.title} | {_range(a)} | {text} | {about} |")
    return lines


if __name__ == "__main__":
    Path(sys.argv[1]).write_text(adjustments_page())
