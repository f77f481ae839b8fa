"""Deliveries through the API: filters, the table, what pictures tell, a proof, the job and its checks; words; the token."""

import hashlib
import io
from pathlib import Path
from typing import Any

import pytest
from PIL import Image
from serving import Running

Sheet = dict[str, dict[str, Any]]
WEB = {"title": "Web", "size": "long:300", "subfolder": "web"}
DNG = {"title": "Archive", "format": "dng", "exists": "skip"}


def ended(server: Running, number: int) -> dict[str, Any]:
    def over(record: dict[str, Any]) -> bool:
        resting = record["state"] in ("done", "cancelled", "paused")
        return resting and not any(i["state"] == "running" for i in record["items"])

    return server.until(f"/api/deliveries/{number}", over)


def test_filters_choose_frames(server: Running, sheet: Sheet) -> None:
    ids = {n: f["id"] for n, f in sheet.items()}
    server.post("/api/marks", {"frames": [ids["T0001"], ids["T0011"]], "stars": 4})
    server.post("/api/marks", {"frames": [ids["T0011"]], "verdict": "keep", "label": "red"})

    def chosen(text: str) -> list[int]:
        return list(server.post("/api/shoots/1/choose", {"filter": text})["frames"])

    assert chosen("stars>=3") == [ids["T0001"], ids["T0011"]]
    assert chosen("stars>=3 and not label:red") == [ids["T0001"]]
    assert chosen("keep or name:0002") == [ids["T0002"], ids["T0011"]]
    assert len(chosen("")) == len(sheet)
    assert "bracket" in server.post("/api/shoots/1/choose", {"filter": "(keep"}, 422)["error"]


def test_the_table_and_what_pictures_tell(server: Running, sheet: Sheet) -> None:
    ids = [sheet[n]["id"] for n in ("T0001", "T0002", "T0003")]
    wish = {"filter": "name:T000", "specs": [WEB, {**WEB, "size": "percent:200", "name": "{number:3}"}], "start": 7}
    plan = server.post("/api/shoots/1/plan", {**wish, "folder": str(server.folder / "out")})
    assert [Path(r["target"]).name for r in plan["rows"][:4]] == ["T0001.jpg", "007.jpg", "T0002.jpg", "008.jpg"]
    assert all(r["bytes"] > 1000 for r in plan["rows"]) and plan["bytes"] == sum(r["bytes"] for r in plan["rows"])
    assert "enlarges" in plan["rows"][1]["notes"] and "no rights set" in plan["rows"][0]["notes"]
    server.post("/api/shoots/1/words", {"rights": "© Alder"})
    server.post("/api/nudge", {"frames": [ids[1]], "ev": 1.5})
    plan = server.post("/api/shoots/1/plan", {**wish, "folder": str(server.folder / "out")})
    assert "no rights set" not in plan["rows"][0]["notes"] and not any(
        "developed" in n for n in plan["rows"][2]["notes"]
    )
    found = server.until("/api/shoots/1/checks", lambda state: not state["pending"], {"frames": ids})
    assert any("outside the Line-up: lighter" in n for n in found["notes"][str(ids[1])])


def test_a_proof_is_the_file_that_would_be_written(server: Running, sheet: Sheet) -> None:
    frame = sheet["T0001"]["id"]
    made = server.post("/api/shoots/1/proof", {"frame": frame, "spec": WEB})
    data = server.client.get(f"/api/proofs/{made['proof']}").content
    assert len(data) == made["bytes"] and Image.open(io.BytesIO(data)).size == (300, 200)
    number = server.post(
        "/api/shoots/1/deliver", {"frames": [frame], "specs": [WEB], "folder": str(server.folder / "out" / "p")}
    )
    record = ended(server, number["delivery"])
    assert record["items"][0]["sha256"] == hashlib.sha256(data).hexdigest()
    for kind in ("tiff16", "jxl"):
        made = server.post("/api/shoots/1/proof", {"frame": frame, "spec": {**WEB, "format": kind}})
        shown = server.client.get(f"/api/proofs/{made['proof']}")
        assert shown.headers["content-type"] == "image/png" and Image.open(io.BytesIO(shown.content)).size == (300, 200)
    assert not server.post("/api/shoots/1/proof", {"frame": frame, "spec": DNG})["shown"]
    assert "no longer" in server.get("/api/proofs/999", 422)["error"]


def test_cut_outs_are_looked_at_and_refused_in_plain_words(server: Running, sheet: Sheet) -> None:
    frame = sheet["T0011"]["id"]
    disc = {"kind": "round", "at": [0, 0], "radii": [0.2, 0.2], "softness": 0.1}
    made = server.post("/api/areas", {"frames": [frame], "shapes": [disc], "name": "Disc"})
    outline = {**WEB, "cut": "outline", "cut_area": "disc"}
    proof = server.post("/api/shoots/1/proof", {"frame": frame, "spec": outline})
    shown = server.client.get(f"/api/proofs/{proof['proof']}")
    assert shown.headers["content-type"] == "image/svg+xml" and b"<path" in shown.content
    wrong = server.post("/api/shoots/1/proof", {"frame": frame, "spec": {**WEB, "cut": "alpha"}}, 422)
    assert wrong["error"] == "Alpha is written as PNG or TIFF or WebP."
    unknown = server.post("/api/shoots/1/proof", {"frame": frame, "spec": {**outline, "cut_area": "Lamp"}}, 422)
    assert "no area called Lamp" in unknown["error"] and "Disc" in unknown["error"]
    server.post("/api/areas/remove", {"frames": [frame], "areas": [made["area"]]})


def test_a_delivery_is_followed_checked_and_looked_at(server: Running, sheet: Sheet) -> None:
    out = server.folder / "out" / "followed"
    ids = [sheet["T0001"]["id"], sheet["T0011"]["id"]]
    documents = {"contact": True, "table": True, "checksums": True, "zip": True}
    wish = {"frames": ids, "specs": [WEB, DNG], "folder": str(out), "documents": documents}
    number = server.post("/api/shoots/1/deliver", wish)["delivery"]
    record = ended(server, number)
    assert {i["state"] for i in record["items"]} == {"done"} and record["items"][0]["original_bytes"] > 100_000
    progress = server.get(f"/api/deliveries/{number}/progress")
    assert progress["states"] == {"done": 4} and len(progress["items"]) == 4
    assert server.get(f"/api/deliveries/{number}/progress?since={progress['counter']}")["items"] == []
    assert {d["kind"] for d in progress["documents"]} == {"contact", "table", "checksums", "zip"}
    for item in record["items"]:
        picture = server.client.get(f"/api/deliveries/{number}/items/{item['id']}/picture")
        assert picture.status_code == 200 and picture.headers["content-type"] == "image/jpeg"
    assert b"T0001.DNG" in server.client.get(f"/api/deliveries/{number}/list.csv").content
    first, second = (Path(i["path"]) for i in record["items"][:2])
    first.write_bytes(first.read_bytes() + b"x")
    second.unlink()
    server.post(f"/api/deliveries/{number}/check")
    found = server.over(f"/api/deliveries/{number}/check")
    assert sorted(found["found"].values()) == ["changed", "gone"] and found["total"] == 4
    assert server.post(f"/api/deliveries/{number}/cancel") == {"cancelled": True}
    assert server.get(f"/api/deliveries/{number}")["state"] == "done"  # what is over stays so
    assert server.get("/api/shoots/1/deliveries")["deliveries"][0]["total"] == 4


def test_words_of_a_shoot_and_of_frames(server: Running, sheet: Sheet) -> None:
    ids = [sheet["T0001"]["id"], sheet["T0002"]["id"]]
    server.post("/api/shoots/1/words", {"words": {"city": "Alderfinch", "caption": "{set}: {name}"}})
    server.post("/api/words", {"frames": ids, "words": {"headline": "Lamps, {camera}"}})
    server.post("/api/words", {"frames": ids[:1], "words": {"city": "Finchley"}})
    read = server.post("/api/words/read", {"frames": ids})
    assert (
        read["own"]["city"] is None
        and read["own"]["headline"] == "Lamps, {camera}"
        and read["shoot"]["city"] == "Alderfinch"
    )
    assert read["written"]["caption"].endswith(": T0001") and read["written"]["headline"] == "Lamps, Alder One"
    server.post("/api/words", {"frames": ids, "words": {"headline": ""}})
    assert "headline" not in server.post("/api/words/read", {"frames": ids})["written"]
    assert "no token" in server.post("/api/words", {"frames": ids, "words": {"caption": "{oops}"}}, 422)["error"]
    assert "no field" in server.post("/api/words", {"frames": ids, "words": {"mood": "x"}}, 422)["error"]


def test_data_are_given_to_own_pages_and_to_programs_with_the_token(server: Running) -> None:
    import httpx

    with httpx.Client(base_url=server.url) as stranger:
        assert stranger.get("/api/specs").status_code == 401
        assert stranger.get("/api/specs", headers={"authorization": "Bearer wrong"}).status_code == 401
        assert stranger.get("/api/specs", headers={"cookie": f"tanner_{server.port}=wrong"}).status_code == 401
        page = stranger.get("/")
        assert (
            "httponly" in page.headers["set-cookie"].lower() and "samesite=strict" in page.headers["set-cookie"].lower()
        )
        assert stranger.get("/api/specs").status_code == 200  # with the page's cookie
    file = server.folder / "data" / "token"
    assert file.stat().st_mode & 0o077 == 0 and file.read_text().strip() == server.services.token


def test_the_api_is_described(server: Running) -> None:
    """Every call that is described says what it does; the description is OpenAPI 3.1 and names the token."""
    schema = server.get("/api/openapi.json")
    assert (
        schema["openapi"].startswith("3.1") and schema["components"]["securitySchemes"]["token"]["scheme"] == "bearer"
    )
    for wanted in (
        "/api/shoots",
        "/api/edit",
        "/api/presets",
        "/api/shoots/{shoot_id}/deliver",
        "/api/frames/{frame_id}",
    ):
        assert wanted in schema["paths"]
    assert [p for p, calls in schema["paths"].items() for c in calls.values() if not c.get("description")] == []
    page = server.client.get("/programs").text
    assert "/api/shoots/{shoot_id}/deliver" in page and "openapi.json" in page


@pytest.mark.parametrize("size", ["long:60000", "box:60000x60000"])
def test_sizes_that_cannot_be_written_fail_alone(server: Running, sheet: Sheet, size: str) -> None:
    specs = [WEB, {"title": "Huge", "size": size, "enlarge": "lanczos", "format": "tiff16"}]
    wish = {"frames": [sheet["T0001"]["id"]], "specs": specs, "folder": str(server.folder / "out" / "huge")}
    record = ended(server, server.post("/api/shoots/1/deliver", wish)["delivery"])
    assert [i["state"] for i in record["items"]] == ["done", "failed"]
    assert "more than can be written" in record["items"][1]["message"]


def test_a_frame_that_was_taken_out_is_told_before_the_table(server: Running, sheet: dict[str, dict[str, Any]]) -> None:
    one, other = sheet["T0001"]["id"], sheet["T0002"]["id"]
    spec = server.get("/api/specs")["specs"][0]
    spec = {k: v for k, v in spec.items() if k not in ("key", "said")}
    body = {"frames": [one, other], "specs": [spec], "folder": str(server.folder / "out")}
    assert len(server.post("/api/shoots/1/plan", body)["rows"]) == 2
    server.post("/api/take-out", {"frames": [other]})
    assert "no longer there" in server.post("/api/shoots/1/plan", body, expect=422)["error"]
    assert (
        server.post("/api/shoots/1/plan", {**body, "frames": []}, expect=422)["error"] == "Choose at least one frame."
    )
