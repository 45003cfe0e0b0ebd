"""What commands about a finished model share: how it is named, and how results are told."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Annotated, Any

import typer
from rich.console import Console

from vast_quarry.cli.language import told

console = Console()
MODEL = "Folder that build wrote, or a GLB, glTF, OBJ, PLY, STL, OFF or 3MF file"
ModelPath = Annotated[Path, typer.Argument(help=MODEL, show_default=False)]
AsJson = Annotated[bool, typer.Option("--json", help="Tell figures as JSON")]


def tell(sentence: str) -> None:
    """A sentence in the user's language."""
    console.print(told(sentence), markup=False, highlight=False)


def tell_either(facts: Mapping[str, Any], as_json: bool, *sentences: str) -> None:
    """Figures as JSON where that was asked for, else in sentences."""
    if as_json:
        typer.echo(json.dumps(facts, indent=1))
        return
    for sentence in sentences:
        tell(sentence)
