"""Spots over the API: followed in the background, seen small, told what they hold to; dust that is kept for a camera."""

import io
from collections.abc import Iterator
from dataclasses import replace

import numpy as np
import pytest
from PIL import Image
from serving import Running, running

from tanner.catalogue.dust import within
from tanner.core.spots.declare import MOST
from tanner.studio.camera import take
from tanner.studio.demo import frames
from tanner.studio.series import series

SPOT = "spots/0000000a/"


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    """Two frames of a table top, slid along under the camera, one of something else, and two plain ones of a dusty camera."""
    tops = [s for s in frames() if s.scene == "table-top"][:2]
    lamp = next(s for s in frames() if s.scene == "lamp-1")
    plain = next(s for s in series() if s.scene == "plain")
    later = plain.taken.replace(day=plain.taken.day + 1)
    shots = [*tops, lamp, plain, replace(plain, taken=later, upright=True, seed=77)]
    with running(tmp_path_factory.mktemp("spots")) as result:
        files = [result.folder / "photos" / f"H{n}.DNG" for n in range(len(shots))]
        for file, shot in zip(files, shots, strict=True):
            file.write_bytes(take(shot, compress=False))
        result.bring_in(result.post("/api/shoots", {"name": "Table"})["id"], files)
        rows = result.get("/api/shoots/1/sheet")["frames"]
        of = {f["name"]: f["id"] for f in rows}
        result.post("/api/sets/move", {"frames": [of[f"H{n}.DNG"] for n in range(3)]})
        result.post(f"/api/frames/{of['H0.DNG']}/lead", {})
        yield result


@pytest.fixture
def ids(server: Running) -> list[int]:
    rows = server.get("/api/shoots/1/sheet")["frames"]
    return [next(f["id"] for f in rows if f["name"] == f"H{n}.DNG") for n in range(5)]


def picture(server: Running, frame: int, ident: str, **asked: object) -> np.ndarray:
    answer = server.client.get(f"/api/frames/{frame}/spots/{ident}/picture", params=asked)
    assert answer.status_code == 200, answer.text
    return np.asarray(Image.open(io.BytesIO(answer.content)).convert("RGB")).astype(float)


def test_spots_are_found_in_the_frames_that_follow_and_left_alone_where_they_are_not(
    server: Running, ids: list[int]
) -> None:
    lead, second, other, *_ = ids
    put = {SPOT + "kind": "spot", SPOT + "name": "Speck", SPOT + "path": [[-0.1, 0.17]], SPOT + "size": 0.006}
    server.post("/api/edit", {"frames": [lead], "values": put})
    there = server.until(f"/api/frames/{second}", lambda f: SPOT + "judged" in f["values"])
    found = there["values"][SPOT + "found"]
    # The table was slid along: the spot with it. What was found is no departure.
    assert found[8] > 0.5 and abs(found[2]) > 0.005 and there["own"] == []
    lost = server.until(f"/api/frames/{other}", lambda f: SPOT + "judged" in f["values"])
    assert lost["values"][SPOT + "judged"].split(":")[1] in ("covered", "lost")
    header, _ = server.view(other, spots=True)
    assert header["spots"]["0000000a"]["left"] and "Left alone" in header["spots"]["0000000a"]["said"]
    header, _ = server.view(second, spots=True)
    assert header["spots"]["0000000a"]["path"][0] == pytest.approx([-0.1 + found[2], 0.17 + found[5]], abs=0.01)
    work = server.until("/api/work", lambda w: any(r["kind"] == "areas" and r["over"] for r in w["work"]))
    assert any("spots left alone in" in r["text"] and "H2.DNG" in r["text"] for r in work["work"])
    # Moved on the lead: looked for anew.
    server.post("/api/edit", {"frames": [lead], "values": {SPOT + "path": [[0.2, 0.17]]}})
    before = there["values"][SPOT + "judged"]
    server.until(f"/api/frames/{second}", lambda f: f["values"].get(SPOT + "judged") not in (None, before))
    # This frame alone: the others do without, and need not be searched.
    server.post("/api/edit", {"frames": [lead], "values": {SPOT + "holds": "frame"}})
    assert SPOT + "path" not in server.get(f"/api/frames/{second}")["values"]
    server.post("/api/edit", {"frames": [lead], "values": {SPOT + "holds": "setup"}})


def test_a_spot_is_seen_small_before_after_and_otherwise(server: Running, ids: list[int]) -> None:
    lead = ids[0]
    size = {SPOT + "size": 0.02, SPOT + "path": [[0.0, 0.0]], SPOT + "kind": "spot", SPOT + "way": "fill"}
    server.post("/api/edit", {"frames": [lead], "values": size})
    before, after = (picture(server, lead, "0000000a", shown=s, size=96) for s in ("before", "after"))
    assert before.shape == after.shape == (96, 96, 3)
    assert np.abs(before[:6] - after[:6]).mean() < 3 < np.abs(before[40:56, 40:56] - after[40:56, 40:56]).mean()
    first, third = (picture(server, lead, "0000000a", shown="proposal", number=n, size=96) for n in (0, 2))
    assert np.abs(first - after).mean() < 2 < np.abs(first - third)[30:66, 30:66].mean()
    assert "no longer there" in server.get(f"/api/frames/{lead}/spots/00000bad/picture", expect=422)["error"]


def test_what_is_dealt_with_is_not_found_again(server: Running, ids: list[int]) -> None:
    lead = ids[0]
    first = server.post(f"/api/frames/{lead}/spots/find", {})["spots"]
    speck = first[0]
    at = "spots/0000000b/"
    server.post(
        "/api/edit",
        {"frames": [lead], "values": {at + "kind": "spot", at + "path": speck["path"], at + "size": speck["size"]}},
    )
    again = server.post(f"/api/frames/{lead}/spots/find", {})["spots"]
    assert speck["path"] not in [f["path"] for f in again] and len(again) >= len(first) - 4
    server.post("/api/spots/remove", {"frames": [lead], "spots": ["0000000b"]})


def test_a_place_is_taken_from_another_frame(server: Running, ids: list[int]) -> None:
    lead, second, *_ = ids
    server.post(
        "/api/edit",
        {
            "frames": [lead],
            "values": {
                SPOT + "kind": "spot",
                SPOT + "path": [[-0.1, 0.17]],
                SPOT + "size": 0.006,
                SPOT + "way": "heal",
            },
        },
    )
    got = server.post(f"/api/frames/{lead}/spots/0000000a/from", {"frame": second})
    assert got["other"] == "H1.DNG" and abs(got["at"][2]) > 0.005
    server.post("/api/edit", {"frames": [lead], "values": {SPOT + "other": got["other"], SPOT + "other_at": got["at"]}})
    header, _ = server.view(lead, spots=True)
    assert not header["spots"]["0000000a"]["left"]
    assert "error" in server.post(f"/api/frames/{lead}/spots/0000000a/from", {"frame": 99}, expect=422)
    server.post("/api/edit", {"frames": [lead], "values": {SPOT + "other": "", SPOT + "other_at": []}})
    for name in ("../a.dng", "/etc/passwd"):
        refused = server.post("/api/edit", {"frames": [lead], "values": {SPOT + "other": name}}, expect=422)
        assert "name" in refused["error"]


def test_other_frames_are_asked_what_a_spot_holds_to(server: Running, ids: list[int]) -> None:
    lead = ids[0]
    asked = server.post(f"/api/frames/{lead}/spots/evidence", {"spots": ["0000000a"]})
    found = server.over(f"/api/questions/{asked['question']}")["spots"]["0000000a"]
    assert found["holds"] in (None, "setup", "subject", "frame", "sensor") and found["said"]


def test_dust_of_a_camera_is_found_kept_and_healed_in_its_frames_until_it_is_cleaned(
    server: Running, ids: list[int]
) -> None:
    plain, later = ids[3], ids[4]
    asked = server.post(f"/api/frames/{plain}/dust/find", {"plain": True})
    assert asked["turn"] == [1, 0, 0, 1]
    found = server.over(f"/api/questions/{asked['question']}")["specks"]
    sure = [s for s in found if s["confidence"] >= 0.5]
    assert 20 <= len(sure) <= 27
    specks = [{"x": s["at"][0], "y": s["at"][1], "size": s["size"]} for s in sure]
    ident = server.post(f"/api/frames/{plain}/dust", {"specks": specks})["dust"]
    (kept,) = server.get("/api/dust")["dust"]
    assert (
        kept["camera"] == "Alder Two" and kept["serial"] and kept["until"] is None and len(kept["specks"]) == len(sure)
    )

    def spots(frame: int) -> list[str]:
        return [
            k for k in server.get(f"/api/frames/{frame}")["values"] if k.startswith("spots/") and k.endswith("/holds")
        ]

    # Both of its frames, however it was held; none of the other camera's.
    assert len(spots(plain)) == len(spots(later)) == len(sure) and len(spots(ids[0])) <= 1
    state = server.get(f"/api/frames/{later}")
    key = next(k for k in state["values"] if k.startswith("spots/") and k.endswith("/path"))
    assert state["layers"][key] == "default" and state["own"] == []
    header, _ = server.view(later, spots=True)
    assert len(header["spots"]) == len(sure)
    assert not any(s["left"] for s in header["spots"].values())
    # Lists that read little of a frame know it, too, and are told when its days change.
    sheet = server.get("/api/shoots/1/sheet")
    v = {f["id"]: f["v"] for f in sheet["frames"]}
    assert server.get("/api/find?q=")["total"] == 5
    plan = {
        "frames": [plain, later],
        "specs": [{"title": "Web", "size": "long:200"}],
        "folder": str(server.folder / "out"),
    }
    assert server.post("/api/shoots/1/plan", plan)
    server.post(f"/api/dust/{ident}", {"since": kept["since"], "until": kept["since"]})
    anew = server.get(f"/api/shoots/1/sheet?since={sheet['tick']}&basis={sheet['basis']}")
    # The lead's followers may be searched for its spot just now, in the background.
    changed = {f["id"] for f in anew["frames"] if f["v"] != v[f["id"]]} - {ids[1], ids[2]}
    assert anew["whole"] and changed == {later}
    server.post(f"/api/dust/{ident}", {"since": kept["since"]})
    # It belongs to the camera: nobody carries it over to frames of another.
    listed = [a["key"] for a in server.get(f"/api/frames/{later}/carry")["adjustments"]]
    assert not any(k.startswith("spots/") for k in listed) and "light.exposure" in listed
    # Left out on one frame alone; given up again.
    server.post("/api/spots/remove", {"frames": [later], "spots": [key.split("/")[1]]})
    assert server.get(f"/api/frames/{later}")["values"][key.replace("/path", "/present")] is False
    server.post("/api/shoots/1/undo")
    # Cleaned the day it was found: the next day's frame is as it was taken.
    server.post(f"/api/dust/{ident}", {"since": kept["since"], "until": kept["since"]})
    assert len(spots(plain)) == len(sure) and spots(later) == []
    assert (
        "before the first"
        in server.post(f"/api/dust/{ident}", {"since": kept["since"], "until": "2001-01-01"}, expect=422)["error"]
    )
    server.client.delete(f"/api/dust/{ident}")
    assert spots(plain) == [] and server.get("/api/dust")["dust"] == []
    assert "no longer" in server.post(f"/api/dust/{ident}", {"since": kept["since"]}, expect=422)["error"]


def test_dust_that_cannot_be_read_is_told_and_not_written_over(server: Running, ids: list[int]) -> None:
    file = server.folder / "data" / "dust.json"
    file.write_text("{half")
    told = server.get("/api/dust")
    assert told["dust"] == [] and "dust.json cannot be read" in told["trouble"]
    speck = {"x": 0.1, "y": 0.1, "size": 0.003}
    kept = server.post(f"/api/frames/{ids[3]}/dust", {"specks": [speck]})
    assert [f.read_text() for f in file.parent.glob("dust.damaged-*.json")] == ["{half"]
    assert server.get("/api/dust")["trouble"] == ""
    server.client.delete(f"/api/dust/{kept['dust']}")


def test_dust_leaves_room_for_the_spots_of_a_frame() -> None:
    dust = {f"spots/{n:08x}/{k}": k for n in range(30) for k in ("kind", "path")}
    own = {f"spots/{n + 1000:08x}/path": [] for n in range(MOST - 10)}
    kept = within(dust, (own, {}))
    assert list(kept) == list(dust)[:20] and within(dust, ({}, {})) == dust
    assert within(dust, ({f"spots/{n + 1000:08x}/path": [] for n in range(MOST + 5)},)) == {}


def test_a_question_is_stopped_and_told_in_work(server: Running, ids: list[int]) -> None:
    asked = server.post(f"/api/frames/{ids[4]}/dust/find", {})
    assert asked["turn"] != [1, 0, 0, 1]  # that one was held upright
    server.post(f"/api/questions/{asked['question']}/cancel")
    state = server.over(f"/api/questions/{asked['question']}")
    assert state["cancelled"] and "specks" not in state
    row = next(r for r in server.get("/api/work")["work"] if r["kind"] == "question" and r["id"] == asked["question"])
    assert row["over"] and row["text"] == "Cancelled." and "Dust on the sensor" in row["title"]
    assert "no longer known" in server.get("/api/questions/999", expect=422)["error"]
    assert "no longer known" in server.post("/api/questions/999/cancel", expect=422)["error"]


def test_a_spot_of_a_frame_goes_to_its_camera(server: Running, ids: list[int]) -> None:
    lead = ids[0]
    server.post(
        "/api/edit",
        {"frames": [lead], "values": {SPOT + "kind": "spot", SPOT + "path": [[0.25, -0.1]], SPOT + "size": 0.004}},
    )
    kept = server.post(f"/api/frames/{lead}/dust", {"spots": ["0000000a"]})
    values = server.get(f"/api/frames/{lead}")["values"]
    assert kept["count"] == 1 and not values.get(SPOT + "kind")
    path = next(v for k, v in values.items() if k.startswith("spots/") and k.endswith("/path") and v)
    assert path[0] == pytest.approx([0.25, -0.1], abs=1e-4)
    assert "Nothing was chosen" in server.post(f"/api/frames/{lead}/dust", {"spots": ["0000000a"]}, expect=422)["error"]
    server.client.delete(f"/api/dust/{kept['dust']}")
    server.post("/api/shoots/1/undo")


@pytest.mark.parametrize(
    ("path", "body"),
    [("spots/evidence", {"spots": []}), ("spots/evidence", {"spots": ["zz"]}), ("dust", {"specks": [{"x": 3, "y": 0, "size": 0.01}]}),
     ("dust/find", {"plain": "perhaps"})],
)  # fmt: skip
def test_what_makes_no_sense_is_refused(server: Running, ids: list[int], path: str, body: dict[str, object]) -> None:
    assert "error" in server.post(f"/api/frames/{ids[0]}/{path}", body, expect=422)
