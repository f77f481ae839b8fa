"""The main job through the real pages: bring in, develop, follow, carry over, deliver; files read back."""

import re
from collections.abc import Callable
from pathlib import Path

import numpy as np
from browsing import eventually, settled
from made import hashes
from PIL import Image
from playwright.sync_api import Page, expect
from serving import Running


def test_from_card_to_finished_files(page: Page, server: Running, mean: Callable[..., list[float]]) -> None:
    card = server.folder / "card" / "DCIM" / "100ALDER"
    before = hashes(card)

    # A new shoot, from the card.
    page.goto("/")
    page.get_by_label("New shoot").fill("Journey")
    page.get_by_role("button", name="Start").click()
    page.wait_for_url("**/import")
    page.locator("#cards").get_by_role("button", name="card", exact=True).click()
    expect(page.locator(".import-tile")).to_have_count(3)
    page.get_by_label("Into the folder").fill(str(server.folder / "photos" / "journey"))
    page.get_by_label("Keywords, with commas").fill("lamp, spring")
    page.get_by_role("button", name="Import 3 frames").click()
    expect(page.locator("#job-text")).to_contain_text("2 files brought in", timeout=60_000)
    expect(page.locator("#job-text")).to_contain_text("1 could not be brought in")
    expect(page.locator("#job-trouble li")).to_contain_text("BROKEN.DNG")
    page.get_by_role("link", name="Open the Sheet").click()

    # The Sheet shows both frames, each in its set.
    page.wait_for_url("**/sheet")
    expect(page.locator(".cell")).to_have_count(2)
    expect(page.locator(".set-head")).to_have_count(2)
    page.locator(".cell", has_text="AGAIN").dblclick()

    # Develop by moving a control: the picture changes while it moves, and stays.
    page.wait_for_url("**/bench?frame=*")
    settled(page)
    dark = mean()
    page.locator('#index [data-group="light"]').click()
    scale = page.locator('.rule[data-key="light.exposure"] .rule-scale')
    box = scale.bounding_box()
    assert box
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + 14)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] * 0.62, box["y"] + 14, steps=8)
    eventually(page, lambda: np.mean(mean()) > np.mean(dark) + 20)
    page.mouse.up()
    settled(page)
    assert np.mean(mean()) > np.mean(dark) + 20
    value = page.locator("#n-light-exposure").input_value()
    assert float(value) > 0.8
    page.reload()
    settled(page)
    assert page.locator("#n-light-exposure").input_value() == value  # nothing needed saving

    # Carry it over to the other frame, across sets.
    page.get_by_role("button", name="Carry over …").click()
    dialog = page.get_by_role("dialog", name="Carry over")
    expect(dialog.get_by_label("Exposure")).to_be_checked()
    expect(dialog.get_by_label("Straighten (this frame’s)")).not_to_be_checked()
    dialog.get_by_label("the whole shoot").check()
    expect(page.locator("#carry-count")).to_have_text("1 adjustment to 1 frame")
    dialog.get_by_role("button", name="Carry over").click()
    expect(page.locator(".notice").last).to_contain_text("1 frame changed")

    # Deliver in two sizes.
    page.get_by_role("link", name="Deliver").click()
    page.wait_for_url("**/deliver")
    page.get_by_label("Folder", exact=True).fill(str(server.folder / "out" / "journey"))
    page.get_by_label("Folder", exact=True).press("Tab")
    expect(page.locator("#rows tr")).to_have_count(4)
    expect(page.locator("#rows tr").first).to_contain_text("600 × 400")
    page.get_by_text("Names and rights").click()
    page.get_by_label("Author", exact=True).fill("Finch & Daughter")
    # Straight from the field to the button: the table is made anew meanwhile, and the click is not lost.
    page.get_by_role("button", name="Deliver 4 files").click()
    expect(page.locator("#run-text")).to_contain_text("4 of 4 files written", timeout=60_000)
    expect(page.locator("#rows .state-done")).to_have_count(4)
    expect(page.get_by_role("link", name="Record")).to_be_visible()

    out = server.folder / "out" / "journey"
    files = sorted(str(p.relative_to(out)) for p in out.rglob("*.jpg"))
    assert files == ["full/AGAIN.jpg", "full/T0021.jpg", "web/AGAIN.jpg", "web/T0021.jpg"]
    with Image.open(out / "full" / "T0021.jpg") as image:
        assert image.size == (400, 600)
        assert image.getexif()[315] == "Finch & Daughter"
    with Image.open(out / "web" / "AGAIN.jpg") as image:
        middle = np.asarray(image)[150:250, 200:400].mean()
    assert middle > np.mean(dark) + 15  # the exposure went along
    assert hashes(card) == before


def test_a_folder_that_is_not_open_is_refused_beside_its_field(page: Page, server: Running) -> None:
    page.goto("/shoots/1/deliver")
    page.get_by_label("Folder", exact=True).fill("/etc")
    page.get_by_label("Folder", exact=True).press("Tab")
    expect(page.locator("#deliver-error")).to_contain_text("not in a folder that was opened")
    expect(page.locator("#deliver-go")).to_be_disabled()


def test_own_spec_from_the_page(page: Page, server: Running) -> None:
    page.goto("/shoots/1/deliver")
    page.get_by_role("button", name="New spec …").click()
    dialog = page.get_by_role("dialog", name="Output spec")
    dialog.get_by_label("Title").fill("Proof")
    dialog.get_by_label("Size", exact=True).select_option("box")
    dialog.get_by_label("First number").fill("abc")
    dialog.get_by_role("button", name="Save").click()
    expect(page.locator("#spec-error")).to_contain_text("is no size")
    dialog.get_by_label("First number").fill("150")
    dialog.get_by_label("Second number").fill("90")
    dialog.get_by_role("button", name="Save").click()
    expect(page.locator(".spec-row", has_text="Proof")).to_contain_text("inside 150 × 90 px")
    expect(page.locator("#rows tr", has_text="Proof").first).to_contain_text("135 × 90")
    page.get_by_role("button", name="Change Proof").click()
    dialog.get_by_role("button", name="Delete").click()
    expect(page.locator(".spec-row", has_text="Proof")).to_have_count(0)
    assert not list((server.folder / "data" / "specs").glob("*.json"))


def test_shoots_page_shows_what_is_to_do(page: Page, server: Running) -> None:
    page.goto("/")
    card = page.locator(".shoot-card", has_text="Spring")
    expect(card).to_contain_text("6 frames in 2 sets")
    expect(card.locator("img")).to_have_count(4)
    # Archived it is off the list, and still all there.
    card.get_by_role("button", name="Archive").click()
    page.get_by_text("Archived: 1").click()
    expect(card).to_have_count(0)
    page.get_by_role("button", name="Restore Spring").click()
    expect(page.get_by_text("Archived: 1")).to_have_count(0)
    expect(card).to_contain_text("6 frames in 2 sets")
    page.locator(".shoot-card h2 a", has_text="Spring").click()
    page.wait_for_url("**/shoots/1/sheet")
    # Where one was is offered again; a shoot is found by its name.
    page.get_by_role("link", name="Tanner").click()
    page.get_by_role("link", name="Go on where you were Sheet: Spring").click()
    page.wait_for_url("**/shoots/1/sheet")
    page.goto("/")
    page.get_by_label("Find a shoot").fill("spr")
    expect(page.locator(".shoot-card:visible")).to_have_count(1)
    page.get_by_label("Find a shoot").fill("nothing like it")
    expect(page.get_by_text("No shoot is called so.")).to_be_visible()


def test_kit_gives_presets_out_and_brings_them_in(page: Page, server: Running, tmp_path: Path) -> None:
    page.goto("/kit")
    page.locator(".preset-card", has_text="Silver").click()
    detail = page.get_by_role("complementary", name="The chosen preset")
    with page.expect_download() as given:
        detail.get_by_role("link", name="Export").click()
    expect(detail.get_by_role("button", name="Change …")).to_be_hidden()
    file = tmp_path / "silver.json"
    given.value.save_as(file)
    file.write_text(file.read_text().replace('"Silver"', '"Silver two"'))
    page.set_input_files("#preset-file", file)
    own = page.locator(".preset-card", has_text="Silver two")
    own.click()
    # Seen on a frame of one's own, before and with it; renamed, and one adjustment left out.
    picture = page.locator("#detail-picture")
    eventually(page, lambda: picture.evaluate("i => i.naturalWidth") > 100)
    rows = detail.locator("#detail-values td.num")
    count = rows.count()
    detail.get_by_role("button", name="Before").click()
    expect(picture).to_have_attribute("src", re.compile("amount=0"))
    detail.get_by_role("button", name="Change …").click()
    dialog = page.get_by_role("dialog", name="Change preset")
    dialog.get_by_label("Name").fill("Silver three")
    dialog.get_by_role("checkbox").first.uncheck()
    dialog.get_by_role("button", name="Save").click()
    own = page.locator(".preset-card", has_text="Silver three")
    expect(detail.get_by_role("heading", name="Silver three")).to_be_visible()
    expect(rows).to_have_count(count - 1)
    expect(page.locator(".preset-card", has_text="Silver two")).to_have_count(0)
    detail.get_by_role("button", name="Delete").click()
    expect(own).to_have_count(0)
    file.write_text('{"name": "x", "values": {"light.exposure": 99}}')
    page.set_input_files("#preset-file", file)
    expect(page.locator(".notice.trouble")).to_contain_text("exposure")
