"""Other languages: what is found in templates and scripts, what replaces it, plurals as gettext has them, bad catalogues."""

import gettext
import subprocess
import sys
from io import BytesIO
from pathlib import Path

import pseudo
import pytest
from babel.messages.catalog import Catalog
from babel.messages.mofile import write_mo
from babel.messages.pofile import write_po
from serving import running

from tanner.core.errors import UnreadableFile
from tanner.web.language.catalogue import ALL_TEXTS, Language, read
from tanner.web.language.collect import collected, tagged
from tanner.web.language.pages import put, texts

SLAVIC = "n%10==1 && n%100!=11 ? 0 : n%10>=2 && n%10<=4 && (n%100<10 || n%100>=20) ? 1 : 2"
"""Three forms: GNU gettext's manual, "Additional functions for plural forms"."""


def language(texts: dict[str, str], plurals: dict[str, list[str]] | None = None) -> Language:
    return Language("de", texts, plurals or {}, "n != 1")


def test_the_catalogue_holds_every_text_and_no_other() -> None:
    assert ALL_TEXTS.read_text() == collected(), "`make texts` writes it again"


def test_texts_of_a_template() -> None:
    source = (
        '{# said to nobody #}<p title="Size &gt; 0">{{ n }} of {{ all|length }} frames</p>{% if a %}<b class="dim">Yes</b>{% else %}No way{% endif %}'
        '<kbd>Esc</kbd><code>light.exposure</code><i>×</i><input placeholder="Name{% if b %} of it{% endif %}" value="kept">'
    )
    assert texts("{% block main_class %}wide plain{% endblock %}<p>Seen</p>")[0].message == "Seen"
    found = texts(source)
    assert [t.message for t in found] == ["Size > 0", "{0} of {1} frames", "Yes", "No way", "Name", "of it"]
    assert found[1].expressions == ("{{ n }}", "{{ all|length }}")
    there = put(
        source, lambda text: {"{0} of {1} frames": "von {1}: {0}", "Size > 0": 'über "0" & mehr'}.get(text, text)
    )
    assert "von {{ all|length }}: {{ n }}</p>" in there and 'title="über &quot;0&quot; &amp; mehr"' in there
    assert put(source, str) == source


def test_texts_of_a_script() -> None:
    source = "const x = t`${n} of ${all.map((a) => `${a}}`).join('}')} in ${t`the \\`set\\``}`; const at`no`;"
    assert list(tagged(source)) == ["{0} of {1} in {2}", "the `set`"]


def test_sentences_with_names_and_figures() -> None:
    german = language(
        {
            "{0} is gone": "{0} ist fort",
            "{0} of {1} frames": "{1} Bilder, davon {0}",
            "red": "rot",
            "cannot be read ({0}).": "ist nicht zu lesen ({0}).",
            "if it is there, with a number": "falls da, mit Nummer",
        }
    )
    assert german.translated("red is gone") == "rot ist fort"
    assert german.translated("3 of 40 frames") == "40 Bilder, davon 3"
    assert german.translated("AF0007.DNG: cannot be read (no rights).") == "AF0007.DNG: ist nicht zu lesen (no rights)."
    assert (
        german.translated("web/{name}; if it is there, with a number, red") == "web/{name}; falls da, mit Nummer, rot"
    )
    assert german.translated("Nobody said this, or: that") == "Nobody said this, or: that"
    assert german.translated(", ".join(["red"] * 400)).startswith("red")  # so much is no sentence of ours
    assert german.text("green") == "green"


def test_plurals_are_those_of_gettext(tmp_path: Path) -> None:
    made = Catalog(locale="uk", charset="utf-8", fuzzy=False)
    made.mime_headers = [
        (k, f"nplurals=3; plural=({SLAVIC});" if k == "Plural-Forms" else v) for k, v in made.mime_headers
    ]
    made.add(("{0} frame", "{0} frames"), ("{0} one", "{0} few", "{0} many"))
    file = tmp_path / "uk.po"
    with file.open("wb") as stream:
        write_po(stream, made)
    mine, theirs = read(str(file)), BytesIO()
    write_mo(theirs, made)
    theirs.seek(0)
    reference = gettext.GNUTranslations(theirs)  # type: ignore[arg-type]
    assert mine
    for n in range(250):
        expected = reference.ngettext("{0} frame", "{0} frames", n).replace("{0}", str(n))
        assert mine.count(n, "frame") == expected
    assert mine.count(2, "shoot") == "2 shoots" and mine.count(1, "entry", "entries") == "1 entry"


def test_bad_catalogues_are_told(tmp_path: Path) -> None:
    assert read("en") is None and read("") is None
    with pytest.raises(UnreadableFile, match="Languages that come with Tanner: en"):
        read("xx")
    for name, content, why in (
        ("latin.po", b'msgid ""\nmsgstr ""\n"Content-Type: text/plain; charset=utf-8\\n"\n\nmsgid "a"\nmsgstr "\xe9\xff"\n', "can be read"),
        ("broken.po", b"this is a letter\n", "can be read"),
        ("many.po", b'msgid ""\nmsgstr ""\n"Plural-Forms: nplurals=2; plural=n;\\n"\n\nmsgid "a"\nmsgstr "b"\n', "plural forms"),
        ("nought.po", b'msgid ""\nmsgstr ""\n"Plural-Forms: nplurals=2; plural=1%n;\\n"\n\nmsgid "a"\nmsgstr "b"\n', "plural forms"),
        ("odd.po", b'msgid ""\nmsgstr ""\n"Plural-Forms: nplurals=2; plural=alert(1);\\n"\n\nmsgid "a"\nmsgstr "b"\n', "plural forms"),
    ):  # fmt: skip
        (tmp_path / name).write_bytes(content)
        with pytest.raises(UnreadableFile, match=why):
            read(str(tmp_path / name))


def test_a_translation_that_asks_for_what_is_not_there_stays_english(
    tmp_path: Path, caplog: pytest.LogCaptureFixture
) -> None:
    file = tmp_path / "some.po"
    head = 'msgid ""\nmsgstr ""\n"Language: sr@latin\\n"\n"Plural-Forms: nplurals=2; plural=n != 1;\\n"\n\n'
    some = {"{0} of {1}": "{1}: {0}", "{0} gone": "{3} fort", "Save": "{{ 7 * 7 }}", "Open": "{% raw %}", "red": "rot"}
    file.write_text(head + "\n".join(f'msgid "{e}"\nmsgstr "{t}"\n' for e, t in some.items()))
    made = read(str(file))
    assert made and set(made.texts) == {"{0} of {1}", "red"} and made.translated("AF1 gone") == "AF1 gone"
    assert all(f"“{e}” is left in English" in caplog.text for e in ("{0} gone", "Save", "Open"))
    assert made.code in ("und", "sr")  # what browsers take


def test_an_unknown_language_ends_the_start_with_a_word(tmp_path: Path) -> None:
    done = subprocess.run(
        [sys.executable, "-m", "tanner.cli", "serve", "--data", str(tmp_path), "--language", "xx", "--port", "1"],
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
    )
    assert done.returncode == 1 and "xx.po: is not there." in done.stderr and "Traceback" not in done.stderr


def test_pages_speak_it_and_names_stay_as_they_are(tmp_path: Path) -> None:
    made = read(str(pseudo.write(tmp_path / "marked.po")))
    with running(tmp_path, made) as server:
        server.post("/api/shoots", {"name": "Light"})
        page = server.client.get("/").text
        assert '<html lang="en-GB">' in page and '<script src="/language.js?' in page
        assert ">Light</a>" in page and pseudo.marked("Light") not in page
        assert pseudo.marked("Shoots") in page and pseudo.marked("0 frames") in page
        script = server.client.get("/language.js")
        assert script.headers["content-type"].startswith("text/javascript") and "tannerTexts" in script.text
    with running(tmp_path / "english") as server:
        page = server.client.get("/").text
        assert "language.js" not in page and server.client.get("/language.js").text == ""
