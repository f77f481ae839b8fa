"""Tabs, wheels, curves by number, the histogram and the handles of levels, and the automatic start, on the Bench."""

from collections.abc import Callable
from typing import Any

import pytest
from browsing import command, eventually, settled
from playwright.sync_api import Page, expect
from serving import Running

Values = Callable[[], dict[str, Any]]


@pytest.fixture
def values(page: Page, server: Running, frame_ids: dict[str, int]) -> Values:
    page.goto(f"/shoots/1/bench?frame={frame_ids['T0001']}")
    settled(page)
    return lambda: dict(server.get(f"/api/frames/{frame_ids['T0001']}")["values"])


def group(page: Page, name: str) -> None:
    page.locator(f'#index [data-group="{name}"]').click()


@pytest.mark.usefixtures("fresh")
def test_parts_of_a_group_stand_under_tabs_with_a_mark(page: Page, values: Values) -> None:
    group(page, "ranges")
    panel = page.get_by_role("region", name="Hue ranges")
    expect(panel.get_by_role("slider")).to_have_count(8)
    panel.get_by_role("tab", name="Saturation").click()
    page.locator("#n-ranges-blue_saturation").fill("-40")
    page.locator("#n-ranges-blue_saturation").press("Enter")
    eventually(page, lambda: values().get("ranges.blue_saturation") == -40)
    # By keys too; the mark stays at the tab that holds something.
    panel.get_by_role("tab", name="Saturation").press("ArrowRight")
    expect(panel.get_by_role("tab", name="Lightness")).to_be_focused()
    expect(page.locator("#n-ranges-blue_lightness")).to_be_visible()
    expect(panel.locator(".group-tabs .own")).to_have_text("Saturation")


@pytest.mark.usefixtures("fresh")
def test_a_wheel_by_pointer_and_by_keys(page: Page, values: Values) -> None:
    group(page, "balance")
    wheel = page.get_by_role("slider", name="Wheel of shadows")
    box = wheel.bounding_box()
    assert box
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x, y - 26, steps=3)
    page.mouse.up()
    eventually(page, lambda: abs(values().get("balance.shadows_hue", 0) - 90) < 3)
    assert 40 < values()["balance.shadows_strength"] < 60
    expect(page.locator("#n-balance-shadows_hue")).to_have_value("90")
    wheel.focus()
    page.keyboard.press("Shift+ArrowLeft")
    eventually(page, lambda: abs(values().get("balance.shadows_hue", 0) - 100) < 3)
    page.keyboard.press("Home")
    eventually(page, lambda: not values().get("balance.shadows_strength"))
    expect(wheel).to_have_attribute("aria-valuenow", "0")


@pytest.mark.usefixtures("fresh")
def test_points_of_a_channels_curve_by_number(page: Page, values: Values) -> None:
    group(page, "curve")
    page.get_by_role("tab", name="Red").click()
    curve = page.get_by_role("group", name="Red curve")
    box = curve.bounding_box()
    assert box
    page.mouse.click(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
    eventually(page, lambda: len(values().get("curve.red", [])) == 3)
    out = page.get_by_label("Out, % of the chosen point of Red curve")
    out.fill("62.5")
    out.press("Enter")
    eventually(page, lambda: values()["curve.red"][1][1] == 0.625)
    assert "curve.points" not in values()
    page.get_by_label("Never go down").check()
    eventually(page, lambda: values().get("curve.rising") is True)


@pytest.mark.usefixtures("fresh")
def test_the_histogram_is_dragged_and_put_back(page: Page, values: Values) -> None:
    box = page.locator("#histogram canvas").bounding_box()
    assert box
    x, y = box["x"] + box["width"] * 0.5, box["y"] + 40
    page.mouse.move(x, y)
    expect(page.locator(".scope-part")).to_contain_text("exposure")
    page.mouse.down()
    page.mouse.move(x + 40, y, steps=4)
    page.mouse.up()
    eventually(page, lambda: values().get("light.exposure", 0) > 0.2)
    page.mouse.dblclick(x, y)
    eventually(page, lambda: not values().get("light.exposure"))
    page.mouse.move(box["x"] + box["width"] * 0.2, y)
    expect(page.locator(".scope-part")).to_contain_text("shadows")


@pytest.mark.usefixtures("fresh")
def test_levels_by_handles_and_by_themselves(page: Page, values: Values) -> None:
    group(page, "levels")
    page.get_by_role("region", name="Levels").get_by_role("tab", name="Green").click()
    handle = page.locator("#level-handles rect").nth(2).bounding_box()
    assert handle
    x, y = handle["x"] + handle["width"] / 2, handle["y"] + handle["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x - 60, y, steps=3)
    page.mouse.up()
    eventually(page, lambda: 70 < values().get("levels.green_white", 100) < 95)
    page.get_by_label("clip", exact=True).fill("1")
    page.get_by_role("button", name="Automatic ends").click()
    eventually(page, lambda: "levels.green_black" in values())
    group(page, "light")
    expect(page.locator("#level-handles")).to_be_hidden()


@pytest.mark.usefixtures("fresh")
def test_black_and_white_by_the_picture(page: Page, values: Values) -> None:
    group(page, "mono")
    page.locator("#mono-auto").click()
    eventually(page, lambda: values().get("mono.amount") == 100)


@pytest.mark.usefixtures("fresh")
def test_the_automatic_start_is_asked_for_and_undone(page: Page, values: Values) -> None:
    group(page, "light")
    page.get_by_role("button", name="Automatic …").click()
    dialog = page.get_by_role("dialog", name="Automatic start")
    dialog.get_by_label("white balance").uncheck()
    dialog.get_by_role("button", name="Work it out").click()
    eventually(page, lambda: "light.black_point" in values())
    assert "white.temperature" not in values()
    page.get_by_role("button", name="Undo").click()
    eventually(page, lambda: "light.black_point" not in values())
    command(page, "Automatic start")
    expect(dialog.get_by_label("white balance")).not_to_be_checked()


@pytest.mark.usefixtures("fresh")
def test_a_range_and_a_curve_are_dragged_in_the_picture(page: Page, values: Values) -> None:
    group(page, "ranges")
    page.get_by_role("tab", name="Saturation").click()
    page.get_by_role("button", name="In the picture").click()
    box = page.locator("#canvas").bounding_box()
    assert box
    # The lamp's foot is blue.
    x, y = box["x"] + box["width"] * 0.5, box["y"] + box["height"] * 0.68
    page.mouse.move(x, y)
    expect(page.locator("#ranges-under")).to_contain_text("%")
    page.mouse.down()
    page.mouse.move(x, y - 60, steps=4)
    page.mouse.up()
    eventually(
        page, lambda: any(k.startswith("ranges.") and v > 20 for k, v in values().items() if k != "ranges.enabled")
    )
    group(page, "curve")
    expect(page.get_by_role("button", name="In the picture")).to_have_attribute("aria-pressed", "false")
    page.get_by_role("button", name="In the picture").click()
    page.mouse.move(box["x"] + box["width"] * 0.2, box["y"] + box["height"] * 0.4)
    expect(page.locator("#curve-under")).to_contain_text("becomes")
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] * 0.2, box["y"] + box["height"] * 0.4 + 40, steps=3)
    page.mouse.up()
    eventually(page, lambda: len(values().get("curve.points", [])) == 3)
    middle = values()["curve.points"][1]
    assert middle[1] < middle[0] - 0.05


@pytest.mark.usefixtures("fresh")
def test_a_colour_is_picked_and_brought_to_what_it_must_be(
    page: Page, server: Running, frame_ids: dict[str, int]
) -> None:
    frame = frame_ids["T0001"]
    page.goto(f"/shoots/1/bench?frame={frame}")
    settled(page)
    page.locator('#index [data-group="exact"]').click()
    page.get_by_role("button", name="Pick a colour").click()
    box = page.locator("#canvas").bounding_box()
    assert box
    page.mouse.click(box["x"] + box["width"] * 0.5, box["y"] + box["height"] * 0.67)
    field = page.get_by_label("Colour 1 must be")
    expect(field).to_be_focused()
    field.fill("sky")
    page.keyboard.press("Enter")
    expect(page.locator("[role=alert]", has_text="is no colour")).to_be_visible()
    field.fill("#1f5a8c")
    page.keyboard.press("Enter")
    pairs = lambda: server.get(f"/api/frames/{frame}/exact")["pairs"]  # noqa: E731
    eventually(page, lambda: bool(pairs()) and pairs()[0]["target"] == "#1f5a8c")
    expect(page.locator("#exact-list")).to_contain_text("→ 0")
    page.get_by_role("button", name="Measure the set").click()
    expect(page.locator("#exact-rows tr")).to_have_count(3)
    page.get_by_role("button", name="Remove Colour 1").click()
    eventually(page, lambda: pairs() == [])
    expect(page.locator("#exact-none")).to_be_visible()


@pytest.mark.usefixtures("fresh")
def test_a_range_is_picked_in_the_picture(page: Page, values: Values) -> None:
    page.locator('#index [data-group="picked"]').click()
    page.get_by_role("button", name="Pick a range").click()
    box = page.locator("#canvas").bounding_box()
    assert box
    page.mouse.click(box["x"] + box["width"] * 0.5, box["y"] + box["height"] * 0.67)
    one = page.locator("#picked-one")
    expect(one).to_be_visible()
    field = one.locator(".rule-number").first
    field.fill("40")
    page.keyboard.press("Enter")
    picked = lambda: {k.split("/")[2]: v for k, v in values().items() if k.startswith("picked/")}  # noqa: E731
    eventually(page, lambda: picked().get("hue") == 40)
    assert 220 < picked()["middle"][2] < 300
    one.locator(".rule-scale").nth(3).focus()  # even hue, by keys
    page.keyboard.press("ArrowRight")
    eventually(page, lambda: picked().get("even_hue", 0) > 0)
    # Dragged in the picture: the range under the pointer changes, in what was chosen beside.
    page.get_by_label("What dragging changes").select_option("saturation")
    page.locator("#picked-drag").click()
    page.mouse.move(box["x"] + box["width"] * 0.2, box["y"] + box["height"] * 0.3)
    expect(page.locator("#picked-under")).to_have_text("in none of the ranges")
    x, y = box["x"] + box["width"] * 0.5, box["y"] + box["height"] * 0.67
    page.mouse.move(x, y)
    expect(page.locator("#picked-under")).to_contain_text("range 1 has")
    page.mouse.down()
    page.mouse.move(x, y + 60, steps=4)
    page.mouse.up()
    eventually(page, lambda: picked().get("saturation", 0) <= -20)
    page.locator("#picked-remove").click()
    expect(page.locator("#picked-none")).to_be_visible()
    eventually(page, lambda: not picked())
