"""``settings``: what can be set in each layer, and what it does."""

from __future__ import annotations

from typing import Annotated

import typer
from rich.console import Console

from vast_quarry.cli.language import told as in_words
from vast_quarry.core.errors import PlainError
from vast_quarry.pipeline.grades import Grade
from vast_quarry.pipeline.registry import STEPS
from vast_quarry.pipeline.settings import by_hand, settings_of, value_in

console = Console()


def settings_command(
    layer: Annotated[str | None, typer.Argument(help="Only those of one layer", show_default=False)] = None,
    grade: Annotated[Grade, typer.Option("--grade", help="Values of this grade")] = Grade.DRESSED,
) -> None:
    """List the settings of all layers, or of one."""
    listed = [(s, settings_of(s)) for s in STEPS if settings_of(s)]
    chosen = [x for x in listed if layer in (None, x[0].layer)]
    if not chosen:
        names = ", ".join(s.layer for s, _ in listed)
        raise PlainError(f"There is no layer {layer!r} with settings.", f"There are {names}.")
    for step, settings in chosen:
        console.print(f"[bold]{in_words(step.title)}[/]")
        for s in settings:
            value = f"{value_in(grade, step.layer, s)} {in_words(s.unit)}".strip()
            console.print(f"  {step.layer}.{s.name} = {value}", markup=False, highlight=False, soft_wrap=True)
            console.print(
                "    " + f"{in_words(s.title)}. {in_words(s.description)} {in_words(s.cost)}".rstrip(),
                markup=False,
                highlight=False,
                soft_wrap=True,
            )
            usual = f"usual {s.usual[0]:g} to {s.usual[1]:g}" if s.usual else ""
            told = "; ".join(x for x in (usual, f"possible {s.possible}" if s.possible else "") if x)
            if told:
                console.print(f"    {told}", markup=False, highlight=False, soft_wrap=True, style="dim")
        for name, what in by_hand(step).items():
            console.print(f"  {step.layer}.{name} = JSON or @FILE", markup=False, highlight=False, soft_wrap=True)
            console.print(f"    {in_words(what)}.", markup=False, highlight=False, soft_wrap=True)
