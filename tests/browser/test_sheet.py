"""The Sheet by keyboard, thousands of frames, keys, and what axe finds on every page."""

from datetime import datetime, timedelta
from pathlib import Path

import pytest
from browsing import eventually
from playwright.sync_api import Page, expect
from serving import Running

from tanner.catalogue.models import Frame, FrameSet, Shoot

AXE = Path(__file__).parents[2] / "node_modules" / "axe-core" / "axe.min.js"


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
    page.locator("#by-verdict").select_option("not-drop")
    expect(page.locator(".cell")).to_have_count(5)
    page.locator("#find").fill("finch 24")
    expect(page.locator(".cell")).to_have_count(3)
    page.locator("#find").fill("nothing like it")
    expect(page.locator("#roll")).to_contain_text("No frame passes")


@pytest.mark.usefixtures("fresh")
def test_sets_are_corrected_by_hand(page: Page, server: Running, frame_ids: dict[str, int]) -> None:
    page.goto("/shoots/1/sheet")
    page.locator(f"#frame-{frame_ids['T0002']}").click()
    page.locator(f"#frame-{frame_ids['T0003']}").click(modifiers=["Shift"])
    page.get_by_role("button", name="Split off").click()
    expect(page.locator(".set-head")).to_have_count(3)
    page.locator(f"#frame-{frame_ids['T0003']}").click()
    page.get_by_role("button", name="Make lead").click()
    expect(page.locator(f"#frame-{frame_ids['T0003']} .lead-mark")).to_be_visible()
    page.locator("#move-to").select_option(label="Set 1")
    expect(page.locator(f"#frame-{frame_ids['T0003']} .lead-mark")).to_have_count(0)
    page.keyboard.press("Control+a")
    page.get_by_role("button", name="Merge sets").click()
    expect(page.locator(".set-head")).to_have_count(1)
    page.get_by_role("button", name="Undo").click()
    expect(page.locator(".set-head")).to_have_count(3)


@pytest.mark.usefixtures("fresh")
def test_the_preset_under_the_whole_shoot(page: Page, server: Running, frame_ids: dict[str, int]) -> None:
    page.goto("/shoots/1/sheet")
    expect(page.locator(".cell")).to_have_count(6)
    page.get_by_label("Preset under the whole shoot").select_option(label="Shoot: Deep wood")
    eventually(page, lambda: server.get(f"/api/frames/{frame_ids['T0012']}")["values"].get("light.contrast") == 16)
    page.reload()
    expect(page.locator("#shoot-preset option:checked")).to_have_text("Shoot: Deep wood")
    page.get_by_label("Preset under the whole shoot").select_option(label="Shoot: no preset")
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
    page.goto(f"/shoots/{shoot}/sheet")
    expect(page.locator("#count")).to_have_text("2000 frames")
    assert 10 < page.locator(".cell").count() < 150
    page.evaluate("document.getElementById('roll').scrollTop = 1e9")
    expect(page.locator(".cell", has_text="M1999")).to_be_visible()
    expect(page.locator(".cell", has_text="M0000")).to_have_count(0)
    assert page.locator(".cell").count() < 150
    page.keyboard.press("Control+a")
    expect(page.locator("#chosen-text")).to_have_text("2000 frames chosen")


def test_keys_are_listed_and_can_be_changed(page: Page, server: Running, frame_ids: dict[str, int]) -> None:
    page.goto("/shoots/1/sheet")
    expect(page.locator(".cell")).to_have_count(6)
    page.keyboard.press("?")
    dialog = page.get_by_role("dialog", name="Keys of this screen")
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
    dialog.get_by_role("button", name="As delivered").click()
    expect(dialog.locator("tr", has_text="Keep, and go on").locator("kbd")).to_have_text("k")
    dialog.get_by_role("button", name="Close").click()
    page.get_by_role("button", name="Undo").click()


@pytest.mark.parametrize(
    "path", ["/", "/kit", "/shoots/1/import", "/shoots/1/sheet", "/shoots/1/bench", "/shoots/1/deliver"]
)
def test_axe_finds_nothing_serious(page: Page, server: Running, path: str) -> None:
    page.goto(path)
    page.wait_for_timeout(1200)
    page.evaluate(AXE.read_text())
    found = page.evaluate("async () => (await axe.run()).violations")
    serious = [f"{v['id']}: {v['nodes'][0]['html'][:120]}" for v in found if v["impact"] in ("serious", "critical")]
    assert serious == []


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
