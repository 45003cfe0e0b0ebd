"""``warm``: compile the numba kernels once, so that the first real run does not seem to hang."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Annotated, Any

import numpy as np
import typer
from rich.console import Console

from vast_quarry.cli.report import make_reporter
from vast_quarry.core.dense.selecting import Cells
from vast_quarry.core.errors import PlainError
from vast_quarry.core.mask.still import modes
from vast_quarry.core.rig.shoot import ShootSettings, shoot
from vast_quarry.core.screen import in_outline, under_brush
from vast_quarry.pipeline.export import write_results
from vast_quarry.pipeline.grades import Grade
from vast_quarry.pipeline.recipe import recipe_for
from vast_quarry.pipeline.run import Runner
from vast_quarry.pipeline.store import Store


def warm(
    quiet: Annotated[bool, typer.Option("--quiet", help="Say nothing but errors")] = False,
) -> None:
    """Compile what is compiled at first use, by a tiny run from photos to model."""
    console = Console(quiet=quiet)
    console.print("Compiling the heavy loops; this takes a minute or two, once.")
    modes(np.zeros((4, 2, 3), np.float32), 3.0)
    _choose_points()
    with tempfile.TemporaryDirectory() as folder:
        root = Path(folder)
        # large enough for depth maps that are smaller than the photos: these move the planes then
        shoot(ShootSettings(rings=1, per_ring=12, width=528, height=396, heldout=1), root / "set")
        recipe = recipe_for(Grade.ROUGH, {"cameras": {"photo_scale": 0.6}, "surface": {"refine": 1}})
        places: dict[str, dict[str, Any]] = {
            "photos": {"folder": str(root / "set" / "photos")},
            "masks": {"folder": None},
        }
        store = Store(root / "out")
        with make_reporter(console) as reporter:
            try:
                write_results(store, Runner(store, reporter).run(recipe, places), recipe, root / "out")
                recipe.layers["texture"] = {**recipe.layers.get("texture", {}), "bits": "16"}
                Runner(store, reporter).run(recipe, places, until="texture")
                recipe.layers["surface"]["way"] = "thin"
                Runner(store, reporter).run(recipe, places, until="surface")
            except PlainError as error:  # the kernels are compiled even when so few photos make no model
                console.print(f"(the tiny run ended early: {error})")


def _choose_points() -> None:
    """What a run does not use: choosing points of a cloud."""
    points, corners, screen = np.zeros((3, 3)), np.array([[-1.0, -1.0], [1.0, -1.0], [0.0, 1.0]]), np.eye(4)
    in_outline(points, corners, screen)
    under_brush(points, corners, 0.1, 1.0, screen)
    Cells((0.0, 0.0, 0.0), 1.0, np.zeros((1, 3), np.int64)).hold(points)
