"""A language: the texts of a gettext catalogue (.po), looked up by what they are in English.

The format is that of GNU gettext's manual, "The Format of PO Files"; it is read by Babel.
"""

import gettext
import hashlib
import json
import logging
import re
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date
from functools import cached_property
from pathlib import Path

from tanner.core.errors import UnreadableFile

ALL_TEXTS = Path(__file__).parent / "tanner.pot"
"""Every text of the screens, in English, with where it stands."""
log = logging.getLogger(__name__)
MOST_PIECES = 12
"""What says more things in a row is no sentence of the program."""
HOLE = re.compile(r"\{(\d+)\}")
_CODE = re.compile(r"[A-Za-z]{2,3}(-[A-Za-z0-9]{2,8})*")
_MARKUP = re.compile(r"\{\{|\{%|\{#")
_FORMS = re.compile(r"\s*nplurals\s*=\s*(\d+)\s*;\s*plural\s*=\s*([n0-9%=!<>&|?:()\s]+?)\s*;?\s*")


def pattern(text: str) -> str:
    """What matches a text whose {0}, {1} stand for anything: an expression for Python and JavaScript alike."""
    parts = [re.sub(r"([\\^$.|?*+()\[\]{}/])", r"\\\1", part) for part in re.split(r"\{\d+\}", text)]
    return "^" + r"([\s\S]*?)".join(parts).replace("\n", r"\n") + "$"


def counted(number: int, word: str, many: str = "") -> str:
    """A count with its word in English."""
    return f"{number} {word if number == 1 else many or word + 's'}"


def english_day(day: date) -> str:
    """A day in English, as 3 March 2026."""
    return f"{day:%-d %B %Y}"


@dataclass(frozen=True)
class Language:
    """What one catalogue says.

    Attributes:
        code: BCP 47, for the page's `lang`.
        texts: by the English text.
        plurals: the forms by the English singular.
        form: which form belongs to n: gettext's expression, which JavaScript reads as it is.
    """

    code: str
    texts: dict[str, str]
    plurals: dict[str, list[str]]
    form: str

    def text(self, english: str) -> str:
        """A text as it is here; what the catalogue lacks stays English."""
        return self.texts.get(english, english)

    def _known(self, sentence: str) -> str:
        """A text of the catalogue, or one with names and figures in it; empty where there is none."""
        if sentence in self.texts:
            return self.texts[sentence]
        for expression, there in self._patterns:
            found = expression.match(sentence)
            if found:
                return HOLE.sub(lambda h, f=found: self.translated(f[int(h[1]) + 1]), there)  # type: ignore[misc]
        return ""

    def translated(self, sentence: str) -> str:
        """What the program says: a sentence with its names and figures, what it says of a file, one thing after another.

        Of those some may hold what parts them, so the longest that is known comes first. As `worded` in
        static/js/texts.js.
        """
        whole = self._known(sentence)
        between = next((sign for sign in ("; ", ": ", ", ") if sign in sentence), "")
        parts = sentence.split(between) if between else []
        if whole or not between or len(parts) > MOST_PIECES:
            return whole or sentence
        for end in range(len(parts) - 1, 1, -1):
            there = self._known(between.join(parts[:end]))
            if there:
                return there + between + self.translated(between.join(parts[end:]))
        return self.translated(parts[0]) + between + self.translated(between.join(parts[1:]))

    def count(self, number: int, word: str, many: str = "") -> str:
        """A count with its word in the right number."""
        forms = self.plurals.get(f"{{0}} {word}")
        return forms[self._which(number)].replace("{0}", str(number)) if forms else counted(number, word, many)

    @cached_property
    def _which(self) -> Callable[[int], int]:
        return gettext.c2py(self.form)

    def day(self, day: date) -> str:
        """A day as it is written in the language's country."""
        from babel import UnknownLocaleError
        from babel.dates import format_date

        try:
            return format_date(day, "long", locale=self.code.replace("-", "_"))
        except (ValueError, UnknownLocaleError):  # a language that nobody has told how days are written in
            return english_day(day)

    @cached_property
    def with_holes(self) -> list[tuple[str, str]]:
        """Expressions for texts with names and figures and words of their own, those that say most first."""
        words = {english: len(re.findall("[A-Za-z]", HOLE.sub("", english))) for english in self.texts}
        some = [(e, t) for e, t in self.texts.items() if HOLE.search(e) and words[e] > 1]
        return [(pattern(e), t) for e, t in sorted(some, key=lambda item: -words[item[0]])]

    @cached_property
    def _patterns(self) -> list[tuple[re.Pattern[str], str]]:
        return [(re.compile(expression), there) for expression, there in self.with_holes]

    @cached_property
    def script(self) -> str:
        """What pages load before their modules: see static/js/texts.js."""
        given = {"texts": self.texts, "plurals": self.plurals}
        patterns = ",".join(f"[new RegExp({json.dumps(e)}),{json.dumps(there)}]" for e, there in self.with_holes)
        return (
            f"globalThis.tannerTexts = {{...{json.dumps(given)}, form: (n) => Number({self.form}), "
            f"patterns: [{patterns}]}};\n"
        )

    @cached_property
    def stamp(self) -> str:
        """Tells this script from that of another catalogue: pages keep it by this name."""
        return hashlib.sha256(self.script.encode()).hexdigest()[:12]


def shipped() -> list[str]:
    """Codes of the languages that come with Tanner, besides English."""
    return sorted(p.stem for p in ALL_TEXTS.parent.glob("*.po"))


def _tells_forms(many: int, expression: str) -> bool:
    """Whether a plural expression gives one of so many forms for every count."""
    try:
        which = gettext.c2py(expression)
        return all(0 <= which(n) < many for n in range(1000))
    except (ValueError, ZeroDivisionError):
        return False


def _fits(english: object, there: str) -> bool:
    """Whether a translation asks for no more than there is, and holds nothing that a template would run."""
    known = english if isinstance(english, str) else " ".join(english)  # type: ignore[arg-type]
    return set(HOLE.findall(there)) <= set(HOLE.findall(known)) and not _MARKUP.search(there)


def read(wish: str) -> Language | None:
    """A language by its code or by a catalogue of one's own; None for English.

    Raises:
        UnreadableFile: there is no such language, or its catalogue cannot be read.
    """
    if wish.lower() in ("", "en", "en-gb"):
        return None
    path = Path(wish) if wish.endswith(".po") else ALL_TEXTS.parent / f"{wish}.po"
    if not path.is_file():
        some = ", ".join(["en", *shipped()])
        raise UnreadableFile(path, f"is not there. Languages that come with Tanner: {some}; or name a .po file.")
    # Only who chose a language waits for it.
    from babel.messages.pofile import PoFileError, read_po

    try:
        with path.open("rb") as stream:
            catalogue = read_po(stream, abort_invalid=True)
    except (OSError, ValueError, PoFileError) as error:
        raise UnreadableFile(path, f"is no catalogue of texts that can be read ({error}).") from None
    forms = _FORMS.fullmatch(catalogue.plural_forms or "")
    if not forms or not _tells_forms(int(forms[1]), forms[2]):
        raise UnreadableFile(path, "has plural forms in its head that cannot be read.")
    texts: dict[str, str] = {}
    plurals: dict[str, list[str]] = {}
    for message in catalogue:
        if not message.id or message.fuzzy:
            continue
        there = [message.string] if isinstance(message.string, str) else list(message.string or ())
        if not all(there):
            continue  # not translated yet
        if not all(_fits(message.id, each) for each in there):
            log.warning(
                "%s: “%s” is left in English: its translation asks for what is not there.", path.name, message.id
            )
            continue
        if isinstance(message.id, str):
            texts[message.id] = there[0]
        elif len(there) == int(forms[1]):
            plurals[message.id[0]] = there
    code = str(catalogue.locale or catalogue.locale_identifier or "").replace("_", "-")
    return Language(code if _CODE.fullmatch(code) else "und", texts, plurals, forms[2])
