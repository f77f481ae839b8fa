"""Sidecars in a running program: written after changes, read at import, conflicts shown and ended, nothing lost."""

import shutil
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from made import hashes
from serving import Running

from tanner.core.series.sidecar import beside, parse_sidecar, sidecar_bytes


def until(check: Callable[[], Any]) -> Any:
    for _ in range(400):
        found = check()
        if found:
            return found
        time.sleep(0.05)
    raise AssertionError("it did not come about")


@pytest.fixture
def two(server: Running, originals: Path, tmp_path: Path) -> tuple[int, Path, list[int]]:
    """A shoot of its own with two frames in a folder of their own, sidecars on."""
    folder = server.folder / "photos" / tmp_path.name
    folder.mkdir()
    for name in ("T0001.DNG", "T0002.DNG"):
        shutil.copy(originals / name, folder / name)
    shoot = server.post("/api/shoots", {"name": tmp_path.name})["id"]
    server.bring_in(shoot, sorted(folder.glob("*.DNG")))
    frames = {f["name"]: f["id"] for f in server.get(f"/api/shoots/{shoot}/sheet")["frames"]}
    server.post(f"/api/shoots/{shoot}/sidecars", {"on": True})
    return shoot, folder, [frames["T0001.DNG"], frames["T0002.DNG"]]


def read(folder: Path, name: str) -> Any:
    path = beside(folder / name)
    return parse_sidecar(path.read_bytes(), name) if path.exists() else None


def test_development_is_written_beside_the_originals_and_read_by_another(
    server: Running, two: tuple[int, Path, list[int]]
) -> None:
    shoot, folder, (first, second) = two
    untouched = {n: h for n, h in hashes(folder).items() if n.endswith(".DNG")}
    server.post("/api/edit", {"frames": [first], "values": {"light.contrast": 21, "light.shadows": 9}})
    server.post("/api/nudge", {"frames": [second], "ev": 0.25})
    server.post("/api/marks", {"frames": [second], "stars": 4, "label": "green"})
    until(
        lambda: (
            (s := read(folder, "T0002.DNG"))
            and s.stars == 4
            and s.offsets == {"ev": 0.25}
            and s.shown.get("light.contrast") == 21
        )
    )
    one = until(lambda: (s := read(folder, "T0001.DNG")) and s.own.get("light.contrast") == 21 and s)
    assert one.lead and one.group == "Set 1"
    assert {n: h for n, h in hashes(folder).items() if n.endswith(".DNG")} == untouched
    server.post(f"/api/shoots/{shoot}/undo")
    until(lambda: read(folder, "T0002.DNG").stars == 0)
    server.post(f"/api/shoots/{shoot}/redo")
    until(lambda: read(folder, "T0002.DNG").stars == 4)
    # A colleague brings the folder in: the same sets, leads and looks.
    other = server.post("/api/shoots", {"name": f"{folder.name} elsewhere"})["id"]
    state = server.bring_in(other, sorted(folder.glob("*.DNG")))
    assert state["sidecars"] == 2
    there = {f["name"]: f for f in server.get(f"/api/shoots/{other}/sheet")["frames"]}
    here = {f["name"]: f for f in server.get(f"/api/shoots/{shoot}/sheet")["frames"]}
    assert {n: (f["v"], f["lead"], f["stars"], f["label"]) for n, f in there.items()} == {
        n: (f["v"], f["lead"], f["stars"], f["label"]) for n, f in here.items()
    }


def test_alternates_have_sidecars_of_their_own_and_come_along(
    server: Running, two: tuple[int, Path, list[int]]
) -> None:
    shoot, folder, (first, second) = two
    made = server.post("/api/alternates", {"frames": [first, second]})["made"]
    assert len(made) == 2
    server.post("/api/edit", {"frames": [made[1]], "values": {"light.contrast": -33}})
    path = beside(folder / "T0002.DNG", 1)
    until(lambda: path.exists() and parse_sidecar(path.read_bytes(), "x").own.get("light.contrast") == -33)  # type: ignore[union-attr]
    # The frame's own sidecar says nothing of it.
    assert "light.contrast" not in until(lambda: read(folder, "T0002.DNG")).own
    other = server.post("/api/shoots", {"name": f"{folder.name} alternates"})["id"]
    path.with_name("T0002.DNG.alternate-7.tanner.xmp").write_bytes(b"damaged")
    server.bring_in(other, sorted(folder.glob("*.DNG")))
    there = {f["name"]: f for f in server.get(f"/api/shoots/{other}/sheet")["frames"]}
    here = {f["name"]: f for f in server.get(f"/api/shoots/{shoot}/sheet")["frames"]}
    assert sorted(there) == ["T0001.DNG", "T0001_alt1.DNG", "T0002.DNG", "T0002_alt1.DNG"]
    assert {n: (f["v"], f["alternate"]) for n, f in there.items()} == {
        n: (f["v"], f["alternate"]) for n, f in here.items()
    }
    # Taken out and brought in again: nothing is doubled.
    server.post("/api/take-out", {"frames": [f["id"] for f in there.values()]})
    assert server.get(f"/api/shoots/{other}/sheet")["frames"] == []
    server.bring_in(other, sorted(folder.glob("*.DNG")))
    again = {f["name"]: f for f in server.get(f"/api/shoots/{other}/sheet")["frames"]}
    assert {n: f["v"] for n, f in again.items()} == {n: f["v"] for n, f in there.items()}
    assert {f["id"] for f in again.values()} == {f["id"] for f in there.values()}


def test_a_follower_that_comes_without_its_lead_looks_the_same(
    server: Running, two: tuple[int, Path, list[int]]
) -> None:
    _shoot, folder, (first, second) = two
    server.post("/api/edit", {"frames": [first], "values": {"light.contrast": 21}})
    server.post("/api/nudge", {"frames": [second], "ev": 0.25})
    until(lambda: (s := read(folder, "T0002.DNG")) and s.shown.get("light.contrast") == 21 and s.offsets)
    other = server.post("/api/shoots", {"name": f"{folder.name} alone"})["id"]
    server.bring_in(other, [folder / "T0002.DNG"])
    (frame,) = server.get(f"/api/shoots/{other}/sheet")["frames"]
    values = server.get(f"/api/frames/{frame['id']}")["values"]
    assert values["light.contrast"] == 21 and values["light.exposure"] == pytest.approx(0.25)


def test_what_both_changed_is_shown_and_neither_is_lost(server: Running, two: tuple[int, Path, list[int]]) -> None:
    shoot, folder, (first, _second) = two
    server.post("/api/edit", {"frames": [first], "values": {"light.contrast": 5}})
    mine = until(lambda: (s := read(folder, "T0001.DNG")) and s.own.get("light.contrast") == 5 and s)
    path = beside(folder / "T0001.DNG")
    theirs = sidecar_bytes(
        replace(mine, own={"light.contrast": -30.0}, shown={**mine.shown, "light.contrast": -30.0}, stars=2)
    )
    path.write_bytes(theirs)
    server.post("/api/edit", {"frames": [first], "values": {"light.contrast": 7}})
    (conflict,) = until(lambda: server.get(f"/api/shoots/{shoot}/sidecars")["conflicts"])
    assert conflict["frame"] == first and conflict["mine"] and conflict["theirs"]
    assert {"label": "Contrast", "mine": 7, "theirs": -30.0} in conflict["differs"]
    time.sleep(1.5)
    assert path.read_bytes() == theirs  # not written over
    server.post(f"/api/frames/{first}/sidecar", {"take": "theirs"})
    state = server.get(f"/api/frames/{first}")
    assert state["values"]["light.contrast"] == -30.0 and state["stars"] == 2
    kept = until(lambda: list(folder.glob("T0001.DNG.mine-*.xmp")))
    assert parse_sidecar(kept[0].read_bytes(), "x").own == {"light.contrast": 7}  # type: ignore[union-attr]
    # The other way round, and undo brings the other back.
    server.post(f"/api/shoots/{shoot}/undo")
    until(lambda: (s := read(folder, "T0001.DNG")) and s.own.get("light.contrast") == 7)
    path.write_bytes(theirs)
    until(lambda: server.get(f"/api/shoots/{shoot}/sidecars")["conflicts"])
    server.post(f"/api/frames/{first}/sidecar", {"take": "mine"})
    until(lambda: (s := read(folder, "T0001.DNG")) and s.own.get("light.contrast") == 7)
    assert [p.read_bytes() for p in folder.glob("T0001.DNG.theirs-*.xmp")] == [theirs]
    assert server.get(f"/api/shoots/{shoot}/sidecars")["conflicts"] == []


def test_a_damaged_one_is_told_and_kept_aside(server: Running, two: tuple[int, Path, list[int]]) -> None:
    shoot, folder, (first, _second) = two
    until(lambda: read(folder, "T0001.DNG") and read(folder, "T0002.DNG"))
    path = beside(folder / "T0001.DNG")
    path.write_bytes(b"<x:xmpmeta")
    assert "damaged" in server.get(f"/api/shoots/{shoot}/sidecars")["conflicts"][0]["damaged"]
    server.post("/api/edit", {"frames": [first], "values": {"light.contrast": 5}})
    until(lambda: list(folder.glob("T0001.DNG.damaged-*.xmp")))
    until(lambda: (s := read(folder, "T0001.DNG")) and s.own.get("light.contrast") == 5)
    assert "damaged" in server.get(f"/api/shoots/{shoot}/sidecars")["trouble"][0]
    # At import it is told, and the file comes in without it.
    path.write_bytes(b"<x:xmpmeta")
    other = server.post("/api/shoots", {"name": f"{folder.name} damaged"})["id"]
    state = server.bring_in(other, [folder / "T0001.DNG"])
    assert state["items"][0]["state"] == "in" and "damaged" in state["items"][0]["message"]
    server.post(f"/api/shoots/{shoot}/sidecars", {"on": False})
    assert server.get(f"/api/shoots/{shoot}/sidecars")["on"] is False
