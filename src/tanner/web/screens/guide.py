"""The user's guide inside the application: the pages of docs/guide, rendered, and a search in them."""

import re
from functools import cache
from pathlib import Path
from typing import Any, NamedTuple

from fastapi import APIRouter, Request
from fastapi.responses import FileResponse, HTMLResponse, Response

from tanner.core.errors import TannerError
from tanner.web.screens.pages import page

router = APIRouter(default_response_class=HTMLResponse)
DOCS = Path(__file__).parents[4] / "docs"
PICTURES = {".png": "image/png", ".webp": "image/webp"}
PICTURE = re.compile(r"\]\(\.\./screenshots/|\]\(pictures/")
LINK = re.compile(r"\]\(([\w-]+)\.md\)")


class Chapter(NamedTuple):
    key: str
    title: str
    text: str


@cache
def chapters() -> dict[str, Chapter]:
    """The guide's pages by key, in their order; none where the guide was not installed."""
    found = {}
    for path in sorted((DOCS / "guide").glob("*.md")):
        text = path.read_text(encoding="utf-8")
        found[path.stem] = Chapter(path.stem, text.split("\n", 1)[0].lstrip("# "), text)
    return found


def rendered(text: str) -> str:
    """Markdown of ours as HTML: pictures and pages by the application's own addresses."""
    text = LINK.sub(r"](/guide/\1)", PICTURE.sub("](/guide/pictures/", text))
    from markdown_it import MarkdownIt

    return str(MarkdownIt("commonmark", {"html": False}).enable("table").render(text))


def search(words: str) -> list[dict[str, str]]:
    """Paragraphs that hold all words, with the page that they stand on."""
    wanted = words.lower().split()
    rows = []
    for chapter in chapters().values():
        for part in re.split(r"\n\s*\n|\n(?=[-\d|])", chapter.text):
            plain = re.sub(r"!?\[([^\]]*)\]\([^)]*\)", r"\1", part).replace("*", "").replace("`", "").strip("#-| \n")
            if wanted and plain and all(w in plain.lower() for w in wanted):
                rows.append(
                    {
                        "key": chapter.key,
                        "title": chapter.title,
                        "text": plain.replace("\n", " ").replace(" | ", "  ")[:300],
                    }
                )
    return rows


@router.get("/guide")
def guide(request: Request, q: str = "") -> Response:
    """The guide's first page, or what a search finds."""
    if q.strip():
        return _show(request, q=q, found=search(q))
    first = next(iter(chapters()), "")
    return _show(request, first) if first else _show(request)


@router.get("/guide/pictures/{name}")
def picture(name: str) -> Response:
    """A picture of the guide."""
    kind = PICTURES.get(Path(name).suffix)
    for folder in (DOCS / "screenshots", DOCS / "guide" / "pictures"):
        path = folder / name
        if kind and path.parent == folder and path.is_file():
            return FileResponse(path, media_type=kind)
    raise TannerError("This picture of the guide is not there.")


@router.get("/guide/{key}")
def chapter(request: Request, key: str) -> Response:
    if key not in chapters():
        raise TannerError("The guide has no such page.")
    return _show(request, key)


def _show(request: Request, key: str = "", **values: Any) -> Response:
    content = rendered(chapters()[key].text) if key else ""
    return page(request, "guide.html", screen="guide", chapters=chapters().values(), key=key, content=content, **values)
