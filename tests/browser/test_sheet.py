"""The Sheet by keyboard, thousands of frames, keys, and what axe finds on every page."""

import re
from datetime import datetime, timedelta

import pytest
from browsing import command, eventually
from playwright.sync_api import Page, expect
from serving import Running

from tanner.catalogue.models import Frame, FrameSet, Shoot


@pytest.mark.usefixtures("fresh")
def test_choosing_by_keyboard(page: Page, server: Running, frame_ids: dict[str, int]) -> None:
    page.goto("/shoots/1/sheet")
    expect(page.locator(".cell")).to_have_count(6)
    page.locator("body").press("ArrowRight")
    expect(page.locator("#chosen-text")).to_have_text("1 frame chosen")
    page.keyboard.press("k")
    page.keyboard.press("d")
    page.keyboard.press("4")
    page.keyboard.press("l")
    expect(page.locator(".label-red")).to_have_count(1)
    page.keyboard.press("Shift+ArrowRight")
    expect(page.locator("#chosen-text")).to_have_text("2 frames chosen")

    def kept() -> list[object]:
        """Marks are shown at once and kept in their order."""
        rows = {f["name"][:5]: f for f in server.get("/api/shoots/1/sheet")["frames"]}
        verdicts = [rows[n]["verdict"] for n in ("T0001", "T0002", "T0003")]
        return [*verdicts, rows["T0003"]["stars"], rows["T0003"]["label"]]

    eventually(page, lambda: kept() == ["keep", "drop", "undecided", 4, "red"])
    page.get_by_role("button", name="All frames").click()
    page.get_by_role("button", name="all but drop").click()
    page.keyboard.press("Escape")
    expect(page.locator("#filter-text")).to_have_text("all but drop")
    expect(page.locator(".cell")).to_have_count(5)
    page.locator("#find").fill("finch 24")
    expect(page.locator(".cell")).to_have_count(3)
    page.locator("#find").fill("nothing like it")
    expect(page.locator("#roll")).to_contain_text("No frame passes")
    page.get_by_role("button", name="Show all").click()
    expect(page.locator(".cell")).to_have_count(6)


@pytest.mark.usefixtures("frame_ids")
@pytest.mark.parametrize(
    ("path", "there", "early"),
    [
        ("sheet", ".cell", ["/sheet?first="]),
        ("bench", ".ribbon-cell", ["/api/frames/", "/sheet?"]),
        ("lineup", ".lineup-frame", ["/sheet?"]),
    ],
)
def test_what_a_page_shows_first_is_asked_for_by_itself_and_once(
    page: Page, path: str, there: str, early: list[str]
) -> None:
    """Before its scripts are there: what they ask for is what has come by then. Nor is any script left for them to find."""
    said: list[str] = []
    page.on("console", lambda message: said.append(message.text))
    page.goto(f"/shoots/1/{path}")
    expect(page.locator(there).first).to_be_visible()
    asked = page.evaluate("""performance.getEntriesByType("resource").map((e) => [e.name, e.initiatorType])""")
    for part in early:
        assert [how for name, how in asked if part in name and "/picture" not in name][:1] == ["link"], asked
    named = page.evaluate("[...document.querySelectorAll('[rel=modulepreload], script')].map((e) => e.href || e.src)")
    assert {name for name, _ in asked if name.endswith(".js")} <= set(named)
    page.wait_for_timeout(4000)  # what was loaded early and not used is told after three seconds
    assert not [text for text in said if "preload" in text], said


@pytest.mark.usefixtures("frame_ids")
def test_a_picture_that_became_ready_is_asked_for_anew(page: Page, server: Running) -> None:
    """Under the address of the older one that stood in for it a page would go on showing that one."""
    versions = {f["id"]: f["v"] for f in server.get("/api/shoots/1/sheet")["frames"]}
    news = {"counter": 1, "ready": versions, "pending": False}
    page.route("**/pictures?since=*", lambda route: route.fulfill(json=news))
    page.goto("/shoots/1/sheet")
    for image in page.locator(".cell img").all():
        expect(image).to_have_attribute("src", re.compile("&n="))


@pytest.mark.usefixtures("fresh")
def test_marks_that_are_refused_are_taken_back(page: Page, server: Running, frame_ids: dict[str, int]) -> None:
    """They are shown before they are stored; what was refused changed nothing, and the page learns so nevertheless."""
    page.goto("/shoots/1/sheet")
    cell = page.locator(f"#frame-{frame_ids['T0002']}")
    cell.click()
    page.route("**/api/marks", lambda route: route.fulfill(status=422, json={"error": "The disk is full."}))
    page.keyboard.press("4")
    expect(page.locator("body")).to_contain_text("The disk is full.")
    expect(page.locator(f"#frame-{frame_ids['T0002']}")).not_to_contain_text("★")
    page.unroute("**/api/marks")
    page.keyboard.press("4")
    expect(page.locator(f"#frame-{frame_ids['T0002']}")).to_contain_text("★★★★")


@pytest.mark.usefixtures("fresh")
def test_an_alternate_stands_beside_its_frame_and_can_be_taken_out(
    page: Page, server: Running, frame_ids: dict[str, int]
) -> None:
    page.goto("/shoots/1/sheet")
    page.locator(f"#frame-{frame_ids['T0002']}").click()
    page.keyboard.press("Shift+A")
    expect(page.locator(".cell")).to_have_count(7)
    made = page.locator(".cell", has_text="T0002_alt1")
    expect(made).to_have_attribute("aria-pressed", "true")
    page.keyboard.press("Enter")
    expect(page.locator("#ribbon .ribbon-cell.active")).to_contain_text("T0002_alt1")
    command(page, "Alternate")
    expect(page.locator("#ribbon .ribbon-cell.active")).to_contain_text("T0002_alt2")
    # Undone, the Bench shows a frame that is there.
    page.get_by_role("button", name="Undo").click()
    expect(page.locator("#ribbon .ribbon-cell")).to_have_count(4)
    page.goto("/shoots/1/sheet")
    page.locator(".cell", has_text="T0002_alt1").click()
    command(page, "Remove from the shoot")
    expect(page.locator(".cell")).to_have_count(6)
    expect(page.locator("#chosen-text")).to_have_text("Nothing chosen")


@pytest.mark.usefixtures("fresh")
def test_sets_are_corrected_by_hand(page: Page, server: Running, frame_ids: dict[str, int]) -> None:
    page.goto("/shoots/1/sheet")
    page.locator(f"#frame-{frame_ids['T0002']}").click()
    page.locator(f"#frame-{frame_ids['T0003']}").click(modifiers=["Shift"])
    command(page, "Split off")
    expect(page.locator(".set-head")).to_have_count(3)
    page.locator(f"#frame-{frame_ids['T0003']}").click()
    command(page, "Make lead")
    expect(page.locator(f"#frame-{frame_ids['T0003']} .lead-mark")).to_be_visible()
    command(page, "Move to a set", "Set 1")
    expect(page.locator(f"#frame-{frame_ids['T0003']} .lead-mark")).to_have_count(0)
    page.keyboard.press("Control+a")
    command(page, "Merge their sets")
    expect(page.locator(".set-head")).to_have_count(1)
    page.get_by_role("button", name="Undo").click()
    expect(page.locator(".set-head")).to_have_count(3)


@pytest.mark.usefixtures("fresh")
def test_frames_are_dragged_onto_another_set(page: Page, server: Running, frame_ids: dict[str, int]) -> None:
    page.goto("/shoots/1/sheet")
    from_, to = (page.locator(f"#frame-{frame_ids[n]}").bounding_box() for n in ("T0002", "T0011"))
    assert from_ and to
    page.mouse.move(from_["x"] + 40, from_["y"] + 40)
    page.mouse.down()
    page.mouse.move(from_["x"] + 70, from_["y"] + 60)
    expect(page.locator(".dragged")).to_have_text("1 frame")
    page.mouse.move(to["x"] + 40, to["y"] + 40, steps=4)
    page.mouse.up()
    sets = lambda: {f["name"][:5]: f["set"] for f in server.get("/api/shoots/1/sheet")["frames"]}  # noqa: E731
    eventually(page, lambda: sets()["T0002"] == sets()["T0011"])
    expect(page.locator(".dragged")).to_have_count(0)
    # A drag that is left by a key moves nothing, and clicks go on choosing.
    page.mouse.move(to["x"] + 40, to["y"] + 40)
    page.mouse.down()
    page.mouse.move(from_["x"] + 40, from_["y"] + 40, steps=4)
    page.keyboard.press("Escape")
    page.mouse.up()
    expect(page.locator(".dragged")).to_have_count(0)
    page.locator(f"#frame-{frame_ids['T0003']}").click()
    expect(page.locator(f"#frame-{frame_ids['T0003']}")).to_have_attribute("aria-pressed", "true")
    assert sets()["T0011"] == sets()["T0012"]


def viewed(page: Page, *buttons: str) -> None:
    """How the Sheet shows frames, by the buttons of its popover."""
    page.locator("#sheet-view").click()
    for name in buttons:
        page.locator("#sheet-view-choices").get_by_role("button", name=name, exact=True).click()
    page.keyboard.press("Escape")


@pytest.mark.usefixtures("fresh")
def test_frames_are_put_in_an_order_by_hand(page: Page, server: Running, frame_ids: dict[str, int]) -> None:
    page.goto("/shoots/1/sheet")
    viewed(page, "plain", "by hand")
    shown = lambda: [n.get_attribute("id").removeprefix("frame-") for n in page.locator(".cell").all()]  # noqa: E731
    before = shown()
    names = sorted(frame_ids)
    assert before == [str(frame_ids[n]) for n in names]
    last, second = (page.locator(f"#frame-{before[n]}").bounding_box() for n in (-1, 1))
    assert last and second
    page.mouse.move(last["x"] + 40, last["y"] + 40)
    page.mouse.down()
    page.mouse.move(second["x"] + 20, second["y"] + 40, steps=5)
    expect(page.locator(".roll .bg-accent")).to_have_count(1)  # where it would stand
    page.mouse.up()
    wanted = [before[0], before[-1], *before[1:-1]]
    eventually(page, lambda: [*map(str, by_hand(server))] == wanted)
    eventually(page, lambda: shown() == wanted)
    # The same by keys, and back.
    page.locator(f"#frame-{before[0]}").click()
    page.keyboard.press("Alt+ArrowRight")
    eventually(page, lambda: shown() == [before[-1], before[0], *before[1:-1]])
    page.keyboard.press("Alt+ArrowLeft")
    eventually(page, lambda: shown() == wanted)
    # Sets keep their frames: no frame was moved to another.
    assert len({f["set"] for f in server.get("/api/shoots/1/sheet")["frames"]}) == 2


def by_hand(server: Running) -> list[int]:
    frames = server.get("/api/shoots/1/sheet")["frames"]
    return [f["id"] for f in sorted(frames, key=lambda f: (f["stands"], f["name"]))]


@pytest.mark.usefixtures("fresh")
def test_frames_stand_in_the_order_of_the_line_up(page: Page, server: Running, frame_ids: dict[str, int]) -> None:
    odd = frame_ids["T0003"]
    server.post("/api/nudge", {"frames": [odd], "ev": 0.8})
    page.goto("/shoots/1/sheet")
    viewed(page, "plain", "Line-up")
    expect(page.locator(".cell").first).to_have_id(f"frame-{odd}", timeout=60_000)
    figures = lambda: [f for f in page.locator(".cell > span").all_text_contents() if f.startswith("ΔE")]  # noqa: E731
    eventually(page, lambda: len(figures()) == 6, 60)
    values = [float(f.removeprefix("ΔE ")) for f in figures()]
    assert values == sorted(values, reverse=True) and values[0] > 5


def test_faces_are_looked_for_and_none_is_said(page: Page, server: Running) -> None:
    page.goto("/shoots/1/sheet")
    viewed(page, "faces")
    expect(page.locator(".roll .empty")).to_have_text("No face was found in these frames.", timeout=120_000)
    assert all(f["face"] == [] for f in server.get("/api/shoots/1/sheet")["frames"])


@pytest.mark.usefixtures("fresh")
def test_sets_are_proposed_with_limits_that_are_seen(page: Page, server: Running) -> None:
    page.goto("/shoots/1/sheet")
    page.locator("#shoot-menu").click()
    page.get_by_role("button", name="Propose sets …").click()
    expect(page.locator("#propose-count")).to_have_text("2 sets")
    page.locator("#propose-unlike").fill("0.05")
    expect(page.locator("#propose-list")).to_contain_text("another picture")
    wanted = int(page.locator("#propose-count").inner_text().split()[0])
    assert wanted > 2
    page.get_by_role("button", name="Make these sets").click()
    expect(page.locator(".set-head")).to_have_count(wanted)
    page.get_by_role("button", name="Undo").click()
    expect(page.locator(".set-head")).to_have_count(2)


@pytest.mark.usefixtures("fresh")
def test_a_set_follows_another_and_frames_are_reset(page: Page, server: Running, frame_ids: dict[str, int]) -> None:
    server.post("/api/edit", {"frames": [frame_ids["T0001"]], "values": {"light.contrast": 17}})
    page.set_viewport_size({"width": 1900, "height": 800})
    page.goto("/shoots/1/sheet")
    page.locator("#size").fill("300")
    page.get_by_label("Set 2 follows").select_option(label="follows Set 1")
    contrast = lambda n: server.get(f"/api/frames/{frame_ids[n]}")["values"].get("light.contrast", 0)  # noqa: E731
    eventually(page, lambda: contrast("T0012") == 17)
    page.locator(f"#frame-{frame_ids['T0012']}").click()
    command(page, "Reset")
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("back to the start").check()
    expect(dialog.get_by_role("button", name="Reset")).to_be_disabled()
    dialog.get_by_label("Light").check()
    dialog.get_by_role("button", name="Reset").click()
    eventually(page, lambda: contrast("T0012") == 0 and contrast("T0011") == 17)


@pytest.mark.usefixtures("fresh")
def test_rules_show_first_what_would_happen(page: Page, server: Running, frame_ids: dict[str, int]) -> None:
    page.goto("/kit#rules")
    form = page.locator("#frame-rule-form")
    form.get_by_label("lens has").fill("24")
    form.get_by_label("preset").select_option(label="Product: Deep wood")
    form.get_by_role("button", name="Add").click()
    expect(page.locator("#frame-rules tr")).to_contain_text(['lens has "24"'])
    page.goto("/shoots/1/sheet")
    page.locator(f"#frame-{frame_ids['T0001']}").click()
    page.keyboard.press("Control+a")
    command(page, "Presets by the rules")
    expect(page.locator("#ruling-about")).to_have_text("3 frames of 6 meet a rule; 3 would change.")
    page.get_by_role("button", name="Put on").click()
    expect(page.locator(".applied-mark")).to_have_count(3)
    page.goto("/kit#rules")
    page.get_by_role("button", name="Delete rule 1 for presets").click()
    expect(page.locator("#frame-rules tr")).to_have_count(0)


def test_sidecars_are_switched_and_a_conflict_is_ended(page: Page, server: Running, frame_ids: dict[str, int]) -> None:
    from dataclasses import replace

    from tanner.core.series.sidecar import beside, parse_sidecar, sidecar_bytes

    path = beside(server.folder / "photos" / "T0001.DNG")
    page.goto("/shoots/1/sheet")
    page.locator("#shoot-menu").click()
    page.get_by_role("button", name="Sidecars …").click()
    page.get_by_label("write sidecars for this shoot").check()
    eventually(page, path.exists)
    expect(page.locator("#sidecars-text")).to_have_text("6 frames have one.", timeout=20_000)
    mine = parse_sidecar(path.read_bytes(), "x")
    assert mine is not None
    path.write_bytes(sidecar_bytes(replace(mine, stars=5)))
    page.reload()
    page.locator("#shoot-menu").click()
    page.get_by_role("button", name="Sidecars …").click()
    expect(page.locator(".conflict")).to_contain_text("stars")
    page.get_by_role("button", name="The sidecar holds").click()
    expect(page.locator("#sidecars-none")).to_be_visible()
    eventually(page, lambda: server.get(f"/api/frames/{frame_ids['T0001']}")["stars"] == 5)
    page.get_by_label("write sidecars for this shoot").uncheck()
    eventually(page, lambda: server.get("/api/shoots/1/sidecars")["on"] is False)


@pytest.mark.usefixtures("fresh")
def test_the_preset_under_the_whole_shoot(page: Page, server: Running, frame_ids: dict[str, int]) -> None:
    page.goto("/shoots/1/sheet")
    expect(page.locator(".cell")).to_have_count(6)
    page.locator("#shoot-menu").click()
    page.get_by_label("Preset under all").select_option(label="Product: Deep wood")
    eventually(page, lambda: server.get(f"/api/frames/{frame_ids['T0012']}")["values"].get("light.contrast") == 16)
    page.reload()
    page.get_by_role("button", name="Whole shoot: Deep wood").click()
    expect(page.locator("#shoot-preset option:checked")).to_have_text("Product: Deep wood")
    page.get_by_label("Preset under all").select_option(label="none")
    eventually(page, lambda: "light.contrast" not in server.get(f"/api/frames/{frame_ids['T0012']}")["values"])


def test_two_thousand_frames_keep_the_page_small(page: Page, server: Running) -> None:
    """Only what is near the window is in the page; scrolling to the end shows the last frame."""
    with server.services.catalogue.write() as session:
        session.add(Shoot(name="Many"))
        session.flush()
        shoot = session.query(Shoot).filter_by(name="Many").one().id
        example = session.query(Frame).first()
        assert example
        for n in range(2000):
            if n % 40 == 0:
                group = FrameSet(shoot_id=shoot, name=f"Set {n // 40 + 1}")
                session.add(group)
                session.flush()
            frame = Frame(
                shoot_id=shoot, set_id=group.id, path="/gone/x.dng", name=f"M{n:04d}.DNG", content=f"many {n}", error="is not there.",
                taken=datetime(2026, 3, 12) + timedelta(seconds=n), facts=example.facts, starting=example.starting,
                as_shot=example.as_shot, width=600, height=400,
            )  # fmt: skip
            session.add(frame)
            session.flush()
            if n % 40 == 0:
                group.lead_id = frame.id
    first = server.get(f"/api/shoots/{shoot}/sheet?first=240")
    assert len(first["frames"]) == 240 and first["total"] == 2000 and len(first["sets"]) == 6
    page.goto(f"/shoots/{shoot}/sheet")
    expect(page.locator("#count")).to_have_text("2000 frames")
    assert 10 < page.locator(".cell").count() < 150
    page.evaluate("document.getElementById('roll').scrollTop = 1e9")
    expect(page.locator(".cell", has_text="M1999")).to_be_visible()
    expect(page.locator(".cell", has_text="M0000")).to_have_count(0)
    assert page.locator(".cell").count() < 150
    page.keyboard.press("Control+a")
    expect(page.locator("#chosen-text")).to_have_text("2000 frames chosen")


@pytest.mark.usefixtures("fresh")
def test_commands_are_found_by_name_and_by_keys(page: Page, server: Running, frame_ids: dict[str, int]) -> None:
    page.goto("/shoots/1/sheet")
    page.locator(f"#frame-{frame_ids['T0002']}").click()
    page.keyboard.press(".")
    find = page.get_by_role("combobox", name="Find a command")
    expect(find).to_be_focused()
    # What cannot be done now is shown and refuses; arrows walk, Escape leaves and gives the focus back.
    find.fill("merge their")
    expect(page.get_by_role("option", name="Merge their sets")).to_have_attribute("aria-disabled", "true")
    find.fill("colour")
    page.keyboard.press("Enter")
    expect(page.get_by_role("option")).to_have_count(6)
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    expect(page.locator(f"#frame-{frame_ids['T0002']} .label-red")).to_be_visible()
    page.keyboard.press("p")
    find.fill("deep wood")
    page.keyboard.press("Enter")
    expect(page.locator(f"#frame-{frame_ids['T0002']} .applied-mark")).to_have_text("Deep wood")
    page.locator("#commands").click()
    page.keyboard.press("Escape")
    expect(page.locator("#commands")).to_be_focused()
    expect(page.locator("#commands")).to_have_attribute("aria-expanded", "false")


def test_keys_are_listed_and_can_be_changed(page: Page, server: Running, frame_ids: dict[str, int]) -> None:
    page.goto("/shoots/1/sheet")
    expect(page.locator(".cell")).to_have_count(6)
    page.keyboard.press("?")
    dialog = page.get_by_role("dialog", name="Help")
    row = dialog.locator("tr", has_text="Keep, and go on")
    row.focus()
    page.keyboard.press("q")
    expect(dialog.locator("tr", has_text="Keep, and go on").locator("kbd")).to_have_text("q")
    dialog.get_by_role("button", name="Close").click()
    page.locator(f"#frame-{frame_ids['T0011']}").click()
    page.keyboard.press("q")
    expect(page.locator(f"#frame-{frame_ids['T0011']} .keep-mark")).to_be_visible()
    page.reload()
    page.keyboard.press("?")
    dialog.get_by_role("button", name="Keys as delivered").click()
    expect(dialog.locator("tr", has_text="Keep, and go on").locator("kbd")).to_have_text("k")
    dialog.get_by_role("button", name="Close").click()
    page.get_by_role("button", name="Undo").click()


@pytest.mark.parametrize("path", ["/shoots/1/bench", "/shoots/1/sheet", "/shoots/1/deliver"])
def test_nothing_scrolls_that_should_not(page: Page, server: Running, path: str) -> None:
    """At 1280 x 800 the page itself never scrolls, and each group of the Bench is whole."""
    page.goto(path)
    page.wait_for_timeout(800)
    assert page.evaluate("[document.documentElement.scrollWidth, document.documentElement.scrollHeight]") == [1280, 800]
    if "bench" in path:
        for name in page.eval_on_selector_all("#index [data-group]", "all => all.map((b) => b.dataset.group)"):
            if name in ("presets", "history"):
                continue
            page.locator(f'#index [data-group="{name}"]').click()
            assert page.evaluate("(g => g.scrollHeight <= g.clientHeight)(document.getElementById('groups'))"), name
