"""`tanner mask`: where the subject, the backdrop, people, skin or an area of the settings is, as a grey picture."""

import json
from pathlib import Path
from typing import Annotated, Any

import typer

from tanner.cli.common import Json, fail, settings_of
from tanner.core.errors import TannerError


def mask(
    file: Annotated[Path, typer.Argument(help="Raw or finished file.", metavar="FILE")],
    out: Annotated[Path, typer.Option("-o", "--out", help="PNG or TIFF file to write.")],
    subject: Annotated[bool, typer.Option("--subject", help="What stands before the backdrop.")] = False,
    backdrop: Annotated[bool, typer.Option("--backdrop", help="What is behind it.")] = False,
    people: Annotated[bool, typer.Option("--people", help="People.")] = False,
    skin: Annotated[bool, typer.Option("--skin", help="Skin of the people.")] = False,
    area: Annotated[str, typer.Option(help="An area of the settings, by its name.")] = "",
    settings: Annotated[Path | None, typer.Option(help="JSON file of settings: its areas, crop and lens.")] = None,
    set_: Annotated[list[str] | None, typer.Option("--set", metavar="GROUP.NAME=VALUE")] = None,
    size: Annotated[str, typer.Option(help="original, long:N, short:N, box:WxH or percent:N.")] = "original",
    bits: Annotated[int, typer.Option(help="8 or 16.")] = 8,
    replace: Annotated[bool, typer.Option("--replace", help="Replace a file that is there.")] = False,
    as_json: Json = False,
) -> None:
    """Write the mask of one thing in a frame as a grey picture, white where it is; upright, as large as `develop` writes it."""
    import imagecodecs
    import numpy as np

    from tanner.core.adjust.registry import defaults, develop
    from tanner.core.output.files import write_whole
    from tanner.core.output.sizing import output_size, parse_size
    from tanner.core.raw.reader import read
    from tanner.core.render import full_size
    from tanner.core.render.masking import found_area, mask_of, named

    asked = [k for k, v in {"subject": subject, "backdrop": backdrop, "people": people, "skin": skin}.items() if v]
    if len(asked) + bool(area) != 1:
        raise fail("Say one of --subject, --backdrop, --people, --skin or --area NAME.")
    if bits not in (8, 16):
        raise fail(f"--bits is 8 or 16, not {bits}.")
    kind = out.suffix.lower()
    if kind not in (".png", ".tif", ".tiff"):
        raise fail(f"{out.name}: masks are written as .png or .tif.")
    try:
        values = settings_of(settings, set_ or [])
        wanted = parse_size(size)
        source = read(file)
        start = defaults(raw=source.facts.is_raw, lens=source.lens is not None, applied=source.facts.applied)
        development = develop({**start, **values})
        full = output_size(wanted, *full_size(source, development))
        what: Any = named(development, area).id if area else found_area(asked[0])
        found = mask_of(source, development, what, full)
        levels = 255 if bits == 8 else 65535
        pixels = np.rint(found * levels).astype(np.uint8 if bits == 8 else np.uint16)
        encode = imagecodecs.png_encode if kind == ".png" else _tiff
        write_whole(out, bytes(encode(np.ascontiguousarray(pixels))), replace=replace)
    except TannerError as error:
        raise fail(error, 1) from None
    share = round(float(found.mean()), 5)
    if as_json:
        described = {"file": str(file), "path": str(out), "width": full[0], "height": full[1], "share": share}
        typer.echo(json.dumps(described))
    else:
        typer.echo(f"{out}  {full[0]} × {full[1]} px, {share:.1%} of the frame")


def _tiff(pixels: Any) -> bytes:
    import io

    import tifffile

    data = io.BytesIO()
    tifffile.imwrite(data, pixels, photometric="minisblack", compression="deflate")
    return data.getvalue()
