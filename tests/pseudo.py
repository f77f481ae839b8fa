"""A made-up language: English between two marks that nobody sees, so that what is outside of it can be told."""

from pathlib import Path

from babel.messages.catalog import Catalog
from babel.messages.pofile import read_po, write_po

from tanner.web.language.catalogue import ALL_TEXTS

BEGIN, END = "\u200b", "\u00ad"  # a space of no width, a hyphen that may break


def marked(text: str) -> str:
    return f"{BEGIN}{text}{END}"


def write(path: Path) -> Path:
    """The catalogue of the made-up language."""
    with ALL_TEXTS.open("rb") as stream:
        every = read_po(stream)
    made = Catalog(locale="en_GB", charset="utf-8", fuzzy=False)
    for message in every:
        if message.id:
            there = marked(message.id) if isinstance(message.id, str) else tuple(marked(i) for i in message.id)
            made.add(message.id, there)
    with path.open("wb") as stream:
        write_po(stream, made)
    return path
