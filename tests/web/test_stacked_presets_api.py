"""Presets on frames over the pages' data: stacked, taken out, kept with a reference; rules with their dry run; resets."""

from pathlib import Path
from typing import Any

import pytest
from serving import Running

Sheet = dict[str, dict[str, Any]]


def key_of(server: Running, name: str) -> str:
    return next(str(p["key"]) for p in server.get("/api/presets")["presets"] if p["name"] == name)


def test_presets_are_stacked_told_and_taken_out(server: Running, sheet: Sheet) -> None:
    lead = next(f for f in sheet.values() if f["lead"])["id"]
    before = server.get(f"/api/frames/{lead}")["values"]
    wood, page = key_of(server, "Deep wood"), key_of(server, "Bright page")
    server.post("/api/apply", {"frames": [lead], "key": wood, "amount": 50})
    server.post("/api/apply", {"frames": [lead], "key": page, "leave": ["colour"]})
    state = server.get(f"/api/frames/{lead}")
    assert [w["name"] for w in state["wornPresets"]] == ["Deep wood", "Bright page"]
    assert state["wornPresets"][0]["lost"] and state["wornPresets"][1]["in_force"] == state["wornPresets"][1]["sets"]
    assert next(f for f in server.get("/api/shoots/1/sheet")["frames"] if f["id"] == lead)["worn"] == [
        "Deep wood",
        "Bright page",
    ]
    assert server.post("/api/worn", {"frames": [lead], "keys": [page]})["done"] == "Removed: Deep wood"
    server.post("/api/worn", {"frames": [lead], "keys": []})
    assert server.get(f"/api/frames/{lead}")["values"] == before
    server.post("/api/apply", {"frames": [lead], "key": wood})
    server.post("/api/reset", {"frames": [lead], "groups": None})
    assert server.get(f"/api/frames/{lead}")["wornPresets"] == []
    server.post("/api/reset", {"frames": [lead], "groups": ["nothing"]}, 422)


def test_a_preset_with_a_reference_matches_what_it_is_put_on(server: Running, sheet: Sheet) -> None:
    lead, other = sheet["T0001"], sheet["T0003"]
    body = {"name": "As the lamp", "groups": [], "match": {"kind": "backdrop", "what": "exposure"}}
    key = server.post(f"/api/frames/{lead['id']}/preset", body)["key"]
    stored = next(p for p in server.get("/api/presets")["presets"] if p["key"] == key)["match"]
    assert stored["of"] == lead["name"] and 40 < stored["lab"][0] < 100
    server.post("/api/edit", {"frames": [other["id"]], "values": {"light.exposure": 0.8}})
    answer = server.post("/api/apply", {"frames": [other["id"]], "key": key})
    job = server.over(f"/api/match/{answer['match']}")
    assert job["rows"][0]["after"] < 0.3 < job["rows"][0]["before"] and job["rows"][0]["mired"] == 0
    assert "As the lamp" in job["message"]
    # Groups or a reference: something has to be kept.
    server.post(f"/api/frames/{lead['id']}/preset", {"name": "Empty", "groups": []}, 422)
    no_face = {"name": "Face", "groups": [], "match": {"kind": "face"}}
    assert "No face" in server.post(f"/api/frames/{lead['id']}/preset", no_face, 422)["error"]
    # Under the whole shoot it matches what comes in.
    shoot = server.post("/api/shoots", {"name": "With a reference"})["id"]
    server.post(f"/api/shoots/{shoot}/preset", {"key": key})
    state = server.bring_in(shoot, [server.folder / "photos" / "T0002.DNG"])
    assert "1 matched to T0001.DNG of As the lamp" in state["ruled"]
    frame = server.get(f"/api/shoots/{shoot}/sheet")["frames"][0]
    assert abs(server.get(f"/api/frames/{frame['id']}")["values"]["light.exposure"]) > 0.02
    server.client.delete(f"/api/presets?key={key}")


@pytest.fixture
def rules(server: Running) -> Any:
    wood, page = key_of(server, "Deep wood"), key_of(server, "Bright page")
    server.post(
        "/api/rules",
        {
            "rules": [
                {"when": {"lens": "24"}, "preset": wood, "amount": 80},
                {"when": {"iso": [0, 400]}, "preset": page},
                {"when": {"held": "upright"}, "preset": wood, "on": False},
            ]
        },
    )
    yield wood, page
    server.post("/api/rules", {"rules": []})


def test_a_dry_run_lists_what_rules_would_do_and_then_they_do_it(server: Running, sheet: Sheet, rules: Any) -> None:
    ids = [f["id"] for f in sheet.values()]
    assert [r["words"] for r in server.get("/api/rules")["rules"]] == ['lens has "24"', "ISO up to 400", "held upright"]
    rows = {r["name"]: r for r in server.post("/api/rules/dry", {"frames": ids})["rows"]}
    assert [p["name"] for p in rows["T0011.DNG"]["presets"]] == ["Deep wood", "Bright page"]
    assert [p["name"] for p in rows["T0001.DNG"]["presets"]] == ["Bright page"] and rows["T0001.DNG"]["changes"] > 0
    assert server.get(f"/api/frames/{ids[0]}")["wornPresets"] == []
    assert server.post("/api/rules/apply", {"frames": ids})["done"] == "By the rules"
    assert [w["name"] for w in server.get(f"/api/frames/{sheet['T0011']['id']}")["wornPresets"]] == [
        "Deep wood",
        "Bright page",
    ]
    assert all(r["changes"] == 0 for r in server.post("/api/rules/dry", {"frames": ids})["rows"])
    assert server.post("/api/shoots/1/undo")["done"] == "By the rules"
    assert server.get(f"/api/frames/{sheet['T0011']['id']}")["wornPresets"] == []


def test_rules_at_import_and_before_it(server: Running, rules: Any) -> None:
    file = server.folder / "card" / "DCIM" / "100ALDER" / "T0021.DNG"
    rows = server.post("/api/rules/files", {"files": [str(file)]})["rows"]
    assert [p["name"] for p in rows[0]["presets"]] == ["Bright page"]
    server.post("/api/rules/files", {"files": ["/etc/passwd"]}, 403)
    shoot = server.post("/api/shoots", {"name": "By rule"})["id"]
    job = server.post(f"/api/shoots/{shoot}/import", {"files": [str(file)], "rules": True})["job"]
    while (state := server.get(f"/api/imports/{job}"))["stage"] != "done":
        pass
    assert state["ruled"] == "presets were put on by the rules"
    assert [f["worn"] for f in server.get(f"/api/shoots/{shoot}/sheet")["frames"]] == [["Bright page"]]


def test_rules_that_make_no_sense_are_refused(server: Running, rules: Any) -> None:
    server.post("/api/rules", {"rules": [{"when": {}, "preset": "own/gone"}]}, 422)
    server.post("/api/rules", {"rules": [{"when": {"iso": [800, 100]}, "preset": rules[0]}]}, 422)
    Path(server.folder / "data" / "rules.json").write_text("{")
    assert "cannot be used" in server.get("/api/rules", expect=422)["error"]


def test_sets_are_proposed_with_limits_and_can_follow(server: Running, sheet: Sheet) -> None:
    one = server.post("/api/shoots/1/would-propose", {})["sets"]
    assert [s["count"] for s in one] == [3, 2] and "lens" in one[1]["reason"]
    many = server.post("/api/shoots/1/would-propose", {"minutes": 0.5})["sets"]
    assert len(many) == 5 and "minutes later" in many[1]["reason"]
    groups = {s["id"]: s for s in server.get("/api/shoots/1/sheet")["sets"]}
    first, second = sheet["T0001"]["set"], sheet["T0011"]["set"]
    server.post(f"/api/sets/{second}/under", {"set": first})
    server.post("/api/edit", {"frames": [groups[first]["lead"]], "values": {"light.contrast": 21}})
    assert server.get(f"/api/frames/{sheet['T0012']['id']}")["values"]["light.contrast"] == 21
    state = server.get(f"/api/frames/{groups[second]['lead']}")
    assert state["lead"] and state["follows"] and state["leadName"] == "T0001.DNG"
    assert "already" in server.post(f"/api/sets/{first}/under", {"set": second}, 422)["error"]
    sets = server.get("/api/sets")["shoots"]
    assert {s["name"]: s["followers"] for shoot in sets if shoot["id"] == 1 for s in shoot["sets"]} == {
        "Set 1": 2,
        "Set 2": 1,
    }


def test_the_others_like_it_are_found_and_nothing_is_done_to_them(server: Running, sheet: Sheet) -> None:
    ids = {n: sheet[n]["id"] for n in ("T0001", "T0002", "T0003")}
    lead = next(f["id"] for f in sheet.values() if f["id"] in ids.values() and f["lead"])
    one, other = (i for i in ids.values() if i != lead)
    assert "no correction" in server.post("/api/alike", {"frame": one}, 422)["error"]
    # Both out of step by the same amount, which one of them is then cured of.
    job = server.post("/api/match", {"frames": [one, other], "reference": lead})["id"]
    server.over(f"/api/match/{job}")
    server.post("/api/marks", {"frames": [one, other], "stars": 1})
    server.post("/api/nudge", {"frames": [one, other], "ev": 0.4})
    server.post("/api/marks", {"frames": [one, other], "stars": 2})
    server.post("/api/nudge", {"frames": [one], "ev": -0.25})
    server.post("/api/nudge", {"frames": [one], "ev": -0.15})
    server.get(f"/api/shoots/1/lineup?set={sheet['T0001']['set']}")
    found = server.until("/api/alike", lambda state: bool(state["frames"]), {"frame": one, "within": 1.5})
    assert found["moved"] == {"ev": -0.4} and [f["frame"] for f in found["frames"]] == [other]
    assert found["frames"][0]["difference"] < 1.0
    assert server.post("/api/alike", {"frame": one, "within": 0.01})["frames"] == []


def test_a_renamed_preset_keeps_its_rules_and_taken_names_are_refused(server: Running) -> None:
    file = {"tanner_preset": 1, "name": "Mine", "folder": "Own", "values": {"light.contrast": 5, "light.shadows": 9}}
    key = server.client.post("/api/presets/file", params={"name": "m.json"}, json=file).json()["key"]
    kept = [r | {"words": None} for r in server.get("/api/rules")["rules"]]
    rule = {"when": {"name": "T000"}, "preset": key, "amount": 100}
    server.post("/api/rules", {"rules": [{k: v for k, v in r.items() if k != "words"} for r in kept] + [rule]})
    change = {"key": key, "name": "Renamed", "folder": "Own", "without": ["light.shadows"]}
    renamed = server.post("/api/presets/change", change)["key"]
    assert renamed != key and server.get("/api/rules")["rules"][-1]["preset"] == renamed
    found = {p["key"]: p for p in server.get("/api/presets")["presets"]}
    assert key not in found and found[renamed]["values"] == {"light.contrast": 5}
    # Nothing left in it, a name that is taken, and a preset that is not one's own: refused, and nothing is changed.
    again = server.client.post("/api/presets/file", params={"name": "m.json"}, json=file).json()["key"]
    empty = {**change, "key": renamed, "without": ["light.contrast"]}
    assert "hold nothing" in server.post("/api/presets/change", empty, expect=422)["error"]
    assert "already" in server.post("/api/presets/change", {**change, "key": again}, expect=422)["error"]
    shipped = next(k for k in found if k.startswith("shipped/"))
    server.post("/api/presets/change", {**change, "key": shipped}, expect=422)
    assert {renamed, again} <= {p["key"] for p in server.get("/api/presets")["presets"]}
    server.post("/api/rules", {"rules": [{k: v for k, v in r.items() if k != "words"} for r in kept]})


def test_a_view_of_a_frame_for_the_line_up(server: Running, sheet: Sheet) -> None:
    answer = server.client.get(f"/api/frames/{sheet['T0001']['id']}/view?width=200&height=150&zoom=1&x=0.5&y=0.5")
    assert answer.status_code == 200 and answer.headers["x-full"] == "600x400" and answer.content[:2] == b"\xff\xd8"
    server.get(f"/api/frames/{sheet['T0001']['id']}/view?width=2&height=150", expect=422)
