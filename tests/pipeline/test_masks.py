"""The Masks step on small photos: files of any size and depth, transparency, colours, and what is said of each."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image
from tests.core.test_mask_network import redness
from tests.pipeline.test_run import Silent

from vast_quarry.core.errors import PlainError
from vast_quarry.pipeline.grades import Grade
from vast_quarry.pipeline.recipe import recipe_for
from vast_quarry.pipeline.run import Runner
from vast_quarry.pipeline.steps.masks import load_mask, mask_file
from vast_quarry.pipeline.store import Store, Version

WIDE, HIGH = 400, 300


@pytest.fixture
def photos(tmp_path: Path) -> Path:
    """Four photos: a grey disc before green, the last one with its own transparency."""
    folder = tmp_path / "photos"
    folder.mkdir()
    rng = np.random.default_rng(4)
    y, x = np.mgrid[:HIGH, :WIDE]
    disc = (x - WIDE / 2) ** 2 + (y - HIGH / 2) ** 2 < 90**2
    for k in range(4):
        rgb = np.where(disc[..., None], 90 + rng.integers(0, 60, (HIGH, WIDE, 1)), (30, 160, 60)).astype(np.uint8)
        image = Image.fromarray(rgb)
        if k == 3:
            image.putalpha(Image.fromarray((disc * 255).astype(np.uint8)))
        image.save(folder / f"{k}.png")
    return folder


def run(tmp_path: Path, photos: Path, masks: Path | None, **settings: Any) -> tuple[Version, list[np.ndarray | None]]:
    """The version of Masks, and what it keeps of each photo."""
    store = Store(tmp_path / "runs")
    where = {"photos": {"folder": str(photos)}, "masks": {"folder": None if masks is None else str(masks)}}
    made = (
        Runner(store, Silent())
        .run(recipe_for(Grade.ROUGH, {"masks": settings}), where, until="masks")
        .versions["masks"]
    )
    return made, [load_mask(mask_file(store.folder(made), k)) for k in range(4)]


def test_files_of_any_size_of_the_shape_and_what_is_wrong_with_others(tmp_path: Path, photos: Path) -> None:
    masks = tmp_path / "masks"
    masks.mkdir()
    half = np.zeros((HIGH // 2, WIDE // 2), np.uint16)
    half[:, : WIDE // 4] = 60000
    Image.fromarray(half).save(masks / "0.png")  # half the size, 16 bits: its left half is white
    Image.new("L", (WIDE, WIDE), 255).save(masks / "1.png")  # another shape
    (masks / "2.png").write_bytes(b"no picture")
    made, kept = run(tmp_path, photos, masks, alpha=False)
    assert kept[0] is not None
    assert kept[0].shape == (HIGH, WIDE)
    assert kept[0][:, : WIDE // 2 - 1].all()
    assert not kept[0][:, WIDE // 2 + 1 :].any()
    # what cannot be used is said by name, and the whole photo counts
    assert kept[1] is kept[2] is kept[3] is None
    assert [f.split(" ")[0] for f in made.findings] == ["1.png:", "2.png:"]
    assert "400 x 400 pixels, its photo (seen upright) 400 x 300" in made.findings[0]
    assert "cannot be read" in made.findings[1]
    assert (made.figures["masked"], made.figures["way"]) == (1, "files")
    assert made.figures["kept_percent"] == pytest.approx(50, abs=0.5)


def test_transparency_and_a_backdrop_colour(tmp_path: Path, photos: Path) -> None:
    made, kept = run(tmp_path, photos, None)
    assert [k is None for k in kept] == [True, True, True, False]
    disc = np.pi * 90**2 / (WIDE * HIGH)
    assert kept[3] is not None
    assert kept[3].mean() == pytest.approx(disc, abs=0.01)
    keyed, kept = run(tmp_path, photos, None, alpha=False, key_colors=[[30, 160, 60]])
    assert keyed.number == made.number + 1
    for k in kept:
        assert k is not None
        assert k.mean() == pytest.approx(disc, abs=0.02)


def test_a_folder_whose_masks_fit_nothing_is_an_error(tmp_path: Path, photos: Path) -> None:
    masks = tmp_path / "masks"
    masks.mkdir()
    Image.new("L", (10, 10), 255).save(masks / "other.png")
    with pytest.raises(PlainError, match="No mask in"):
        run(tmp_path, photos, masks, alpha=False)
    with pytest.raises(PlainError, match="no folder of masks"):
        run(tmp_path, photos, tmp_path / "nowhere", alpha=False)


def test_files_by_other_names_and_with_black_for_what_is_kept(tmp_path: Path, photos: Path) -> None:
    masks = tmp_path / "masks"
    masks.mkdir()
    left = np.zeros((HIGH, WIDE), np.uint8)
    left[:, : WIDE // 2] = 255
    for name in ("0_mask.png", "mask_1.png", "2.png.png"):
        Image.fromarray(left).save(masks / name)
    _, kept = run(tmp_path, photos, masks, alpha=False)
    for k in range(3):
        assert kept[k] is not None
        assert (kept[k] == (left > 0)).all()
    _, kept = run(tmp_path, photos, masks, alpha=False, black_keeps=True)
    assert (kept[1] == (left == 0)).all()


def test_a_network_is_asked_only_where_it_was_given(tmp_path: Path, photos: Path) -> None:
    with pytest.raises(PlainError, match="no network to find"):
        run(tmp_path, photos, None, way="network")
    network = redness(tmp_path / "own.onnx", 512)
    for file in sorted(photos.iterdir())[:3]:
        rgb = np.asarray(Image.open(file)).copy()
        rgb[100:200, 150:250] = (210, 50, 40)
        Image.fromarray(rgb).save(file)
    store = Store(tmp_path / "own")
    where = {"photos": {"folder": str(photos)}, "masks": {"folder": None, "network": str(network)}}
    recipe = recipe_for(Grade.ROUGH, {"masks": {"way": "network"}})
    made = Runner(store, Silent()).run(recipe, where, until="masks").versions["masks"]
    kept = load_mask(mask_file(store.folder(made), 0))
    assert kept is not None
    assert kept[HIGH // 2, WIDE // 2]
    assert not kept[5, 5]
