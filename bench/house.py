"""Draws docs/house.svg from the imports: which room uses which. `make docs` runs it; `python -m bench.house docs/house.svg`."""

import ast
import sys
from collections import Counter
from pathlib import Path

SRC = Path(__file__).parents[1] / "src" / "tanner"
ROWS = (
    ("cli", "studio"),
    ("web.screens", "web.api", "web.viewer", "web.serving"),
    ("jobs.bring_in", "jobs.delivery", "jobs.denoise", "jobs.match", "jobs.measure", "jobs.merge", "jobs"),
    ("catalogue",),
    ("core.series", "core.output", "core.profile", "core.lensmake", "core.merge", "core.small"),
    ("core.render",),
    ("core.adjust.registry",),
    ("core.stages", "core.areas"),
    ("core.tone", "core.colour", "core.optics", "core.noise", "core.raw", "core.tiff", "core.adjust"),
)
WIDE, HIGH, GAP, STEP, EDGE = 128, 38, 12, 82, 20
FEWEST = 3
"""Modules of a room that use another before it is drawn."""
INK, LINE, PAPER, BOX = "#1b1b1b", "#8a8a8a", "#f4f4f4", "#dedede"


def rooms() -> dict[str, str]:
    """Every module's room: the longest of ROWS that its name begins with."""
    names = [r for row in ROWS for r in row]
    found = {}
    for path in SRC.rglob("*.py"):
        module = ".".join(path.relative_to(SRC).with_suffix("").parts).removesuffix(".__init__")
        fits = [n for n in names if module == n or module.startswith(n + ".")]
        if fits:
            found[module] = max(fits, key=len)
    return found


def _statements(tree: ast.AST) -> list[ast.AST]:
    """Everything but what only a type checker reads."""
    only = [n for n in ast.walk(tree) if isinstance(n, ast.If) and ast.unparse(n.test) == "TYPE_CHECKING"]
    left_out = {id(m) for n in only for m in ast.walk(n)}
    return [n for n in ast.walk(tree) if id(n) not in left_out]


def uses() -> Counter[tuple[str, str]]:
    """How many modules of one room import from another."""
    room, counted = rooms(), Counter()
    for path in SRC.rglob("*.py"):
        module = ".".join(path.relative_to(SRC).with_suffix("").parts).removesuffix(".__init__")
        here = room.get(module)
        wanted = {
            n.module.removeprefix("tanner.")
            for n in _statements(ast.parse(path.read_text()))
            if isinstance(n, ast.ImportFrom) and (n.module or "").startswith("tanner.")
        }
        there = {room.get(w) or room.get(w.rpartition(".")[0]) for w in wanted}
        counted.update((here, t) for t in there if here and t and t != here)
    return counted


def drawn() -> str:
    width = 2 * EDGE + max(len(row) for row in ROWS) * (WIDE + GAP)
    height = 2 * EDGE + len(ROWS) * STEP
    place = {}
    for r, row in enumerate(ROWS):
        left = (width - len(row) * (WIDE + GAP) + GAP) / 2
        for c, name in enumerate(row):
            place[name] = left + c * (WIDE + GAP), EDGE + r * STEP
    lines = []
    for (a, b), count in sorted(uses().items()):
        (ax, ay), (bx, by) = place[a], place[b]
        if ay == by or count < FEWEST:
            continue
        up = by < ay
        y0, y1 = (ay, by + HIGH) if up else (ay + HIGH, by)
        colour = "#7a3420" if up else LINE
        middle = (y0 + y1) / 2
        path = f"M{ax + WIDE / 2:.0f} {y0:.0f}C{ax + WIDE / 2:.0f} {middle:.0f} {bx + WIDE / 2:.0f} {middle:.0f} {bx + WIDE / 2:.0f} {y1:.0f}"
        lines.append(
            f'<path d="{path}" fill="none" stroke="{colour}" stroke-width="{min(0.5 + count / 5, 3):.1f}" opacity="0.55"/>'
        )
    boxes = [
        f'<g><rect x="{x:.0f}" y="{y:.0f}" width="{WIDE}" height="{HIGH}" rx="3" fill="{BOX}" stroke="{LINE}"/>'
        f'<text x="{x + WIDE / 2:.0f}" y="{y + HIGH / 2 + 5:.0f}" text-anchor="middle">{name}</text></g>'
        for name, (x, y) in place.items()
    ]
    style = f'font-family="sans-serif" font-size="14" fill="{INK}"'
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width:.0f} {height:.0f}" width="{width:.0f}" {style}>\n'
        f"<title>The rooms of Tanner, and which uses which in three modules or more; drawn from the imports</title>\n"
        f'<rect width="100%" height="100%" fill="{PAPER}"/>\n' + "\n".join([*lines, *boxes]) + "\n</svg>\n"
    )


if __name__ == "__main__":
    Path(sys.argv[1]).write_text(drawn())
