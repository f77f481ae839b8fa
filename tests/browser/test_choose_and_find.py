"""Choosing among near-alikes by keys, and finding frames over all shoots, through the real pages."""

import pytest
from browsing import command, eventually
from playwright.sync_api import Page, Route, expect
from serving import Running


@pytest.mark.usefixtures("fresh")
def test_the_few_that_matter_are_chosen_by_keys(page: Page, server: Running, frame_ids: dict[str, int]) -> None:
    page.goto("/shoots/1/choose")
    expect(page.locator("#choose-where")).to_contain_text("Frame 1 of 6")
    first = int(page.locator("#choose-strip [aria-pressed=true]").get_attribute("data-id") or 0)
    page.keyboard.press("k")  # goes on by itself
    expect(page.locator("#choose-where")).to_contain_text("Frame 2 of 6")
    expect(page.locator("#choose-count")).to_contain_text("1 decided: 1 kept, 0 dropped; 5 left")
    page.keyboard.press("a")
    page.keyboard.press("d")
    expect(page.locator("#choose-where")).to_contain_text("Frame 2 of 6")
    page.keyboard.press("4")
    page.keyboard.press("ArrowLeft")
    page.keyboard.press("u")  # the next that is not decided
    expect(page.locator("#choose-where")).to_contain_text("Frame 3 of 6")
    page.keyboard.press("o")
    group = next(g for g in server.get("/api/shoots/1/choosing")["groups"] if first in g)

    def verdicts() -> list[str]:
        shown = {f["id"]: f["verdict"] for f in server.get("/api/shoots/1/choosing")["frames"]}
        return [shown[i] for i in group]

    eventually(page, lambda: verdicts() == ["drop", "drop", "keep"])
    page.get_by_role("button", name="Undo").click()
    eventually(page, lambda: verdicts() == ["keep", "drop", "undecided"])
    expect(page.locator("#choose-count")).to_contain_text("2 decided")


def test_near_alikes_side_by_side_at_the_same_place(page: Page, frame_ids: dict[str, int]) -> None:
    page.goto("/shoots/1/choose")
    expect(page.locator(".large-pane")).to_have_count(1)
    page.keyboard.press("s")
    expect(page.locator(".large-pane")).to_have_count(3)
    # Each has a picture at once, and what was measured as small words; these can be switched off.
    eventually(
        page,
        lambda: page.evaluate("[...document.querySelectorAll('.large-pane img')].every((i) => i.naturalWidth > 0)"),
    )
    expect(page.locator(".large-pane figcaption").first).to_contain_text("sharp", timeout=60_000)
    page.keyboard.press("z")
    expect(page.locator("[data-large-zoom='1']")).to_have_attribute("aria-pressed", "true")
    page.keyboard.press("h")
    expect(page.locator(".large-pane figcaption").first).not_to_contain_text("sharp")
    page.keyboard.press("h")


@pytest.mark.usefixtures("fresh")
def test_dropped_frames_are_listed_and_go_into_the_trash(
    page: Page, server: Running, frame_ids: dict[str, int], tmp_path: object, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    page.goto("/shoots/1/sheet")
    page.locator(f"#frame-{frame_ids['T0002']}").click()
    page.keyboard.press("d")
    page.locator("#commands").click()
    page.get_by_role("combobox", name="Find a command").fill("Dropped")
    page.keyboard.press("Enter")
    expect(page.locator("#dropped-rows tr")).to_have_count(1)
    expect(page.locator("#dropped-text")).to_contain_text("1 frame, 1 file")
    page.get_by_role("button", name="Move to the trash").click()
    expect(page.locator(".cell")).to_have_count(5)
    page.get_by_role("button", name="Undo").click()
    expect(page.locator(".cell")).to_have_count(6)


@pytest.mark.usefixtures("fresh")
def test_frames_are_found_kept_and_gathered(page: Page, server: Running, frame_ids: dict[str, int]) -> None:
    page.goto("/find")
    expect(page.locator(".cell")).to_have_count(6)
    page.locator("#q").fill("finch 24")
    expect(page.locator(".cell")).to_have_count(3)
    expect(page.locator("#count")).to_have_text("3 frames")
    page.locator("#q").fill("stars>=x")
    expect(page.locator("#find-error")).to_contain_text("Search: at character 1")
    page.locator("#q").fill("")
    expect(page.locator(".cell")).to_have_count(6)
    page.locator(".cell").first.click()
    page.keyboard.press("3")
    page.keyboard.press("k")
    eventually(page, lambda: server.get("/api/find?q=keep stars=3")["total"] == 1)
    page.locator("#q").fill("keep")
    expect(page.locator(".cell")).to_have_count(1)
    page.get_by_role("button", name="Keep this search …").click()
    page.locator("#ask-value").fill("Kept")
    page.keyboard.press("Enter")
    expect(page.locator("#searches")).to_contain_text("Kept")
    page.locator("#q").fill("")
    page.get_by_role("button", name="undecided", exact=False).first.click()  # a choice on the left
    expect(page.locator("#q")).to_have_value("undecided")
    expect(page.locator(".cell")).to_have_count(5)
    page.locator(".cell").nth(2).click()
    page.keyboard.press("Shift+ArrowRight")
    page.locator("#collect").click()
    page.get_by_role("button", name="A new collection …").click()
    page.locator("#ask-value").fill("Folio")
    page.keyboard.press("Enter")
    page.locator("#collections").get_by_text("Folio").click()
    expect(page.locator(".cell")).to_have_count(2)
    order = page.locator(".cell").evaluate_all("(cells) => cells.map((c) => c.dataset.id)")
    page.locator(".cell").first.click()
    command(page, "One place towards the end")
    eventually(
        page, lambda: page.locator(".cell").evaluate_all("(cells) => cells.map((c) => c.dataset.id)") == order[::-1]
    )
    page.get_by_role("button", name="Forget Folio").click()
    expect(page.locator("#collections")).not_to_contain_text("Folio")
    page.locator("#searches").get_by_text("Kept").click()
    expect(page.locator(".cell")).to_have_count(1)
    page.get_by_role("button", name="Forget Kept").click()
    page.locator(".cell").first.click()
    page.keyboard.press("Enter")
    page.wait_for_url("**/bench?frame=*")


@pytest.mark.usefixtures("fresh")
def test_the_sheet_folds_sorts_lists_and_is_narrowed_by_what_there_is(
    page: Page, server: Running, frame_ids: dict[str, int]
) -> None:
    page.goto("/shoots/1/sheet")
    expect(page.locator(".cell")).to_have_count(6)
    page.locator("#sheet-view").click()
    page.locator('[data-view="rows"]').get_by_role("button", name="plain").click()
    expect(page.locator(".set-head")).to_have_count(0)
    page.locator('[data-view="order"]').get_by_role("button", name="name").click()
    names = page.locator(".cell .cell-name").all_inner_texts()
    assert names == sorted(names)
    page.locator('[data-view="fold"]').get_by_role("button", name="folded").click()
    groups = server.get("/api/shoots/1/choosing")["groups"]
    expect(page.locator(".cell")).to_have_count(len(groups))
    page.keyboard.press("Escape")
    page.locator(".cell", has_text="+2").first.click()
    page.keyboard.press("f")
    expect(page.locator(".cell")).to_have_count(len(groups) + 2)
    page.locator("#sheet-view").click()
    page.locator('[data-view="as"]').get_by_role("button", name="list").click()
    expect(page.locator(".cell").first).to_contain_text("Alder One")
    for name, value in (("rows", "by set"), ("order", "time"), ("fold", "each"), ("as", "pictures")):
        page.locator(f'[data-view="{name}"]').get_by_role("button", name=value).click()
    page.keyboard.press("Escape")
    page.locator("#filter").click()
    page.locator("#filter-facets summary", has_text="Lens").click()
    page.locator("#filter-facets").get_by_role("button", name="Finch 24").click()
    expect(page.locator(".cell")).to_have_count(3)
    page.keyboard.press("Escape")
    page.locator("#find").fill("stars>=x")
    expect(page.locator("#find-error")).to_contain_text("needs a number")
    page.get_by_role("button", name="Show all").click()
    expect(page.locator(".cell")).to_have_count(6)


@pytest.mark.usefixtures("fresh")
def test_keywords_are_put_on_frames_by_writing_and_by_digits(
    page: Page, server: Running, frame_ids: dict[str, int]
) -> None:
    page.goto("/shoots/1/sheet")
    page.locator(f"#frame-{frame_ids['T0002']}").click()
    page.keyboard.press("y")
    field = page.get_by_role("searchbox", name="Keyword")
    field.fill("brass")
    page.keyboard.press("Enter")
    page.get_by_role("button", name="brass ×").wait_for()
    page.keyboard.press("Escape")
    page.locator(f"#frame-{frame_ids['T0003']}").click()
    page.keyboard.press("y")
    expect(page.locator("ol kbd").first).to_have_text("1")
    page.keyboard.press("1")
    eventually(page, lambda: server.get("/api/find?q=keyword:brass")["total"] == 2)
    page.get_by_role("button", name="brass ×").click()
    eventually(page, lambda: server.get("/api/find?q=keyword:brass")["total"] == 1)
    page.goto("/kit#keywords")
    page.get_by_role("button", name="Rename … brass").click()
    page.locator("#ask-value").fill("metal")
    page.keyboard.press("Enter")
    expect(page.locator("#keyword-tree")).to_contain_text("metal")
    page.get_by_role("button", name="Put under … metal").click()
    page.locator("#ask-value").fill("material")
    page.keyboard.press("Enter")
    expect(page.locator("#keyword-tree li").first).to_contain_text("material")
    eventually(page, lambda: server.get("/api/find?q=keyword:material")["total"] == 1)


def test_what_is_found_in_two_shoots_is_delivered_one_after_the_other(page: Page, server: Running) -> None:
    server.post("/api/find/searches", {"name": "Finch glass", "expression": 'lens:"Finch 24"'})
    other = server.post("/api/shoots", {"name": "Autumn"})["id"]
    server.bring_in(other, [server.folder / "photos" / "T0001.DNG"])
    page.goto("/find")
    expect(page.locator(".cell")).to_have_count(7)
    # Whoever is faster than the answer that says which all are: what is to be done with them waits for it.
    held: list[Route] = []
    page.route("**/api/find/ids?*", lambda route: held.append(route))
    page.keyboard.press("Control+a")
    command(page, "Deliver")
    eventually(page, lambda: bool(held))
    held[0].continue_()
    page.wait_for_url("**/deliver?chosen=1")
    first = page.url
    shown = {"1": 6, str(other): 1}
    here, there = (n if f"/shoots/{n}/" in first else None for n in shown)
    at = here or there
    expect(page.locator("#which-count")).to_contain_text(f"{shown[str(at)]} ")
    page.locator("#deliver-then").click()
    page.wait_for_url("**/deliver?chosen=1")
    after = next(n for n in shown if n != at)
    assert f"/shoots/{after}/" in page.url
    expect(page.locator("#which-count")).to_contain_text(f"{shown[after]} ")
    expect(page.locator("#deliver-then")).to_have_count(0)
    # A search that is kept chooses frames here, too.
    page.goto("/shoots/1/deliver")
    page.locator("#which").select_option(label="Search: Finch glass")
    expect(page.locator("#which-count")).to_contain_text("3 ")
    assert page.locator("#filter").input_value() == 'lens:"Finch 24"'
