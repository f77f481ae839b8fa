"""No text of the screens is outside of the catalogue: all pages and dialogs in a made-up language that covers all of it."""

import shutil
from collections.abc import Iterator
from pathlib import Path

import pseudo
import pytest
from bench.screens import PAGES, states
from playwright.sync_api import Page
from serving import Running, running

from tanner.web.language.catalogue import read

OUTSIDE = (Path(__file__).parent / "outside.js").read_text()
WRITTEN = r"Spring|\w+/T\d{4}(-\d)?\.\w+|T\d{4}\.(tif|dng)|Set \d|[A-Z]+\d*(-\d)?\.(DNG|jpg|JPG)|T\d{4}|Alder( One)?|Finch|DCIM|100ALDER|card|photos|\bout\b|lamp"
NO_WORDS = r"\b(px|mm|kB|MB|GB|EV|ppi|ISO|JPEG|TIFF|PNG|sRGB|CIEDE2000|K)\b|[\w/-]*\{[\w:]+\}[^,;]*|/\S+|[\w-]+\.(sqlite|icc|cube|xml|png|jpg)|#\w+"
NAMES_OF_LENSES = "#lens-list"
PATHS = "#care-catalogue"
DATES = r"\d+ [A-Z][a-z]+( \d{4})?(,? (at )?\d\d:\d\d)?"
ENGLISH = ("parts", "guide")
"""The page of all parts is looked at while Tanner is made; the guide is a book."""


@pytest.fixture(scope="module")
def server(originals: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    folder = tmp_path_factory.mktemp("marked")
    with running(folder, read(str(pseudo.write(folder / "marked.po")))) as result:
        for path in originals.glob("T00[01]*.DNG"):
            shutil.copy(path, folder / "photos" / path.name)
        card = folder / "card" / "DCIM" / "100ALDER"
        card.mkdir(parents=True)
        shutil.copy(originals / "T0021.DNG", card / "T0021.DNG")
        result.post("/api/shoots", {"name": "Spring"})
        result.bring_in(1, sorted((folder / "photos").glob("*.DNG")))
        yield result


@pytest.mark.parametrize("name", [n for n in PAGES if n not in ENGLISH])
def test_every_text_is_in_the_catalogue(page: Page, server: Running, name: str) -> None:
    own = "|".join((DATES, WRITTEN, NO_WORDS))
    found: dict[str, str] = {}
    for state in states(page, name):
        for text in page.evaluate(OUTSIDE, [pseudo.BEGIN, pseudo.END, own, f"{NAMES_OF_LENSES}, {PATHS}"]):
            found.setdefault(text, state)
    assert found == {}, "\n".join(f"{name} {state}: {text}" for text, state in found.items())


SAID = [
    "AF0007.DNG: ends in the middle. Copy it again from the card.",
    "outside the Line-up: lighter by 3.3, redder by 1.0",
    "original size, linear DNG, 16 bit",
    "shop/{name}; if the file exists, with a number",
    "nobody ever said this, or that: or this",
]


def test_scripts_say_what_the_server_would(page: Page, server: Running) -> None:
    page.goto("/")
    language = read(str(server.folder / "marked.po"))
    assert language
    say = 'async (all) => { const { worded } = await import("/static/js/texts.js"); return all.map(worded); }'
    assert page.evaluate(say, SAID) == [language.translated(s) for s in SAID]
    count = 'async (n) => (await import("/static/js/texts.js")).plural(n, "frame")'
    assert page.evaluate(count, 3) == language.count(3, "frame") == pseudo.marked("3 frames")
