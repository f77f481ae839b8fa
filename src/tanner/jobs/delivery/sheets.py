"""Contact and order sheets as PDF."""

import io
from collections.abc import Sequence

from tanner.core.output.mark import FONT

Entry = tuple[str, str]
"""Path of a written picture, and its caption."""
PAGE, EDGE, HEAD = (210.0, 297.0), 12.0, 10.0
"""A4 in mm, its margin, and the height of the header."""
PPI = 200


def sheet_pdf(entries: Sequence[Entry], header: str, size: tuple[int, int], order: bool) -> bytes:
    """Pages of rows x columns pictures with captions.

    Args:
        header: a line above each page, with the page's number.
        size: rows, columns.
        order: with room to write a number and a size under each picture, and who orders at the end.
    """
    import logging

    from fpdf import FPDF

    # The font's tables that hold no letters are of no use in a PDF, which is said for each of them.
    logging.getLogger("fontTools").setLevel(logging.ERROR)
    rows, columns = size
    pdf = FPDF(unit="mm", format="A4")
    pdf.set_auto_page_break(False)
    pdf.add_font("sheet", fname=str(FONT))
    pdf.set_creator("Tanner")
    pdf.set_title(header)
    cell_w = (PAGE[0] - 2 * EDGE) / columns
    cell_h = (PAGE[1] - 2 * EDGE - HEAD - 6) / rows
    text = min(8.0, max(4.5, cell_w / 5))
    below = text * 0.55 + (8.0 if order else 1.0)
    pages = max(1, -(-len(entries) // (rows * columns)))
    for n, (path, caption) in enumerate(entries):
        place = n % (rows * columns)
        if place == 0:
            _page(pdf, header, n // (rows * columns) + 1, pages)
        x = EDGE + place % columns * cell_w
        y = EDGE + HEAD + place // columns * cell_h
        _picture(pdf, path, (x + 1, y, cell_w - 2, cell_h - below - 2))
        pdf.set_font("sheet", size=text)
        pdf.set_xy(x, y + cell_h - below - 1.5)
        pdf.cell(cell_w, text * 0.45, _short(pdf, caption, cell_w - 2), align="C")
        if order:
            _to_fill(pdf, x, y + cell_h - 3.5, cell_w)
    if not entries:
        _page(pdf, header, 1, 1)
    if order:
        pdf.set_font("sheet", size=9)
        pdf.set_xy(EDGE, PAGE[1] - EDGE - 3)
        pdf.cell(
            0,
            4,
            "Ordered by: ______________________________     Date: ______________     Signature: ____________________",
        )
    return bytes(pdf.output())


def _page(pdf, header: str, number: int, pages: int) -> None:  # type: ignore[no-untyped-def]
    pdf.add_page()
    pdf.set_font("sheet", size=12)
    pdf.set_xy(EDGE, EDGE - 2)
    pdf.cell(PAGE[0] - 2 * EDGE - 30, 6, _short(pdf, header, PAGE[0] - 2 * EDGE - 32))
    pdf.set_font("sheet", size=8)
    pdf.cell(30, 6, f"{number} of {pages}", align="R")


def _short(pdf, text: str, width: float) -> str:  # type: ignore[no-untyped-def]
    """A text that fits; letters that the font lacks are shown as a question mark."""
    from tanner.core.output.mark import characters

    known = characters()
    text = "".join(c if ord(c) in known or c == " " else "?" for c in text)
    if pdf.get_string_width(text) <= width:
        return text
    while text and pdf.get_string_width(text + "…") > width:
        text = text[:-1]
    return text + "…"


def _to_fill(pdf, x: float, y: float, width: float) -> None:  # type: ignore[no-untyped-def]
    """Lines for the number of prints and their size."""
    pdf.set_font("sheet", size=5.5)
    pdf.set_draw_color(120)
    half = width / 2
    for at, word in ((x + 1, "Number"), (x + half, "Size")):
        pdf.set_xy(at, y - 2.5)
        pdf.cell(9, 3, word)
        pdf.line(at + 9, y, at + half - 2, y)


def _picture(pdf, path: str, box: tuple[float, float, float, float]) -> None:  # type: ignore[no-untyped-def]
    """A picture inside a box in mm, made small first and in sRGB."""
    from PIL import Image, ImageCms

    x, y, w, h = box
    with Image.open(path) as image:
        icc = image.info.get("icc_profile")
        image.draft("RGB", (int(w / 25.4 * PPI), int(h / 25.4 * PPI)))
        small = image.convert("RGB")
    small.thumbnail((int(w / 25.4 * PPI), int(h / 25.4 * PPI)))
    if icc:
        source = ImageCms.ImageCmsProfile(io.BytesIO(icc))
        small = ImageCms.profileToProfile(small, source, ImageCms.createProfile("sRGB")) or small
    share = min(w / small.width, h / small.height)
    width, height = small.width * share, small.height * share
    out = io.BytesIO()
    small.save(out, "JPEG", quality=85)
    pdf.image(out, x + (w - width) / 2, y + (h - height) / 2, width, height)
