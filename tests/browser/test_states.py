"""Every page and dialog in its states: nothing cut off or overlapping at four sizes and with text twice as large, axe finds nothing, nothing moves."""

from pathlib import Path

import pytest
from bench.screens import PAGES, SIZES, states
from playwright.sync_api import Page
from serving import Running

AXE = Path(__file__).parents[2] / "node_modules" / "axe-core" / "axe.min.js"
FITS = (Path(__file__).parent / "fits.js").read_text()
FINDS = (Path(__file__).parent / "axe.js").read_text()
TWICE = (960, 540)
"""What a window of 1920 x 1080 shows when text is twice as large."""
PAINTED = "() => new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(() => setTimeout(done, 20))))"


@pytest.mark.parametrize("name", PAGES)
def test_nothing_is_cut_off_and_axe_finds_nothing(page: Page, server: Running, name: str) -> None:
    trouble = []
    known: list[str] = []
    for state in states(page, name):
        for width, height in (*SIZES, TWICE):
            page.set_viewport_size({"width": width, "height": height})
            page.evaluate(PAINTED)
            trouble += [f"{name} {state} at {width}: {t}" for t in page.evaluate(FITS)]
        page.set_viewport_size({"width": 1280, "height": 800})
        if not page.evaluate("() => !!window.axe"):
            page.evaluate(AXE.read_text())
        for tone in ("dark", ""):
            result = page.evaluate(FINDS, [known, tone])
            known = result["seen"]
            trouble += [f"{name} {state} {tone}: {rule}: {html}" for rule, nodes in result["found"] for html in nodes]
    assert trouble == [], "\n".join(trouble)


@pytest.mark.parametrize(
    "path",
    ["/", "/kit", "/find"] + [f"/shoots/1/{n}" for n in ("import", "choose", "sheet", "bench", "lineup", "deliver")],
)
def test_text_twice_as_large_in_a_small_window_leaves_all_within_reach(page: Page, server: Running, path: str) -> None:
    """1280 x 800 at 200 %: nothing lies beside the window, and the page can be moved to every button of its bars."""
    page.set_viewport_size({"width": 640, "height": 400})
    page.goto(path)
    page.wait_for_timeout(1200)
    beside = page.evaluate(
        """() => [document.documentElement.scrollWidth > innerWidth ? "the page is wider than the window" : "",
          ...[...document.querySelectorAll(".bar a, .bar button, .tools button, .tools select, .tools input, .under button")]
            .filter((e) => e.offsetParent && (e.getBoundingClientRect().left < 0 || e.getBoundingClientRect().right > innerWidth + 1))
            .map((e) => e.textContent.trim() || e.id)].filter(Boolean)"""
    )
    assert beside == []
    for name in ("Help", "Undo") if "shoots" in path else ("Help",):
        page.get_by_role("button", name=name, exact=True).click(trial=True, timeout=5000)


@pytest.mark.parametrize(
    "path",
    ["/", "/kit", "/find"] + [f"/shoots/1/{n}" for n in ("import", "choose", "sheet", "bench", "lineup", "deliver")],
)
def test_nothing_moves_after_the_first_paint(page: Page, server: Running, path: str) -> None:
    page.goto(path)
    page.wait_for_timeout(1500)
    shift = page.evaluate(
        """() => new Promise((done) => {
          let sum = 0;
          new PerformanceObserver((list) => { for (const e of list.getEntries()) sum += e.value; }).observe({ type: "layout-shift", buffered: true });
          setTimeout(() => done(sum), 200);
        })"""
    )
    assert shift <= 0.02
