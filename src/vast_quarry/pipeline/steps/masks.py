"""Masks: from files and transparency, found by themselves, from the model, mended by hand."""

from __future__ import annotations

from pathlib import Path
from typing import ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from PIL import Image
from pydantic import Field

from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import say
from vast_quarry.pipeline.figures import MasksFigures
from vast_quarry.pipeline.masking import Masking
from vast_quarry.pipeline.step import Context, StepSettings, setting
from vast_quarry.pipeline.steps.photos import clean_name, read_photo_list

#: sureness below which a mask wants a look
DOUBTFUL = 0.8


class MasksSettings(StepSettings):
    """Where masks come from."""

    folder: str | None = Field(None, description="Folder with masks named STEM.png; white is kept")
    way: Literal["files", "suggest", "still", "colour", "focus", "carry", "model", "network"] = setting(
        "files",
        "Where masks come from",
        "Photos that bring a mask of their own, as a file or as transparency, keep it; this is how the others get one: what "
        "moves before a still backdrop, what is not of the backdrop's colour, what is sharp, what other masks or the model show.",
        main=True,
        labels={
            "files": "files only",
            "suggest": "suggested",
            "still": "still backdrop",
            "colour": "backdrop colour",
            "focus": "sharp parts",
            "carry": "carried over",
            "model": "from the model",
            "network": "own network",
        },
    )  # fmt: skip
    alpha: bool = setting(
        True, "Use the photos' own transparency", "Transparent parts of photos are left out.", main=True
    )
    black_keeps: bool = setting(
        False, "In mask files black is kept", "Black counts and white is left out, the other way round than usual."
    )
    key_colors: tuple[tuple[int, int, int], ...] = Field(
        (), description="Backdrop colours to key out (red, green, blue)"
    )
    tolerance: float = setting(
        12.0,
        "Backdrop colour tolerance",
        "How far a colour may differ from a backdrop colour that was picked, and still be left out.",
        main=True, unit="Delta E 2000", usual=(5, 30), gt=0, le=100,
    )  # fmt: skip
    softness: float = setting(
        1.2,
        "Backdrop colour softness",
        "Colours that differ from the limit by less than this are decided by the photo's edges.",
        unit="Delta E 2000", usual=(0, 6), ge=0, le=50,
    )  # fmt: skip
    margin_px: float = setting(
        0.0,
        "Margin about masks that were found",
        "They are grown by this, or shrunk where it is below 0.",
        unit="px", usual=(-5, 20), ge=-200, le=200,
    )  # fmt: skip
    model: str | None = Field(None, description="Folder with the alignment whose model is projected into the photos")
    network: str | None = Field(None, description="ONNX file of a segmentation network of one's own")
    edits: str | None = Field(None, description="File with what was mended by hand")


def mask_file(folder: Path, number: int) -> Path | None:
    """Mask of a photo in a version of Masks, or None: then the whole photo counts."""
    path = folder / "masks" / f"{number:05d}.png"
    return path if path.exists() else None


def load_mask(path: str | Path | None) -> NDArray[np.bool_] | None:
    """A mask of a version as bool (H, W)."""
    return None if path is None else np.asarray(Image.open(path).convert("L")) > 127


class MasksStep:
    """Finds and collects masks."""

    layer: ClassVar[str] = "masks"
    title: ClassVar[str] = "Masks"
    parents: ClassVar[tuple[str, ...]] = ("photos",)
    settings_model: ClassVar[type[StepSettings]] = MasksSettings

    def run(self, context: Context) -> MasksFigures:
        """Write ``masks/NNNNN.png`` for every photo that has a mask, and ``masks.json``."""
        settings: MasksSettings = context.settings
        listed = read_photo_list(context.parents["photos"])
        folder = Path(settings.folder) if settings.folder else None
        if folder is not None and not folder.is_dir():
            raise PlainError(say("There is no folder of masks at {folder}.", folder=folder), "Check the path.")
        masking = Masking(context, listed)
        made = masking.make()
        for photo, m in zip(listed.usable, made):
            if m.problem and masking.way in ("files", "carry"):
                context.found(say("{name}: {problem}", name=clean_name(photo.path), problem=m.problem))
        if masking.way not in ("files", "carry"):
            for problem in dict.fromkeys(m.problem for m in made if m.problem):
                names = [clean_name(p.path) for p, m in zip(listed.usable, made) if m.problem == problem]
                pattern = "{count, plural, one {# photo} other {# photos}} ({names}{more, plural, =0 {} other { and # more}}): {problem}"
                context.found(
                    say(
                        pattern,
                        count=len(names),
                        names=", ".join(names[:4]),
                        more=max(0, len(names) - 4),
                        problem=problem,
                    )
                )
        if masking.why:
            context.found(masking.why)
        shares = [m.share for m in made if m.share is not None]
        unsure = [clean_name(p.path) for p, m in zip(listed.usable, made) if m.sure is not None and m.sure < DOUBTFUL]
        if unsure:
            pattern = "{count, plural, one {# mask is} other {# masks are}} not sure and should be looked at: {names}{more, plural, =0 {} other { and # more}}."
            context.found(say(pattern, count=len(unsure), names=", ".join(unsure[:4]), more=max(0, len(unsure) - 4)))
        if folder is not None and not any(m.way == "files" for m in made):
            raise PlainError(
                say("No mask in {folder} fits a photo.", folder=folder),
                "Masks are named like their photos with the ending .png, and as large.",
            )
        return {
            "masked": len(shares),
            "kept_percent": round(100 * float(np.mean(shares)), 1) if shares else None,
            "way": masking.way,
            "unsure": len(unsure),
            "edited": sum(m.edited for m in made),
            "made_from": masking.made_from,
        }
