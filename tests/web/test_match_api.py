"""Matching from the Sheet: figures for each frame, one step to undo, followers get offsets."""

from typing import Any

import pytest
from serving import Running


def over(server: Running, body: dict[str, Any]) -> dict[str, Any]:
    return server.over(f"/api/match/{server.post('/api/match', body)['id']}")


def test_followers_are_matched_by_offsets_in_one_step(server: Running, sheet: dict[str, dict[str, Any]]) -> None:
    ids = [sheet[n]["id"] for n in ("T0001", "T0002", "T0003")]
    lead = next(f for f in sheet.values() if f["id"] in ids and f["lead"])
    others = [i for i in ids if i != lead["id"]]
    # Put out of step on purpose.
    server.post("/api/edit", {"frames": others, "values": {"light.exposure": 0.7}, "relative": ["light.exposure"]})
    state = over(server, {"frames": ids, "reference": lead["id"]})
    assert "matched to" in state["message"] and state["done"] == 2
    for row in state["rows"]:
        assert row["after"] < 0.3 < row["before"] and row["confidence"] > 0.5 and "backdrop" in row["area"]
        frame = server.get(f"/api/frames/{row['frame']}")
        assert (
            frame["offsets"]["ev"] == pytest.approx(0.7 + row["ev"], abs=0.01)
            and "light.exposure" not in frame["ownKeys"]
        )
    again = over(server, {"frames": ids, "reference": lead["id"]})
    assert all(r["before"] < 0.3 for r in again["rows"])
    # The second match changed next to nothing; the first is one step for both frames.
    while server.post("/api/shoots/1/undo")["done"] == f"Matched to {lead['name']}":
        pass
    assert all(server.get(f"/api/frames/{i}")["offsets"] == {} for i in others)
    drawn = over(server, {"frames": ids, "reference": lead["id"], "what": "exposure", "box": [0.3, 0.3, 0.7, 0.7]})
    assert all("error" in r or r["mired"] == 0 for r in drawn["rows"])


def test_what_cannot_be_matched_is_said(server: Running, sheet: dict[str, dict[str, Any]]) -> None:
    first = sheet["T0001"]["id"]
    assert "besides" in server.post("/api/match", {"frames": [first], "reference": first}, 422)["error"]
    server.post("/api/match", {"frames": [first], "reference": 9999}, 422)
    server.get("/api/match/999", expect=422)
    small = over(server, {"frames": [sheet["T0002"]["id"]], "reference": first, "box": [0.5, 0.5, 0.501, 0.501]})
    assert "too small" in small["rows"][0]["error"] and small["message"].startswith("None")
