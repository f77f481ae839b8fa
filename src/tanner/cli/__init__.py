"""The command line: the same core without a browser. One module a command, all that they share in `common`."""

import sys

import typer

from tanner.cli import (
    adjustments,
    catalogue,
    deliver,
    develop,
    find,
    importing,
    lens,
    lineup,
    mask,
    match,
    noise,
    profile,
    serve,
    spots,
    studio,
)
from tanner.core.errors import TannerError

app = typer.Typer(
    add_completion=False,
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    help="Develops a series of raw files consistently.",
)
of_studio = typer.Typer(no_args_is_help=True, help="The simulated studio: camera, card and demo shoot.")
of_catalogue = typer.Typer(no_args_is_help=True, help="The catalogue itself: check, back up, restore and compact it.")
app.add_typer(of_studio, name="studio")
app.add_typer(of_catalogue, name="catalogue")
app.add_typer(profile.app, name="profile")
app.add_typer(lens.app, name="lens")
app.add_typer(spots.app, name="spots")
for command in (
    deliver.deliver, find.find, noise.denoise, match.match, lineup.lineup, mask.mask, adjustments.adjustments, adjustments.info, develop.develop,
    serve.serve,
):  # fmt: skip
    app.command()(command)
app.command("import")(importing.import_files)
of_catalogue.command("check")(catalogue.check_catalogue)
of_catalogue.command("backup")(catalogue.back_up)
of_catalogue.command("restore")(catalogue.restore)
of_catalogue.command("compact")(catalogue.compact)
of_studio.command()(studio.demo)
of_studio.command()(studio.shoot)
of_studio.command()(studio.card)


def main() -> None:
    """Entry point; an error that Tanner raises is a line on stderr, not a traceback."""
    try:
        app()
    except TannerError as error:
        print(f"tanner: {error}", file=sys.stderr)
        sys.exit(1)
