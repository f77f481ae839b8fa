"""Headless Chromium from Debian's packages, on a running server with small frames."""

import shutil
from collections.abc import Callable, Iterator
from pathlib import Path
from urllib.parse import urlsplit

import pytest
from browsing import settled
from playwright.sync_api import Browser, Page, expect, sync_playwright
from serving import Running, running

FLAGS = [
    "--disable-gpu",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--disable-quic",
    "--no-first-run",
    "--no-sandbox",
]


expect.set_options(timeout=20_000)
"""In ms: a loaded machine takes longer, and nothing here measures time."""


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    path = shutil.which("chromium")
    assert path, "chromium is missing: `make test` installs it"
    with sync_playwright() as playwright:
        found = playwright.chromium.launch(executable_path=path, args=FLAGS)
        yield found
        found.close()


@pytest.fixture(scope="module")
def server(originals: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    """Shoot 1 holds two sets of three; the card holds a new frame, a known one and a broken one."""
    folder = tmp_path_factory.mktemp("browse")
    with running(folder) as result:
        for path in originals.glob("T00[01]*.DNG"):
            shutil.copy(path, folder / "photos" / path.name)
        card = folder / "card" / "DCIM" / "100ALDER"
        card.mkdir(parents=True)
        shutil.copy(originals / "T0021.DNG", card / "T0021.DNG")
        shutil.copy(originals / "T0001.DNG", card / "AGAIN.DNG")
        (card / "BROKEN.DNG").write_bytes((originals / "T0002.DNG").read_bytes()[:7000])
        result.post("/api/shoots", {"name": "Spring"})
        result.bring_in(1, sorted((folder / "photos").glob("*.DNG")))
        yield result


@pytest.fixture
def page(browser: Browser, server: Running) -> Iterator[Page]:
    """A page that may not speak to anybody else, and whose scripts may not fail."""
    context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=server.url, accept_downloads=True)
    result = context.new_page()
    strangers: list[str] = []
    trouble: list[str] = []
    result.on(
        "request", lambda r: strangers.append(r.url) if urlsplit(r.url).hostname not in ("127.0.0.1", None) else None
    )
    result.on("pageerror", lambda e: trouble.append(str(e)))
    result.on(
        "console", lambda m: trouble.append(m.text) if m.type == "error" and "Content Security" in m.text else None
    )
    yield result
    context.close()
    assert strangers == [] and trouble == []


@pytest.fixture
def fresh(server: Running) -> Iterator[None]:
    """Takes back what a test changed."""
    yield
    while server.post("/api/shoots/1/undo")["done"] not in (None, "Sets proposed"):
        pass
    server.post("/api/shoots/1/redo")


@pytest.fixture
def frame_ids(server: Running) -> dict[str, int]:
    return {f["name"][:5]: f["id"] for f in server.get("/api/shoots/1/sheet")["frames"]}


MEAN = """([x, y, w, h]) => {
  const c = document.getElementById("canvas");
  const d = c.getContext("2d").getImageData(c.width * x, c.height * y, c.width * w, c.height * h).data;
  let s = [0, 0, 0];
  for (let i = 0; i < d.length; i += 4) for (let k = 0; k < 3; k++) s[k] += d[i + k];
  return s.map((v) => v / (d.length / 4));
}"""


@pytest.fixture
def mean(page: Page) -> Callable[..., list[float]]:
    """Mean RGB of a part of the Bench's canvas, in shares of it."""

    def read(x: float = 0.3, y: float = 0.3, w: float = 0.4, h: float = 0.4) -> list[float]:
        return page.evaluate(MEAN, [x, y, w, h])  # type: ignore[no-any-return]

    return read


@pytest.fixture
def bench(page: Page, frame_ids: dict[str, int]) -> Callable[[str], None]:
    """Open a frame on the Bench and wait for its settled picture."""

    def open_frame(name: str = "T0001") -> None:
        page.goto(f"/shoots/1/bench?frame={frame_ids[name]}")
        settled(page)

    return open_frame
