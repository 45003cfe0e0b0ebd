"""Masks: from files or from the photos' alpha channels."""

from __future__ import annotations

from pathlib import Path
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray
from PIL import Image
from pydantic import Field

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import atomic_write
from vast_quarry.core.mask.files import mask_path, read_mask
from vast_quarry.core.mask.keying import key_out
from vast_quarry.core.photo.reading import load_alpha, load_rgb
from vast_quarry.core.words import Said, say
from vast_quarry.pipeline.figures import MasksFigures
from vast_quarry.pipeline.step import Context, StepSettings, setting
from vast_quarry.pipeline.steps.photos import clean_name, read_photo_list


class MasksSettings(StepSettings):
    """Where masks come from."""

    folder: str | None = Field(None, description="Folder with masks named STEM.png; white is kept")
    alpha: bool = setting(
        True, "Use the photos' own transparency", "Transparent parts of photos are left out.", main=True
    )
    key_colors: tuple[tuple[int, int, int], ...] = Field(
        (), description="Backdrop colours to key out (red, green, blue)"
    )
    tolerance: float = setting(
        12.0,
        "Backdrop colour tolerance",
        "How far a colour may differ from a backdrop colour that was picked, and still be left out.",
        main=True, unit="Delta E", usual=(5, 30), gt=0, le=100,
    )  # fmt: skip


def mask_file(folder: Path, number: int) -> Path | None:
    """Mask of a photo in a version of Masks, or None: then the whole photo counts."""
    path = folder / "masks" / f"{number:05d}.png"
    return path if path.exists() else None


def load_mask(path: str | Path | None) -> NDArray[np.bool_] | None:
    """A mask of a version as bool (H, W)."""
    return None if path is None else np.asarray(Image.open(path).convert("L")) > 127


def make_mask(
    photo: str,
    mask: str | None,
    alpha: bool,
    colors: list[tuple[int, int, int]],
    tolerance: float,
    width: int,
    height: int,
    target: str,
) -> tuple[float | None, Said | None]:
    """Unit of work: mask of one photo; what share of it is kept (None without a mask), and what went wrong."""
    out = Path(target)
    try:
        kept = read_mask(Path(mask), width, height) if mask else load_alpha(Path(photo)) if alpha else None
        if kept is None and colors:
            kept = key_out(load_rgb(Path(photo)), colors, tolerance)
    except PlainError as error:
        return None, error.said
    if kept is None:
        return None, None
    with atomic_write(out) as f:
        Image.fromarray((kept * 255).astype(np.uint8)).save(f, format="PNG", compress_level=1)
    nothing = None if kept.any() else Said("The mask keeps nothing, so nothing of this photo counts.")
    return float(kept.mean()), nothing


class MasksStep:
    """Collects masks."""

    layer: ClassVar[str] = "masks"
    title: ClassVar[str] = "Masks"
    parents: ClassVar[tuple[str, ...]] = ("photos",)
    settings_model: ClassVar[type[StepSettings]] = MasksSettings

    def run(self, context: Context) -> MasksFigures:
        """Write ``masks/NNNNN.png`` for every photo that has a mask."""
        settings: MasksSettings = context.settings
        listed = read_photo_list(context.parents["photos"])
        folder = Path(settings.folder) if settings.folder else None
        if folder is not None and not folder.is_dir():
            raise PlainError(say("There is no folder of masks at {folder}.", folder=folder), "Check the path.")
        (context.folder / "masks").mkdir(exist_ok=True)
        jobs = []
        for p in listed.usable:
            found = mask_path(folder, p.path) if folder else None
            target = context.folder / "masks" / f"{p.number:05d}.png"
            jobs.append(
                (
                    str(listed.file(p)), str(found) if found else None, settings.alpha, list(settings.key_colors),
                    settings.tolerance, p.width, p.height, str(target),
                )
            )  # fmt: skip
        results = context.each("Reading masks", make_mask, jobs)
        for photo, (_, problem) in zip(listed.usable, results):
            if problem:
                context.found(say("{name}: {problem}", name=clean_name(photo.path), problem=problem))
        shares = [share for share, _ in results if share is not None]
        if folder is not None and not shares:
            raise PlainError(
                say("No mask in {folder} fits a photo.", folder=folder),
                "Masks are named like their photos with the ending .png, and as large.",
            )
        return {"masked": len(shares), "kept_percent": round(100 * float(np.mean(shares)), 1) if shares else None}
