"""The Line-up in the browser: chart and words agree, frames are chosen by keys, brought in and nudged."""

import pytest
from browsing import eventually
from playwright.sync_api import Page, expect
from serving import Running


def measured(page: Page, server: Running, group: int) -> None:
    """Until all is measured, and the page says what the server does."""
    figures = lambda: server.get(f"/api/shoots/1/lineup?set={group}")  # noqa: E731
    eventually(page, lambda: not figures()["pending"], 60)
    words = f"farthest {figures()['spread']:.1f}".removesuffix(".0")
    eventually(page, lambda: words in page.inner_text("#summary") and "being" not in page.inner_text("#summary"), 60)


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
    expect(page.locator("#chosen-text")).to_have_text("T0002")
    # One mark in each of the three rows of the chart.
    expect(page.locator(f'#chart .point.outside.chosen[data-id="{odd}"]')).to_have_count(3)
    page.locator("#strip").focus()
    page.keyboard.press("-")
    eventually(page, lambda: abs(server.get(f"/api/frames/{odd}")["offsets"]["ev"] - 0.4333) < 0.01)
    # T0003 drifted by itself; both are brought in, once both are measured.
    measured(page, server, group)
    expect(page.locator("#summary")).to_contain_text("2 of 3 outside")
    page.get_by_role("button", name="Bring in all outside").click()
    expect(page.locator("#summary")).to_contain_text("all within", timeout=60_000)
    expect(page.locator("#chart .point.outside")).to_have_count(0)
    page.get_by_role("button", name="Undo").click()
    expect(page.locator(f'#chart .point.outside[data-id="{odd}"]')).to_have_count(3, timeout=60_000)


def test_frames_are_seen_large_and_a_correction_is_carried_on(
    page: Page, server: Running, frame_ids: dict[str, int]
) -> None:
    lead, one, other = (frame_ids[n] for n in ("T0001", "T0002", "T0003"))
    server.over(f"/api/match/{server.post('/api/match', {'frames': [one, other], 'reference': lead})['id']}")
    server.post("/api/marks", {"frames": [one, other], "stars": 1})
    server.post("/api/nudge", {"frames": [one, other], "ev": 0.4})
    server.post("/api/marks", {"frames": [one, other], "stars": 2})
    base, ev = (server.get(f"/api/frames/{f}")["offsets"]["ev"] for f in (one, other))
    group = next(f["set"] for f in server.get("/api/shoots/1/sheet")["frames"] if f["id"] == one)
    page.goto("/shoots/1/lineup")
    page.select_option("#which-set", str(group))
    expect(page.locator("#summary")).to_contain_text("2 of 3 outside", timeout=60_000)
    expect(page.locator(".lineup-cell .area-lines polygon").first).to_be_attached()
    page.locator(f'.lineup-cell[data-id="{one}"]').click()
    page.get_by_role("button", name="Large").click()
    # One frame alone stands beside the lead; both at one zoom and place, or each at its own.
    panes = page.locator(".large-pane")
    expect(panes).to_have_count(2)
    eventually(page, lambda: page.locator(".large-pane img").evaluate_all("l => l.every((i) => i.naturalWidth > 100)"))
    page.get_by_role("button", name="200 %").click()
    eventually(page, lambda: page.locator(".large-pane img").evaluate_all("l => l.every((i) => i.style.width !== '')"))
    box = panes.nth(0).bounding_box()
    assert box
    asked: list[str] = []
    page.on("request", lambda r: asked.append(r.url) if "/view?" in r.url else None)
    page.mouse.move(box["x"] + 200, box["y"] + 150)
    page.mouse.down()
    page.mouse.move(box["x"] + 120, box["y"] + 150, steps=3)
    page.mouse.up()
    eventually(page, lambda: len(asked) == 2)
    assert len({url.split("x=")[1] for url in asked}) == 1 and "x=0.5000" not in asked[0]
    page.locator("#large-together").uncheck()
    asked.clear()
    page.mouse.move(box["x"] + 200, box["y"] + 150)
    page.mouse.down()
    page.mouse.move(box["x"] + 160, box["y"] + 150, steps=3)
    page.mouse.up()
    eventually(page, lambda: len(asked) == 1)
    # A correction by key, and the other that was like it.
    page.locator("#strip").focus()
    page.keyboard.press("Shift+ArrowDown")
    page.keyboard.press("-")
    eventually(page, lambda: abs(server.get(f"/api/frames/{one}")["offsets"].get("ev", 0) - (base - 0.5)) < 0.01)
    measured(page, server, group)
    page.keyboard.press("c")
    expect(page.locator("#alike-about")).to_contain_text("0.5 EV", timeout=30_000)
    expect(page.locator(".alike-cell")).to_have_count(1)
    page.get_by_role("button", name="Carry on", exact=True).click()
    eventually(page, lambda: abs(server.get(f"/api/frames/{other}")["offsets"].get("ev", 0) - (ev - 0.5)) < 0.01)


def test_changes_go_to_all_that_follow(page: Page, server: Running, frame_ids: dict[str, int]) -> None:
    page.goto("/shoots/1/lineup")
    group = next(f["set"] for f in server.get("/api/shoots/1/sheet")["frames"] if f["id"] == frame_ids["T0001"])
    page.select_option("#which-set", str(group))
    expect(page.locator(".lineup-cell")).to_have_count(3)
    page.select_option("#goes-to", "all")
    expect(page.locator("#chosen-text")).to_have_text("3 frames")
    page.get_by_role("button", name="+1/6 EV").click()
    eventually(
        page,
        lambda: all(
            server.get(f"/api/frames/{frame_ids[n]}")["values"].get("light.exposure", 0) > 0.1
            for n in ("T0001", "T0002")
        ),
    )
    assert server.get(f"/api/frames/{frame_ids['T0002']}")["ownKeys"] == []


def test_a_line_is_measured_by_a_box_that_is_drawn_on_the_lead(page: Page, server: Running) -> None:
    page.goto("/shoots/1/lineup")
    expect(page.locator("#summary")).to_contain_text("farthest", timeout=60_000)
    page.select_option("#by-area", "drawn")
    use = page.get_by_role("button", name="Use", exact=True)
    expect(use).to_be_disabled()
    image = page.locator("#area-image")
    eventually(page, lambda: bool(image.evaluate("i => i.naturalWidth")))
    frame = image.bounding_box()
    assert frame
    x, y = frame["x"] + 0.1 * frame["width"], frame["y"] + 0.1 * frame["height"]
    # A click is no box.
    page.mouse.click(x, y)
    expect(use).to_be_disabled()
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 0.2 * frame["width"], y + 0.3 * frame["height"], steps=3)
    page.mouse.up()
    mark = page.locator("#area-box").bounding_box()
    assert mark and abs(mark["width"] - 0.2 * frame["width"]) < 3 and abs(mark["height"] - 0.3 * frame["height"]) < 3
    with page.expect_request("**/lineup?**box=0.1*") as asked:
        use.click()
    assert [round(float(v), 1) for v in asked.value.url.split("box=")[1].split("&")[0].split(",")] == [
        0.1, 0.1, 0.3, 0.4,
    ]  # fmt: skip
    expect(page.locator("#by-area")).to_have_value("drawn")
    expect(page.locator("#summary")).to_contain_text("farthest", timeout=60_000)
