"""The guide's page of adjustments, each with pictures of less, neutral and more: `make docs` writes them from the demo.

One WebP a group stands in docs/guide/pictures; the words are those of the declarations.
"""

from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image, ImageDraw, ImageFont

from tanner.core.adjust.registry import GROUPS, Adjustment, adjustments, defaults, develop
from tanner.core.colour.balance import ZONES
from tanner.core.colour.ranges import HUES
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.render import full_size, render

DEMO = Path("build/demo")
GUIDE = Path("docs/guide")
FONT = "src/tanner/shipped/fonts"
EDGE, PIECE, GAP, LABEL = 230, 230, 8, 26
LAMP, GUITAR, CORD, EVENING = (
    "shoot/AF0003.DNG",
    "shoot/AF0017.DNG",
    "shoot/AF0015.DNG",
    "card/DCIM/100ALDER/AF0040.DNG",
)
FRAMES = {
    "noise": EVENING,
    "structure": CORD,
    "ranges": CORD,
    "mono": CORD,
    "detail": CORD,
    "colour": CORD,
    "levels": GUITAR,
    "curve": GUITAR,
}
AT_FULL_SIZE = ("noise", "detail")  # what can only be seen px for px
SPLIT = {
    "balance.shadows_hue": 250.0, "balance.shadows_strength": 60.0,
    "balance.highlights_hue": 60.0, "balance.highlights_strength": 60.0,
}  # fmt: skip
# Where a share of the range says nothing, or too much.
VALUES = {
    "light.exposure": (-1.5, 1.5), "white.temperature": (3800.0, 8000.0), "white.tint": (-30.0, 30.0),
    "crop.straighten": (-5.0, 5.0), "crop.left": (0.25,), "crop.top": (0.25,), "crop.right": (0.75,), "crop.bottom": (0.75,),
    "perspective.vertical": (-12.0, 12.0), "perspective.horizontal": (-12.0, 12.0), "noise.luminance": (0.0, 100.0),
    "noise.colour": (0.0, 100.0), "detail.amount": (0.0, 120.0), "levels.black": (8.0,), "levels.white": (70.0,), "levels.middle": (35.0, 65.0),
}  # fmt: skip
WITH = {  # what must be set for an adjustment to show
    **{f"mono.{hue}": {"mono.amount": 100.0} for hue in HUES},
    **{f"mono.{zone}_hue": {"mono.amount": 100.0, f"mono.{zone}_tint": 70.0} for zone in ("shadow", "highlight")},
    **{f"mono.{zone}_tint": {"mono.amount": 100.0} for zone in ("shadow", "highlight")},
    **{f"balance.{zone}_hue": {f"balance.{zone}_strength": 60.0} for zone in ZONES},
    **{f"balance.{zone}_strength": {f"balance.{zone}_hue": 60.0} for zone in ZONES},
    **{f"finish.grain_{name}": {"finish.grain": 80.0} for name in ("size", "roughness", "colour")},
    **{f"balance.{name}": SPLIT for name in ("low", "high", "softness")},
    "detail.radius": {"detail.amount": 120.0}, "detail.threshold": {"detail.amount": 120.0},
    "noise.detail": {"noise.luminance": 100.0}, "finish.vignette_middle": {"finish.vignette": -70.0},
    "finish.vignette_roundness": {"finish.vignette": -70.0}, "finish.vignette_softness": {"finish.vignette": -70.0},
    "finish.vignette_highlights": {"finish.vignette": -70.0},
}  # fmt: skip


def _values(a: Adjustment) -> list[float]:
    """Less, neutral, more: neutral once, whichever of the three it is."""
    assert a.low is not None and a.high is not None
    if a.key in VALUES:
        chosen = [*VALUES[a.key]]
    else:
        middle = float(a.neutral) if isinstance(a.neutral, int | float) else (a.low + a.high) / 2
        chosen = [middle + 0.6 * (end - middle) for end in (a.low, a.high) if abs(end - middle) > 1e-9]
    neutral = [float(a.neutral)] if isinstance(a.neutral, int | float) and a.neutral not in chosen else []
    return sorted([*chosen, *neutral])


def _piece(source: Source, values: dict[str, Any], whole: bool) -> Image.Image:
    development = develop({**defaults(raw=source.facts.is_raw, lens=source.lens is not None), **values})
    width, height = full_size(source, development)
    if whole:
        share = EDGE / max(width, height)
        return Image.fromarray(render(source, development, (round(width * share), round(height * share))))
    pixels = render(source, development, (width, height))
    top, left = round(height * 0.44), round(width * 0.46)
    return Image.fromarray(np.ascontiguousarray(pixels[top : top + PIECE * 2 // 3, left : left + PIECE]))


def _rows(key: str) -> list[Adjustment]:
    """The adjustments of a group that are scales."""
    return [a for a in adjustments().values() if a.group == key and a.spec.widget == "rule" and a.low is not None]


def picture(key: str, path: Path) -> None:
    """All scales of a group, a row each, with the value under each picture."""
    source = read(DEMO / FRAMES.get(key, LAMP))
    font = ImageFont.truetype(sorted(Path(FONT).glob("*.ttf"))[0], 14)
    rows = []
    for a in _rows(key):
        more = WITH.get(a.key, {})
        pieces = [(v, _piece(source, {**more, a.key: v}, key not in AT_FULL_SIZE)) for v in _values(a)]
        rows.append((a, pieces))
    width = max(sum(p.width + GAP for _, p in pieces) for _, pieces in rows)
    heights = [max(p.height for _, p in pieces) + 2 * LABEL for _, pieces in rows]
    sheet = Image.new("RGB", (width + GAP, sum(heights)), (222, 222, 222))
    draw = ImageDraw.Draw(sheet)
    top = 0
    for (a, pieces), height in zip(rows, heights, strict=True):
        draw.text((GAP, top + 5), a.spec.title, (27, 27, 27), font)
        left = GAP
        for value, image in pieces:
            sheet.paste(image, (left, top + LABEL))
            text = f"{value:+g}" if a.low is not None and a.low < 0 and value else f"{value:g}"
            draw.text(
                (left, top + LABEL + image.height + 3),
                f"{text} {a.spec.unit}".replace("-", "−").replace("‰", "/1000"),
                (74, 74, 74),
                font,
            )
            left += image.width + GAP
        top += height
    sheet.save(path, quality=82, method=6)


def main() -> None:
    pictures = GUIDE / "pictures"
    pictures.mkdir(parents=True, exist_ok=True)
    lines = ["# Adjustments: which does what", "", "Made by `make docs`. Pictures show less, neutral and more."]
    for key, group in GROUPS.items():
        lines += ["", f"## {group.title}", "", group.about, ""]
        if _rows(key):
            picture(key, pictures / f"{key}.webp")
            lines += [f"![{group.title}: each scale with less and with more](pictures/{key}.webp)", ""]
        for a in adjustments().values():
            if a.group == key and a.name != "enabled":
                unit = f" ({a.spec.unit})" if a.spec.unit else ""
                lines.append(f"- **{a.spec.title}**{unit}: {a.spec.help}")
    (GUIDE / "8-adjustments.md").write_text("\n".join(lines) + "\n", encoding="utf-8")


if __name__ == "__main__":
    main()
