"""The command ``vast-quarry``."""

from __future__ import annotations

import gc
import sys

import typer
from rich.console import Console

from vast_quarry import __version__
from vast_quarry.cli import assets, build, dispatch, finish, rig
from vast_quarry.cli.frames import frames
from vast_quarry.cli.inspect import inspect_command
from vast_quarry.cli.language import told
from vast_quarry.cli.mask import mask
from vast_quarry.cli.optics import optics
from vast_quarry.cli.plan import marks, mat, plan
from vast_quarry.cli.serve import serve
from vast_quarry.cli.settings import settings_command
from vast_quarry.cli.warm import warm
from vast_quarry.core.errors import PlainError
from vast_quarry.core.progress import Cancelled

app = typer.Typer(
    help="From overlapping photos to a clean, upright, textured 3D model, on your own machine.",
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
)
app.command()(build.build)
app.command()(build.align)
app.command("inspect")(inspect_command)
app.command()(mask)
app.command()(frames)
app.command()(optics)
app.command()(plan)
app.command()(mat)
app.command()(marks)
app.command()(finish.finish)
app.command()(finish.measure)
app.command()(assets.remesh)
app.command("bake")(assets.bake_command)
app.command()(dispatch.save)
app.command("print-check")(dispatch.print_check)
app.command()(dispatch.picture)
app.command()(dispatch.film)
app.command()(dispatch.view)
app.command()(dispatch.archive)
app.command()(dispatch.restore)
app.command("settings")(settings_command)
app.command()(serve)
app.command(hidden=True)(warm)
app.add_typer(rig.app, name="rig")


@app.callback(invoke_without_command=True)
def version(show: bool = typer.Option(False, "--version", help="Print the version.")) -> None:
    """Print the version when asked."""
    if show:
        typer.echo(f"vast-quarry {__version__}")
        raise typer.Exit


def main() -> None:
    """Run a command; a failure is one plain sentence and exit code 1 (130 when stopped by hand)."""
    errors = Console(stderr=True, soft_wrap=True)
    # modules stay as long as the process: looking through them each time memory is handed back takes a tenth of a small run
    gc.freeze()
    try:
        app()
    except PlainError as error:
        errors.print(told(error.said), markup=False, highlight=False)
        sys.exit(1)
    except (Cancelled, KeyboardInterrupt):
        errors.print("Stopped.", markup=False, highlight=False)
        sys.exit(130)


if __name__ == "__main__":
    main()
