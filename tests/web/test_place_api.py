"""Order by hand over the described requests."""

from typing import Any

from serving import Running


def line(server: Running) -> list[str]:
    frames = server.get("/api/shoots/1/sheet")["frames"]
    return [f["name"][:5] for f in sorted(frames, key=lambda f: (f["stands"], f["name"]))]


def test_frames_stand_where_they_are_put(server: Running, sheet: dict[str, Any]) -> None:
    names = line(server)
    ids = {n: sheet[n]["id"] for n in names}
    body = {"frames": [ids[names[-1]], ids[names[1]]], "before": ids[names[0]]}
    assert server.post("/api/shoots/1/place", body)["done"] == "2 frames placed by hand"
    assert line(server) == [names[-1], names[1], names[0], *names[2:-1]]
    server.post("/api/shoots/1/undo")
    assert line(server) == names
    server.post("/api/shoots/1/place", {"frames": [ids[names[0]]], "before": None})
    assert line(server) == [*names[1:], names[0]]
    assert "no longer there" in server.post("/api/shoots/1/place", {"frames": [99_999]}, expect=422)["error"]
