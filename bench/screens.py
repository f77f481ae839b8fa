"""Every page and dialog in its states, at four sizes, as pictures: `make screens` (build/screens). The tests open the same states."""

import shutil
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

from playwright.sync_api import Page

from bench.browser import paged, served

SIZES = ((1024, 700), (1280, 800), (1920, 1080), (3840, 2160))
Step = Callable[[Page], None]
GROUPS = [
    "profile",
    "optics",
    "noise",
    "white",
    "light",
    "levels",
    "curve",
    "colour",
    "detail",
    "perspective",
    "crop",
    "finish",
    "areas",
    "spots",
    "picked",
    "exact",
    "presets",
    "history",
]


STAYS = "+"
"""Before the name of a state that is reached from the one before, without loading the page again."""


def _click(selector: str) -> Step:
    return lambda page: page.locator(selector).first.click()


def _button(name: str) -> Step:
    return lambda page: page.get_by_role("button", name=name, exact=True).first.click()


def _command(*labels: str) -> Step:
    def run(page: Page) -> None:
        page.locator("#commands").click()
        for label in labels:
            page.get_by_role("combobox", name="Find a command").fill(label)
            page.keyboard.press("Enter")

    return run


def _choose(page: Page) -> None:
    page.locator(".cell:not(:has(.lead-mark))").first.click()


def _group_of_several(page: Page) -> None:
    """Walks on until something lies beside the frame that is shown."""
    for _ in range(40):
        if page.locator("#choose-side").is_enabled():
            return
        page.keyboard.press("ArrowDown")
        page.wait_for_timeout(60)


def _group(name: str) -> Step:
    return _click(f'#index [data-group="{name}"]')


PAGES: dict[str, tuple[str, dict[str, tuple[Step, ...]]]] = {
    "shoots": ("/", {"": (), "help": (_button("Help"),)}),
    "guide": ("/guide", {"": ()}),
    "parts": ("/parts", {"": (), "menu": (_click("#commands"),), "dialog": (_click("#open-dialog"),)}),
    "kit": (
        "/kit",
        {
            "": (),
            **{
                f"{STAYS}tab-{t}": (_click(f"#tab-{t}"),)
                for t in ["profiles", "files", "specs", "rules", "dust", "keywords", "adjustments", "care"]
            },
            "preset": (_click(".preset-card"),),
        },
    ),
    "import": ("/shoots/1/import", {"": (), "card": (_button("card"),)}),
    "choose": (
        "/shoots/1/choose",
        {"": (), "side": (_group_of_several, _click("#choose-side")), "groups": (_click("#choose-alike"),)},
    ),
    "find": (
        "/find",
        {
            "": (),
            "chosen": (_choose,),
            "wrong": (lambda page: page.locator("#q").fill("stars>=x"),),
            "collect": (_choose, _click("#collect")),
            "menu": (_choose, _click("#commands")),
            "help": (_button("Help"), _click("#help-dialog details summary")),
        },
    ),
    "sheet": (
        "/shoots/1/sheet",
        {
            "": (),
            "chosen": (_choose,),
            "filter": (_click("#filter"),),
            "shoot": (_click("#shoot-menu"),),
            "propose": (_click("#shoot-menu"), _click("#propose")),
            "sidecars": (_click("#shoot-menu"), _click("#sidecars")),
            "menu": (_choose, _click("#commands")),
            "carry": (_choose, _button("Carry over …")),
            "match": (_choose, _button("Match …")),
            "captions": (_choose, _command("Captions")),
            "reset": (_choose, _command("Reset")),
            "keywords": (_choose, _command("Keywords")),
            "copies": (_choose, _command("Copies without noise …")),
            # Kept by the browser: the last ones.
            "view": (_click("#sheet-view"),),
            "list": (_click("#sheet-view"), _button("list")),
            "folded": (_click("#sheet-view"), _button("pictures"), _button("folded")),
        },
    ),
    "bench": (
        "/shoots/1/bench",
        {
            "": (),
            **{f"{STAYS}group-{name}": (_group(name),) for name in GROUPS},
            "view": (_click("#view-menu"),),
            "menu": (_click("#commands"),),
            "save": (_group("presets"), _click("#preset-save")),
            "lens": (_group("optics"), _click("#lens-choose")),
            "carry": (_click('.ribbon-tools [data-do="carry"]'),),
        },
    ),
    "lineup": ("/shoots/1/lineup", {"": (), "large": (_click("#see-large"),)}),
    "profile": ("/shoots/1/profile?frame=1", {"": ()}),
    "deliver": (
        "/shoots/1/deliver",
        {
            "": (),
            "open": (_click("details:nth-of-type(1) summary"), _click("details:nth-of-type(2) summary")),
            "spec": (_click("#spec-new"),),
            "spec-dng": (_click("#spec-new"), lambda page: page.locator("#s-format").select_option("dng") and None),
            "captions": (_click("details:nth-of-type(1) summary"), _click("#more-words")),
        },
    ),
}


def states(page: Page, name: str, url: str = "") -> Iterator[str]:
    """Bring a page into each of its states in turn; the state's name."""
    path, found = PAGES[name]
    for state, steps in found.items():
        page.set_viewport_size({"width": 1280, "height": 800})
        if not state.startswith(STAYS):
            page.goto("about:blank")
            page.goto(url + path)
            page.wait_for_timeout(900)
        for step in steps:
            step(page)
            page.wait_for_timeout(250)
        yield state.removeprefix(STAYS)


def main() -> None:
    out = Path(sys.argv[1] if len(sys.argv) > 1 else "build/screens")
    shutil.rmtree(out, ignore_errors=True)
    out.mkdir(parents=True)
    demo = Path("build/demo")
    with served(demo / "data", [demo / n for n in ("shoot", "card", "out")], 8494) as url, paged() as page:
        for name in PAGES:
            for state in states(page, name, url):
                for width, height in SIZES:
                    page.set_viewport_size({"width": width, "height": height})
                    page.wait_for_timeout(400)
                    page.screenshot(path=out / f"{name}{'-' * bool(state)}{state}-{width}.png")


if __name__ == "__main__":
    main()
