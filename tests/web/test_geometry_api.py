"""Turns, upright lines, lenses made here, and joined frames, through a running server."""

from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import pytest
from serving import Running, running

from tanner.studio.camera import take
from tanner.studio.demo import frames


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    with running(tmp_path_factory.mktemp("geometry")) as result:
        photos = result.folder / "photos"
        wide = next(s for s in frames() if s.scene == "workshop-1")
        for n, aside in enumerate((-0.6, 0.0, 0.6)):
            shot = replace(wide, name=f"W{n}.DNG", span=0.5, shift=(aside, 0.0), width=1740, height=1160, seed=n)
            (photos / shot.name).write_bytes(take(shot))
        shoot = result.post("/api/shoots", {"name": "Workshop"})["id"]
        result.bring_in(shoot, sorted(photos.iterdir()))
        yield result


@pytest.fixture(scope="module")
def ids(server: Running) -> list[int]:
    return [f["id"] for f in sorted(server.get("/api/shoots/1/sheet")["frames"], key=lambda f: f["name"])]


def test_frames_are_turned_as_they_are_seen_in_one_step(server: Running, ids: list[int]) -> None:
    before = server.get(f"/api/frames/{ids[0]}")["values"]
    server.post("/api/edit", {"frames": ids[:1], "values": {"crop.left": 0.2, "crop.ratio": "3:2"}})
    assert server.post("/api/turn", {"frames": ids[:2], "by": "90"})["done"] == "Turned by 90°"
    values = server.get(f"/api/frames/{ids[0]}")["values"]
    assert (values["crop.turn"], values["crop.top"], values["crop.ratio"]) == ("90", 0.2, "2:3")
    header, _ = server.view(ids[1])
    assert header["upright"] == [1160, 1740]
    server.post("/api/shoots/1/undo")
    assert server.get(f"/api/frames/{ids[1]}")["values"].get("crop.turn", "0") == "0"
    server.post("/api/shoots/1/undo")
    assert server.get(f"/api/frames/{ids[0]}")["values"] == before
    server.post("/api/turn", {"frames": ids[:1], "by": "45"}, expect=422)


def test_lines_give_settings_and_nothing_is_changed_by_asking(server: Running, ids: list[int]) -> None:
    url = f"/api/frames/{ids[1]}/upright"
    found = server.post(url)
    # The simulated camera stood level, but this is a part of its picture from beside the middle.
    assert abs(found["values"]["perspective.vertical"]) < 2.5 and abs(found["values"]["crop.straighten"]) < 0.6
    assert found["used"] >= 3
    one = server.post(url, {"lines": [[0.2, 0.2, 0.22, 0.8]]})
    assert set(one["values"]) == {"crop.straighten"} and one["values"]["crop.straighten"] > 1
    two = server.post(url, {"lines": [[0.2, 0.2, 0.22, 0.8], [0.8, 0.2, 0.78, 0.8]]})
    # Lines that come nearer to each other below: the camera looked down.
    assert two["values"]["perspective.vertical"] < -1 and abs(two["values"]["crop.straighten"]) < 0.3
    assert "perspective.vertical" not in server.get(f"/api/frames/{ids[1]}")["values"]
    trouble = server.client.post(url, json={"lines": [[0.5, 0.5, 0.5, 0.5]]})
    assert trouble.status_code == 422 and "along an edge" in trouble.text


def test_several_frames_are_made_upright_in_one_step(server: Running, ids: list[int]) -> None:
    result = server.post("/api/upright", {"frames": ids})
    assert result["changed"] == 3 and result["trouble"] == []
    values = [server.get(f"/api/frames/{i}")["values"] for i in ids]
    assert all("perspective.vertical" in v for v in values) and len({v["perspective.vertical"] for v in values}) > 1
    server.post("/api/shoots/1/undo")
    assert all("perspective.vertical" not in server.get(f"/api/frames/{i}")["values"] for i in ids)
    refused = server.post("/api/upright", {"frames": ids[:1], "limit": 1})
    assert refused["changed"] in (0, 1) and refused["changed"] + len(refused["trouble"]) == 1
    if refused["changed"]:
        server.post("/api/shoots/1/undo")


def test_what_is_said_about_a_frames_geometry(server: Running, ids: list[int]) -> None:
    header, _ = server.view(ids[1], values={"crop.outside": "backdrop", "crop.left": -0.2})
    assert any("left border" in n for n in header["notes"])
    header, _ = server.view(ids[1], values={"crop.outside": "empty"}, whole=True)
    assert header["margin"] == 0.3 and header["notes"] == []


def test_a_lens_is_measured_and_in_use_at_once(server: Running, ids: list[int]) -> None:
    made = server.post("/api/lens/make", {"frames": ids})
    assert made["distortion"]["after"] <= made["distortion"]["before"] and made["frames"] == 3
    assert [x["key"] for x in server.get("/api/lenses?q=finch+14")["lenses"]] == [made["key"]]
    values = {"optics.chosen_lens": made["key"], "optics.distortion": 100}
    header, _ = server.view(ids[0], values=values)
    assert header["notes"] == []
    header, _ = server.view(ids[0], values={"optics.chosen_lens": "no such lens"})
    assert "not in the database" in header["notes"][0]


def _joined(server: Running, body: dict[str, Any]) -> dict[str, Any]:
    job = server.post("/api/merge", body)
    return server.until(f"/api/merges/{job['id']}", lambda state: state["state"] != "working")


def test_joined_frames_come_in_beside_their_originals(server: Running, ids: list[int]) -> None:
    state = _joined(server, {"frames": ids, "kind": "flat"})
    assert state["state"] == "done", state
    sheet = {f["id"]: f for f in server.get("/api/shoots/1/sheet")["frames"]}
    new = sheet[state["frame"]]
    assert new["name"] == "W0-wide.dng" and new["set"] == sheet[ids[0]]["set"] and new["w"] > 1740
    assert (server.folder / "photos" / "W0-wide.dng").exists()
    facts = server.get(f"/api/frames/{new['id']}")["starting"]
    assert "optics.distortion" not in facts
    assert not list((server.folder / "data" / "work").glob("*"))
    # A result of the very same numbers is no second frame: the one that is there is shown, and no copy is left.
    copy = server.folder / "photos" / "W0-wide-2.dng"
    copy.write_bytes((server.folder / "photos" / "W0-wide.dng").read_bytes())
    assert server.services.merges._bring_in(copy, 1, new["set"]) == new["id"] and not copy.exists()
    again = _joined(server, {"frames": ids[:2], "kind": "flat"})
    assert again["state"] == "done" and sheet.keys() != {again["frame"]}


def test_a_merge_is_cancelled_and_trouble_is_told(server: Running, ids: list[int]) -> None:
    job = server.post("/api/merge", {"frames": ids, "kind": "sphere"})
    server.post(f"/api/merges/{job['id']}/cancel")
    state = server.until(f"/api/merges/{job['id']}", lambda state: state["state"] != "working")
    assert state["state"] == "cancelled" and state["frame"] is None
    before = sorted(p.name for p in (server.folder / "photos").iterdir())
    failed = _joined(server, {"frames": [ids[0], ids[2]], "kind": "focus"})
    assert failed["state"] == "failed" and "same setup" in failed["text"]
    assert sorted(p.name for p in (server.folder / "photos").iterdir()) == before
    server.post("/api/merge", {"frames": ids[:1], "kind": "flat"}, expect=422)
    server.get("/api/merges/999", expect=422)
