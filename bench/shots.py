"""Takes the pictures in docs/screenshots from the demo data: `make shots`."""

import shutil
from pathlib import Path

from playwright.sync_api import Page

from bench.browser import paged, served

DEMO = Path("build/demo")
OUT = Path("docs/screenshots")


def settled(page: Page) -> None:
    page.wait_for_timeout(500)
    for _ in range(200):
        if page.evaluate("document.getElementById('canvas').getAttribute('aria-busy') === 'false'"):
            break
        page.wait_for_timeout(50)
    page.wait_for_timeout(1800)


def shot(page: Page, name: str) -> None:
    page.screenshot(path=OUT / f"{name}.png")


def _with_pictures(page: Page, selector: str) -> None:
    """Waits until the pictures that are in sight are there: they come one after the other."""
    missing = """(of) => [...document.querySelectorAll(of)].some((i) => {
      const box = i.getBoundingClientRect();
      return box.width && box.top < innerHeight && !(i.complete && i.naturalWidth);
    })"""
    for _ in range(240):
        if not page.evaluate(missing, selector):
            return
        page.wait_for_timeout(500)


def _idle(page: Page) -> None:
    """Waits until nothing is said to be under way."""
    for _ in range(360):
        if not page.evaluate("document.getElementById('work').textContent.trim()"):
            return
        page.wait_for_timeout(500)


def main() -> None:
    OUT.mkdir(parents=True, exist_ok=True)
    # A copy of the demo at a plain place, so that taking pictures leaves the demo as it is.
    root = Path("/tmp/alder-finch")
    shutil.rmtree(root, ignore_errors=True)
    for part in ("data", "card"):
        shutil.copytree(DEMO / part, root / part)
    (root / "photos").mkdir()
    (root / "out").mkdir()
    try:
        with served(root / "data", [root / n for n in ("photos", "card", "out")], 8497) as url, paged() as page:
            page.goto(url)
            page.wait_for_timeout(1200)
            _idle(page)  # the demo's delivery goes on first
            shot(page, "shoots")
            page.goto(f"{url}/shoots/1/import")
            page.wait_for_timeout(600)
            page.locator("#cards").get_by_role("button", name="card", exact=True).click()
            page.locator("#copy-below").fill("{year}/{date}")
            page.wait_for_timeout(3000)
            shot(page, "import")
            # The evening's frames come in, which the demo leaves on the card.
            body = {"files": [str(p) for p in sorted((root / "card").rglob("*.DNG"))]}
            page.request.post(f"{url}/api/shoots/1/import", data=body, headers={"origin": url})
            page.goto(f"{url}/shoots/1/sheet")
            page.wait_for_timeout(30_000)  # pictures as developed are made when they are first asked for
            _idle(page)
            page.wait_for_timeout(10_000)
            page.locator(".cell", has_text="AF0006").click()
            shot(page, "sheet")
            page.goto(f"{url}/shoots/1/choose")
            page.wait_for_timeout(1500)
            for _ in range(2):
                page.keyboard.press("ArrowDown")
            page.keyboard.press("s")
            page.locator(".large-pane figcaption", has_text="sharp").last.wait_for(timeout=60_000)
            page.wait_for_timeout(9000)
            shot(page, "choose")
            page.goto(f"{url}/find?q=keep")
            page.wait_for_timeout(2000)
            page.locator(".cell").nth(1).click()
            page.keyboard.press("Shift+ArrowRight")
            shot(page, "find")
            frames = {f["name"][:6]: f["id"] for f in page.request.get(f"{url}/api/shoots/1/sheet").json()["frames"]}
            page.goto(f"{url}/shoots/1/bench?frame={frames['AF0006']}")
            page.locator('#index [data-group="light"]').click()
            settled(page)
            shot(page, "bench")
            page.goto(f"{url}/shoots/1/bench?frame={frames['AF0003']}")
            settled(page)
            page.locator('#index [data-group="exact"]').click()
            page.get_by_role("button", name="Pick a colour").click()
            box = page.locator("#canvas").bounding_box()
            assert box
            page.mouse.click(box["x"] + box["width"] * 0.46, box["y"] + box["height"] * 0.60)
            page.get_by_label("Colour 1 must be").fill("#1f5a8c")
            page.keyboard.press("Enter")
            page.locator("#exact-list", has_text="→ 0").wait_for()
            page.get_by_role("button", name="Measure the set").click()
            page.locator("#exact-rows td.num").nth(9).wait_for()
            settled(page)
            shot(page, "exact")
            page.get_by_role("button", name="Remove Colour 1").click()
            settled(page)
            # Two presets lie on this frame.
            kit = {p["name"]: p["key"] for p in page.request.get(f"{url}/api/presets").json()["presets"]}
            for name, amount in (("Window light", 100), ("Clear and close", 60)):
                body = {"frames": [frames["AF0022"]], "key": kit[name], "amount": amount}
                page.request.post(f"{url}/api/apply", data=body, headers={"origin": url})
            page.goto(f"{url}/shoots/1/bench?frame={frames['AF0022']}")
            settled(page)
            page.locator('#index [data-group="presets"]').click()
            _with_pictures(page, "#groups .preset-card img")
            shot(page, "presets")
            page.locator('#index [data-group="light"]').click()
            page.locator('#index [data-group="crop"]').click()
            settled(page)
            page.locator("#n-crop-straighten").fill("-4")
            page.locator("#n-crop-straighten").press("Enter")
            settled(page)
            page.get_by_label("Ratio", exact=True).select_option("4:5")
            page.get_by_label("Guide", exact=True).select_option("golden")
            settled(page)
            page.goto(f"{url}/shoots/1/bench?frame={frames['AF0003']}")
            settled(page)
            page.locator('#index [data-group="areas"]').click()
            settled(page)
            page.locator("#area-see").select_option("tint")
            settled(page)
            shot(page, "areas")
            page.goto(f"{url}/shoots/1/bench?frame={frames['AF0036']}")
            settled(page)
            page.locator('#index [data-group="spots"]').click()
            settled(page)
            page.locator("#spot-looking").click()
            page.get_by_role("menuitem", name="Specks and scratches").click()
            page.locator("#spot-found").wait_for()
            page.locator("#spot-accept").click()
            page.locator("#spot-list .area-row").nth(20).wait_for()
            page.locator("#spot-list .area-name").nth(1).click()
            page.locator("#spot-one").wait_for()
            page.wait_for_timeout(3000)
            page.locator('[data-zoom="0"]').click()
            settled(page)
            shot(page, "spots")
            page.goto(f"{url}/shoots/1/bench?frame={frames['AF0031']}")
            settled(page)
            page.locator('#index [data-group="perspective"]').click()
            page.get_by_role("button", name="Automatic").click()
            page.get_by_text("lines agree").wait_for()
            settled(page)
            page.locator("#n-perspective-stretch").fill("2")
            page.locator("#n-perspective-stretch").press("Enter")
            page.wait_for_timeout(1100)
            shot(page, "perspective")
            page.locator('#index [data-group="optics"]').click()
            page.get_by_role("button", name="Measure edges").click()
            page.get_by_text("Measured from").wait_for(timeout=60_000)
            settled(page)
            shot(page, "optics")
            page.goto(f"{url}/shoots/1/bench?frame={frames['AF0003']}")
            settled(page)
            page.goto(f"{url}/shoots/1/profile?frame={frames['AF0002']}")
            page.wait_for_timeout(6000)
            page.get_by_role("button", name="Make profile").click()
            page.locator("#report .greys").wait_for(timeout=60_000)
            shot(page, "profile")
            page.goto(f"{url}/shoots/1/bench?frame={frames['AF0041']}")
            settled(page)
            page.locator('#index [data-group="noise"]').click()
            page.get_by_role("button", name="Compare methods …").click()
            page.locator(".compare-pane.waits").last.wait_for(state="detached", timeout=90_000)
            page.wait_for_timeout(12_000)
            page.wait_for_timeout(300)
            shot(page, "noise")
            page.goto(f"{url}/shoots/1/lineup")
            page.select_option("#which-set", label="Blue lamp, flash")
            page.wait_for_timeout(9000)
            shot(page, "lineup")
            page.goto(f"{url}/shoots/1/sheet")
            page.wait_for_timeout(1500)
            page.fill("#find", "AF000")
            page.wait_for_timeout(800)
            page.locator(".cell", has_text="AF0003").click()
            page.locator(".cell", has_text="AF0007").click(modifiers=["Shift"])
            page.get_by_role("button", name="Match …").click()
            page.wait_for_timeout(800)
            page.locator("#match-go").click()
            page.wait_for_timeout(9000)
            shot(page, "match")
            page.goto(f"{url}/shoots/1/deliver")
            page.locator("#filter").fill("not drop and name:AF00")
            page.locator("#filter").press("Tab")
            page.wait_for_timeout(22_000)
            shot(page, "deliver")
            page.select_option("#which", "keep")
            page.locator("summary", has_text="Documents").click()
            page.get_by_label("contact sheet").check()
            page.wait_for_timeout(1500)
            page.locator("#deliver-go").click()
            page.locator("#run-close").wait_for(state="visible", timeout=180_000)
            page.locator("#run-view").click()
            page.wait_for_timeout(2500)
            shot(page, "deliver-finished")
            page.goto(f"{url}/kit")
            page.locator(".preset-card", has_text="Warm shadows").click()
            page.wait_for_timeout(9000)
            shot(page, "kit")
    finally:
        shutil.rmtree(root)


if __name__ == "__main__":
    main()
