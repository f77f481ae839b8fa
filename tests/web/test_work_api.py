"""All long work in one list: how far it is, what failed, how it is stopped."""

from pathlib import Path
from typing import Any

from serving import Running, with_lamps


def test_work_is_listed_with_its_end(originals: Path, tmp_path: Path) -> None:
    with with_lamps(tmp_path, originals) as server:
        frames = [f["id"] for f in server.get("/api/shoots/1/sheet")["frames"]]
        (imported,) = listed(server, "import")
        assert imported["over"] and (imported["done"], imported["count"]) == (3, 3) and imported["failed"] == []
        out = server.folder / "out"
        wish = {"frames": frames, "specs": [{"title": "Web", "size": "long:120"}], "folder": str(out)}
        number = server.post("/api/shoots/1/deliver", wish)["delivery"]
        server.until("/api/work", lambda state: all(w["over"] for w in state["work"]))
        (delivery,) = listed(server, "delivery")
        assert delivery["id"] == number and delivery["done"] == delivery["count"] == 3 and delivery["cancel"] is None
        check = server.post("/api/shoots/1/check")["id"]
        server.until("/api/work", lambda state: all(w["over"] for w in state["work"]))
        (done,) = listed(server, "check")
        assert done["id"] == check and "3 of 3 originals are as they came in" in done["text"]
        # What fails is said with its reason; running work comes first, with the way to stop it.
        copies = {"frames": frames, "options": {"method": "fine"}}
        job = server.post("/api/quiet/copies", copies)["id"]
        first = server.get("/api/work")["work"][0]
        if not first["over"]:
            assert first["kind"] == "noise" and first["cancel"] == f"/api/quiet/{job}/cancel"
            server.post(first["cancel"])
        server.until("/api/work", lambda state: all(w["over"] for w in state["work"]))


def listed(server: Running, kind: str) -> list[dict[str, Any]]:
    return [w for w in server.get("/api/work")["work"] if w["kind"] == kind]


def test_a_missing_original_is_named_in_the_work(originals: Path, tmp_path: Path) -> None:
    with with_lamps(tmp_path, originals) as server:
        frames = [f["id"] for f in server.get("/api/shoots/1/sheet")["frames"]]
        (server.folder / "photos" / "T0002.DNG").unlink()
        wish = {"frames": frames, "specs": [{"title": "Web", "size": "long:120"}], "folder": str(server.folder / "out")}
        server.post("/api/shoots/1/deliver", wish)
        server.until("/api/work", lambda state: all(w["over"] for w in state["work"]))
        (delivery,) = listed(server, "delivery")
        assert delivery["failed"] and delivery["failed"][0].startswith("1 not written: ")
