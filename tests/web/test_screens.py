"""What the screens' modules fetch and send, through a running server."""

import io
import json
import time
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from made import exposure
from PIL import Image
from serving import Running

from tanner.studio.camera import take

Sheet = dict[str, dict[str, Any]]


def pixels(data: bytes) -> np.ndarray:
    return np.asarray(Image.open(io.BytesIO(data))).astype(int)


# --- pages -----------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    "path", ["/", "/kit", "/shoots/1/import", "/shoots/1/sheet", "/shoots/1/bench", "/shoots/1/deliver"]
)
def test_pages_open_and_name_nothing_outside(server: Running, path: str) -> None:
    page = server.client.get(path)
    assert page.status_code == 200 and "Tanner" in page.text
    assert "http://" not in page.text and "https://" not in page.text
    assert "style=" not in page.text and "onclick" not in page.text


def test_a_shoot_opens_where_work_goes_on(server: Running) -> None:
    assert server.client.get("/shoots/1").headers["location"] == "/shoots/1/sheet"
    empty = server.post("/api/shoots", {"name": "Empty"})["id"]
    assert server.client.get(f"/shoots/{empty}").headers["location"] == f"/shoots/{empty}/import"
    assert server.client.get(f"/shoots/{empty}/bench").headers["location"] == f"/shoots/{empty}/import"
    assert "Empty" in server.client.get("/").text
    assert server.client.get("/shoots/999/sheet").status_code == 422


def test_every_adjustment_has_its_control(server: Running) -> None:
    from tanner.core.adjust.registry import adjustments
    from tanner.core.areas.declare import AREAS

    page = server.client.get("/shoots/1/bench").text
    for a in adjustments().values():
        if a.spec.widget in ("rule", "curve", "switch"):
            assert f'data-key="{a.key}"' in page
    table = json.loads(page.split('id="table">')[1].split("</script>")[0])
    assert {k for k in table if not k.startswith(("areas/00000000/", "picked/00000000/", "spots/00000000/"))} == set(
        adjustments()
    )
    assert {f"areas/00000000/{n}" for n in AREAS.adjustments} < set(table)


def test_links_of_the_bench_lead_somewhere_before_its_scripts_have_run(server: Running) -> None:
    page = server.client.get("/shoots/1/bench?frame=2").text
    assert 'href="/shoots/1/profile?frame=2"' in page
    assert 'href="/api/frames/2/look.cube"' in page


# --- import ------------------------------------------------------------------------------------------


def test_import_shows_what_is_in_already(server: Running) -> None:
    card = server.folder / "card"
    found = server.get("/api/shoots/1/found", params={"path": str(card)})
    assert found["card"] and [f["name"] for f in found["files"]] == ["COPY.DNG", "T0021.DNG"]
    known = server.post("/api/shoots/1/known", {"files": [f["path"] for f in found["files"]]})["files"]
    assert [k["in"] for k in known.values()] == ["T0001.DNG", None]


def test_import_from_the_card_copies(server: Running) -> None:
    shoot = server.post("/api/shoots", {"name": "Card"})["id"]
    card = sorted((server.folder / "card").rglob("*.DNG"))
    state = server.bring_in(shoot, card, server.folder / "photos" / "copied")
    assert [i["state"] for i in state["items"]] == ["in", "in"]
    frames = server.get(f"/api/shoots/{shoot}/sheet")["frames"]
    assert {f["name"] for f in frames} == {"COPY.DNG", "T0021.DNG"}
    assert (server.folder / "photos" / "copied" / "T0021.DNG").read_bytes() == card[1].read_bytes()
    error = server.post(f"/api/shoots/{shoot}/import", {"files": [str(card[0])], "copy_to": str(card[0].parent)}, 422)
    assert "where they lie" in error["error"]


def test_an_import_is_planned_and_its_recipe_is_kept(server: Running) -> None:
    shoot = server.post("/api/shoots", {"name": "Recipe"})["id"]
    card = sorted((server.folder / "card").rglob("*.DNG"))
    to = server.folder / "photos" / "planned"
    how = {"copy_to": str(to), "folder": "{year}", "name": "{shoot}", "keywords": ["lamp"]}
    plan = server.post(f"/api/shoots/{shoot}/import/plan", {**how, "files": [str(f) for f in card]})
    assert [r["target"] for r in plan["rows"]] == [f"{to}/2026/Recipe.DNG", f"{to}/2026/Recipe-2.DNG"]
    assert plan["rows"][0]["clash"] == "" and "gets a number" in plan["rows"][1]["clash"] and plan["trouble"] == ""
    assert not to.exists()
    server.post(f"/api/shoots/{shoot}/import/plan", {**how, "name": "{nonsense}", "files": [str(card[0])]}, 422)
    server.post(f"/api/shoots/{shoot}/import/plan", {**how, "second": "/etc", "files": [str(card[0])]}, 403)
    job = server.post(f"/api/shoots/{shoot}/import", {**how, "files": [str(f) for f in card]})["job"]
    done = server.until(f"/api/imports/{job}", lambda state: state["stage"] == "done")
    assert {p.name for p in (to / "2026").iterdir()} == {"Recipe.DNG", "Recipe-2.DNG"} and done["into"] == 2
    # Only what is new since then comes again.
    assert server.get(f"/api/imports/{job}?since={done['at']}")["items"] == []
    assert len(server.get(f"/api/imports/{job}?since=1")["items"]) == 1
    assert server.get(f"/api/shoots/{shoot}/recipe")["recipe"]["folder"] == "{year}"


def test_pictures_are_seen_before_anything_is_brought_in(server: Running) -> None:
    path = next((server.folder / "card").rglob("T0021.DNG"))
    for large in ("false", "true"):
        answer = server.client.get("/api/import/picture", params={"path": str(path), "large": large})
        assert answer.status_code == 200 and answer.content[:2] == b"\xff\xd8"
    server.get("/api/import/picture?path=/etc/passwd", 403)
    found = server.get("/api/cards")["cards"]
    assert [(c["path"], c["opened"]) for c in found if "card" in c["path"]] == [(str(server.folder / "card"), True)]
    assert server.post("/api/cards/open", {"path": str(server.folder / "card")})["path"]
    server.post("/api/cards/open", {"path": "/etc"}, 422)


def test_an_import_that_is_not_known(server: Running) -> None:
    assert "no longer known" in server.get("/api/imports/999", 422)["error"]
    assert server.post("/api/imports/999/cancel") == {"cancelled": False}


# --- sheet -----------------------------------------------------------------------------------------------


def test_the_sheet_lists_frames_in_sets(server: Running, sheet: Sheet) -> None:
    assert {f["set"] for f in (sheet["T0001"], sheet["T0002"], sheet["T0003"])} != {sheet["T0011"]["set"]}
    assert sheet["T0001"]["lead"] and sheet["T0002"]["follows"] and not sheet["T0002"]["lead"]
    picture = server.client.get(f"/api/frames/{sheet['T0001']['id']}/picture", params={"v": sheet["T0001"]["v"]})
    assert picture.status_code == 200 and "immutable" in picture.headers["cache-control"]
    assert Image.open(io.BytesIO(picture.content)).size == (512, 341)


def test_pictures_follow_the_lead(server: Running, sheet: Sheet) -> None:
    """A change on the lead gives its followers new versions, and their pictures are made."""
    lead, follower = sheet["T0001"], sheet["T0002"]
    url = f"/api/frames/{follower['id']}/picture"
    before = pixels(server.client.get(url, params={"v": follower["v"]}).content)
    server.post("/api/edit", {"frames": [lead["id"]], "values": {"light.exposure": 1.5}})
    rows = {f["id"]: f for f in server.get("/api/shoots/1/sheet")["frames"]}
    version = rows[follower["id"]]["v"]
    assert version != follower["v"]
    stale = server.client.get(url, params={"v": version})
    assert stale.headers["cache-control"] in ("no-store", "private, max-age=31536000, immutable")
    for _ in range(400):
        answer = server.client.get(url, params={"v": version})
        if "immutable" in answer.headers["cache-control"]:
            break
        time.sleep(0.05)
    assert pixels(answer.content).mean() > before.mean() + 20
    news = server.get("/api/shoots/1/pictures", params={"since": 0})
    assert str(follower["id"]) in news["ready"]


def test_marks_and_undo(server: Running, sheet: Sheet) -> None:
    ids = [sheet["T0001"]["id"], sheet["T0011"]["id"]]
    server.post("/api/marks", {"frames": ids, "stars": 4, "verdict": "keep", "label": "green"})
    rows = {f["id"]: f for f in server.get("/api/shoots/1/sheet")["frames"]}
    assert all((rows[i]["stars"], rows[i]["verdict"], rows[i]["label"]) == (4, "keep", "green") for i in ids)
    assert server.post("/api/shoots/1/undo")["done"]
    rows = {f["id"]: f for f in server.get("/api/shoots/1/sheet")["frames"]}
    assert rows[ids[0]]["stars"] == 0


def test_sets_by_hand(server: Running, sheet: Sheet) -> None:
    one, two, far = sheet["T0001"], sheet["T0002"], sheet["T0011"]
    server.post("/api/sets/move", {"frames": [two["id"]]})
    rows = {f["id"]: f for f in server.get("/api/shoots/1/sheet")["frames"]}
    assert rows[two["id"]]["lead"] and rows[two["id"]]["set"] not in (one["set"], far["set"])
    server.post("/api/sets/merge", {"into": far["set"], "others": [one["set"], rows[two["id"]]["set"]]})
    data = server.get("/api/shoots/1/sheet")
    assert [s["id"] for s in data["sets"]] == [far["set"]] and len({f["set"] for f in data["frames"]}) == 1
    server.post(f"/api/frames/{two['id']}/lead")
    server.post(f"/api/sets/{far['set']}/name", {"name": "All of them"})
    data = server.get("/api/shoots/1/sheet")
    assert data["sets"][0]["name"] == "All of them" and data["sets"][0]["lead"] == two["id"]


# --- bench -------------------------------------------------------------------------------------------------


def test_a_view_fits_and_says_what_it_shows(server: Running, sheet: Sheet) -> None:
    header, jpeg = server.view(sheet["T0001"]["id"])
    assert header["full"] == [600, 400] and header["size"] == [400, 267] and not header["draft"]
    assert pixels(jpeg).shape == (267, 400, 3)
    assert sum(header["histogram"]["bins"][0]) > 40000 and len(header["histogram"]["high"]) == 3
    draft, small = server.view(sheet["T0001"]["id"], draft=True)
    assert draft["size"] == [200, 133] and pixels(small).shape == (133, 200, 3)


def test_zoomed_views_are_parts_at_true_size(server: Running, sheet: Sheet) -> None:
    frame = sheet["T0001"]["id"]
    header, jpeg = server.view(frame, zoom=1, x=0.9, y=0.1)
    assert header["size"] == [600, 400] and header["region"] == [200, 0, 600, 300]
    assert pixels(jpeg).shape == (300, 400, 3)
    header, jpeg = server.view(frame, zoom=2, x=0.5, y=0.5)
    assert header["region"] == [200, 125, 400, 275] and pixels(jpeg).shape == (150, 200, 3)


def test_values_that_move_are_shown_but_not_kept(server: Running, sheet: Sheet) -> None:
    frame = sheet["T0002"]["id"]
    _, plain = server.view(frame)
    _, bright = server.view(frame, values={"light.exposure": 1.5})
    assert pixels(bright).mean() > pixels(plain).mean() + 25
    _, again = server.view(frame)
    assert again == plain
    assert server.get(f"/api/frames/{frame}")["ownKeys"] == []


def test_before_shows_the_start_in_the_same_place(server: Running, sheet: Sheet) -> None:
    frame = sheet["T0001"]["id"]
    _, start = server.view(frame)
    server.post("/api/edit", {"frames": [frame], "values": {"light.exposure": 2.0, "crop.left": 0.25}})
    header, before = server.view(frame, before=True)
    assert header["before"] and header["full"] == [450, 400]
    assert abs(pixels(before).mean() - pixels(start).mean()) < 15
    whole, _ = server.view(frame, whole=True)
    assert whole["full"] == [600, 400] and whole["kept"] == pytest.approx([0.125, 0, 0.75, 1])


def test_what_was_rebuilt_is_marked_and_only_that(server: Running) -> None:
    path = server.folder / "photos" / "FULL.DNG"
    path.write_bytes(take(exposure("FULL.DNG", "lamp", ev=1.6)))
    shoot = server.post("/api/shoots", {"name": "Overexposed"})["id"]
    server.bring_in(shoot, [path])
    (frame,) = (f["id"] for f in server.get(f"/api/shoots/{shoot}/sheet")["frames"])
    down = {"light.exposure": -1.6}
    plain, a = server.view(frame, values=down)
    marked, b = server.view(frame, values=down, rebuilt=True)
    assert plain["histogram"] == marked["histogram"]
    changed = np.abs(pixels(a).astype(int) - pixels(b)).max(axis=-1) > 60
    assert 0.001 < changed.mean() < 0.4
    # With no colour rebuilt there is nothing to mark; a frame that is not clipped has none either.
    none = down | {"light.clipped_colour": 0.0}
    assert server.view(frame, values=none, rebuilt=True)[1] == server.view(frame, values=none)[1]
    other = server.get("/api/shoots/1/sheet")["frames"][0]["id"]
    assert np.abs(pixels(server.view(other, rebuilt=True)[1]).astype(int) - pixels(server.view(other)[1])).max() < 30


def test_clipping_is_marked_in_the_picture_only(server: Running, sheet: Sheet) -> None:
    frame, values = sheet["T0001"]["id"], {"light.exposure": 4.0}
    plain, a = server.view(frame, values=values)
    marked, b = server.view(frame, values=values, marks=True)
    assert plain["histogram"] == marked["histogram"] and max(plain["histogram"]["high"]) > 5
    assert np.abs(pixels(a) - pixels(b)).max() > 60


def test_values_out_of_range_come_back_as_words(server: Running, sheet: Sheet) -> None:
    header, jpeg = server.view(sheet["T0001"]["id"], values={"light.exposure": 99})
    assert "exposure" in header["error"] and jpeg == b""
    header, _ = server.view(99999)
    assert "no longer there" in header["error"]


def test_departures_marks_and_giving_up(server: Running, sheet: Sheet) -> None:
    lead, follower = sheet["T0001"]["id"], sheet["T0002"]["id"]
    server.post("/api/edit", {"frames": [lead], "values": {"light.shadows": 20}})
    server.post(
        "/api/edit",
        {"frames": [follower], "values": {"light.shadows": 40, "light.exposure": 0.4}, "relative": ["light.exposure"]},
    )
    state = server.get(f"/api/frames/{follower}")
    assert state["own"] == ["Shadows"] and state["offsets"] == {"ev": 0.4} and state["leadName"] == "T0001.DNG"
    assert state["below"]["light.shadows"] == 20 and state["values"]["light.shadows"] == 40
    assert [s["label"] for s in state["history"]] == ["2 adjustments of light"]
    server.post("/api/edit", {"frames": [follower], "values": {"light.exposure": 0.5}, "relative": ["light.exposure"]})
    assert server.get(f"/api/frames/{follower}")["offsets"] == {"ev": 0.5}
    server.post("/api/giveup", {"frames": [follower]})
    state = server.get(f"/api/frames/{follower}")
    assert state["own"] == [] and state["offsets"] == {} and state["values"]["light.shadows"] == 20
    step = state["history"][-1]["action"]
    server.post(f"/api/frames/{follower}/restore/{step}")
    assert server.get(f"/api/frames/{follower}")["offsets"] == {"ev": 0.4}


def test_a_pick_makes_the_place_neutral(server: Running, sheet: Sheet) -> None:
    """The sweep behind the lamp is nearly grey: after a pick it is."""
    frame = sheet["T0001"]["id"]
    server.post("/api/edit", {"frames": [frame], "values": {"white.temperature": 3500, "white.tint": 30}})
    found = server.post(f"/api/frames/{frame}/pick", {"x": 0.12, "y": 0.3})["values"]
    server.post("/api/edit", {"frames": [frame], "values": found})
    _, jpeg = server.view(frame)
    patch = pixels(jpeg)[70:90, 40:56].reshape(-1, 3).mean(axis=0)
    assert np.ptp(patch) < 2.5


# --- presets and carry over ------------------------------------------------------------------------------------


def test_presets_are_tried_applied_saved_and_moved(server: Running, sheet: Sheet) -> None:
    frame, other = sheet["T0001"]["id"], sheet["T0011"]["id"]
    keys = {p["name"]: p["key"] for p in server.get("/api/presets")["presets"]}
    tried = {}
    for amount in (0, 100, 150):
        answer = server.client.get(f"/api/frames/{frame}/try", params={"key": keys["Silver"], "amount": amount})
        tried[amount] = pixels(answer.content)
    assert np.ptp(tried[100], axis=2).max() < 14 < np.ptp(tried[0], axis=2).max()
    assert server.get(f"/api/frames/{frame}")["ownKeys"] == []
    server.post("/api/apply", {"frames": [frame, other], "key": keys["Deep wood"], "amount": 50})
    assert server.get(f"/api/frames/{other}")["values"]["light.contrast"] == 8

    saved = server.post(f"/api/frames/{frame}/preset", {"name": "Mine", "folder": "Own", "groups": ["light"]})["key"]
    assert "already" in server.post(f"/api/frames/{frame}/preset", {"name": "Mine", "groups": ["light"]}, 422)["error"]
    assert "neutral" in server.post(f"/api/frames/{frame}/preset", {"name": "None", "groups": ["noise"]}, 422)["error"]
    file = server.client.get("/api/presets/file", params={"key": saved})
    assert set(json.loads(file.content)["values"]) == {"light.contrast", "light.local_contrast", "light.black_point"}
    assert server.client.delete("/api/presets", params={"key": saved}).status_code == 200
    again = server.client.post("/api/presets/file", params={"name": "Mine.json"}, content=file.content)
    assert again.json() == {"key": saved}
    bad = server.client.post("/api/presets/file", params={"name": "bad.json"}, content=b'{"name": "x"')
    assert bad.status_code == 422 and bad.json()["error"].startswith("bad.json")
    server.client.delete("/api/presets", params={"key": saved})


def test_the_shoots_preset(server: Running, sheet: Sheet) -> None:
    key = next(p["key"] for p in server.get("/api/presets")["presets"] if p["name"] == "Deep wood")
    server.post("/api/shoots/1/preset", {"key": key, "amount": 100})
    assert server.get("/api/shoots/1/sheet")["preset"] == {"name": "Deep wood", "amount": 100}
    state = server.get(f"/api/frames/{sheet['T0003']['id']}")
    assert state["values"]["light.contrast"] == 16 and state["layers"]["light.contrast"] == "preset"


def test_carry_over_to_any_selection(server: Running, sheet: Sheet) -> None:
    source, far = sheet["T0001"]["id"], [sheet["T0011"]["id"], sheet["T0012"]["id"]]
    server.post("/api/edit", {"frames": [source], "values": {"light.contrast": 30, "crop.left": 0.2}})
    listed = server.get(f"/api/frames/{source}/carry")
    chosen = [a["key"] for a in listed["adjustments"] if a["chosen"]]
    assert chosen == ["light.contrast"]
    done = server.post("/api/carry", {"source": source, "frames": far, "keys": chosen})
    assert done["changed"] == 1  # the second follows the first
    assert all(server.get(f"/api/frames/{i}")["values"]["light.contrast"] == 30 for i in far)


# --- deliver --------------------------------------------------------------------------------------------------


def test_own_specs(server: Running) -> None:
    spec = {"title": "Proof", "size": "long:900"}
    key = server.post("/api/specs", {"spec": spec})["key"]
    assert "already" in server.post("/api/specs", {"spec": spec}, 422)["error"]
    assert "token" in server.post("/api/specs", {"spec": {"title": "x", "name": "{oops}"}}, 422)["error"]
    assert server.client.delete("/api/specs", params={"key": key}).status_code == 200
    assert server.client.delete("/api/specs", params={"key": "shipped/print"}).status_code == 422


def test_a_frame_whose_file_went_away(server: Running, sheet: Sheet) -> None:
    frame = sheet["T0012"]["id"]
    path = Path(server.get(f"/api/frames/{frame}")["path"])
    away = path.with_suffix(".away")
    path.rename(away)
    try:
        assert "is not at" in server.post(f"/api/frames/{frame}/locate", expect=422)["error"]
    finally:
        away.rename(path)
    assert server.post(f"/api/frames/{frame}/locate")["done"]


def test_older_shoots_are_lines_and_the_newest_have_covers(server: Running) -> None:
    made = [server.post("/api/shoots", {"name": f"Line {n}"})["id"] for n in range(26)]
    page = server.client.get("/").text
    assert page.count("<article") == 24 and "Older shoots" in page
    cards, _, lines = page.partition(">Older shoots<")
    assert "Line 25" in cards and "Line 0<" in lines
    for shoot in made:
        server.post(f"/api/shoots/{shoot}/away", {"away": True})
    assert "Older shoots" not in server.client.get("/").text
