"""The Line-up in the browser: chart and words agree, frames are chosen by keys, brought in and nudged."""

import pytest
from browsing import eventually
from playwright.sync_api import Page, expect
from serving import Running

pytestmark = pytest.mark.usefixtures("fresh")


def test_a_frame_that_stands_out_is_seen_and_brought_in(page: Page, server: Running, frame_ids: dict[str, int]) -> None:
    odd = frame_ids["T0002"]
    server.post("/api/nudge", {"frames": [odd], "ev": 0.6})
    group = next(f["set"] for f in server.get("/api/shoots/1/sheet")["frames"] if f["id"] == odd)
    page.goto("/shoots/1/lineup")
    page.select_option("#which-set", str(group))
    expect(page.locator("#words li", has_text="T0002")).to_contain_text("lighter", timeout=60_000)
    expect(page.locator(".lineup-cell.outside", has_text="T0002")).to_be_visible()
    page.locator("#words button", has_text="T0002").click()
    expect(page.locator("#chosen-text")).to_have_text("1 frame chosen")
    # One mark in each of the three rows of the chart.
    expect(page.locator(f'#chart .point.outside.chosen[data-id="{odd}"]')).to_have_count(3)
    page.locator("#strip").focus()
    page.keyboard.press("-")
    eventually(page, lambda: abs(server.get(f"/api/frames/{odd}")["offsets"]["ev"] - 0.4333) < 0.01)
    # T0003 drifted by itself; both are brought in, once both are measured.
    expect(page.locator("#summary")).to_contain_text("2 of 3 outside", timeout=60_000)
    expect(page.locator("#summary")).not_to_contain_text("being measured", timeout=60_000)
    page.get_by_role("button", name="Bring in all outside").click()
    expect(page.locator("#summary")).to_contain_text("all within", timeout=60_000)
    expect(page.locator("#chart .point.outside")).to_have_count(0)
    page.get_by_role("button", name="Undo").click()
    expect(page.locator(f'#chart .point.outside[data-id="{odd}"]')).to_have_count(3, timeout=60_000)
