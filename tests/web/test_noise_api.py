"""Noise on the pages: methods side by side, work ahead, quiet copies beside their originals."""

import io
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from made import exposure, hashes
from PIL import Image
from serving import Running, running

from tanner.core.raw.reader import read
from tanner.studio.camera import take


@pytest.fixture(scope="module")
def dusk(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    """A server of its own with two frames of high ISO and one of low."""
    folder = tmp_path_factory.mktemp("dusk")
    with running(folder) as result:
        for n, iso in enumerate((6400, 6400, 100), 1):
            shot = exposure(f"E000{n}.DNG", iso=iso, seed=n, width=600, height=400)
            (folder / "photos" / shot.name).write_bytes(take(shot))
        assert result.post("/api/shoots", {"name": "Dusk"}) == {"id": 1}
        result.bring_in(1, sorted((folder / "photos").glob("*.DNG")))
        yield result


def frames(server: Running) -> dict[str, dict[str, Any]]:
    return {f["name"].rpartition(".")[0]: f for f in server.get("/api/shoots/1/sheet")["frames"]}


def over(server: Running, number: int) -> dict[str, Any]:
    return server.over(f"/api/quiet/{number}")


def pixels(server: Running, frame: int, method: str, expect: int = 200, **place: Any) -> np.ndarray:
    wanted = {"x": 0.5, "y": 0.5, "w": 160, "h": 120, **place}
    query = "&".join(f"{k}={v}" for k, v in wanted.items())
    answer = server.client.get(f"/api/frames/{frame}/piece?method={method}&{query}")
    assert answer.status_code == expect
    return np.asarray(Image.open(io.BytesIO(answer.content))).astype(float) if expect == 200 else np.empty(0)


def test_methods_side_by_side(dusk: Running) -> None:
    frame = frames(dusk)["E0001"]["id"]
    found = dusk.get(f"/api/frames/{frame}/telling")
    assert found["methods"] == ["none", "quick", "fine", "learned"] and 0 < found["x"] < 1 and 0 < found["y"] < 1
    corner = {"x": 0.0, "y": 0.0}
    noise = {m: np.abs(np.diff(pixels(dusk, frame, m, **corner), axis=1)).mean() for m in found["methods"]}
    assert (
        noise["quick"] < 0.6 * noise["none"]
        and noise["fine"] < 0.6 * noise["none"]
        and noise["learned"] < 0.6 * noise["none"]
    )
    assert pixels(dusk, frame, "fine", w=1600, h=1600).shape[:2] == (found["full"][1], found["full"][0])
    pixels(dusk, frame, "strong", expect=422)
    pixels(dusk, frame, "fine", expect=422, x=2)


def test_a_piece_is_what_the_whole_frame_will_be(dusk: Running) -> None:
    """Worked out for itself, or cut out of the whole frame's result: the same but for rounding."""
    frame = frames(dusk)["E0001"]["id"]
    alone = pixels(dusk, frame, "fine")
    dusk.post("/api/edit", {"frames": [frame], "values": {"noise.method": "fine"}})
    done = over(dusk, dusk.post("/api/quiet/ahead", {"frames": [frame]})["id"])
    assert done["done"] == 1 and done["kind"] == "ahead"
    whole = pixels(dusk, frame, "fine")
    assert np.abs(alone - whole).mean() < 1.0
    dusk.post("/api/shoots/1/undo")


def test_the_bench_works_out_what_it_shows(dusk: Running) -> None:
    frame = frames(dusk)["E0002"]["id"]
    dusk.post("/api/edit", {"frames": [frame], "values": {"noise.method": "fine"}})
    header, _ = dusk.view(frame, width=300, height=200)
    assert header["waits"] and over(dusk, header["quieting"])["done"] == 1
    header, _ = dusk.view(frame, width=300, height=200)
    assert not header["waits"] and "quieting" not in header
    dusk.post("/api/shoots/1/undo")


def test_a_preset_under_the_shoot_goes_by_iso(dusk: Running) -> None:
    key = next(p["key"] for p in dusk.get("/api/presets")["presets"] if p["name"] == "Quiet by ISO")
    dusk.post("/api/shoots/1/preset", {"key": key})
    found = frames(dusk)
    values = {n: dusk.get(f"/api/frames/{found[n]['id']}")["values"] for n in ("E0001", "E0003")}
    assert [v["noise.method"] for v in values.values()] == ["learned", "none"]
    assert values["E0001"]["detail.amount"] == 15 and values["E0003"]["detail.amount"] == 60
    dusk.post("/api/shoots/1/undo")
    # Applied to frames instead, each keeps what is right for it.
    dusk.post("/api/apply", {"frames": [found[n]["id"] for n in values], "key": key})
    own = [dusk.get(f"/api/frames/{found[n]['id']}")["values"].get("noise.method", "none") for n in values]
    assert own == ["learned", "none"]
    dusk.post("/api/shoots/1/undo")


def test_nothing_to_do_ahead(dusk: Running) -> None:
    body = {"frames": [frames(dusk)["E0003"]["id"]]}
    assert "fine or learned" in dusk.post("/api/quiet/ahead", body, 422)["error"]
    dusk.get("/api/quiet/999", expect=422)


def test_quiet_copies_stand_beside_their_originals(dusk: Running, tmp_path: Path) -> None:
    photos = dusk.folder / "photos"
    before = hashes(photos)
    assert not dusk.get("/api/quiet/options")["again"]
    found = frames(dusk)
    ids = [found["E0001"]["id"], found["E0002"]["id"]]
    dusk.post("/api/edit", {"frames": ids, "values": {"noise.method": "fine", "light.exposure": 0.5}})
    options = {"method": "quick", "suffix": "{name}-{method}"}
    state = over(dusk, dusk.post("/api/quiet/copies", {"frames": ids, "options": options})["id"])
    assert state["done"] == 2 and not state["failed"] and "off there" in state["notes"][0]
    now = frames(dusk)
    for name in ("E0001", "E0002"):
        copy = now[f"{name}-quick"]
        assert copy["set"] == now[name]["set"]
        values = dusk.get(f"/api/frames/{copy['id']}")["values"]
        assert values["noise.method"] == "none" and values["light.exposure"] == 0.5
        assert "noise" in read(photos / f"{name}-quick.dng").facts.applied
    names = list(now)
    assert abs(names.index("E0001-quick") - names.index("E0001")) == 1
    assert {k: v for k, v in hashes(photos).items() if k in before} == before
    # The options are there for the next time; and the same copy again is not brought in twice.
    last = dusk.get("/api/quiet/options")
    assert last["again"] and last["options"]["method"] == "quick"
    state = over(dusk, dusk.post("/api/quiet/copies", {"frames": ids[:1], "options": last["options"]})["id"])
    assert "already" in state["notes"][0] and len(frames(dusk)) == len(now)
    # A copy of a copy is refused, with its name.
    again = over(dusk, dusk.post("/api/quiet/copies", {"frames": [now["E0001-quick"]["id"]], "options": options})["id"])
    assert "already" in again["failed"][0]["message"]
    assert "already" in dusk.get(f"/api/frames/{now['E0001-quick']['id']}/telling", expect=422)["error"]


def test_copies_are_cancelled_and_trouble_is_told(dusk: Running, tmp_path: Path) -> None:
    found = frames(dusk)
    ids = [found["E0001"]["id"], found["E0003"]["id"]]
    number = dusk.post("/api/quiet/copies", {"frames": ids, "options": {"method": "fine", "suffix": "{name}-c"}})["id"]
    dusk.post(f"/api/quiet/{number}/cancel")
    assert over(dusk, number)["cancelled"] and "E0003-c" not in frames(dusk)
    outside = {"frames": ids, "options": {"folder": str(tmp_path)}}
    assert "opened" in dusk.post("/api/quiet/copies", outside, 403)["error"]
    gone = dusk.folder / "photos" / "E0003.DNG"
    shutil.move(gone, tmp_path / "away.DNG")
    state = over(dusk, dusk.post("/api/quiet/copies", {"frames": ids[1:], "options": {}})["id"])
    shutil.move(tmp_path / "away.DNG", gone)
    assert state["failed"][0]["name"] == "E0003.DNG" and "E0003" in state["failed"][0]["message"]
