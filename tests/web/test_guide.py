"""The guide inside the application: pages, pictures, search; and that it is of one piece with what there is."""

import re
from pathlib import Path

from serving import Running

from tanner.core.adjust.registry import GROUPS, adjustments
from tanner.web.screens.guide import chapters, rendered, search

DOCS = Path(__file__).parents[2] / "docs"


def test_every_page_its_pictures_and_links_are_there(server: Running) -> None:
    assert len(chapters()) == 10
    for key in chapters():
        answer = server.client.get(f"/guide/{key}")
        assert answer.status_code == 200 and "<h1>" in answer.text
        for address in re.findall(r'(?:src|href)="(/guide/[^"]+)"', answer.text):
            assert server.client.get(address).status_code == 200, address
    assert server.client.get("/guide").status_code == 200
    for strange in ("/guide/no-such-page", "/guide/pictures/..%2F..%2Fpyproject.toml", "/guide/pictures/none.png"):
        assert server.client.get(strange).status_code in (404, 422)


def test_the_search_finds_paragraphs_with_all_words(server: Running) -> None:
    found = search("watch folder")
    assert [f["title"] for f in found][:1] == ["Import"] and "brings in what appears" in found[0]["text"]
    assert search("") == [] and search("xyzzy") == []
    assert "Nothing in the guide holds these words." in server.client.get("/guide", params={"q": "<b>xyzzy"}).text
    assert "<b>xyzzy" not in server.client.get("/guide", params={"q": "<b>xyzzy"}).text


def test_markup_in_the_guide_stays_text() -> None:
    assert "<script>" not in rendered("a <script>alert(1)</script> b")


def test_every_adjustment_is_told_with_a_picture_of_its_group() -> None:
    """`make docs` writes this page: it is of today."""
    text = (DOCS / "guide" / "8-adjustments.md").read_text(encoding="utf-8")
    for a in adjustments().values():
        assert a.name == "enabled" or f"**{a.spec.title}**" in text, a.key
    scales = {a.group for a in adjustments().values() if a.spec.widget == "rule"}
    for key in GROUPS:
        assert key not in scales or (DOCS / "guide" / "pictures" / f"{key}.webp").is_file()
