"""The automatic start through a running server: plain values, worked out for a set together, kept on its lead."""

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image
from serving import Running, with_lamps

from tanner.core.adjust.registry import develop
from tanner.core.colour.ranges import HUES
from tanner.core.raw.reader import read
from tanner.core.render import render
from tanner.core.series.automatic import ALL, BINS, STOPS, Measured, automatic, level_ends, measured


@pytest.fixture(scope="module")
def server(originals: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    with with_lamps(tmp_path_factory.mktemp("automatic"), originals) as result:
        yield result


def frames(server: Running) -> list[dict[str, Any]]:
    return sorted(server.get("/api/shoots/1/sheet")["frames"], key=lambda f: not f["lead"])


def light_at(stops: float, chroma: float = 0.075) -> Measured:
    """A frame whose light lies evenly over two stops around one."""
    middles = np.linspace(*STOPS, BINS)
    light = (np.abs(middles - stops) < 1).astype(float)
    return Measured(light / light.sum(), chroma, 1.0)


def test_values_follow_from_what_is_measured() -> None:
    dark, bright = automatic([light_at(-7)]), automatic([light_at(-0.5)])
    assert dark["light.exposure"] == 3.0 and bright["light.exposure"] < -1
    # A frame as bright as the target stays; nothing but what was asked for is set.
    assert abs(automatic([light_at(-3.12)])["light.exposure"]) <= 0.1
    assert set(automatic([light_at(-3)], ["contrast"])) == {"light.contrast"}
    assert automatic([light_at(-3, 0.02)])["colour.vibrance"] > 0 > automatic([light_at(-3, 0.2)])["colour.vibrance"]
    # All values can be set, and a set is one: two frames give what lies between.
    both = automatic([light_at(-5), light_at(-3)], ["exposure"])["light.exposure"]
    assert automatic([light_at(-3)], ["exposure"])["light.exposure"] < both <= automatic([light_at(-5)], ["exposure"])["light.exposure"]  # fmt: skip
    develop(automatic([light_at(-4)]))


def test_a_darker_frame_gets_what_makes_it_as_bright(originals: Path) -> None:
    source = read(originals / "T0001.DNG")
    plain, dark = (measured(source, {"profile.curve_strength": 100.0}, ev) for ev in (0.0, -1.5))
    difference = automatic([dark], ["exposure"])["light.exposure"] - automatic([plain], ["exposure"])["light.exposure"]
    assert abs(difference - 1.5) < 0.11


def test_a_frame_of_nothing_but_white_gives_numbers_and_a_kept_exposure_counts(originals: Path) -> None:
    source = read(originals / "T0001.DNG")
    found = automatic([measured(source, {"profile.curve_strength": 100.0}, 9.0)])
    assert np.isfinite(list(found.values())).all() and found["light.exposure"] == -3.0
    dark, bright = (automatic([measured(source, {}, ev)], ["ends"]) for ev in (-2.0, 3.0))
    assert dark["light.white_point"] > bright["light.white_point"]


def test_a_set_is_worked_out_together_and_stays_together(server: Running) -> None:
    lead, *others = frames(server)
    server.post("/api/nudge", {"frames": [others[0]["id"]], "ev": 0.5})
    before = frames(server)
    answer = server.post("/api/automatic", {"frames": [f["id"] for f in before], "what": list(ALL)})
    assert answer["done"] == "Automatic start" and set(answer["values"]) == {str(lead["id"])}
    values = {f["id"]: server.get(f"/api/frames/{f['id']}")["values"] for f in before}
    # Followers have the lead's values, but for their own offset, which stays what it was.
    kept = answer["values"][str(lead["id"])]
    assert {"light.exposure", "light.black_point", "white.temperature", "colour.vibrance"} <= set(kept)
    for other in others:
        assert values[other["id"]]["light.contrast"] == values[lead["id"]]["light.contrast"]
    step = values[others[0]["id"]]["light.exposure"] - values[lead["id"]].get("light.exposure", 0.0)
    assert abs(step - 0.5) < 1e-6
    server.post("/api/shoots/1/undo")
    assert "light.contrast" not in server.get(f"/api/frames/{lead['id']}")["values"]
    # One follower alone gets values of its own; nonsense is refused.
    alone = server.post("/api/automatic", {"frames": [others[1]["id"]], "what": ["exposure"]})
    assert set(alone["values"]) == {str(others[1]["id"])}
    server.post("/api/automatic", {"frames": [lead["id"]], "what": []}, expect=422)
    server.post("/api/automatic", {"frames": [lead["id"]], "what": ["beauty"]}, expect=422)


@pytest.mark.parametrize("channel", ["all", "green"])
def test_levels_find_their_ends_with_the_stated_share(server: Running, originals: Path, channel: str) -> None:
    (lead, *_) = frames(server)
    found = server.post(f"/api/frames/{lead['id']}/levels", {"channel": channel, "share": 2})["values"]
    first = "levels." if channel == "all" else f"levels.{channel}_"
    assert set(found) == {f"{first}black", f"{first}white"}
    source, values = read(originals / "T0001.DNG"), server.get(f"/api/frames/{lead['id']}")["values"]
    black, white = level_ends(source, values, 0.02, channel)
    assert (found[f"{first}black"], found[f"{first}white"]) == (black, white)
    pixels = render(source, develop({**values, **found}), (300, 200), space="prophoto")
    chosen = pixels if channel == "all" else pixels[..., 1]
    # Steps of half a per cent, outwards: no more than the stated share, and half of it at least where the step allows.
    assert (chosen <= 1).mean() < 0.03 and (chosen >= 254).mean() < 0.03
    assert Image.fromarray(pixels).size == (300, 200)
    server.post(f"/api/frames/{lead['id']}/levels", {"channel": channel, "share": 40}, expect=422)


def test_black_and_white_is_weighed_by_the_picture(server: Running) -> None:
    frame = frames(server)[0]["id"]
    found = server.post(f"/api/frames/{frame}/mono")["values"]
    assert found["mono.amount"] == 100 and set(found) == {"mono.amount", *(f"mono.{name}" for name in HUES)}
    assert any(found[f"mono.{name}"] for name in HUES)  # the lamp is blue
    server.post("/api/edit", {"frames": [frame], "values": found})
    # Worked out without what it is to set: the same again.
    assert server.post(f"/api/frames/{frame}/mono")["values"] == found
    server.post("/api/shoots/1/undo")


def test_a_cdl_file_becomes_curves_and_curves_a_file(server: Running) -> None:
    (lead, *_) = frames(server)
    file = b"<ColorCorrection id='w'><SOPNode><Slope>1.1 1 0.9</Slope><Offset>0 0 0.02</Offset><Power>1 1.1 1</Power></SOPNode><SatNode><Saturation>0.8</Saturation></SatNode></ColorCorrection>"
    answer = server.client.post(f"/api/frames/{lead['id']}/cdl", params={"name": "w.cc"}, content=file)
    assert (
        answer.status_code == 200
        and answer.json()["done"] == "Correction w"
        and "saturation of 0.8" in answer.json()["notes"][0]
    )
    assert len(server.get(f"/api/frames/{lead['id']}")["values"]["curve.red"]) > 2
    given = server.client.get(f"/api/frames/{lead['id']}/cdl.cc")
    assert float(given.headers["x-tanner-off"]) < 0.5 and b"<Slope>1.1" in given.content.replace(b"1.0999", b"1.1000")
    refused = server.client.post(f"/api/frames/{lead['id']}/cdl", params={"name": "w.cc"}, content=b"no")
    assert refused.status_code == 422 and "w.cc" in refused.json()["error"]
    server.post("/api/shoots/1/undo")
