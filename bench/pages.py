"""How calm and quick the pages are: `python -m bench.pages`, on the demo (`make demo` once before).

For each page: milliseconds until something useful is painted, on a warm server; the longest task of its scripts while it opens, and
while one scrolls or drags on it; how far it moved after the first paint. In headless Chromium without a GPU; the machine is shared.
"""

from pathlib import Path

import numpy as np
from playwright.sync_api import Page

from bench.browser import paged, served

DEMO = Path("build/demo/data")
OBSERVED = """
window.told = { tasks: [], shift: 0 };
new PerformanceObserver((list) => { for (const e of list.getEntries()) told.tasks.push(e.duration); }).observe({ type: "longtask", buffered: true });
new PerformanceObserver((list) => { for (const e of list.getEntries()) told.shift += e.value; }).observe({ type: "layout-shift", buffered: true });
"""
"""Tasks of 50 ms and more are told by the browser; shorter ones are none."""
PAGES = ("/", "/find", "/kit", *(f"/shoots/1/{n}" for n in ("import", "choose", "sheet", "bench", "lineup", "deliver")))
ROUNDS = 4


def scrolled(page: Page) -> None:
    """The mouse's wheel over the middle of the page."""
    page.mouse.move(640, 420)
    for _ in range(30):
        page.mouse.wheel(0, 120)
        page.wait_for_timeout(16)


def dragged(page: Page) -> None:
    """A rule on the Bench."""
    box = page.locator(".rule-scale:visible").first.bounding_box()
    assert box
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + 12)
    page.mouse.down()
    for n in range(60):
        page.mouse.move(box["x"] + box["width"] * (0.35 + 0.3 * n / 60), box["y"] + 12)
        page.wait_for_timeout(16)
    page.mouse.up()


def longest(page: Page) -> float:
    found: float = page.evaluate("Math.max(0, ...told.tasks)")
    page.evaluate("told.tasks.length = 0")
    return found


def main() -> None:
    print(f"{'page':18} painted   longest task: opening, moving   shift")
    with served(DEMO, [DEMO.parent], 8494) as url, paged() as page:
        page.add_init_script(OBSERVED)
        for path in PAGES:
            painted, opening, moving, shift = [], [], [], []
            for n in range(ROUNDS):
                page.goto(url + path, wait_until="commit")
                page.wait_for_timeout(2500 if n else 6000)
                if n:
                    entry = "performance.getEntriesByName('first-contentful-paint')[0]"
                    painted.append(page.evaluate(f"{entry} ? {entry}.startTime : NaN"))
                    opening.append(longest(page))
                    shift.append(page.evaluate("told.shift"))
                (dragged if path.endswith("bench") else scrolled)(page)
                page.wait_for_timeout(300)
                if n:
                    moving.append(longest(page))
            print(
                f"{path:18} {np.median(painted):5.0f} ms  {max(opening):5.0f} ms, {max(moving):5.0f} ms"
                f"{'':16}{max(shift):.3f}",
                flush=True,
            )


if __name__ == "__main__":
    main()
