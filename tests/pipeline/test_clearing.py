"""Points cleared away: exact when a version is made of it, and left out of a finer cloud too."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from pydantic import ValidationError
from tests.conftest import SMALL, Quiet, moved

from vast_quarry.core.dense.fusion import Cloud
from vast_quarry.core.errors import PlainError
from vast_quarry.pipeline.clearing import ClearEdit, as_records, chosen_by, gone_by
from vast_quarry.pipeline.grades import Grade
from vast_quarry.pipeline.recipe import recipe_for
from vast_quarry.pipeline.run import Runner, RunResult
from vast_quarry.pipeline.steps.points import load_cloud
from vast_quarry.pipeline.store import Store

FLAT = np.eye(4).ravel().tolist()
LEFT = {"kind": "outline", "outline": [[-9, -9], [0, -9], [0, 9], [-9, 9]], "matrix": FLAT}


def edit(*terms: dict, keep: bool = False) -> ClearEdit:
    return ClearEdit.model_validate({"terms": list(terms), "keep": keep})


def some_cloud(count: int = 500) -> Cloud:
    rng = np.random.default_rng(5)
    return Cloud(
        rng.uniform(-1, 1, (count, 3)), np.zeros((count, 3), np.float32), rng.integers(0, 256, (count, 3), np.uint8),
        rng.integers(2, 8, count).astype(np.int32), np.full(count, 0.01, np.float32),
        np.where(np.arange(count) % 2, 0.004, np.nan).astype(np.float32),
    )  # fmt: skip


def test_terms_join_as_they_say() -> None:
    cloud = some_cloud()
    left, few = cloud.points[:, 0] < 0, cloud.views <= 3
    views = {"kind": "views", "most": 3}
    terms = lambda *t: edit(*t).terms  # noqa: E731
    assert (chosen_by(terms(LEFT, views), cloud) == (left | few)).all()
    assert (chosen_by(terms(LEFT, {**views, "how": "take"}), cloud) == (left & ~few)).all()
    assert (chosen_by(terms(LEFT, {**views, "how": "both"}), cloud) == (left & few)).all()
    assert (chosen_by(terms(LEFT, {"kind": "turn-round"}), cloud) == ~left).all()
    # nothing stated is no bad precision
    assert (chosen_by(terms({"kind": "precision", "over": 0.3}), cloud) == (np.arange(500) % 2 == 1)).all()
    assert not chosen_by(terms({"kind": "precision", "over": 0.5}), cloud).any()
    assert (gone_by([edit(LEFT), edit(views, keep=True)], cloud) == (left | ~few)).all()


@pytest.mark.parametrize(
    "term",
    [
        {"kind": "outline", "outline": [[0, 0], [1, 1]], "matrix": FLAT},
        {"kind": "outline", "outline": [[0, 0], [1, 1], [float("nan"), 0]], "matrix": FLAT},
        {"kind": "outline", "outline": [[0, 0], [1, 1], [1, 0]], "matrix": FLAT[:9]},
        {"kind": "brush", "path": [[0, 0]], "radius": 0, "aspect": 1, "matrix": FLAT},
        {"kind": "color", "rgb": [300, 0, 0], "within": 4},
        {"kind": "plane", "point": [0, 0, 0], "normal": [0, 0, 0], "within": 1},
        {"kind": "cells", "low": [0, 0, 0], "side": 0, "cells": ""},
        {"kind": "magic"},
    ],
)
def test_terms_that_cannot_be_are_refused(term: dict) -> None:
    with pytest.raises(ValidationError):
        edit(term)


def test_a_version_without_some_points_takes_no_step_again(built_data: Path, tmp_path: Path) -> None:
    root = moved(built_data, tmp_path) / "projects" / "1"
    store = Store(root)

    def run(**points: object) -> RunResult:
        recipe = recipe_for(Grade.ROUGH, {**SMALL, "points": {**SMALL["points"], **points}})
        return Runner(store, Quiet()).run(recipe, {"photos": {"folder": str(root / "photos")}}, until="points")

    whole = load_cloud(store.folder(run().versions["points"]))
    middle = float(np.median(whole.points[:, 2]))
    above = {"kind": "plane", "point": [0, 0, middle], "normal": [0, 0, 1], "within": 0, "side": "above"}
    rings = [edit(above, {"kind": "views", "most": 3, "how": "both"})]
    cleared = run(cleared=as_records(rings)).versions["points"]
    assert cleared.seconds < 0.2 * store.versions("points")[0].seconds, "depth maps were made again"
    cloud = load_cloud(store.folder(cleared))
    gone = (whole.points[:, 2] > middle) & (whole.views <= 3)
    assert np.array_equal(cloud.points, whole.points[~gone])
    assert cleared.figures["cleared"] == gone.sum() > 0
    assert (store.folder(cleared) / "depth").is_dir()
    # cleared further, and brought back: from the whole cloud each time
    more = run(cleared=as_records([*rings, edit({"kind": "views", "most": 2})])).versions["points"]
    assert np.array_equal(load_cloud(store.folder(more)).points, whole.points[~gone & (whole.views > 2)])
    assert run().versions["points"].number == 1
    # another cloud of the same photos leaves the same region out
    coarse = run(photo_scale=0.5, cleared=as_records(rings)).versions["points"]
    left = load_cloud(store.folder(coarse))
    assert len(left.points) > 1000
    assert not ((left.points[:, 2] > middle) & (left.views <= 3)).any()
    assert coarse.figures["cleared"] > 0
    with pytest.raises(PlainError, match="Nothing would be left"):
        run(cleared=as_records([edit({"kind": "views", "most": 100})]))
