"""How many frames there are of what: columns of all frames in memory, brought up to date by what changed.

A count over 200,000 rows takes the database 50 to 100 ms a column; over columns that are kept as small numbers it takes one.
"""

import threading
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from sqlalchemy.orm import Session

from tanner.catalogue.models import LABELS, Facet

LINES = ("presets", "keywords")
"""Columns with several values, one a line."""
COLUMNS = (
    "camera", "lens", "iso", "focal", "aperture", "shutter", "month", "upright", "stars", "label", "verdict", "developed",
    "error", "profile", "has_areas", "has_spots", *LINES,
)  # fmt: skip
MOST = 40
"""Values of one facet that are told, those with most frames."""


class CountGroup(NamedTuple):
    """A facet on the page: its title, its column, how a value is written in an expression, and how it is said."""

    title: str
    column: str
    term: Callable[[Any], str]
    said: Callable[[Any], str] = str
    by_value: bool = True


def quoted(value: object) -> str:
    """A value as an expression takes it."""
    text = str(value).replace('"', "")
    return text if text and text.replace("-", "").replace(".", "").isalnum() else f'"{text}"'


def seconds(value: float) -> str:
    """An exposure time as photographers write it."""
    return f"1/{round(1 / value)} s" if 0 < value < 0.4 else f"{value:g} s"


GROUPS: Sequence[CountGroup] = (
    CountGroup("Verdict", "verdict", str),
    CountGroup("Stars", "stars", lambda v: f"stars={v}", lambda v: "★" * v if v else "none"),
    CountGroup("Label", "label", lambda v: f"label:{v}"),
    CountGroup("Keywords", "keywords", lambda v: f"keyword:{quoted(v)}", by_value=False),
    CountGroup("Month", "month", lambda v: f"taken:{v}"),
    CountGroup("Camera", "camera", lambda v: f"camera:{quoted(v)}", by_value=False),
    CountGroup("Lens", "lens", lambda v: f"lens:{quoted(v)}", by_value=False),
    CountGroup("ISO", "iso", lambda v: f"iso={v}"),
    CountGroup("Focal length", "focal", lambda v: f"focal={v:g}", lambda v: f"{v:g} mm"),
    CountGroup("Aperture", "aperture", lambda v: f"aperture={v:g}", lambda v: f"f/{v:.2g}"),
    CountGroup("Shutter", "shutter", lambda v: f"shutter={v:.5g}", seconds),
    CountGroup("Held", "upright", lambda v: "upright" if v else "wide", lambda v: "upright" if v else "wide"),
    CountGroup("Development", "developed", lambda v: "developed" if v else "not developed", lambda v: "own" if v else "none of its own"),
    CountGroup("Preset", "presets", lambda v: f"preset:{quoted(v)}", by_value=False),
    CountGroup("Areas", "has_areas", lambda v: "areas" if v else "not areas", lambda v: "own" if v else "none of its own"),
    CountGroup("Spots", "has_spots", lambda v: "spots" if v else "not spots", lambda v: "own" if v else "none of its own"),
    CountGroup("Profile", "profile", lambda v: f"profile:{quoted(v)}", by_value=False),
    CountGroup("Files", "error", lambda v: "error" if v else "not error", lambda v: "missing or unreadable" if v else "in order"),
)  # fmt: skip
_ORDER = {"label": {label: n for n, label in enumerate(LABELS)}, "verdict": {"keep": 0, "undecided": 1, "drop": 2}}


class _Column:
    """One column as small numbers: `values[codes[row]]` is a row's value."""

    def __init__(self) -> None:
        self.values: list[Any] = []
        self._known: dict[Any, int] = {}
        self.codes: NDArray[np.int32] = np.zeros(0, np.int32)

    def coded(self, values: Iterable[Any]) -> NDArray[np.int32]:
        known = self._known
        result = []
        for value in values:
            code = known.get(value)
            if code is None:
                code = known[value] = len(self.values)
                self.values.append(value)
            result.append(code)
        return np.array(result, np.int32)


class Counts:
    """The columns of one catalogue's frames, read when they are first asked for."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._tick = -1
        self._ids: NDArray[np.int64] = np.zeros(0, np.int64)  # in order
        self._gone: NDArray[np.bool_] = np.zeros(0, bool)
        self._columns = {name: _Column() for name in COLUMNS}

    def bring_up(self, session: Session) -> None:
        """Read what changed since the last time."""
        with self._lock:
            # As the driver gives them: rows of objects would take ten times as long.
            # All of them once, in the order they lie in; after that what changed, by the index of ticks.
            since, known = ("WHERE tick > ?", (self._tick,)) if self._tick >= 0 else ("", ())
            query = f"SELECT tick, frame_id, gone, {', '.join(COLUMNS)} FROM {Facet.__tablename__} {since}"
            rows = session.connection().exec_driver_sql(query, known).cursor
            parts = list(zip(*(rows.fetchall() if rows else ()), strict=True))
            if not parts:
                return
            self._tick = max(parts[0])
            self._take(np.array(parts[1], np.int64), np.array(parts[2], bool), parts[3:])

    def _take(self, ids: NDArray[np.int64], gone: NDArray[np.bool_], values: Sequence[Sequence[Any]]) -> None:
        new = ids[~np.isin(ids, self._ids)]
        if new.size:
            merged = np.concatenate([self._ids, new])
            order = np.argsort(merged, kind="stable")
            self._ids = merged[order]
            self._gone = np.concatenate([self._gone, np.ones(new.size, bool)])[order]
            for column in self._columns.values():
                column.codes = np.concatenate([column.codes, np.zeros(new.size, np.int32)])[order]
        at = np.searchsorted(self._ids, ids)
        self._gone[at] = gone
        for name, of in zip(COLUMNS, values, strict=True):
            column = self._columns[name]
            column.codes[at] = column.coded(of)

    def of(self, ids: Sequence[int] | NDArray[np.int64]) -> dict[str, list[tuple[Any, int]]]:
        """For each column, how many of these frames have each value: (value, count), None left out."""
        with self._lock:
            at = np.searchsorted(self._ids, np.asarray(ids, np.int64))
            at = at[at < self._ids.size]
            at = at[~self._gone[at]]
            return {name: _counted(name, column, column.codes[at]) for name, column in self._columns.items()}


def _counted(name: str, column: _Column, codes: NDArray[np.int32]) -> list[tuple[Any, int]]:
    found = np.bincount(codes, minlength=len(column.values))
    result: dict[Any, int] = {}
    for code in np.flatnonzero(found):
        value, number = column.values[code], int(found[code])
        if value is None or value == "":
            continue
        for each in dict.fromkeys(value.split("\n")) if name in LINES else (value,):
            result[each] = result.get(each, 0) + number
    return list(result.items())


def facets(counts: Mapping[str, Sequence[tuple[Any, int]]]) -> list[dict[str, Any]]:
    """Counts as the page shows them: [{title, values: [{said, term, count}], more}], facets with nothing to choose left out."""
    result = []
    for group in GROUPS:
        values = list(counts[group.column])
        by_count = sorted(values, key=lambda v: -v[1])[:MOST]
        order = _ORDER.get(group.column, {})
        if group.by_value:
            by_count.sort(key=lambda v: order.get(v[0], v[0]), reverse=group.column in ("stars", "month"))
        if len(values) > 1 or (group.column == "keywords" and values):
            result.append(
                {
                    "title": group.title,
                    "values": [{"said": group.said(v), "term": group.term(v), "count": n} for v, n in by_count],
                    "more": len(values) - len(by_count),
                }
            )
    return result
