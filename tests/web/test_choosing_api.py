"""Choosing: groups of near-alikes, hints measured in the background, a picture at once, and one that is kept of its group."""

from pathlib import Path

import pytest
from serving import Running


def test_frames_come_in_groups_in_order_of_time(server: Running) -> None:
    found = server.get("/api/shoots/1/choosing")
    ids = [f["id"] for f in found["frames"]]
    assert [i for g in found["groups"] for i in g] == ids == list(dict.fromkeys(ids))
    names = {f["id"]: f["name"][:5] for f in found["frames"]}
    # The simulated lamps were taken a minute apart, the threads of another set are of another look.
    sets = {f["id"]: f["set"] for f in server.get("/api/shoots/1/sheet")["frames"]}
    assert all(len({sets[i] for i in g}) == 1 for g in found["groups"])
    assert any([names[i] for i in g] == ["T0001", "T0002", "T0003"] for g in found["groups"])
    apart = server.get("/api/shoots/1/choosing?gap_s=1")
    assert all(len(g) == 1 for g in apart["groups"])


def test_hints_are_measured_and_kept(server: Running) -> None:
    ids = [f["id"] for f in server.get("/api/shoots/1/choosing")["frames"]][:3]
    found = server.until("/api/shoots/1/hints", lambda state: len(state["measured"]) == 3, {"frames": ids})
    for measured in found["measured"].values():
        assert 0.2 < measured["sharp"] < 2 and measured["where"] in ("subject", "frame", "face")
        assert 0 <= measured["box"][0] <= 1 and 0 < measured["box"][2] <= 1 and 0 < measured["along"] <= 1
    shown = {f["id"]: f["measured"] for f in server.get("/api/shoots/1/choosing")["frames"]}
    assert all(shown[i] for i in ids)
    # What was measured can be ordered by.
    assert server.get("/api/find?sort=-sharp&q=shoot:spring")["frames"][0]["id"] in ids


def test_a_picture_is_there_at_once(server: Running) -> None:
    frame = server.get("/api/shoots/1/choosing")["frames"][0]["id"]
    answer = server.client.get(f"/api/frames/{frame}/quick", follow_redirects=True)
    assert answer.status_code == 200 and answer.content[:2] == b"\xff\xd8"


def test_one_is_kept_and_the_others_of_its_group_are_dropped_as_one_step(server: Running) -> None:
    group = max(server.get("/api/shoots/1/choosing")["groups"], key=len)
    body = {"keep": group[1], "drop": [i for i in group if i != group[1]]}
    assert "not the others" in server.post("/api/shoots/1/only-this", body)["done"]
    verdicts = {f["id"]: f["verdict"] for f in server.get("/api/shoots/1/choosing")["frames"]}
    assert [verdicts[i] for i in group] == ["keep" if i == group[1] else "drop" for i in group]
    dropped = server.get("/api/shoots/1/dropped")
    assert sorted(r["frame"] for r in dropped["frames"]) == sorted(body["drop"]) and dropped["bytes"] > 0
    server.post("/api/shoots/1/undo")
    assert {f["verdict"] for f in server.get("/api/shoots/1/choosing")["frames"]} == {"undecided"}
    assert server.client.post("/api/shoots/99/only-this", json=body).status_code == 422


def test_dropped_files_go_into_the_trash_and_come_back(
    server: Running, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    frame = server.get("/api/shoots/1/choosing")["frames"][-1]
    path = Path(server.get(f"/api/frames/{frame['id']}")["path"])
    content = path.read_bytes()
    assert server.client.post("/api/shoots/1/trash", json={"frames": [frame["id"]]}).status_code == 422  # not dropped
    server.post("/api/marks", {"frames": [frame["id"]], "verdict": "drop"})
    found = server.post("/api/shoots/1/trash", {"frames": [frame["id"]], "leads": True, "delivered": True})
    assert found["told"] == [] and not path.exists()
    assert frame["id"] not in {f["id"] for f in server.get("/api/shoots/1/choosing")["frames"]}
    assert server.post("/api/shoots/1/undo")["told"] == []
    assert path.read_bytes() == content
    server.post("/api/shoots/1/undo")
