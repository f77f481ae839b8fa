"""Making a camera profile on its page, and choosing it on the Bench."""

from collections.abc import Iterator

import pytest
from browsing import eventually
from charts import chart_server
from playwright.sync_api import Page, Route, expect
from serving import Running


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    with chart_server(tmp_path_factory.mktemp("charts")) as result:
        yield result


def test_what_can_be_pressed_stays_where_it_is_when_the_profiles_come(page: Page, server: Running) -> None:
    """They come by a request of their own: a click on its way fell beside its button."""
    asked: list[Route] = []
    page.route("**/api/frames/*/profiles", lambda route: asked.append(route))
    page.goto("/shoots/1/bench?frame=1")
    page.locator('#index [data-group="profile"]').click()
    eventually(page, lambda: bool(asked))
    buttons = page.locator("#profile-carry, #profile-make, #give-look").or_(
        page.get_by_role("slider", name="Base curve")
    )

    def tops() -> list[int]:
        return [round((b.bounding_box() or {"y": -1})["y"]) for b in buttons.all()]

    before = tops()
    assert len(before) == 4
    for route in asked:
        route.continue_()
    expect(page.locator("#profile-list [role=radio]").first).to_be_visible()
    assert tops() == before
    page.unroute_all()


def test_a_profile_is_made_kept_and_chosen(page: Page, server: Running) -> None:
    ids = {f["name"][:5]: f["id"] for f in server.get("/api/shoots/1/sheet")["frames"]}
    page.goto(f"/shoots/1/bench?frame={ids['C0001']}")
    page.locator('#index [data-group="profile"]').click()
    page.locator("#profile-make").click()
    expect(page.locator("#chart-state")).to_contain_text("Chart found", timeout=30_000)
    # A corner by keyboard, then found again.
    corner = page.get_by_label("Corner 1 of the chart")
    before = corner.bounding_box()
    corner.press("Shift+ArrowLeft")
    assert before and (corner.bounding_box() or before)["x"] < before["x"]
    page.get_by_role("button", name="Find the chart again").click()
    expect(page.locator("#chart-state")).to_contain_text("Chart found", timeout=30_000)
    page.locator("#second").select_option(
        label=next(o for o in page.locator("#second option").all_text_contents() if "C0002" in o)
    )
    expect(page.locator("#light-1")).to_have_value("A")
    page.get_by_role("button", name="Make profile").click()
    expect(page.locator("#report table.figures")).to_have_count(3, timeout=60_000)
    expect(page.locator("#report .patches")).to_have_count(2)
    page.get_by_role("button", name="Keep and use").click()
    page.get_by_role("link", name="Back to the Bench").click()
    page.locator('#index [data-group="profile"]').click()
    chosen = page.locator(".preset-card.chosen")
    expect(chosen).to_contain_text("Alder One", timeout=30_000)
    page.get_by_role("radio", name="As the file says").click()
    eventually(page, lambda: server.get(f"/api/frames/{ids['C0001']}")["values"].get("profile.camera", "") == "")
    page.goto("/kit")
    page.get_by_role("tab", name="Camera profiles").click()
    page.get_by_role("button", name="Alder One").click()
    expect(page.locator("#profile-detail .patches")).to_have_count(2)
    page.get_by_role("tab", name="Rules").click()
    page.get_by_role("button", name="Add rule").click()
    expect(page.locator("#rules tr")).to_have_count(1)
    page.get_by_role("button", name="Delete rule 1").click()
    expect(page.locator("#rules tr")).to_have_count(0)


def test_no_chart_is_said_and_corners_can_be_set_by_hand(page: Page, server: Running) -> None:
    ids = {f["name"][:5]: f["id"] for f in server.get("/api/shoots/1/sheet")["frames"]}
    page.goto(f"/shoots/1/profile?frame={ids['C0004']}")
    expect(page.locator("#chart-state")).to_contain_text("No chart was found", timeout=30_000)
    expect(page.get_by_label("Corner 3 of the chart")).to_be_visible()
    page.get_by_role("button", name="Make profile").click()
    expect(page.locator("#maker-error")).not_to_be_empty(timeout=60_000)
    expect(page.locator("#keep")).to_be_disabled()
