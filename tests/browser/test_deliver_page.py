"""Deliver in the browser: filters, specs with names seen while typed, a proof, a running and a finished delivery, words."""

import shutil
import threading
from collections.abc import Callable
from pathlib import Path

import pytest
from browsing import eventually
from playwright.sync_api import Page, Route, expect
from serving import Running


def test_frames_are_narrowed_and_named_before_anything_is_written(
    page: Page, server: Running, frame_ids: dict[str, int]
) -> None:
    server.post("/api/marks", {"frames": [frame_ids["T0001"], frame_ids["T0011"]], "stars": 4})
    page.goto("/shoots/1/deliver")
    expect(page.locator("#which-count")).to_have_text("6 frames")
    page.select_option("#narrow", "stars>=4")
    expect(page.locator("#filter")).to_have_value("not drop and stars>=4")
    expect(page.locator("#which-count")).to_have_text("2 frames")
    page.locator("#filter").fill("stars>=4 or (")
    page.locator("#filter").press("Tab")
    expect(page.locator("#deliver-error")).to_contain_text("Search: at character 14")
    expect(page.locator("#deliver-go")).to_be_disabled()
    page.locator("#filter").fill("name:T001")
    page.locator("#filter").press("Tab")
    expect(page.locator("#which-count")).to_have_text("3 frames")
    expect(page.locator("#rows tr").first).to_contain_text("no rights set")
    # A spec of one's own: what its names will be is seen while they are typed.
    page.get_by_role("button", name="Copy Shop detail").click()
    dialog = page.get_by_role("dialog", name="Output spec")
    expect(dialog.get_by_label("Size", exact=True)).to_have_value("pad")
    # Only what the chosen format and choices need is asked for, and a real frame shows what comes of it.
    expect(dialog.get_by_label("Text", exact=True)).to_be_hidden()
    expect(dialog.get_by_label("Compression")).to_be_hidden()
    dialog.get_by_label("Format").select_option("dng")
    for gone in ("Quality", "Colour space", "Watermark", "Border", "Colour samples"):
        expect(dialog.get_by_label(gone)).to_be_hidden()
    dialog.get_by_label("Format").select_option("jpeg")
    expect(page.locator("#s-about")).to_contain_text("2000 × 2000 px", timeout=30_000)
    dialog.get_by_label("First number").fill("160")
    dialog.get_by_label("Second number").fill("160")
    dialog.get_by_label("Name", exact=True).fill("{number:3}: {name}")
    expect(page.locator("#s-names li").first).to_contain_text("shop/001- T0011.jpg")
    expect(page.locator("#s-names li").first).to_contain_text("replaced by -")
    dialog.get_by_label("Name", exact=True).fill("{oops}")
    expect(page.locator("#spec-error")).to_contain_text("no token")
    dialog.get_by_label("Name", exact=True).fill("same")
    expect(page.locator("#s-names")).to_contain_text("same name as another row")
    dialog.get_by_label("Name", exact=True).fill("{text}-{name}")
    dialog.get_by_label("Watermark").select_option("text")
    dialog.get_by_label("Text", exact=True).fill("Alder & Finch")
    dialog.get_by_role("button", name="Save").click()
    row = page.locator(".spec-row", has_text="Shop detail copy")
    # The card says in a line what comes out; the rest is said when it is pointed at.
    expect(row).to_contain_text("on a ground of 160 × 160 px")
    expect(row).to_contain_text("at most 900 kB")
    more = row.locator("label").get_attribute("title") or ""
    assert "watermark “Alder & Finch”, bottom right" in more and "shop/{text}-{name}" in more
    page.get_by_text("Names and rights").click()
    page.get_by_label("Text for names").fill("April")
    page.get_by_label("Text for names").press("Tab")
    expect(page.locator("#rows tr", has_text="shop/April-T0011.jpg")).to_have_count(1)
    # A proof at its true size.
    page.locator("#rows tr", has_text="shop/April-T0011.jpg").get_by_role("button").click()
    expect(page.locator("#proof-about")).to_contain_text("160 × 160 px", timeout=30_000)
    eventually(page, lambda: page.locator("#proof-image").evaluate("i => i.naturalWidth") == 160)
    page.get_by_role("dialog", name="T0011.DNG").get_by_role("button", name="Close").click()
    page.get_by_role("button", name="Change Shop detail copy").click()
    dialog.get_by_role("button", name="Delete").click()
    expect(row).to_have_count(0)


@pytest.fixture
def pause(page: Page, server: Running, monkeypatch: pytest.MonkeyPatch) -> Callable[[], None]:
    """Pauses a delivery. Small files are written faster than one clicks: nothing is written before it."""
    clicked, deliveries = threading.Event(), server.services.deliveries
    write = deliveries._write_frame
    monkeypatch.setattr(deliveries, "_write_frame", lambda *given: (clicked.wait(60), write(*given))[1])

    def click() -> None:
        with page.expect_response("**/pause"):
            page.get_by_role("button", name="Pause").click()
        clicked.set()

    return click


def test_a_delivery_is_paused_goes_on_and_is_looked_at(page: Page, server: Running, pause: Callable[[], None]) -> None:
    out = server.folder / "out" / "page"
    page.goto("/shoots/1/deliver")
    page.get_by_label("Folder", exact=True).fill(str(out))
    page.get_by_label("Folder", exact=True).press("Tab")
    page.get_by_text("Documents", exact=False).first.click()
    for name in ("contact sheet", "checksums"):
        page.get_by_label(name).check()
    page.get_by_label("Rows", exact=True).fill("2")
    page.get_by_role("button", name="Deliver 12 files").click()
    pause()
    expect(page.locator("#run-resume")).to_be_visible(timeout=60_000)
    expect(page.locator("#run-text")).to_contain_text("paused")
    assert len(list(out.rglob("*.jpg"))) < 12
    page.get_by_role("button", name="Go on").click()
    expect(page.locator("#run-text")).to_contain_text("12 of 12 files written", timeout=120_000)
    expect(page.locator("#run-documents")).to_contain_text("contact sheet.pdf", timeout=30_000)
    page.get_by_role("button", name="As pictures").click()
    cells = page.locator(".written-cell")
    expect(cells).to_have_count(12)
    expect(cells.first).to_contain_text("px")
    eventually(page, lambda: cells.first.locator("img").evaluate("i => i.naturalWidth") > 100)
    changed = sorted(out.rglob("*.jpg"))[0]
    changed.write_bytes(b"x")
    page.get_by_role("button", name="Check the files").click()
    expect(page.locator("#run-text")).to_have_text("1 of 12 files not as written", timeout=30_000)
    expect(page.locator(".written-cell.differs")).to_contain_text("was changed since")
    page.get_by_role("button", name="Plan another").click()
    expect(page.locator("#table-title")).to_have_text("What will be written")


def test_a_delivery_that_is_paused_at_its_last_file_can_be_ended(
    page: Page, server: Running, pause: Callable[[], None]
) -> None:
    """All files are written then, and its documents are not."""
    out = server.folder / "out" / "late"
    page.goto("/shoots/1/deliver")
    page.locator("#filter").fill("name:T0001")
    page.locator("#filter").press("Tab")
    page.get_by_label("Folder", exact=True).fill(str(out))
    page.get_by_label("Folder", exact=True).press("Tab")
    page.get_by_text("Documents", exact=False).first.click()
    page.get_by_label("checksums").check()
    page.get_by_role("button", name="Deliver 2 files").click()
    pause()
    expect(page.locator("#run-text")).to_contain_text("2 of 2 files written", timeout=60_000)
    page.get_by_role("button", name="Go on").click()
    expect(page.locator("#run-documents")).to_be_visible(timeout=60_000)
    expect(page.locator("#run-resume")).to_be_hidden()


def test_words_of_the_shoot_and_of_chosen_frames(page: Page, server: Running, frame_ids: dict[str, int]) -> None:
    page.goto("/shoots/1/deliver")
    page.get_by_text("Names and rights").click()
    page.get_by_role("button", name="All captions …").click()
    dialog = page.get_by_role("dialog", name="Captions of the shoot")
    dialog.get_by_label("Rights").fill("© Alder & Finch")
    dialog.get_by_label("Caption").fill("{set}, {name}")
    dialog.get_by_role("button", name="Save").click()
    expect(page.locator("#rights")).to_have_value("© Alder & Finch")
    expect(page.locator("#rows tr").first).not_to_contain_text("no rights set")
    page.goto("/shoots/1/sheet")
    page.locator(f'.cell[data-id="{frame_ids["T0001"]}"]').click()
    page.locator(f'.cell[data-id="{frame_ids["T0002"]}"]').click(modifiers=["Shift"])
    page.keyboard.press("w")
    dialog = page.get_by_role("dialog", name="Captions of 2 frames")
    expect(dialog.get_by_label("Caption")).to_have_attribute("placeholder", "{set}, {name}")
    dialog.get_by_label("Headline").fill("Lamps")
    dialog.get_by_label("Keywords").fill("lamp, blue, lamp")
    dialog.get_by_role("button", name="Save").click()
    expect(dialog).to_be_hidden()
    read = server.post("/api/words/read", {"frames": [frame_ids["T0001"]]})
    assert read["written"]["headline"] == "Lamps" and read["own"]["keywords"] == "lamp, blue"
    assert read["written"]["caption"].endswith(", T0001")
    for _ in range(2):
        page.get_by_role("button", name="Undo").click()
        page.wait_for_timeout(300)
    assert "headline" not in server.post("/api/words/read", {"frames": [frame_ids["T0001"]]})["written"]


def test_a_folder_is_watched_from_the_import_page(page: Page, server: Running, originals: Path) -> None:
    hot = server.folder / "photos" / "hot"
    hot.mkdir()
    server.post("/api/shoots", {"name": "Tethered"})
    page.goto("/shoots/2/import")
    page.get_by_role("button", name="photos", exact=True).click()
    page.get_by_role("button", name="hot", exact=True).click()
    page.get_by_label("And delivered by").select_option(label="Shop thumbnail")
    page.get_by_label("To the folder", exact=True).fill(str(server.folder / "out" / "hot"))
    page.get_by_role("button", name="Watch this folder").click()
    expect(page.locator("#watch-text")).to_contain_text("hot is being watched: 0 frames")
    # Another content than what the other shoot holds does not matter: shoots are apart.
    shutil.copy(originals / "T0012.DNG", hot)
    expect(page.locator("#watch-text")).to_contain_text("1 frame came in, delivered by Shop thumbnail", timeout=60_000)
    eventually(page, lambda: (server.folder / "out" / "hot" / "thumbnails" / "T0012-small.jpg").exists(), 60)
    page.get_by_role("button", name="Watch no longer").click()
    expect(page.get_by_role("button", name="Watch this folder")).to_be_enabled()


def test_an_import_that_still_runs_keeps_its_line_beside_a_newer_one(
    page: Page, server: Running, originals: Path
) -> None:
    shoot = server.post("/api/shoots", {"name": "Two cards"})["id"]
    for card, name in (("first card", "T0012"), ("second card", "T0013")):
        (server.folder / "card" / card).mkdir()
        shutil.copy(originals / f"{name}.DNG", server.folder / "card" / card)
    held: dict[str, str] = {}

    def slow(route: Route) -> None:
        """The import that began first is told to be at its files still."""
        job = route.request.url.split("/")[-1].split("?")[0]
        first = held.setdefault("job", job) == job and "over" not in held
        answer = route.fetch()
        route.fulfill(response=answer, json={**answer.json(), "stage": "files"} if first else answer.json())

    page.route("**/api/imports/*", slow)
    page.goto(f"/shoots/{shoot}/import")
    for card in ("first card", "second card"):
        page.get_by_role("button", name="card", exact=True).last.click()
        page.get_by_role("button", name=card, exact=True).click()
        expect(page.locator(".import-tile")).to_have_count(1)
        page.get_by_role("button", name="Import 1 frame").click()
        expect(page.locator("#job-title")).to_contain_text("Import")
    other = page.locator("#job-others li")
    expect(other).to_contain_text("first card: ")
    expect(other.get_by_role("button", name="Stop first card")).to_be_visible()
    held["over"] = "yes"
    expect(other).to_contain_text("first card: 1 file brought in")
    page.unroute_all(behavior="ignoreErrors")
