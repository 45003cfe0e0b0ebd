"""``mask`` and ``--masks suggest`` as they are typed."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.conftest import RigSet
from typer.testing import CliRunner

from vast_quarry.cli.main import app
from vast_quarry.core.errors import PlainError
from vast_quarry.core.mask.files import read_mask
from vast_quarry.core.mask.measures import overlap


def call(*words: object) -> str:
    done = CliRunner().invoke(app, [str(w) for w in words])
    if done.exception and not isinstance(done.exception, SystemExit):
        raise done.exception
    return done.stdout


def test_suggested_masks_and_what_is_told_of_them(turning_set: RigSet, tmp_path: Path) -> None:
    out = tmp_path / "masks"
    assert "20 of 20 photos have a mask (by still)" in call("mask", turning_set.photos, "--out", out)
    told = json.loads((out / "masks.json").read_text())
    assert told["way"] == "still"
    assert "stood still" in told["why"]
    assert len(told["photos"]) == 20
    assert all(0.05 < row["area"] < 0.5 and row["confidence"] > 0.8 for row in told["photos"])
    for row in told["photos"]:
        stem = Path(row["photo"]).stem
        with Image.open(out / f"{stem}.png") as image:
            assert (image.mode, image.size) == ("L", (400, 300))
        mask, true = (read_mask(f / f"{stem}.png", 400, 300) for f in (out, turning_set.masks))
        assert overlap(mask, true) > 0.92
    assert sorted(p.name for p in out.iterdir() if p.suffix != ".png") == ["masks.json", "vast-quarry.json"]
    # and once more into the same folder, with the subject left out where its masks lie
    assert "(by files)" in call(
        "mask", turning_set.photos, "--out", tmp_path / "again", "--way", "files", "--masks", out
    )


def test_outlines_and_colours(tmp_path: Path) -> None:
    photos = tmp_path / "photos"
    photos.mkdir()
    for k in range(2):
        rgb = np.full((240, 320, 3), (42, 111, 176), np.uint8)
        rgb[60:180, 100 + 20 * k : 220 + 20 * k] = (190, 80, 40)
        Image.fromarray(rgb).save(photos / f"{k}.png")
    call("mask", photos, "--out", tmp_path / "colour", "--way", "colour", "--colour", "#2a6fb0")
    mask = read_mask(tmp_path / "colour" / "1.png", 320, 240)
    assert mask.sum() == pytest.approx(120 * 120, rel=0.02)
    outline = tmp_path / "outline.json"
    outline.write_text(json.dumps({"0.png": [[80, 40], [240, 40], [240, 200], [80, 200]]}))
    assert "1 of 2" in call("mask", photos, "--out", tmp_path / "outline", "--way", "outline", "--outline", outline)
    assert read_mask(tmp_path / "outline" / "0.png", 320, 240).sum() == pytest.approx(120 * 120, rel=0.03)
    with pytest.raises(PlainError, match="is no colour"):
        call("mask", photos, "--out", tmp_path / "x", "--colour", "blue")
    outline.write_text(json.dumps({"7.png": [[0, 0], [1, 0], [1, 1]]}))
    with pytest.raises(PlainError, match="no such photo"):
        call("mask", photos, "--out", tmp_path / "x", "--way", "outline", "--outline", outline)
    (tmp_path / "empty").mkdir()
    with pytest.raises(PlainError, match="with --from"):
        call("mask", photos, "--out", tmp_path / "x", "--way", "model", "--from", tmp_path / "empty")


def test_align_with_suggested_masks(turning_set: RigSet, tmp_path: Path) -> None:
    told = call("align", turning_set.photos, "--out", tmp_path / "out", "--masks", "suggest", "--grade", "rough")
    assert "20 of 20 photos placed" in told
    recipe = json.loads((tmp_path / "out" / "recipe.json").read_text())
    assert recipe["layers"]["masks"]["way"] == "suggest"
    assert not {"model", "edits", "folder"} & set(recipe["layers"]["masks"])
