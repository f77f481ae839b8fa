"""The documents keep what they promise: sources exist, commands exist, pictures exist and are linked."""

import re
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
SOURCES = [*(ROOT / "src").rglob("*.py"), *(ROOT / "src").rglob("*.js"), *(ROOT / "tests").rglob("*.py")]


def test_every_source_that_is_cited_is_listed() -> None:
    known = set(re.findall(r"^@\w+\{(\w[\w-]*),", (ROOT / "docs" / "sources.bib").read_text(), re.M))
    cited = {}
    for path in SOURCES:
        for key in re.findall(r"\(sources?: ([a-z]+[\d-]*\d[\d-]*)\b", path.read_text()):
            cited.setdefault(key, path.name)
    assert len(cited) > 10
    assert {k: v for k, v in cited.items() if k not in known} == {}


def test_readme_names_the_two_commands_and_every_picture() -> None:
    readme = (ROOT / "README.md").read_text()
    assert "make demo" in readme and "make test" in readme
    pictures = {p.name for p in (ROOT / "docs" / "screenshots").glob("*.png")}
    linked = set(re.findall(r"docs/screenshots/([\w-]+\.png)", readme))
    assert linked == pictures and 5 <= len(pictures) < 20


@pytest.mark.parametrize("name", ["README.md", "docs/developing.md"])
def test_make_targets_that_are_named_exist(name: str) -> None:
    makefile = (ROOT / "Makefile").read_text()
    for target in re.findall(r"`make ([a-z-]+)`", (ROOT / name).read_text()):
        assert re.search(rf"^{target}:", makefile, re.M), target


def test_adjustments_page_is_current() -> None:
    """Generated from the declarations by `make docs`."""
    from tanner.core.adjust.document import adjustments_page

    assert (ROOT / "docs" / "adjustments.md").read_text() == adjustments_page()


def test_no_machine_path_or_registry_stands_in_the_project() -> None:
    hosts = re.compile(r"(registry\.npmjs|pypi\.org|files\.pythonhosted|/root/|/home/\w)")
    for path in [
        *SOURCES,
        ROOT / "requirements.lock",
        ROOT / "package-lock.json",
        ROOT / "Makefile",
        ROOT / "README.md",
    ]:
        if path.name != "test_docs.py":
            assert not hosts.search(path.read_text()), path


def test_licences_of_all_that_ships_are_named() -> None:
    text = (ROOT / "THIRD_PARTY.md").read_text()
    for word in ("IBM Plex", "OFL", "lensfun", "CC-BY-SA", "LibRaw", "Exiv2", "colour-science", "LittleCMS"):
        assert word in text
    assert "GNU GENERAL PUBLIC LICENSE" in (ROOT / "LICENSE").read_text()
