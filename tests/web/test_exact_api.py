"""Exact colours over the described requests: picked, aimed, followed, measured over a set, removed."""

from typing import Any

import pytest
from serving import Running

LIST = """CGATS.17
ORIGINATOR "made up"
NUMBER_OF_FIELDS 4
BEGIN_DATA_FORMAT
SAMPLE_NAME LAB_L LAB_A LAB_B
END_DATA_FORMAT
NUMBER_OF_SETS 2
BEGIN_DATA
"Workshop blue" 36.5 -5.0 -33.8
"Twine red" 42 51 30
END_DATA
"""


def test_from_the_lead_to_the_set(server: Running, sheet: dict[str, Any]) -> None:
    lead = next(f for f in sheet.values() if f["lead"] and f["name"].startswith("T0001"))
    members = [f["id"] for f in sheet.values() if f["set"] == lead["set"]]
    found = server.post(f"/api/frames/{lead['id']}/exact/sample", {"x": 0.49, "y": 0.75})
    sample = found["lab"]
    aim = server.post("/api/exact/read", {"text": f"{sample[0] + 4:.1f} {sample[1] - 6:.1f} {sample[2] + 6:.1f}"})
    name = "exact/00c0ffee/"
    values = {f"{name}kind": "pair", f"{name}sample": sample, f"{name}target": aim["lab"]}
    server.post("/api/edit", {"frames": [lead["id"]], "values": values})
    (told,) = server.get(f"/api/frames/{members[1]}/exact")["pairs"]
    assert told["id"] == "00c0ffee" and told["after"] < 0.3 < 3 < told["before"] and told["target"] == aim["hex"]
    rows = server.post("/api/exact/measure", {"frames": members})["frames"]
    assert len(rows) == len(members) >= 3
    for row in rows:
        (one,) = row["rows"]
        assert one["after"] < 0.5 * one["before"]
    # The Line-up holds them against one another by what has this colour.
    line = server.until(f"/api/shoots/1/lineup?set={lead['set']}&kind=colour:00c0ffee", lambda a: not a["pending"])
    assert all(r["lab"] and r["area"].startswith("colour colour 1") for r in line["frames"]), [
        r["words"] for r in line["frames"]
    ]
    assert line["spread"] < 10
    # Removed on a follower it is gone there alone; on the lead, from the set.
    server.post("/api/colours/remove", {"of": "exact", "frames": [members[-1]], "ids": ["00c0ffee"]})
    assert server.get(f"/api/frames/{members[-1]}/exact")["pairs"] == []
    assert server.get(f"/api/frames/{members[1]}/exact")["pairs"]
    server.post("/api/colours/remove", {"of": "exact", "frames": [lead["id"]], "ids": ["00c0ffee"]})
    assert server.get(f"/api/frames/{members[1]}/exact")["pairs"] == []


def test_the_colours_of_a_client_come_by_name(server: Running) -> None:
    answer = server.client.post("/api/exact/list?name=house.txt", content=LIST.encode())
    assert answer.status_code == 200, answer.text
    found = answer.json()
    assert found["title"] == "house" and [c["name"] for c in found["colours"]] == ["Workshop blue", "Twine red"]
    assert found["colours"][0]["lab"] == pytest.approx([36.5, -5.0, -33.8], abs=0.01)
    refused = server.client.post("/api/exact/list?name=house.txt", content=b"nothing")
    assert refused.status_code == 422 and "house.txt is no CGATS.17 file" in refused.json()["error"]


def test_what_makes_no_sense_is_said(server: Running, sheet: dict[str, Any]) -> None:
    assert "is no colour" in server.post("/api/exact/read", {"text": "sky"}, expect=422)["error"]
    frame = sheet["T0001"]["id"]
    server.post(f"/api/frames/{frame}/exact/sample", {"x": 2, "y": 0.5}, expect=422)
    values = {"exact/00c0ffee/kind": "pair", "exact/00c0ffee/target": [1, 2]}
    assert "error" in server.post("/api/edit", {"frames": [frame], "values": values}, expect=422)


def test_a_range_is_picked_and_followed(server: Running, sheet: dict[str, Any]) -> None:
    lead = next(f for f in sheet.values() if f["lead"] and f["name"].startswith("T0001"))
    follower = next(f["id"] for f in sheet.values() if f["set"] == lead["set"] and not f["lead"])
    middle = server.post(f"/api/frames/{lead['id']}/picked/sample", {"x": 0.49, "y": 0.75})["middle"]
    assert 220 < middle[2] < 300
    name = "picked/00c0ffee/"
    values = {f"{name}kind": "range", f"{name}middle": middle, f"{name}hue": 30.0, f"{name}even_hue": 50.0}
    server.post("/api/edit", {"frames": [lead["id"]], "values": values})
    assert server.get(f"/api/frames/{follower}")["values"][f"{name}hue"] == 30.0
    # Picked again it is the picture's own colour, not the one that it was turned to.
    again = server.post(f"/api/frames/{lead['id']}/picked/sample", {"x": 0.49, "y": 0.75})["middle"]
    assert again == middle
    server.post("/api/colours/remove", {"of": "picked", "frames": [lead["id"]], "ids": ["00c0ffee"]})
    assert not any(k.startswith("picked/") for k in server.get(f"/api/frames/{follower}")["values"])
    said = server.post(f"/api/frames/{lead['id']}/picked/sample", {"x": 0.04, "y": 0.05}, expect=422)["error"]
    assert "grey there" in said


def test_exact_colours_and_ranges_are_kept_as_presets_carried_over_and_reset(
    server: Running, sheet: dict[str, Any]
) -> None:
    one, other = sheet["T0001"]["id"], sheet["T0011"]["id"]
    exact, picked = "exact/00c0ffee/", "picked/00facade/"
    values = {f"{exact}kind": "pair", f"{exact}sample": [30, 5, -30], f"{exact}target": [34, 2, -34]}
    values |= {f"{picked}kind": "range", f"{picked}middle": [0.6, 0.1, 40.0], f"{picked}even_hue": 40.0}
    server.post("/api/edit", {"frames": [one], "values": values})
    body = {"name": "House blue", "folder": "Own", "groups": ["exact", "picked"]}
    kept = server.post(f"/api/frames/{one}/preset", body)
    preset = next(p for p in server.get("/api/presets")["presets"] if p["name"] == "House blue")
    assert {k.split("/")[0] for k in preset["values"]} == {"exact", "picked"}, kept
    server.client.delete("/api/presets", params={"key": preset["key"]})
    carried = server.post("/api/carry", {"frames": [other], "source": one, "keys": list(values)})
    assert carried["changed"] == 1
    assert server.get(f"/api/frames/{other}")["values"][f"{exact}target"] == [34, 2, -34]
    server.post("/api/reset", {"frames": [other], "groups": ["exact"]})
    now = server.get(f"/api/frames/{other}")["values"]
    assert not any(k.startswith("exact/") for k in now) and now[f"{picked}even_hue"] == 40.0
