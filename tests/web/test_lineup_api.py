"""The Line-up: measured behind the scenes, against the lead; frames nudged and brought in."""

import csv
import io
import time
from typing import Any

import pytest
from serving import Running
from typer.testing import CliRunner

from tanner.cli import app

Sheet = dict[str, dict[str, Any]]


def figures(server: Running, group: Any, more: str = "") -> dict[str, Any]:
    return server.until(f"/api/shoots/1/lineup?set={group}{more}", lambda found: not found["pending"])


def test_asked_again_it_tells_what_changed_alone(server: Running, sheet: Sheet) -> None:
    group = sheet["T0001"]["set"]
    known = figures(server, group)
    assert known["whole"] and len(known["frames"]) == known["count"] > 1
    again = server.get(f"/api/shoots/1/lineup?set={group}&known={known['known']}")
    assert not again["whole"] and again["frames"] == [] and again["reference"] == known["reference"]
    odd = next(f for f in sheet.values() if f["set"] == group and not f["lead"])
    server.post("/api/nudge", {"frames": [odd["id"]], "ev": 0.4})
    rows, last = {r["frame"]: r for r in known["frames"]}, again
    for _ in range(600):
        last = server.get(f"/api/shoots/1/lineup?set={group}&known={last['known']}")
        assert not last["whole"] and {r["frame"] for r in last["frames"]} <= {odd["id"]}
        rows |= {r["frame"]: r for r in last["frames"]}
        if not last["pending"]:
            break
        time.sleep(0.05)
    assert list(rows.values()) == figures(server, group)["frames"] != known["frames"]
    server.post("/api/shoots/1/undo")


def test_what_is_out_of_step_stands_out_until_it_is_brought_in(server: Running, sheet: Sheet) -> None:
    group = sheet["T0001"]["set"]
    lead = next(f for f in sheet.values() if f["set"] == group and f["lead"])
    odd = next(f for f in sheet.values() if f["set"] == group and not f["lead"])
    server.post("/api/nudge", {"frames": [odd["id"]], "ev": 0.5})
    assert server.get(f"/api/frames/{odd['id']}")["offsets"] == {"ev": 0.5}
    found = figures(server, group)
    row = next(r for r in found["frames"] if r["frame"] == odd["id"])
    assert found["lead"] == lead["id"] and row["outside"] and "lighter" in row["words"]
    number = server.post("/api/match", {"frames": [odd["id"]], "reference": lead["id"]})["id"]
    server.over(f"/api/match/{number}")
    after = figures(server, group)
    assert next(r for r in after["frames"] if r["frame"] == odd["id"])["difference"] < 0.3
    # A lead has nothing to be relative to: a nudge is a value of its own, and followers go along.
    before = server.get(f"/api/frames/{lead['id']}")["values"].get("light.exposure", 0)
    server.post("/api/nudge", {"frames": [lead["id"]], "ev": 0.25})
    values = server.get(f"/api/frames/{lead['id']}")["values"]
    assert values["light.exposure"] == pytest.approx(before + 0.25)


def test_a_frame_is_accepted_as_it_is(server: Running, sheet: Sheet) -> None:
    group = sheet["T0001"]["set"]
    odd = next(f for f in sheet.values() if f["set"] == group and not f["lead"])
    server.post("/api/nudge", {"frames": [odd["id"]], "ev": -0.8})
    assert next(r for r in figures(server, group)["frames"] if r["frame"] == odd["id"])["outside"]
    server.post("/api/accept", {"frames": [odd["id"]], "reason": " the dark variant "})
    row = next(r for r in figures(server, group)["frames"] if r["frame"] == odd["id"])
    assert not row["outside"] and row["accepted"] == "the dark variant" and row["difference"] > 1
    server.post("/api/accept", {"frames": [odd["id"]], "reason": ""})
    assert next(r for r in figures(server, group)["frames"] if r["frame"] == odd["id"])["outside"]


def test_a_drawn_area_and_bad_questions(server: Running, sheet: Sheet) -> None:
    group = sheet["T0001"]["set"]
    found = figures(server, group, "&box=0.3,0.2,0.7,0.8&tolerance=3")
    lead = next(r for r in found["frames"] if r["frame"] == found["lead"])
    assert lead["difference"] == 0 and lead["area"].startswith("drawn") and found["tolerance"] == 3
    server.get(f"/api/shoots/1/lineup?set={group}&box=1,2", expect=422)
    server.get("/api/shoots/1/lineup?set=999", expect=422)
    server.get(f"/api/shoots/1/lineup?set={group}&tolerance=0", expect=422)
    server.post("/api/nudge", {"frames": [sheet["T0001"]["id"]]}, expect=422)


def test_the_same_figures_on_the_command_line(server: Running, sheet: Sheet) -> None:
    group = sheet["T0001"]["set"]
    name = next(s["name"] for s in server.get("/api/shoots/1/sheet")["sets"] if s["id"] == group)
    shown = figures(server, group)
    data = ["--data", str(server.folder / "data"), "--shoot", "Spring"]
    run = CliRunner().invoke(app, ["lineup", *data, "--set", name, "--csv"])
    rows = list(csv.DictReader(io.StringIO(run.stdout)))
    assert run.exit_code == (1 if shown["outside"] else 0)
    assert [r["name"] for r in rows] == [f["name"] for f in shown["frames"]]
    for row, frame in zip(rows, shown["frames"], strict=True):
        assert float(row["difference"]) == pytest.approx(frame["difference"], abs=0.02)
    run = CliRunner().invoke(app, ["lineup", *data, "--set", "Nothing"])
    assert run.exit_code == 2 and name in run.output


def test_matching_on_the_command_line(server: Running) -> None:
    photos = server.folder / "photos"
    run = CliRunner().invoke(
        app,
        [
            "match",
            "--reference",
            str(photos / "T0001.DNG"),
            str(photos / "T0002.DNG"),
            str(photos / "gone.DNG"),
            "--json",
        ],
    )
    assert run.exit_code == 1 and '"ev":' in run.stdout and "gone.DNG" in run.output
    run = CliRunner().invoke(app, ["match", "--reference", "a", "--area", "1,2", "b"])
    assert run.exit_code == 2 and "shares" in run.output
