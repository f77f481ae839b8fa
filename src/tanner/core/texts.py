"""How texts are compared wherever something is looked for, and written where XML holds them."""

import re
import unicodedata
from xml.sax.saxutils import escape


def folded(value: str) -> str:
    """Without capitals and accents."""
    parts = unicodedata.normalize("NFD", value.casefold())
    return "".join(c for c in parts if not unicodedata.combining(c))


NOT_IN_XML = re.compile("[\\x00-\\x08\\x0b\\x0c\\x0e-\\x1f\\ud800-\\udfff\\ufffe\\uffff]")
"""What no XML file may hold, escaped or not (source: xml10, production 2): a file with one of them is read by nobody."""


def in_xml(text: str) -> str:
    """A text as XML holds it, without what it cannot hold, which no eye sees: control characters and half ones."""
    return escape(NOT_IN_XML.sub("", text))


def json_in_xml(text: str) -> str:
    """JSON as XML holds it; its texts say what XML cannot hold by its number, so that it comes back."""
    return escape(NOT_IN_XML.sub(lambda found: f"\\u{ord(found[0]):04x}", text))
