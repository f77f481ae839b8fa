"""Camera profiles through a running server: made, kept, chosen at once, by rules, given out and taken away."""

import io
from collections.abc import Iterator
from typing import Any

import numpy as np
import pytest
from charts import chart_server
from PIL import Image
from serving import Running

from tanner.core.colour.dcp import read_dcp


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    with chart_server(tmp_path_factory.mktemp("charts")) as result:
        yield result


@pytest.fixture(scope="module")
def ids(server: Running) -> dict[str, int]:
    return {f["name"][:5]: f["id"] for f in server.get("/api/shoots/1/sheet")["frames"]}


@pytest.fixture(scope="module")
def kept(server: Running, ids: dict[str, int]) -> dict[str, Any]:
    """A profile of the second camera, made and kept."""
    corners = server.post(f"/api/frames/{ids['C0003']}/chart")["corners"]
    shots = [{"frame": ids["C0003"], "light": "D55", "corners": corners}]
    made = server.post("/api/profiles/make", {"shots": shots, "name": "Two by flash", "table": True})
    return {**server.post("/api/profiles/keep", {"made": made["made"]}), "report": made["report"]}


def small(server: Running, frame: int, key: str) -> np.ndarray:
    answer = server.client.get(f"/api/frames/{frame}/profiles/try", params={"key": key, "edge": 160})
    assert answer.status_code == 200
    return np.asarray(Image.open(io.BytesIO(answer.content))).astype(int)


def test_what_is_made_is_listed_and_in_use_at_once(server: Running, ids: dict[str, int], kept: dict[str, Any]) -> None:
    light = kept["report"]["lights"][0]
    assert light["after"]["mean"] < light["before"]["mean"]
    listed = {p["key"]: p for p in server.get("/api/profiles")["profiles"]}
    assert listed[kept["key"]]["made"] and listed[kept["key"]]["figures"][0]["mean"] == light["after"]["mean"]
    choices = {p["key"]: p for p in server.get(f"/api/frames/{ids['C0005']}/profiles")["profiles"]}
    assert choices[kept["key"]]["fits"] and "5,503 K" in choices[kept["key"]]["about"]
    assert not {p["key"]: p for p in server.get(f"/api/frames/{ids['C0004']}/profiles")["profiles"]}[kept["key"]][
        "fits"
    ]
    # Shown with no restart, by a viewer and workers that ran before the profile was made.
    assert np.abs(small(server, ids["C0005"], kept["key"]) - small(server, ids["C0005"], "")).max() > 3
    given = server.client.get("/api/profiles/file", params={"key": kept["key"]}).content
    assert read_dcp(given).name == "Two by flash"
    assert server.get(f"/api/profiles/report?key={kept['key']}")["camera"] == "Alder Two"


def test_a_rule_gives_frames_their_profile(server: Running, ids: dict[str, int], kept: dict[str, Any]) -> None:
    rule = {"camera": "Alder Two", "low": 4000, "high": 7000, "profile": kept["key"]}
    before = {f["id"]: f["v"] for f in server.get("/api/shoots/1/sheet")["frames"]}
    assert server.post("/api/profiles/rules", {"rules": [rule]}) == {"rules": 1}
    try:
        after = {f["id"]: f["v"] for f in server.get("/api/shoots/1/sheet")["frames"]}
        # The Sheet's list reads only some columns of a frame: rules work on them too.
        assert after[ids["C0005"]] != before[ids["C0005"]] and after[ids["C0004"]] == before[ids["C0004"]]
        assert server.get(f"/api/frames/{ids['C0005']}")["values"]["profile.camera"] == kept["key"]
        carried = {a["key"]: a for a in server.get(f"/api/frames/{ids['C0005']}/carry")["adjustments"]}
        assert carried["profile.camera"]["value"] == "Two by flash"  # by its name, not its key
        assert "profile.camera" not in server.get(f"/api/frames/{ids['C0004']}")["values"]
        server.post("/api/edit", {"frames": [ids["C0005"]], "values": {"profile.camera": ""}})
        assert server.get(f"/api/frames/{ids['C0005']}")["values"]["profile.camera"] == ""
        server.post("/api/shoots/1/undo")
    finally:
        server.post("/api/profiles/rules", {"rules": []})
    wrong = server.client.post("/api/profiles/rules", json={"rules": [{**rule, "low": 8000}]})
    assert wrong.status_code == 422
    assert server.client.post("/api/profiles/rules", json={"rules": [{**rule, "profile": "no"}]}).status_code == 422


def test_only_the_profile_is_carried_to_the_shoot_in_one_step(
    server: Running, ids: dict[str, int], kept: dict[str, Any]
) -> None:
    values = {"profile.camera": kept["key"], "light.exposure": 0.7}
    server.post("/api/edit", {"frames": [ids["C0003"]], "values": values})
    others = [i for n, i in ids.items() if n != "C0003"]
    done = server.post("/api/carry", {"source": ids["C0003"], "frames": others, "keys": ["profile.camera"]})
    assert done["changed"] == 4
    for frame in others:
        got = server.get(f"/api/frames/{frame}")["values"]
        assert got["profile.camera"] == kept["key"] and got.get("light.exposure", 0) == 0
    server.post("/api/shoots/1/undo")
    server.post("/api/shoots/1/undo")
    assert "profile.camera" not in server.get(f"/api/frames/{others[0]}")["values"]


def test_files_come_in_and_bad_ones_are_refused(server: Running, ids: dict[str, int], kept: dict[str, Any]) -> None:
    data = server.client.get("/api/profiles/file", params={"key": kept["key"]}).content
    again = server.client.post("/api/profiles/file", params={"name": "x.dcp"}, content=data)
    assert again.status_code == 422 and "there already" in again.json()["error"]
    for wrong in (b"", b"hello", data[:300], data.replace(b"Two by flash\0", b"Two in flash\0")[:-400]):
        answer = server.client.post("/api/profiles/file", params={"name": "bad.dcp"}, content=wrong)
        assert answer.status_code == 422 and "bad.dcp" in answer.json()["error"]
    other = server.client.post(
        "/api/profiles/file", params={"name": "other.dcp"}, content=data.replace(b"Two by flash\0", b"Two in flash\0")
    ).json()["key"]
    server.client.delete("/api/profiles", params={"key": other})
    assert other not in {p["key"] for p in server.get("/api/profiles")["profiles"]}
    assert server.client.get("/api/profiles/file", params={"key": "../catalogue"}).status_code == 422
    assert server.client.delete("/api/profiles", params={"key": "gone"}).status_code == 422


def test_trouble_with_charts_is_said(server: Running, ids: dict[str, int]) -> None:
    answer = server.client.post(f"/api/frames/{ids['C0004']}/chart")
    assert answer.status_code == 422 and "No chart was found" in answer.json()["error"]
    twice = [{"frame": ids["C0001"], "light": "D55"}, {"frame": ids["C0003"], "light": "A"}]
    mixed = server.client.post("/api/profiles/make", json={"shots": twice, "name": "x"})
    assert mixed.status_code == 422 and "two cameras" in mixed.json()["error"]
    assert server.client.post("/api/profiles/keep", json={"made": 999}).status_code == 422


def test_a_chart_of_ones_own(server: Running, ids: dict[str, int]) -> None:
    shots = [{"frame": ids["C0001"], "light": "D50"}]
    bad = server.client.post("/api/profiles/make", json={"shots": shots, "name": "x", "chart": "nothing"})
    assert bad.status_code == 422 and "CGATS" in bad.json()["error"]


def test_the_page_opens(server: Running, ids: dict[str, int]) -> None:
    page = server.client.get(f"/shoots/1/profile?frame={ids['C0001']}")
    assert page.status_code == 200 and "C0002.DNG" in page.text and "C0003.DNG" not in page.text
    assert "style=" not in page.text
    picture = server.client.get(f"/api/frames/{ids['C0001']}/chart/picture")
    assert Image.open(io.BytesIO(picture.content)).size[0] == 900


def test_icc_profiles_and_looks_come_in_and_are_used(server: Running, ids: dict[str, int]) -> None:
    cube = b'TITLE "Half"\nLUT_1D_SIZE 2\n0 0 0\n0.5 0.5 0.5\n'
    look = server.client.post("/api/profiles/file", params={"name": "half.cube"}, content=cube).json()["key"]
    icc = server.client.get("/api/spaces/p3.icc", params={"version": 2}).content
    paper = server.client.post("/api/profiles/file", params={"name": "paper.icm"}, content=icc).json()["key"]
    listed = server.get("/api/profiles")
    assert [x["key"] for x in listed["looks"]] == [look] and [x["key"] for x in listed["iccs"]] == [paper]
    frame = ids["C0001"]
    try:
        server.post("/api/edit", {"frames": [frame], "values": {"profile.look": look}})
        values = server.get(f"/api/frames/{frame}")["values"]
        assert values["profile.look"] == look
        darker = small(server, frame, "")
        server.post("/api/edit", {"frames": [frame], "values": {"profile.look_amount": 0.0}})
        assert small(server, frame, "").mean() > darker.mean() + 20
        text = server.client.get(f"/api/frames/{frame}/look.cube").text
        assert "LUT_3D_SIZE 33" in text
        spec = {"title": "Paper", "size": "long:300", "icc": paper, "intent": "perceptual", "format": "tiff16"}
        folder = str(server.folder / "out")
        number = server.post("/api/shoots/1/deliver", {"frames": [frame], "specs": [spec], "folder": folder})[
            "delivery"
        ]
        record = server.until(f"/api/deliveries/{number}", lambda state: state["state"] == "done")
        import tifffile

        with tifffile.TiffFile(record["items"][0]["path"]) as tiff:
            assert tiff.pages[0].tags[34675].value == icc and tiff.pages[0].dtype == np.uint16
    finally:
        while server.post("/api/shoots/1/undo")["done"] not in (None, "Sets proposed"):
            pass
        server.post("/api/shoots/1/redo")
    for key, ending in ((look, ".cube"), (paper, ".icc")):
        server.client.delete("/api/profiles/other", params={"key": key, "ending": ending})
    assert server.get("/api/profiles")["looks"] == []
    for name, data in (("x.cube", b"LUT_3D_SIZE 2\n"), ("x.icc", b"nothing")):
        assert server.client.post("/api/profiles/file", params={"name": name}, content=data).status_code == 422


def test_white_balance_by_itself_and_from_the_chart(server: Running, ids: dict[str, int]) -> None:
    kelvin = server.post(f"/api/frames/{ids['C0002']}/white/chart")["values"]["white.temperature"]
    assert abs(1e6 / kelvin - 1e6 / 2856) < 15
    auto = server.post(f"/api/frames/{ids['C0002']}/white/auto")["values"]["white.temperature"]
    assert 2300 <= auto < 4500
    assert server.client.post(f"/api/frames/{ids['C0004']}/white/chart").status_code == 422
