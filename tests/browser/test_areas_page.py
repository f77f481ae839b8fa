"""Areas on the Bench: drawn, changed, followed, moved on a follower, left out, carried over, removed."""

from collections.abc import Callable

import pytest
from browsing import eventually, settled
from playwright.sync_api import Page, expect
from serving import Running

pytestmark = pytest.mark.usefixtures("fresh")
Bench = Callable[..., None]


def middle(page: Page) -> tuple[float, float]:
    box = page.locator("#canvas").bounding_box()
    assert box
    return box["x"] + box["width"] / 2, box["y"] + box["height"] / 2


def drag(page: Page, start: tuple[float, float], end: tuple[float, float]) -> None:
    page.mouse.move(*start)
    page.mouse.down()
    page.mouse.move((start[0] + end[0]) / 2, (start[1] + end[1]) / 2, steps=3)
    page.mouse.move(*end, steps=3)
    page.mouse.up()
    settled(page)


def begun(page: Page, kind: str) -> None:
    page.locator("#area-new").click()
    page.get_by_role("button", name=kind, exact=True).click()


def drawn(page: Page, kind: str = "Round") -> None:
    page.locator('#index [data-group="areas"]').click()
    settled(page)
    begun(page, f"{kind} gradient")
    x, y = middle(page)
    drag(page, (x, y), (x + 90, y))
    expect(page.locator(".area-row")).to_have_count(1)


def put(page: Page, name: str, value: str) -> None:
    field = page.locator(f'.rule[data-key="areas/00000000/{name}"] .rule-number')
    if not field.is_visible():
        page.locator("details.fold", has=field).locator("summary").click()
    field.fill(value)
    field.press("Enter")
    settled(page)


def area_of(server: Running, frame: int) -> dict[str, object]:
    """The names of the one area of a frame, without its id."""
    values = server.get(f"/api/frames/{frame}")["values"]
    return {k.split("/")[2]: v for k, v in values.items() if k.startswith("areas/")}


def test_drawn_on_the_lead_and_moved_on_a_follower(
    page: Page, bench: Bench, server: Running, frame_ids: dict[str, int]
) -> None:
    bench("T0001")
    drawn(page)
    put(page, "light.exposure", "1.5")
    lead = area_of(server, frame_ids["T0001"])
    assert lead["light.exposure"] == 1.5 and lead["name"] == "Round gradient"
    (shape,) = lead["shapes"]  # type: ignore[misc]
    assert shape["kind"] == "round" and abs(shape["at"][0]) < 0.01 and abs(shape["at"][1]) < 0.01
    # A handle stretches and turns it; the square moves it.
    x, y = middle(page)
    drag(page, (x + 90, y), (x, y - 140))
    (shape,) = area_of(server, frame_ids["T0001"])["shapes"]  # type: ignore[misc]
    assert shape["angle"] == pytest.approx(-90, abs=2) and shape["radii"][0] > shape["radii"][1] * 1.4
    bench("T0002")
    page.locator('#index [data-group="areas"]').click()
    settled(page)
    expect(page.locator(".area-row")).to_contain_text("follows")
    drag(page, (x, y), (x - 60, y + 30))
    offsets = server.get(f"/api/frames/{frame_ids['T0002']}")["offsets"]
    (moved,) = offsets.values()
    assert moved[0] < -0.03 and moved[1] > 0.01 and moved[2:] == [1.0, 0.0]
    expect(page.locator(".area-row")).to_contain_text("departs here")
    page.get_by_role("button", name="Follow the lead’s place").click()
    settled(page)
    assert server.get(f"/api/frames/{frame_ids['T0002']}")["offsets"] == {}
    page.get_by_role("button", name="Not on this frame").click()
    settled(page)
    expect(page.locator(".area-row")).to_contain_text("not on this frame")
    assert area_of(server, frame_ids["T0002"])["present"] is False
    assert area_of(server, frame_ids["T0003"])["light.exposure"] == 1.5


def test_named_carried_over_and_removed(page: Page, bench: Bench, server: Running, frame_ids: dict[str, int]) -> None:
    bench("T0001")
    drawn(page, "Straight")
    page.locator("#area-name").fill("Calm ground")
    page.locator("#area-name").press("Enter")
    settled(page)
    put(page, "colour.saturation", "-60")
    page.get_by_label("everything but this").check()
    settled(page)
    page.locator("#area-carry").click()
    expect(page.locator("#carry-count")).to_contain_text("to")
    page.get_by_label("the whole shoot").check()
    page.locator("#carry-go").click()
    settled(page)
    other = area_of(server, frame_ids["T0012"])
    assert other["name"] == "Calm ground" and other["inverted"] is True and other["colour.saturation"] == -60
    page.locator("#area-remove").click()
    eventually(page, lambda: not area_of(server, frame_ids["T0001"]))
    expect(page.locator("#area-one")).to_be_hidden()
    page.get_by_role("button", name="Undo").click()
    eventually(page, lambda: area_of(server, frame_ids["T0001"]).get("name") == "Calm ground")


def test_painted_combined_and_shown(page: Page, bench: Bench, server: Running, frame_ids: dict[str, int]) -> None:
    bench("T0001")
    page.locator('#index [data-group="areas"]').click()
    settled(page)
    begun(page, "Brush")
    expect(page.locator("#brush-controls")).to_be_visible()
    x, y = middle(page)
    page.mouse.move(x, y)
    before = page.locator("#brush-size-text").inner_text()
    page.keyboard.press("+")
    assert page.locator("#brush-size-text").inner_text() != before
    drag(page, (x - 60, y), (x + 60, y + 20))
    expect(page.locator(".area-row")).to_have_count(1)
    eventually(page, lambda: area_of(server, frame_ids["T0001"]).get("name") == "Brush")
    (shape,) = area_of(server, frame_ids["T0001"])["shapes"]  # type: ignore[misc]
    assert shape["kind"] == "brush" and shape["holds"] == "subject" and len(shape["strokes"]) == 1
    # One stroke more, and one that erases; each is a step.
    drag(page, (x - 60, y + 60), (x + 60, y + 60))
    page.keyboard.press("y")
    expect(page.get_by_label("erase")).to_be_checked()
    drag(page, (x, y - 40), (x, y + 80))
    eventually(page, lambda: len(area_of(server, frame_ids["T0001"])["shapes"][0]["strokes"]) == 3)  # type: ignore[index]
    page.get_by_role("button", name="Undo").click()
    eventually(page, lambda: len(area_of(server, frame_ids["T0001"])["shapes"][0]["strokes"]) == 2)  # type: ignore[index]
    # A second part, taken away, then first in the order.
    page.locator("#part-add").click()
    page.get_by_role("button", name="Range of lightness", exact=True).click()
    expect(page.locator(".part-row")).to_have_count(2)
    page.get_by_label("How Range of lightness is combined").select_option("subtract")
    eventually(page, lambda: area_of(server, frame_ids["T0001"])["shapes"][1].get("combine") == "subtract")  # type: ignore[index]
    page.get_by_label("Range of lightness up").click()
    eventually(page, lambda: area_of(server, frame_ids["T0001"])["shapes"][0]["kind"] == "lightness")  # type: ignore[index]
    field = page.locator('.rule[data-key="part.low"] .rule-number')
    field.fill("35")
    field.press("Enter")
    eventually(page, lambda: area_of(server, frame_ids["T0001"])["shapes"][0]["low"] == 35)  # type: ignore[index]
    # The mask is shown as one asks for it.
    page.locator("#area-see").select_option("grey")
    settled(page)
    page.locator("#canvas").press("m")
    expect(page.locator("#area-see")).to_have_value("none")
    assert page.url.split("?")[0].endswith("/bench")


def test_the_edge_of_an_outline_is_softer_at_one_corner(
    page: Page, bench: Bench, server: Running, frame_ids: dict[str, int]
) -> None:
    bench("T0001")
    page.locator('#index [data-group="areas"]').click()
    settled(page)
    begun(page, "Outline")
    x, y = middle(page)
    for dx, dy in ((-70, -50), (70, -50), (80, 60), (-60, 70), (-70, -50)):
        page.mouse.click(x + dx, y + dy)
    lead = frame_ids["T0001"]

    def points() -> list[dict[str, object]]:
        return area_of(server, lead)["shapes"][0]["points"]  # type: ignore[index, no-any-return]

    eventually(page, lambda: area_of(server, lead).get("name") == "Outline")
    settled(page)
    expect(page.locator("#part-corner")).to_contain_text("none is chosen")
    page.mouse.click(x + 70, y - 50)
    expect(page.locator("#corner-number")).to_have_text("2 of 4")
    page.locator("#corner-softness").fill("60")
    eventually(page, lambda: [p.get("softness") for p in points()] == [None, 0.06, None, None])
    page.locator("#corner-next").click()
    expect(page.locator("#corner-number")).to_have_text("3 of 4")
    page.locator("#corner-curved").check()
    eventually(page, lambda: bool(points()[2].get("curved")) and not points()[1].get("curved"))
    settled(page)
    page.locator("#corner-before").click()
    page.locator("#corner-as-all").click()
    eventually(page, lambda: points()[1].get("softness") is None)
    page.locator("#corner-remove").click()
    eventually(page, lambda: len(points()) == 3)
    # Three is the least; the next one that is chosen cannot go.
    page.locator("#corner-next").click()
    expect(page.locator("#corner-remove")).to_be_disabled()


def test_an_outline_and_a_colour_are_clicked(
    page: Page, bench: Bench, server: Running, frame_ids: dict[str, int]
) -> None:
    bench("T0001")
    page.locator('#index [data-group="areas"]').click()
    settled(page)
    begun(page, "Outline")
    x, y = middle(page)
    for dx, dy in ((-70, -50), (70, -50), (80, 60), (-70, -50)):
        page.mouse.click(x + dx, y + dy)
    eventually(page, lambda: area_of(server, frame_ids["T0001"]).get("name") == "Outline")
    settled(page)
    page.get_by_label("curved through its points").check()
    eventually(page, lambda: all(p.get("curved") for p in area_of(server, frame_ids["T0001"])["shapes"][0]["points"]))  # type: ignore[index]
    settled(page)
    page.locator("#part-add").click()
    page.get_by_role("button", name="Range of colour", exact=True).click()
    page.mouse.click(x, y)
    eventually(page, lambda: len(area_of(server, frame_ids["T0001"])["shapes"]) == 2)  # type: ignore[arg-type]
    settled(page)
    page.locator("#part-pick").click()
    page.mouse.click(x + 20, y + 10)
    eventually(page, lambda: len(area_of(server, frame_ids["T0001"])["shapes"][1]["samples"]) == 2)  # type: ignore[index]
