"""Masks by way of the pipeline: suggested on a turntable, from the model, mended by hand, and what later layers make of them."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image
from tests.conftest import SMALL, RigSet, moved
from tests.pipeline.test_run import Silent

from vast_quarry.core.errors import PlainError
from vast_quarry.core.mask.files import read_mask
from vast_quarry.core.mask.measures import overlap, rim_error
from vast_quarry.core.rig.shoot import ShootSettings, shoot
from vast_quarry.pipeline.grades import Grade
from vast_quarry.pipeline.recipe import recipe_for
from vast_quarry.pipeline.run import Runner
from vast_quarry.pipeline.steps.masks import MasksSettings, load_mask, mask_file
from vast_quarry.pipeline.steps.photos import read_photo_list
from vast_quarry.pipeline.store import Store, Version
from vast_quarry.pipeline.units.surroundings import surroundings_agree


class Run:
    """Layers run in one store."""

    def __init__(self, root: Path, photos: Path) -> None:
        self.store, self.photos = Store(root), photos

    def __call__(self, until: str = "masks", masks: dict[str, Any] | None = None, **places: Any) -> Version:
        where = {
            "photos": {"folder": str(self.photos)},
            "masks": {"folder": None, "model": str(self.store.root.parent), **places},
        }
        changes = {**SMALL, "masks": masks or {}}
        return Runner(self.store, Silent()).run(recipe_for(Grade.ROUGH, changes), where, until).versions[until]

    def masks(self, version: Version) -> dict[str, np.ndarray | None]:
        number = version.parents["photos"]
        listed = read_photo_list(self.store.root / "photos" / str(number))
        folder = self.store.folder(version)
        return {p.path: load_mask(mask_file(folder, p.number)) for p in listed.usable}


def scores(masks: dict[str, np.ndarray | None], truth: Path) -> tuple[np.ndarray, np.ndarray]:
    """Overlap with the true masks, and how far rims lie apart."""
    rows = []
    for path, mask in masks.items():
        assert mask is not None, path
        true = read_mask(truth / f"{Path(path).stem}.png", mask.shape[1], mask.shape[0])
        rows.append((overlap(mask, true), rim_error(mask, true)))
    return np.array(rows).T[0], np.array(rows).T[1]


def test_a_turntable_is_masked_by_itself_and_aligned_with_that(turning_set: RigSet, tmp_path: Path) -> None:
    run = Run(tmp_path, turning_set.photos)
    with pytest.raises(PlainError, match="stands still while the subject moves"):
        run("cameras")
    made = run(masks={"way": "suggest"})
    assert made.figures["way"] == "still"
    assert made.figures["masked"] == 20
    assert any("camera stood still" in f for f in made.findings)
    share, rims = scores(run.masks(made), turning_set.masks)
    # a rim of half a pixel is 2 % of so small a subject
    assert np.median(share) > 0.95
    assert share.min() > 0.92
    assert np.median(rims) < 1.0
    cameras = run("cameras", masks={"way": "suggest"})
    assert cameras.figures["placed"] + cameras.figures["weak"] == 20
    truth = {c["photo"]: np.array(c["center"]) for c in turning_set.cameras}
    told = json.loads((run.store.folder(cameras) / "cameras.json").read_text())["cameras"]
    far = np.linalg.norm([truth[c["photo"]] - truth[told[0]["photo"]] for c in told], axis=1)
    mine = np.linalg.norm([np.subtract(c["center"], told[0]["center"]) for c in told], axis=1)
    assert np.corrcoef(far, mine)[0, 1] > 0.999


def test_masks_from_the_model_leave_the_alignment_that_they_came_from_in_force(
    built_data: Path, milestone_set: RigSet, tmp_path: Path
) -> None:
    root = moved(built_data, tmp_path / "data") / "projects" / "1"
    run = Run(root, root / "photos")
    before = run.store.in_use()
    made = run(masks={"way": "model"})
    assert made.figures["made_from"]["cameras"] == before["cameras"]
    share, _ = scores(run.masks(made), milestone_set.masks)
    assert np.median(share) > 0.95
    stale = run.store.out_of_date()
    assert "cameras" not in stale
    assert "surface" not in stale
    assert "texture" in stale
    # runs of later layers take them as they are, until something about them is changed
    runner = Runner(run.store, Silent())
    assert runner._projected_still(made, MasksSettings(way="model"))
    assert not runner._projected_still(made, MasksSettings(way="model", margin_px=2.0))
    # points alone, with the ground taken away
    used = json.loads((run.store.root / "in-use.json").read_text())
    used.pop("surface")
    (run.store.root / "in-use.json").write_text(json.dumps(used))
    share, _ = scores(run.masks(run(masks={"way": "model", "margin_px": 1.0})), milestone_set.masks)
    assert np.median(share) > 0.9


def test_what_is_mended_by_hand_is_made_over_what_was_found_which_is_not_sought_again(
    turning_set: RigSet, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    run = Run(tmp_path / "run", turning_set.photos)
    first = run(masks={"way": "suggest"})
    name = "finial_003.jpg"
    corner = [[0.0, 0.0], [0.2, 0.0], [0.2, 0.2], [0.0, 0.2]]
    edits = tmp_path / "edits.json"
    edits.write_text(
        json.dumps({"steps": [{"paths": [name], "edit": {"kind": "outline", "points": corner, "add": True}}]})
    )
    monkeypatch.setattr("vast_quarry.pipeline.masking.stands_of", lambda *_: pytest.fail("it was sought again"))
    second = run(masks={"way": "suggest"}, edits=str(edits))
    assert second.number != first.number
    assert second.figures["edited"] == 1
    assert second.figures["way"] == "still"
    before, after = run.masks(first), run.masks(second)
    changed = before[name] != after[name]
    assert changed[:55, :75].all()
    assert not changed[70:, :].any()
    assert not changed[:, 90:].any()
    assert all((before[k] == after[k]).all() for k in before if k != name)
    edits.write_text(json.dumps({"steps": [{"paths": [name], "edit": {"kind": "melt"}}]}))
    with pytest.raises(PlainError, match="mended by hand"):
        run(masks={"way": "suggest"}, edits=str(edits))


def test_carried_over_from_some_masks_to_the_rest(milestone_set: RigSet, tmp_path: Path) -> None:
    few = tmp_path / "few"
    few.mkdir()
    for k in (2, 5, 8, 11):
        name = f"milestone_{k:03d}.png"
        (few / name).write_bytes((milestone_set.masks / name).read_bytes())
    photos = tmp_path / "photos"
    photos.mkdir()
    for k in range(1, 13):
        name = f"milestone_{k:03d}.jpg"
        (photos / name).write_bytes((milestone_set.photos / name).read_bytes())
    run = Run(tmp_path / "run", photos)
    made = run(masks={"way": "carry"}, folder=str(few))
    masks = {k: v for k, v in run.masks(made).items() if v is not None}
    assert len(masks) > 8
    share, _ = scores(masks, milestone_set.masks)
    assert np.median(share) > 0.93
    with pytest.raises(PlainError, match="No photo has a mask yet"):
        run(masks={"way": "carry"})


def test_surroundings_that_move_along_help_and_others_do_not(turning_set: RigSet, tmp_path: Path) -> None:
    shoot(
        ShootSettings(scene="milestone", width=480, height=360, heldout=0, seed=4, capture="arc:3"), tmp_path / "walk"
    )
    for files, low, high in ((RigSet(tmp_path / "walk"), 0.8, 1.0), (turning_set, 0.0, 0.2)):
        one, other = sorted(files.photos.iterdir())[:2]
        masks = [str(files.masks / f"{p.stem}.png") for p in (one, other)]
        share = surroundings_agree(str(one), masks[0], str(other), masks[1])
        assert share is not None
        assert low <= share <= high
    turn = Run(tmp_path / "turn", turning_set.photos)("cameras", folder=str(turning_set.masks))
    assert turn.figures["placed"] + turn.figures["weak"] == 20
    assert not any("moves with the subject and helps" in f for f in turn.findings)


def test_ways_that_cannot_work_say_so(milestone_set: RigSet, tmp_path: Path) -> None:
    run = Run(tmp_path / "run", milestone_set.photos)
    with pytest.raises(PlainError, match="camera did not stand still"):
        run(masks={"way": "still"})
    early = run(masks={"way": "model"})
    assert early.figures["masked"] == 0
    assert any("no alignment yet" in f for f in early.findings)
    made = run(masks={"way": "suggest"})
    assert made.figures["masked"] == 0
    assert any("masks can be made from the model afterwards" in f for f in made.findings)
    # one photo among others that stand before a plain backdrop
    photos = tmp_path / "plain"
    photos.mkdir()
    rng = np.random.default_rng(3)
    for k in range(5):
        rgb = np.full((240, 320, 3), (60, 110, 190), np.uint8)
        rgb[60:180, 90 + 9 * k : 220 + 9 * k] = rng.integers(60, 200, (120, 130, 3), dtype=np.uint8)
        if k == 2:
            rgb[:] = rng.integers(0, 255, rgb.shape, dtype=np.uint8)
        Image.fromarray(rgb).save(photos / f"{k}.png")
    made = Run(tmp_path / "plain-run", photos)(masks={"way": "colour"})
    assert made.figures["masked"] == 4
    assert any("1 photo (2.png)" in f and "no plain backdrop" in f for f in made.findings)
