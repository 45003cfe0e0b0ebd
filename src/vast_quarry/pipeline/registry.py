"""All steps, in the order in which they feed each other."""

from __future__ import annotations

from vast_quarry.pipeline.step import Step
from vast_quarry.pipeline.steps.cameras import CamerasStep
from vast_quarry.pipeline.steps.finish import FinishStep
from vast_quarry.pipeline.steps.masks import MasksStep
from vast_quarry.pipeline.steps.photos import PhotosStep
from vast_quarry.pipeline.steps.points import PointsStep
from vast_quarry.pipeline.steps.surface import SurfaceStep
from vast_quarry.pipeline.steps.texture import TextureStep

STEPS: tuple[Step, ...] = (
    PhotosStep(),
    MasksStep(),
    CamerasStep(),
    PointsStep(),
    SurfaceStep(),
    TextureStep(),
    FinishStep(),
)


def step_of(layer: str) -> Step:
    """The step of a layer.

    Raises
    ------
    KeyError
        When there is no such layer.
    """
    for step in STEPS:
        if step.layer == layer:
            return step
    raise KeyError(f"no layer called {layer!r}")
