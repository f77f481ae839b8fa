"""How texts are compared wherever something is looked for."""

import unicodedata


def folded(value: str) -> str:
    """Without capitals and accents."""
    parts = unicodedata.normalize("NFD", value.casefold())
    return "".join(c for c in parts if not unicodedata.combining(c))
