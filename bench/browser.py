"""What is measured in Chromium: a drag on the Bench, and the first screenful of a large Sheet."""

import os
import shutil
import subprocess
import sys
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime, timedelta
from pathlib import Path

import numpy as np
from playwright.sync_api import Page, sync_playwright

from tanner.catalogue.models import Frame, FrameSet, Shoot
from tanner.catalogue.store import Catalogue
from tanner.jobs.bring_in.imports import import_now
from tanner.web.serving.guard import token_of

FLAGS = [
    "--disable-gpu", "--disable-background-networking", "--disable-component-update", "--disable-sync",
    "--disable-quic", "--no-first-run", "--no-sandbox",
]  # fmt: skip


FIRST_CELL = """new MutationObserver((_, me) => {
  if (document.querySelector(".cell")) { window.firstCell = performance.now(); me.disconnect(); }
}).observe(document, { childList: true, subtree: true });"""


@contextmanager
def served(data: Path, folders: list[Path], port: int) -> Iterator[str]:
    """A server of its own process, as users have it."""
    opened = [argument for folder in folders for argument in ("--folder", str(folder))]
    command = [sys.executable, "-m", "tanner.cli", "serve", "--data", str(data), *opened, "--port", str(port)]
    environment = {**os.environ, "TANNER_DEVELOPMENT": "1"}
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True, env=environment) as server:
        assert server.stdout is not None
        server.stdout.readline()
        try:
            yield f"http://127.0.0.1:{port}"
        finally:
            server.terminate()


def bearer(data: Path) -> dict[str, str]:
    """The header by which a program is known."""
    return {"authorization": f"Bearer {token_of(data)}"}


@contextmanager
def paged(width: int = 1280, height: int = 800) -> Iterator[Page]:
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=FLAGS)
        yield browser.new_page(viewport={"width": width, "height": height})
        browser.close()


def drag(data: Path, raw: Path) -> tuple[float, float]:
    """Median and p95 in ms from a pointer event to the picture that answers it, drawn."""
    import_now(data, "Drag", [raw], None, [])
    with served(data, [raw.parent], 8495) as url, paged() as page:
        page.goto(f"{url}/shoots/1/bench")
        page.wait_for_timeout(4000)
        page.locator('#index [data-group="light"]').click()
        box = page.locator('.rule[data-key="light.exposure"] .rule-scale').bounding_box()
        assert box
        y = box["y"] + 14
        page.mouse.move(box["x"] + box["width"] / 2, y)
        page.mouse.down()
        for turn in range(3):
            page.evaluate("window.tannerTimings.length = 0")
            for n in range(90):
                page.mouse.move(box["x"] + box["width"] * (0.35 + 0.3 * ((n + turn) % 90) / 90), y)
                page.wait_for_timeout(14)
        page.wait_for_timeout(300)
        times = page.evaluate("window.tannerTimings")
        page.mouse.up()
    return float(np.median(times)), float(np.percentile(times, 95))


def sheet(data: Path) -> float:
    """Milliseconds from navigation until the first screenful of 2,000 frames is in the page, as the page itself tells."""
    catalogue = Catalogue(data)
    with catalogue.write() as session:
        session.add(Shoot(name="Many"))
        session.flush()
        for n in range(2000):
            if n % 25 == 0:
                group = FrameSet(shoot_id=1, name=f"Set {n // 25 + 1}")
                session.add(group)
                session.flush()
            frame = Frame(
                shoot_id=1, set_id=group.id, path="/gone/x.dng", name=f"M{n:04d}.DNG", content=f"m{n}", error="is not there.",
                taken=datetime(2026, 3, 12) + timedelta(seconds=n), facts={"width": 600, "height": 400, "orientation": 1},
                starting={"profile.curve_strength": 100.0}, as_shot=[5500.0, 0.0], width=600, height=400,
                own={"light.exposure": 0.3} if n % 7 == 0 else {},
            )  # fmt: skip
            session.add(frame)
            session.flush()
            if n % 25 == 0:
                group.lead_id = frame.id
    catalogue.close()
    times = []
    with served(data, [data], 8496) as url, paged() as page:
        page.add_init_script(FIRST_CELL)
        urllib.request.urlopen(f"{url}/shoots/1/sheet").read()
        for _ in range(6):
            page.goto("about:blank")
            page.goto(f"{url}/shoots/1/sheet", wait_until="commit")
            page.locator(".cell").first.wait_for()
            times.append(page.evaluate("window.firstCell"))
            page.wait_for_timeout(1000)
    return float(np.median(times[1:]))
