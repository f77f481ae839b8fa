"""The Bench: controls, following and departures, before and after, zoom, crop, curve, presets, undo."""

from collections.abc import Callable

import numpy as np
import pytest
from browsing import eventually, settled, until
from playwright.sync_api import Page, expect
from scipy.interpolate import PchipInterpolator
from serving import Running

pytestmark = pytest.mark.usefixtures("fresh")
Bench = Callable[..., None]
Mean = Callable[..., list[float]]


def group(page: Page, name: str) -> None:
    page.locator(f'#index [data-group="{name}"]').click()


def put(page: Page, key: str, value: str) -> None:
    field = page.locator(f"#n-{key.replace('.', '-')}")
    field.fill(value)
    field.press("Enter")
    settled(page)


def test_numbers_arrows_and_reset(page: Page, bench: Bench, server: Running, frame_ids: dict[str, int]) -> None:
    bench()
    group(page, "light")
    put(page, "light.contrast", "-20")
    scale = page.get_by_role("slider", name="Contrast", exact=True)
    assert scale.get_attribute("aria-valuenow") == "-20"
    scale.focus()
    for _ in range(3):
        scale.press("ArrowRight")
    scale.press("Shift+ArrowLeft")
    eventually(page, lambda: server.get(f"/api/frames/{frame_ids['T0001']}")["values"]["light.contrast"] == -27)
    # Four presses are one step of the history.
    assert len(server.get(f"/api/frames/{frame_ids['T0001']}")["history"]) == 2
    page.locator('.rule[data-key="light.contrast"] .rule-reset').click()
    expect(page.locator("#n-light-contrast")).to_have_value("0")
    put(page, "light.exposure", "nonsense")
    expect(page.locator("#n-light-exposure")).to_have_value("0")
    put(page, "light.exposure", "99")
    expect(page.locator("#n-light-exposure")).to_have_value("+5")


def test_followers_follow_and_departures_are_visible(page: Page, bench: Bench, mean: Mean) -> None:
    bench("T0002")
    follower = np.mean(mean())
    bench("T0001")
    group(page, "light")
    put(page, "light.exposure", "1")
    page.locator("#canvas").press("ArrowDown")
    settled(page)
    expect(page.locator("#follow-line")).to_contain_text("follows T0001.DNG")
    expect(page.locator("#n-light-exposure")).to_have_value("+1")
    assert np.mean(mean()) > follower + 15
    # A relative departure.
    put(page, "light.exposure", "1.5")
    expect(page.locator(".ribbon-cell.active")).to_contain_text("+0.5")
    put(page, "light.shadows", "30")
    expect(page.locator('.rule[data-key="light.shadows"]')).to_have_class("rule own")
    expect(page.locator('#index [data-group="light"] .index-mark')).to_contain_class("mark-own")
    page.get_by_role("button", name="Give up all departures").click()
    settled(page)
    expect(page.locator("#n-light-exposure")).to_have_value("+1")
    expect(page.locator("#n-light-shadows")).to_have_value("0")
    expect(page.locator(".ribbon-cell.active")).not_to_contain_text("+0.5")


def test_several_frames_at_once(page: Page, bench: Bench, server: Running, frame_ids: dict[str, int]) -> None:
    bench("T0002")
    page.locator(f"#ribbon-{frame_ids['T0003']}").click(modifiers=["Control"])
    expect(page.locator("#goes-to")).to_have_value("chosen")
    expect(page.locator("#goes-count")).to_have_text("2 frames")
    group(page, "colour")
    put(page, "colour.vibrance", "25")
    rows = {f["name"][:5]: f for f in server.get("/api/shoots/1/sheet")["frames"]}
    assert rows["T0002"]["own"] == rows["T0003"]["own"] == ["Vibrance"] and rows["T0001"]["own"] == []


def test_undo_and_redo_by_key(page: Page, bench: Bench) -> None:
    bench()
    group(page, "light")
    put(page, "light.exposure", "1")
    page.locator("body").press("Control+z")
    expect(page.locator("#n-light-exposure")).to_have_value("0")
    page.locator("body").press("Control+Shift+Z")
    expect(page.locator("#n-light-exposure")).to_have_value("+1")
    group(page, "history")
    page.get_by_role("button", name="As it came in").click()
    settled(page)
    group(page, "light")
    expect(page.locator("#n-light-exposure")).to_have_value("0")


def test_a_group_can_be_switched_off_and_on(page: Page, bench: Bench, mean: Mean) -> None:
    bench()
    group(page, "light")
    plain = np.mean(mean())
    put(page, "light.exposure", "1.5")
    bright = np.mean(mean())
    page.locator('.group[data-group="light"] .switch input').uncheck()
    settled(page)
    assert abs(np.mean(mean()) - plain) < 2
    page.locator('.group[data-group="light"] .switch input').check()
    settled(page)
    assert abs(np.mean(mean()) - bright) < 2


def test_before_by_a_held_key_and_by_a_split_line(page: Page, bench: Bench, mean: Mean) -> None:
    bench()
    group(page, "light")
    plain = np.mean(mean())
    put(page, "light.exposure", "2")
    bright = np.mean(mean())
    page.locator("body").focus()
    page.keyboard.down("b")
    eventually(page, lambda: abs(np.mean(mean()) - plain) < 4)
    page.keyboard.up("b")
    eventually(page, lambda: abs(np.mean(mean()) - bright) < 2)
    page.get_by_role("button", name="Split").click()
    left, right = (0.3, 0.35, 0.15, 0.1), (0.55, 0.35, 0.15, 0.1)
    eventually(page, lambda: np.mean(mean(*right)) > np.mean(mean(*left)) + 25)
    after = np.mean(mean(*right))
    # The line is dragged to the right edge: all is "before" left of it.
    box = page.locator("#canvas").bounding_box()
    assert box
    middle = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(*middle)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] * 0.95, middle[1], steps=6)
    page.mouse.up()
    eventually(page, lambda: abs(np.mean(mean(*right)) - after) > 25)


def test_zoom_and_panning(page: Page, bench: Bench) -> None:
    bench()
    page.get_by_role("button", name="200 %").click()
    settled(page)
    read = "() => Array.from(document.getElementById('canvas').getContext('2d').getImageData(200, 200, 40, 40).data)"
    first = np.array(page.evaluate(read)).reshape(40, 40, 4)
    # At 200 % each picture pixel is two by two on the screen.
    assert (np.abs(np.diff(first[..., :3], axis=1)) == 0).all(axis=-1).mean() > 0.45
    box = page.locator("#canvas").bounding_box()
    assert box
    page.mouse.move(box["x"] + 300, box["y"] + 300)
    page.mouse.down()
    page.mouse.move(box["x"] + 200, box["y"] + 260, steps=5)
    page.mouse.up()
    settled(page)
    second = np.array(page.evaluate(read.replace("200, 200, 40", "100, 160, 40"))).reshape(40, 40, 4)
    assert np.abs(first.astype(int) - second)[..., :3].mean() < 3
    page.locator("body").press("w")
    settled(page)
    expect(page.get_by_role("button", name="Whole", exact=True)).to_have_attribute("aria-pressed", "true")


def test_clipping_marks_and_histogram(page: Page, bench: Bench, mean: Mean) -> None:
    bench()
    group(page, "light")
    put(page, "light.exposure", "4")
    expect(page.locator("#clip-high")).to_contain_text("%")
    plain = mean()
    page.locator("body").press("c")
    settled(page)
    assert np.abs(np.array(mean()) - plain).max() > 10
    page.locator("#histogram-scale").click()
    expect(page.locator("#histogram-scale")).to_have_text("logarithmic")


def test_values_under_the_pointer(page: Page, bench: Bench) -> None:
    bench()
    box = page.locator("#canvas").bounding_box()
    assert box
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] * 0.4)
    page.mouse.move(box["x"] + box["width"] / 2 + 3, box["y"] + box["height"] * 0.4)
    expect(page.locator("#probe")).to_contain_text("L*")


def test_the_crop_is_dragged_and_taken_back(
    page: Page, bench: Bench, server: Running, frame_ids: dict[str, int]
) -> None:
    bench()
    group(page, "crop")
    settled(page)
    box = page.locator("#canvas").bounding_box()
    assert box
    # The picture fills the width less its margins: its corner is where the handle is.
    width = min(600.0, box["width"] - 28)
    left = box["x"] + (box["width"] - width) / 2
    top = box["y"] + (box["height"] - width * 2 / 3) / 2
    page.mouse.move(left, top)
    page.mouse.down()
    page.mouse.move(left + width * 0.25, top + width * 2 / 3 * 0.25, steps=6)
    page.mouse.up()
    settled(page)
    values = server.get(f"/api/frames/{frame_ids['T0001']}")["values"]
    assert values["crop.left"] == pytest.approx(0.25, abs=0.02) and values["crop.top"] == pytest.approx(0.25, abs=0.02)
    page.get_by_label("Ratio", exact=True).select_option("1:1")
    settled(page)
    expect(page.locator("#crop-size")).to_contain_text("300 × 300 px")
    put(page, "crop.straighten", "10")
    rows = {f["name"][:5]: f for f in server.get("/api/shoots/1/sheet")["frames"]}
    assert rows["T0001"]["crop"] and not rows["T0002"]["crop"]  # followers keep their own
    page.get_by_role("button", name="Whole frame").click()
    settled(page)
    expect(page.locator("#crop-size")).to_have_text("Keeps 600 × 400 px of 600 × 400")


def test_curve_points(page: Page, bench: Bench, server: Running, mean: Mean, frame_ids: dict[str, int]) -> None:
    bench()
    group(page, "curve")
    before = np.mean(mean())
    box = page.get_by_role("group", name="Tone curve").bounding_box()
    assert box
    page.mouse.move(box["x"] + box["width"] * 0.5, box["y"] + box["height"] * 0.5)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] * 0.5, box["y"] + box["height"] * 0.3, steps=6)
    page.mouse.up()
    settled(page)
    points = server.get(f"/api/frames/{frame_ids['T0001']}")["values"]["curve.points"]
    assert len(points) == 3 and points[1] == pytest.approx([0.5, 0.7], abs=0.02)
    assert np.mean(mean()) > before + 10

    def kept() -> list[list[float]]:
        values = server.get(f"/api/frames/{frame_ids['T0001']}")["values"]
        return values.get("curve.points", [])  # type: ignore[no-any-return]

    page.get_by_role("group", name="Tone curve").press("ArrowDown")
    eventually(page, lambda: kept() != points)
    settled(page)
    page.get_by_role("group", name="Tone curve").press("Delete")
    eventually(page, lambda: kept() == [])


def test_the_drawn_curve_is_the_cores_curve(page: Page, server: Running) -> None:
    """The page draws Bezier pieces; at their ends' slopes they are SciPy's PCHIP, so equal everywhere."""
    page.goto("/kit")
    points = [[0.0, 0.05], [0.2, 0.1], [0.45, 0.6], [0.5, 0.55], [0.8, 0.9], [1.0, 1.0]]
    path = page.evaluate("async (p) => (await import('/static/js/curve.js')).pathOf(p)", points)
    x, y = np.array(points).T
    exact = PchipInterpolator(x, y)
    pieces = [[float(v) for v in c.replace("L", " ").split()] for c in path.split("C")[1:]]
    for i, (x1, y1, x2, y2, *_) in enumerate(pieces):
        h = (x[i + 1] - x[i]) / 3
        assert x1 / 230 == pytest.approx(x[i] + h, abs=1e-3) and x2 / 230 == pytest.approx(x[i + 1] - h, abs=1e-3)
        assert 1 - y1 / 230 == pytest.approx(y[i] + exact.derivative()(x[i]) * h, abs=1e-3)
        assert 1 - y2 / 230 == pytest.approx(y[i + 1] - exact.derivative()(x[i + 1]) * h, abs=1e-3)


def test_white_balance_pick(page: Page, bench: Bench, mean: Mean) -> None:
    bench()
    group(page, "white")
    put(page, "white.temperature", "3600")
    put(page, "white.tint", "25")
    assert np.ptp(mean(0.2, 0.4, 0.05, 0.05)) > 12
    page.get_by_role("button", name="Pick neutral").click()
    box = page.locator("#canvas").bounding_box()
    assert box
    page.mouse.click(box["x"] + box["width"] * 0.225, box["y"] + box["height"] * 0.425)
    eventually(page, lambda: np.ptp(mean(0.2, 0.4, 0.05, 0.05)) < 4)
    page.get_by_role("button", name="As shot").click()
    settled(page)
    expect(page.locator('.rule[data-key="white.temperature"]')).to_contain_class("unset")


def test_presets_on_the_own_picture(
    page: Page, bench: Bench, mean: Mean, server: Running, frame_ids: dict[str, int]
) -> None:
    bench()
    group(page, "presets")
    cards = page.locator(".preset-card")
    assert cards.count() >= 8
    until(page, "[...document.querySelectorAll('.preset-card img')].every((i) => i.naturalWidth > 50)")
    foot = (0.46, 0.62, 0.08, 0.05)  # of the lamp, which is blue
    coloured = np.ptp(mean(*foot))
    card = page.get_by_role("button", name="Silver", exact=True)
    card.hover()
    settled(page)
    assert np.ptp(mean(*foot)) < 2 < 20 < coloured
    page.mouse.move(700, 400)
    settled(page)
    assert abs(np.ptp(mean(*foot)) - coloured) < 1  # seen, not applied
    page.locator("#amount").fill("50")
    card.click()
    settled(page)
    # The pictures of the presets may still be under way, so that the picture is quiet before the change is kept.
    kept = lambda: server.get(f"/api/frames/{frame_ids['T0001']}")["values"].get("colour.saturation")  # noqa: E731
    eventually(page, lambda: kept() == -50)
    page.get_by_role("button", name="Save as preset …").click()
    dialog = page.get_by_role("dialog", name="Save as preset")
    dialog.get_by_label("Name").fill("From the bench")
    dialog.get_by_role("button", name="Save").click()
    expect(page.get_by_role("button", name="From the bench", exact=True)).to_be_visible()
    server.client.delete("/api/presets", params={"key": "own/own-from-the-bench"})


def test_a_frame_whose_file_is_gone_says_so(
    page: Page, bench: Bench, server: Running, frame_ids: dict[str, int]
) -> None:
    path = server.folder / "photos" / "T0013.DNG"
    path.rename(path.with_suffix(".away"))
    try:
        page.goto(f"/shoots/1/bench?frame={frame_ids['T0013']}")
        expect(page.locator("#picture-error")).to_contain_text("T0013.DNG", timeout=30_000)
        page.locator(f"#ribbon-{frame_ids['T0012']}").click()
        settled(page)
        expect(page.locator("#picture-error")).to_be_hidden()
    finally:
        path.with_suffix(".away").rename(path)


def test_methods_against_noise_are_seen_side_by_side_and_picked_by_a_key(
    page: Page, bench: Bench, server: Running, frame_ids: dict[str, int]
) -> None:
    bench()
    group(page, "noise")
    page.get_by_role("button", name="Compare methods …").click()
    panes = page.locator(".compare-pane")
    expect(panes).to_have_count(4)
    expect(page.locator(".compare-pane.waits")).to_have_count(0, timeout=60_000)
    first = page.locator(".compare-pane img").first.get_attribute("src")
    page.keyboard.press("ArrowRight")
    eventually(page, lambda: page.locator(".compare-pane img").first.get_attribute("src") != first)
    expect(page.locator(".compare-pane.waits")).to_have_count(0, timeout=60_000)
    page.keyboard.press("3")
    expect(page.locator("#compare")).to_be_hidden()
    eventually(page, lambda: server.get(f"/api/frames/{frame_ids['T0001']}")["values"].get("noise.method") == "fine")
    # It is worked out behind the scenes, and the note goes when it is shown.
    eventually(page, lambda: not server.view(frame_ids["T0001"])[0]["waits"])
    expect(page.locator("#picture-note")).to_be_hidden(timeout=30_000)
    expect(page.locator("#c-noise-method")).to_have_value("fine")


def test_where_it_is_sharpened_is_shown_while_a_key_is_held(page: Page, bench: Bench, mean: Mean) -> None:
    bench()
    group(page, "detail")
    put(page, "detail.amount", "100")
    put(page, "detail.mask", "100")
    before = mean()
    page.locator("#canvas").focus()
    page.keyboard.down("j")
    eventually(page, lambda: np.ptp(mean()[:3]) < 2 and abs(np.mean(mean()[:3]) - np.mean(before[:3])) > 10)
    page.keyboard.up("j")
    eventually(page, lambda: np.allclose(mean(), before, atol=1))


def test_presets_are_found_liked_and_say_what_they_would_change(page: Page, bench: Bench) -> None:
    bench()
    group(page, "presets")
    page.get_by_label("Find a preset").fill("plain grey")
    cards = page.locator(".preset-card")
    expect(cards).to_have_count(1)
    cards.first.hover()
    expect(page.locator("#preset-values")).to_contain_text("Saturation: 0 to −100 %")
    page.get_by_role("button", name="Favourite: Plain grey").click()
    page.get_by_label("Find a preset").fill("")
    expect(page.locator("#preset-list h3").first).to_have_text("Favourites")
    expect(page.locator(".preset-grid").first.locator(".preset-card")).to_have_count(1)
    page.get_by_label("Find a preset").fill("no such thing")
    expect(cards).to_have_count(0)


def test_presets_lie_on_one_another_and_are_taken_out(
    page: Page, server: Running, bench: Callable[[str], None], frame_ids: dict[str, int]
) -> None:
    bench("T0001")
    page.locator("#index [data-group=presets]").click()
    page.get_by_role("button", name="Deep wood", exact=True).click()
    page.get_by_role("button", name="Bright page", exact=True).click()
    applied = page.locator("#applied-list li")
    expect(applied).to_have_count(2)
    expect(applied.first).to_contain_text("Bright page")
    page.get_by_role("button", name="Move Deep wood up").click()
    expect(applied.first).to_contain_text("Deep wood")
    page.get_by_role("button", name="Remove Deep wood").click()
    expect(applied).to_have_count(1)
    assert server.get(f"/api/frames/{frame_ids['T0001']}")["wornPresets"][0]["name"] == "Bright page"
    # A group that is left out stays as it is; a folder's presets are seen together.
    page.locator("#leave-out summary").click()
    page.locator("#leave-out").get_by_label("Light").check()
    page.get_by_role("button", name="Remove Bright page").click()
    expect(applied).to_have_count(0)
    page.get_by_role("button", name="Sheet", exact=True).first.click()
    page.get_by_role("dialog").locator(".preset-card").first.click()
    expect(applied).to_have_count(1)
    assert not any(k.startswith("light.") for k in server.get(f"/api/frames/{frame_ids['T0001']}")["ownKeys"])
    page.evaluate("localStorage.removeItem('tanner.leave')")


def test_settings_are_carried_from_another_set_to_another(
    page: Page, server: Running, bench: Callable[[str], None], frame_ids: dict[str, int]
) -> None:
    server.post("/api/edit", {"frames": [frame_ids["T0011"]], "values": {"light.contrast": 13, "colour.vibrance": 4}})
    bench("T0001")
    page.get_by_role("button", name="Carry over …").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("From").select_option(label="lead of Set 2")
    expect(page.locator("#carry-from")).to_contain_text("T0011")
    dialog.get_by_label("Another set, of this").select_option(index=0)
    expect(page.locator("#carry-count")).to_have_text("2 adjustments to 1 frame")
    dialog.get_by_label("Vibrance").uncheck()
    dialog.get_by_role("button", name="Carry over").click()
    shown = lambda n: server.get(f"/api/frames/{frame_ids[n]}")["values"]  # noqa: E731
    eventually(page, lambda: shown("T0002").get("light.contrast") == 13)
    assert shown("T0002").get("colour.vibrance", 0) == 0
    page.get_by_role("button", name="Carry over …").click()
    page.get_by_role("button", name="As last time").click()
    expect(dialog.locator('input[value="light.contrast"]')).to_be_checked()
    expect(page.locator("#carry-count")).to_contain_text("1 adjustment ")
