"""Crop by numbers, guides, turns, upright lines, what lies beyond the picture, projections: through the real page."""

from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from browsing import eventually, settled
from playwright.sync_api import Page, expect
from serving import Running

from tanner.core.adjust.registry import adjustments

pytestmark = pytest.mark.usefixtures("fresh")
Bench = Callable[..., None]
Mean = Callable[..., list[float]]


@pytest.fixture
def values(server: Running, frame_ids: dict[str, int]) -> Callable[..., dict[str, Any]]:
    def read(name: str = "T0001") -> dict[str, Any]:
        neutral = {key: a.neutral for key, a in adjustments().items()}
        return neutral | server.get(f"/api/frames/{frame_ids[name]}")["values"]

    return read


def group(page: Page, name: str) -> None:
    page.locator(f'#index [data-group="{name}"]').click()
    settled(page)


def picture_box(page: Page) -> tuple[float, float, float, float]:
    """Where the whole 600 x 400 picture lies: left, top, width, height."""
    box = page.locator("#canvas").bounding_box()
    assert box
    width = min(600.0, box["width"] - 28)
    return box["x"] + (box["width"] - width) / 2, box["y"] + (box["height"] - width * 2 / 3) / 2, width, width * 2 / 3


def draw(page: Page, line: tuple[float, float, float, float]) -> None:
    left, top, w, h = picture_box(page)
    page.mouse.move(left + line[0] * w, top + line[1] * h)
    page.mouse.down()
    page.mouse.move(left + line[2] * w, top + line[3] * h, steps=4)
    page.mouse.up()


def test_crop_by_numbers_ratios_and_keys(page: Page, bench: Bench, values: Callable[..., dict[str, Any]]) -> None:
    bench()
    group(page, "crop")
    page.locator("#crop-w").fill("300")
    page.locator("#crop-w").press("Enter")
    settled(page)
    expect(page.locator("#crop-size")).to_have_text("Keeps 300 × 400 px of 600 × 400")
    page.get_by_label("Ratio", exact=True).select_option("own")
    page.locator("#ratio-own").fill("5 x 7")
    page.locator("#ratio-own").press("Enter")
    settled(page)
    expect(page.locator("#crop-size")).to_contain_text("286 × 400 px")
    page.get_by_role("button", name="Swap").click()
    settled(page)
    eventually(page, lambda: values()["crop.ratio"] == "7:5")
    page.get_by_label("Unit").select_option("cm")
    page.locator("#crop-ppi").fill("254")
    page.locator("#crop-ppi").press("Enter")
    page.locator("#crop-h").fill("1,5")
    page.locator("#crop-h").press("Enter")
    settled(page)
    expect(page.locator("#crop-size")).to_contain_text("210 × 150 px")
    # What is seen may be ahead of what is stored.
    eventually(page, lambda: round(600 * (values()["crop.right"] - values()["crop.left"])) == 210)
    before = values()["crop.left"]
    page.locator("#canvas").press("Shift+ArrowRight")
    eventually(page, lambda: values()["crop.left"] == pytest.approx(before + 0.01, abs=1e-4))
    # The walk goes on with the crop open, and the same crop can go along.
    page.get_by_role("button", name="Same for others").click()
    eventually(page, lambda: values("T0003").get("crop.left") == values()["crop.left"])
    page.locator("#canvas").press("ArrowDown")
    settled(page)
    expect(page.locator("#crop-size")).to_contain_text("210 × 150 px")
    page.locator("#canvas").press("Shift+ArrowUp")
    eventually(page, lambda: values("T0002")["crop.top"] < values("T0001")["crop.top"])


def test_guides_are_kept_and_drawn(page: Page, bench: Bench, mean: Mean) -> None:
    bench()
    group(page, "crop")
    seen = []
    for kind in ("none", "thirds", "golden", "spiral", "diagonals", "centre", "grid"):
        page.get_by_label("Guide", exact=True).select_option(kind)
        page.wait_for_timeout(80)
        seen.append(mean(0.3, 0.25, 0.35, 0.4))
    assert len({tuple(np.round(s, 2)) for s in seen}) == len(seen)
    page.get_by_label("Columns").fill("7")
    page.get_by_label("Columns").press("Enter")
    page.get_by_label("Colour of the guide").select_option("red")
    page.wait_for_timeout(80)
    assert mean(0.3, 0.25, 0.35, 0.4) != seen[-1]
    page.reload()
    settled(page)
    expect(page.get_by_label("Guide", exact=True)).to_have_value("grid")
    expect(page.get_by_label("Columns")).to_have_value("7")


def test_turn_mirror_and_straighten_along_an_edge(
    page: Page, bench: Bench, values: Callable[..., dict[str, Any]]
) -> None:
    bench()
    group(page, "crop")
    page.get_by_role("button", name="Along an edge").click()
    draw(page, (0.2, 0.5, 0.8, 0.58))
    eventually(page, lambda: values().get("crop.straighten", 0) != 0)
    # The drawn edge fell to the right: the picture is turned against that.
    assert values()["crop.straighten"] == pytest.approx(-np.degrees(np.arctan2(0.08 * 2, 0.6 * 3)), abs=0.3)
    settled(page)
    page.get_by_role("button", name="Mirror").click()
    eventually(page, lambda: values().get("crop.mirror") is True and values()["crop.straighten"] > 0)
    page.get_by_role("button", name="Turn right").click()
    eventually(page, lambda: values()["crop.turn"] == "270")
    settled(page)
    expect(page.locator("#crop-size")).to_contain_text("of 400 × 600")


def test_drawn_lines_become_upright(page: Page, bench: Bench, values: Callable[..., dict[str, Any]]) -> None:
    bench()
    group(page, "perspective")
    page.get_by_role("button", name="Draw lines").click()
    expect(page.get_by_role("button", name="Make upright")).to_be_disabled()
    draw(page, (0.25, 0.2, 0.27, 0.85))
    draw(page, (0.75, 0.2, 0.73, 0.85))
    page.get_by_role("button", name="Make upright").click()
    eventually(page, lambda: values().get("perspective.vertical", 0) < -2)
    assert abs(values()["crop.straighten"]) < 0.3
    # What the frame does not show is said: lines that do not agree.
    page.get_by_role("button", name="Draw lines").click()
    page.keyboard.press("Escape")
    assert "/bench" in page.url


def test_beyond_the_picture(
    page: Page, bench: Bench, server: Running, mean: Mean, values: Callable[..., dict[str, Any]]
) -> None:
    bench()
    group(page, "crop")
    page.get_by_label("Beyond the picture").select_option("empty")
    settled(page)
    page.get_by_label("Unit").select_option("%")
    page.locator("#crop-w").fill("140")
    page.locator("#crop-w").press("Enter")
    eventually(page, lambda: values()["crop.left"] < 0)
    group(page, "light")
    assert np.mean(mean(0.12, 0.48, 0.02, 0.02)) < 10
    group(page, "crop")
    page.get_by_label("Beyond the picture").select_option("backdrop")
    group(page, "light")
    assert np.mean(mean(0.12, 0.48, 0.02, 0.02)) > 60
    group(page, "crop")
    page.get_by_label("the frame stays").check()
    page.wait_for_timeout(60)
    page.get_by_label("Beyond the picture").select_option("never")
    eventually(page, lambda: values()["crop.left"] == 0)


def test_a_projection_is_chosen_from_a_list(page: Page, bench: Bench, values: Callable[..., dict[str, Any]]) -> None:
    bench()
    group(page, "optics")
    page.get_by_label("Projection").select_option("stereographic")
    eventually(page, lambda: values().get("optics.projection") == "stereographic")
    settled(page)
    page.reload()
    settled(page)
    expect(page.get_by_label("Projection")).to_have_value("stereographic")
