"""`tanner studio`: the simulated studio."""

from pathlib import Path
from typing import Annotated

import typer

from tanner.cli.common import fail


def demo(into: Annotated[Path, typer.Option(help="Folder for the demo.")] = Path("build/demo")) -> None:
    """Make the demo shoot, the simulated card and a catalogue that is half worked on."""
    from tanner.studio.demo import make_shoot
    from tanner.studio.series import say_what_is_known
    from tanner.studio.worked import work_on

    make_shoot(into)
    say_what_is_known(into)
    work_on(into)


def shoot(
    into: Annotated[Path, typer.Option(help="Folder that the camera writes to.")],
    every: Annotated[str, typer.Option(help="Time between frames, such as 5s or 0.5s.")] = "5s",
    count: Annotated[int, typer.Option(min=0, help="How many frames; 0 for the whole shoot.")] = 0,
    scene: Annotated[list[str] | None, typer.Option(help="Only scenes that begin so, such as lamp.")] = None,
) -> None:
    """Play a tethered camera: frames appear in a folder one by one, as from a device."""
    from tanner.studio.demo import drop_frames

    try:
        seconds = float(every.removesuffix("s"))
    except ValueError:
        raise fail(f"--every is a time in seconds such as 5s, not {every!r}") from None
    if not 0 <= seconds <= 3600:
        raise fail("--every lies between 0s and 3600s")
    written = drop_frames(into, seconds, count, scene)
    typer.echo(f"{len(written)} frames are in {into}")


def card(
    what: Annotated[str, typer.Argument(help="in or out.", metavar="in|out")],
    into: Annotated[Path, typer.Option(help="Folder of the demo.")] = Path("build/demo"),
) -> None:
    """Plug the demo's simulated card in, or pull it out."""
    there, away = into / "card" / "DCIM", into / "card" / ".pulled-out"
    if what not in ("in", "out"):
        raise fail("the card goes in or out")
    source, target = (away, there) if what == "in" else (there, away)
    if not source.is_dir():
        raise fail(f"the card is {what} already, or there is no demo in {into}")
    source.rename(target)
    typer.echo(f"The card is {what}.")
