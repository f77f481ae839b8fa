"""Areas over the API: made, changed, moved, removed, delivered, and on the command line."""

import json
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from serving import Running, running, with_lamps

from tanner.core.areas.strokes import written

ROUND = {"kind": "round", "at": [0.0, 0.0], "radii": [0.2, 0.2], "angle": 0.0, "softness": 0.2}


@pytest.fixture(scope="module")
def server(originals: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    with with_lamps(tmp_path_factory.mktemp("areas"), originals) as result:
        yield result


def ids(server: Running) -> tuple[int, int, int]:
    """The lead, and two that follow."""
    rows = server.get("/api/shoots/1/sheet")["frames"]
    first = next(f["id"] for f in rows if f["lead"])
    return first, *(f["id"] for f in rows if not f["lead"])  # type: ignore[return-value]


def pixels(data: bytes) -> np.ndarray:
    import io

    return np.asarray(Image.open(io.BytesIO(data)).convert("RGB")).astype(float)


def test_an_area_is_made_followed_moved_and_removed(server: Running) -> None:
    lead, second, third = ids(server)
    plain = [pixels(server.view(f)[1]) for f in (lead, second, third)]
    made = server.post("/api/areas", {"frames": [lead], "shapes": [ROUND]})
    start = f"areas/{made['area']}/"
    assert made["done"] == "Area made: Round gradient"
    server.post("/api/edit", {"frames": [lead], "values": {start + "light.exposure": 2.0}})
    state = server.get(f"/api/frames/{second}")
    assert state["values"][start + "light.exposure"] == 2.0 and state["layers"][start + "kind"] == "lead"
    header, data = server.view(second, places=True)
    changed = pixels(data) - plain[1]
    h, w = changed.shape[:2]
    assert changed[h // 2 - 5 : h // 2 + 5, w // 2 - 5 : w // 2 + 5].mean() > 20
    assert np.abs(changed[:10, :10]).mean() < 2
    # The grid of places says where the middle and the corners lie.
    grid = np.array(header["places"])
    assert np.abs(grid[8, 8]).max() < 0.01 and grid[0, 0] == pytest.approx([-0.5, -1 / 3], abs=0.01)
    # Moved on one follower: an offset, which shows as a departure.
    place = start + "place"
    server.post("/api/edit", {"frames": [third], "values": {place: [0.25, 0.0, 1.0, 0.0]}, "relative": [place]})
    row = next(f for f in server.get("/api/shoots/1/sheet")["frames"] if f["id"] == third)
    assert row["own"] == ["Place"] and row["offsets"] == {place: [0.25, 0.0, 1.0, 0.0]}
    moved = pixels(server.view(third)[1]) - plain[2]
    assert moved[h // 2, int(w * 0.75)].mean() > 20 > np.abs(moved[h // 2, int(w * 0.35)]).mean()
    server.post("/api/giveup", {"frames": [third], "keys": [place]})
    assert server.get(f"/api/frames/{third}")["offsets"] == {}
    # Left out on one follower, then removed from the lead: gone for the set.
    server.post("/api/areas/remove", {"frames": [second], "areas": [made["area"]]})
    assert np.abs(pixels(server.view(second)[1]) - plain[1]).mean() < 0.5
    server.post("/api/areas/remove", {"frames": [lead], "areas": [made["area"]]})
    assert np.abs(pixels(server.view(third)[1]) - plain[2]).mean() < 0.5
    server.post("/api/shoots/1/undo")
    assert np.abs(pixels(server.view(third)[1]) - plain[2]).mean() > 1


def test_presets_keep_areas_and_bring_them_to_other_frames(server: Running) -> None:
    lead, second, _ = ids(server)
    made = server.post("/api/areas", {"frames": [lead], "shapes": [ROUND], "name": "Middle"})
    server.post("/api/edit", {"frames": [lead], "values": {f"areas/{made['area']}/colour.saturation": -80.0}})
    saved = server.post(
        f"/api/frames/{lead}/preset", {"name": "Grey middle", "folder": "Own", "about": "", "groups": ["areas"]}
    )
    preset = next(p for p in server.get("/api/presets")["presets"] if p["key"] == saved["key"])
    assert any(k.endswith("/colour.saturation") for k in preset["values"]) and preset["unknown"] == []
    before = [k for k in server.get(f"/api/frames/{second}")["values"] if k.endswith("/kind")]
    server.post("/api/apply", {"frames": [second], "key": saved["key"]})
    server.post("/api/apply", {"frames": [second], "key": saved["key"]})
    after = [k for k in server.get(f"/api/frames/{second}")["values"] if k.endswith("/kind")]
    assert len(after) > len(before)
    names = [k for k in server.get(f"/api/frames/{second}")["ownKeys"] if k.endswith("/colour.saturation")]
    assert len(names) == 1


@pytest.mark.parametrize(
    ("path", "body"),
    [
        ("/api/areas", {"shapes": []}),
        ("/api/areas", {"shapes": [{"kind": "star"}]}),
        ("/api/areas", {"shapes": [{**ROUND, "radii": [0, 1]}]}),
        ("/api/areas/remove", {"areas": ["../../etc"]}),
        ("/api/edit", {"values": {"areas/0000000a/shapes": "all", "areas/0000000a/kind": "area"}}),
        ("/api/edit", {"values": {"areas/0000000a/light.exposure": 99}}),
    ],
)
def test_what_is_no_area_is_refused(server: Running, path: str, body: dict[str, object]) -> None:
    assert "error" in server.post(path, {"frames": [ids(server)[0]], **body}, expect=422)


def test_a_delivery_holds_its_areas(server: Running) -> None:
    lead, *_ = ids(server)
    spec = {"title": "Web", "size": "long:200"}

    def delivered() -> np.ndarray:
        number = server.post(
            "/api/shoots/1/deliver", {"frames": [lead], "specs": [spec], "folder": str(server.folder / "out")}
        )
        path = f"/api/deliveries/{number['delivery']}"
        (item,) = server.until(path, lambda state: state["items"][0]["state"] == "done")["items"]
        return np.asarray(Image.open(item["path"])).astype(float)

    plain = delivered()
    made = server.post("/api/areas", {"frames": [lead], "shapes": [ROUND]})
    server.post("/api/edit", {"frames": [lead], "values": {f"areas/{made['area']}/light.exposure": 2.0}})
    h, w = plain.shape[:2]
    changed = delivered() - plain
    assert changed[h // 2, w // 2].mean() > 10 and np.abs(changed[:8, :8]).mean() < 2


def test_areas_on_the_command_line(originals: Path, tmp_path: Path) -> None:
    """From a file of settings and by --set; a mask that makes no sense is said with its name."""
    start = "areas/7f3a91c2/"
    (tmp_path / "s.json").write_text(json.dumps({start + "kind": "area", start + "shapes": [ROUND]}))

    def run(*more: str) -> subprocess.CompletedProcess[str]:
        command = [sys.executable, "-m", "tanner.cli", "develop", str(originals / "T0001.DNG"), "--to", str(tmp_path)]
        return subprocess.run(
            [*command, "--size", "long:200", "--settings", str(tmp_path / "s.json"), "--json", *more],
            capture_output=True,
            text=True,
        )

    paths = [json.loads(run("--set", f"{start}light.exposure={v}").stdout)["path"] for v in (0, 2)]
    plain, lifted = (np.asarray(Image.open(p)).astype(float) for p in paths)
    h, w = plain.shape[:2]
    assert (lifted - plain)[h // 2, w // 2].mean() > 20 and np.abs((lifted - plain)[:8, :8]).mean() < 2
    wrong = run("--set", f"{start}light.exposure=9")
    assert wrong.returncode == 2 and "from -5 to 5" in wrong.stderr
    (tmp_path / "s.json").write_text(json.dumps({start + "kind": "area", start + "shapes": [{"kind": "star"}]}))
    wrong = run()
    assert wrong.returncode == 2 and "Area 7f3a91c2, shapes" in wrong.stderr


# --- areas that hold to their subject ----------------------------------------------------------------


@pytest.fixture(scope="module")
def table(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    """Two frames of a table top, slid along under the camera, and one of something else, as one set."""
    from tanner.studio.camera import take
    from tanner.studio.demo import frames

    tops = [s for s in frames() if s.scene == "table-top"][:2]
    shots = [*tops, next(s for s in frames() if s.scene == "lamp-1")]
    with running(tmp_path_factory.mktemp("table")) as result:
        files = [result.folder / "photos" / f"H{n}.DNG" for n in range(3)]
        for file, shot in zip(files, shots, strict=True):
            file.write_bytes(take(shot, compress=False))
        shoot = result.post("/api/shoots", {"name": "Table"})["id"]
        result.bring_in(shoot, files)
        yield result


def test_a_painted_area_is_found_in_the_frames_that_follow(table: Running) -> None:
    rows = table.get("/api/shoots/1/sheet")["frames"]
    lead, second, other = (next(f["id"] for f in rows if f["name"] == f"H{n}.DNG") for n in range(3))
    table.post("/api/sets/move", {"frames": [lead, second, other]})
    table.post(f"/api/frames/{lead}/lead", {})
    path = written([(-0.1, 0.0), (0.0, 0.05), (0.1, 0.0)])
    brush = {"kind": "brush", "holds": "subject", "strokes": [{"path": path, "size": 0.08}]}
    made = table.post("/api/areas", {"frames": [lead], "shapes": [brush]})
    start = f"areas/{made['area']}/"
    table.post("/api/edit", {"frames": [lead], "values": {start + "light.exposure": 1.0}})
    # Until it was looked for, it is off in the others, and says so.
    there = table.until(f"/api/frames/{second}", lambda f: f["values"][start + "found"][8] >= 0)
    found = there["values"][start + "found"]
    assert found[8] > 0.5 and abs(found[2]) > 0.005 and there["own"] == []
    lost = table.until(f"/api/frames/{other}", lambda f: f["values"][start + "found"][8] >= 0)
    assert lost["values"][start + "found"][8] < 0.25
    assert "not found" in table.get(f"/api/frames/{other}/areas/{made['area']}/mask")["off"]
    header, _ = table.view(other, area=made["area"])
    assert "not found" in header["areaOff"]
    # It is no step: undo takes the value back, not what was found.
    table.post("/api/shoots/1/undo")
    assert start + "light.exposure" not in table.get(f"/api/frames/{second}")["values"]
    assert table.get(f"/api/frames/{second}")["values"][start + "found"] == found
    work = next(w for w in table.get("/api/work")["work"] if w["kind"] == "areas")
    assert work["over"] and "H2.DNG" in work["text"]
    # Looked for again, when asked.
    table.post("/api/areas/find", {"frames": [second], "areas": [made["area"]]})
    table.until("/api/work", lambda w: sum(r["kind"] == "areas" and r["over"] for r in w["work"]) >= 2)
    # A preset does not take it: it means nothing elsewhere.
    saved = table.post(
        f"/api/frames/{lead}/preset", {"name": "Nothing", "folder": "Own", "groups": ["areas"]}, expect=422
    )
    assert "hold to the subject" in saved["error"]


def test_colours_are_picked_and_masks_are_pictures(table: Running) -> None:
    rows = table.get("/api/shoots/1/sheet")["frames"]
    frame = next(f["id"] for f in rows if f["name"] == "H0.DNG")
    got = table.post(f"/api/frames/{frame}/areas/sample", {"x": 0.1, "y": 0.1})
    assert 0 < got["lightness"] < 100 and len(got["lab"]) == 3
    made = table.post(
        "/api/areas", {"frames": [frame], "shapes": [{"kind": "colour", "samples": [got["lab"]]}], "tint": 2}
    )
    assert table.get(f"/api/frames/{frame}")["values"][f"areas/{made['area']}/name"] == "Range of colour"
    plain = pixels(table.view(frame)[1])
    for how in ("tint", "grey", "outline", "alone"):
        header, data = table.view(frame, area=made["area"], shown=how)
        assert np.abs(pixels(data) - plain).max() > 60 and "areaOff" not in header
    table.post("/api/areas/remove", {"frames": [frame], "areas": [made["area"]]})
