"""Spots on the Bench: set, drawn, put right in other ways, seen small, followed, moved, looked for, walked; dust in Kit."""

import re
from collections.abc import Callable

import pytest
from browsing import eventually, settled
from playwright.sync_api import Page, expect
from serving import Running
from test_areas_page import drag, middle
from test_states import AXE, FINDS, FITS

pytestmark = pytest.mark.usefixtures("fresh")
Bench = Callable[..., None]


def spots_of(server: Running, frame: int) -> dict[str, dict[str, object]]:
    found: dict[str, dict[str, object]] = {}
    for key, value in server.get(f"/api/frames/{frame}")["values"].items():
        if key.startswith("spots/"):
            _, ident, name = key.split("/")
            found.setdefault(ident, {})[name] = value
    return {i: s for i, s in found.items() if s.get("kind")}


def opened(page: Page) -> None:
    page.keyboard.press("r")
    expect(page.locator('.group[data-group="spots"]')).to_be_visible()
    settled(page)


def clicked(page: Page, by: tuple[float, float] = (0, 0)) -> None:
    """A spot is set; its row and its panel are there."""
    count = page.locator("#spot-list .area-row").count()
    x, y = middle(page)
    page.mouse.move(x + by[0], y + by[1])
    page.mouse.down()
    page.mouse.up()
    expect(page.locator("#spot-list .area-row")).to_have_count(count + 1)
    expect(page.locator("#spot-one")).to_be_visible()
    settled(page)


def test_a_click_sets_one_and_its_panel_changes_it(
    page: Page, bench: Bench, server: Running, frame_ids: dict[str, int]
) -> None:
    bench("T0001")
    opened(page)
    clicked(page)
    lead = frame_ids["T0001"]
    ((ident, spot),) = spots_of(server, lead).items()
    assert len(spot["path"]) == 1 and "way" not in spot  # type: ignore[arg-type]
    # Before and after are seen small.
    eventually(
        page,
        lambda: page.evaluate(
            "() => [...document.querySelectorAll('#spot-list img')].every((i) => i.naturalWidth > 8)"
        ),
    )
    page.locator("#spot-one-ways").get_by_role("button", name="Even out").click()
    expect(page.locator("#spot-calm")).to_be_visible()
    expect(page.locator("#spot-source")).to_be_hidden()
    page.locator("#spot-calms").select_option("coarser")
    page.locator("#spot-holds").select_option("subject")
    eventually(page, lambda: spots_of(server, lead)[ident].get("holds") == "subject")
    assert spots_of(server, lead)[ident]["way"] == "even" and spots_of(server, lead)[ident]["calm"] == "coarser"
    page.locator("#spot-one-ways").get_by_role("button", name="Fill").click()
    page.locator("#spot-along").click()
    x, y = middle(page)
    drag(page, (x - 50, y - 5), (x + 50, y + 5))
    eventually(page, lambda: len(spots_of(server, lead)[ident].get("along", [])) >= 2)  # type: ignore[arg-type]
    assert page.locator("#spot-list .area-row").count() == 1
    page.locator("#spot-along-off").click()
    eventually(page, lambda: not spots_of(server, lead)[ident].get("along"))
    page.locator("#spot-proposals").click()
    expect(page.locator("#spot-proposed button")).to_have_count(3)
    page.locator("#spot-proposed button").nth(2).click()
    eventually(page, lambda: spots_of(server, lead)[ident].get("another") == 2)
    expect(page.locator("#spot-proposed button").nth(2)).to_have_attribute("aria-pressed", "true")
    softness = page.locator('#spot-one .rule[data-key="spots/00000000/softness"] .rule-number')
    softness.fill("80")
    softness.press("Enter")
    eventually(page, lambda: spots_of(server, lead)[ident].get("softness") == 80)
    # All of it at once: nothing is cut off, and axe finds nothing.
    assert page.evaluate(FITS) == []
    page.evaluate(AXE.read_text())
    assert page.evaluate(FINDS, [[], ""])["found"] == []


def test_lines_and_outlines_are_drawn(page: Page, bench: Bench, server: Running, frame_ids: dict[str, int]) -> None:
    bench("T0001")
    opened(page)
    page.locator("#spot-ways").get_by_role("button", name="Fill").click()
    x, y = middle(page)
    drag(page, (x - 60, y), (x + 60, y + 10))
    expect(page.locator("#spot-list .area-row")).to_have_count(1)
    page.locator("#spot-outline").check()
    page.mouse.move(x - 50, y + 40)
    page.mouse.down()
    for at in ((x + 50, y + 40), (x + 50, y + 90), (x - 50, y + 90)):
        page.mouse.move(*at, steps=4)
    page.mouse.up()
    expect(page.locator("#spot-list .area-row")).to_have_count(2)
    line, outline = sorted(spots_of(server, frame_ids["T0001"]).values(), key=lambda s: s["order"])  # type: ignore[arg-type, return-value]
    assert line["way"] == outline["way"] == "fill" and not line.get("closed") and outline["closed"]
    assert len(line["path"]) >= 2 and len(outline["path"]) >= 4  # type: ignore[arg-type]


def test_followers_show_where_it_lies_and_can_move_it(
    page: Page, bench: Bench, server: Running, frame_ids: dict[str, int]
) -> None:
    bench("T0001")
    opened(page)
    clicked(page, (20, 30))
    lead, follower = frame_ids["T0001"], frame_ids["T0002"]
    (ident,) = spots_of(server, lead)
    server.until(f"/api/frames/{follower}", lambda f: f"spots/{ident}/judged" in f["values"])
    page.locator("#spot-evidence").click()
    expect(page.locator("#spot-evidence")).to_have_text("Ask the other frames", timeout=30_000)
    expect(page.locator("#spot-said")).to_have_text(re.compile("frame|tell"))
    bench("T0002")
    opened(page)
    expect(page.locator("#spot-list .area-row")).to_have_count(1)
    page.locator("#spot-list .area-name").click()
    settled(page)
    expect(page.locator("#spot-holds")).to_be_disabled()
    page.locator('[data-zoom="0"]').click()
    settled(page)
    # Dragged by hand it is this frame's own, where it was put.
    x, y = middle(page)
    drag(page, (x + 20, y + 30), (x + 60, y + 30))
    eventually(page, lambda: f"spots/{ident}/path" in server.get(f"/api/frames/{follower}")["ownKeys"])
    a, b = (spots_of(server, f)[ident]["path"][0] for f in (lead, follower))  # type: ignore[index]
    assert b[0] - a[0] > 0.01 and spots_of(server, follower)[ident].get("found", []) == []
    page.locator("#spot-carry").click()
    expect(page.locator("#carry")).to_be_visible()
    page.keyboard.press("Escape")
    page.locator("#spot-list").get_by_role("button", name="Remove").click()
    eventually(page, lambda: spots_of(server, follower)[ident].get("present") is False)
    assert spots_of(server, lead)[ident].get("present", True)


def test_specks_are_looked_for_and_the_picture_is_walked(page: Page, bench: Bench) -> None:
    bench("T0001")
    opened(page)
    page.locator("#spot-looking").click()
    page.get_by_role("menuitem", name="Also on textured things").click()
    expect(page.locator("#spot-found")).to_be_visible(timeout=30_000)
    assert "sure on" in page.locator("#spot-found-text").inner_text()
    # What was found in one frame is nothing in another.
    page.keyboard.press("ArrowDown")
    expect(page.locator("#spot-found")).to_be_hidden()
    expect(page.locator(".ribbon-cell.active")).to_contain_text("T0002")
    page.keyboard.press("ArrowUp")
    # The picture is at rest until the frame before is known.
    expect(page.locator(".ribbon-cell.active")).to_contain_text("T0001")
    settled(page)
    page.locator("#spot-looking").click()
    page.get_by_role("menuitem", name="Also on textured things").click()
    expect(page.locator("#spot-found")).to_be_visible(timeout=30_000)
    page.locator("#spot-drop").click()
    expect(page.locator("#spot-found")).to_be_hidden()
    page.locator("#spot-see").check()
    settled(page)
    seen = set()
    page.keyboard.press(".")
    expect(page.locator("#spot-walked")).to_be_visible()
    text = page.locator("#spot-walked").inner_text()
    count = int(text.split(" of ")[1].split(";")[0])
    for _ in range(count):
        seen.add(page.locator("#spot-walked").inner_text())
        page.keyboard.press(".")
        settled(page)
    assert len(seen) == count and page.locator("#spot-walked").inner_text() == text
    page.keyboard.press("x")
    expect(page.locator("#spot-see")).not_to_be_checked()
    page.locator("#spot-looking").click()
    page.get_by_role("menuitem", name="Dust in this plain frame").click()
    # What is said: places in one frame, or that there are none.
    expect(page.get_by_text("in 1 frame of this camera").last).to_be_visible(timeout=30_000)
    expect(page.locator("#spot-looking")).to_contain_text("Look for")


def test_one_key_leads_there_from_the_line_up(page: Page, bench: Bench) -> None:
    bench("T0001")
    page.locator('#index [data-group="light"]').click()
    page.goto("/shoots/1/lineup")
    page.wait_for_load_state("networkidle")
    page.locator("body").press("ArrowRight")
    page.keyboard.press("r")
    page.wait_for_url("**/bench?frame=*")
    expect(page.locator('.group[data-group="spots"]')).to_be_visible()


def test_dust_of_a_camera_is_seen_in_kit(page: Page, server: Running, frame_ids: dict[str, int]) -> None:
    frame = frame_ids["T0001"]
    specks = [{"x": 0.1, "y": -0.1, "size": 0.003}, {"x": -0.2, "y": 0.15, "size": 0.004}]
    kept = server.post(f"/api/frames/{frame}/dust", {"specks": specks})
    page.goto("/kit#dust")
    card = page.locator("#dust-list article")
    expect(card).to_have_count(1)
    expect(card.get_by_role("img", name="2 pieces of dust")).to_be_visible()
    card.get_by_role("button", name="Cleaned today").click()
    expect(card.get_by_role("button", name="Cleaned today")).to_have_count(0)
    assert server.get("/api/dust")["dust"][0]["until"]
    card.get_by_role("button", name="Delete").click()
    expect(card).to_have_count(0)
    expect(page.locator("#dust-none")).to_be_visible()
    assert kept["count"] == 2
