"""Features and matches are known by all that they were made from: nothing of another attempt is taken for what is asked."""

from __future__ import annotations

from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest
from PIL import Image

from vast_quarry.core.formats.atomic import write_arrays
from vast_quarry.core.pose import Similarity, rotation_angle_deg, rotation_from_vector
from vast_quarry.pipeline.features import PLAIN, Effort, find_features
from vast_quarry.pipeline.going_on import MOVED, laid_over
from vast_quarry.pipeline.matching import match_all
from vast_quarry.pipeline.reuse import Made, all_matches, features_of, keep_only, made_of, number_of, write_made
from vast_quarry.pipeline.steps.photos import Photo

TILTED = Effort(tilts=(0.6,))


class Making:
    """A version in making, its units done one after the other."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.parents = folder / "1.partial", {"masks": folder}
        self.folder.mkdir(exist_ok=True)
        self.settings = SimpleNamespace(
            features=600,
            local_contrast=False,
            photo_scale=1.0,
            largest_side=3200,
            ratio=0.85,
            partners=4,
            kind="object",
        )
        self.done: list[str] = []

    def each(self, text: str, work: Any, jobs: Any, **_: Any) -> list:
        self.done += [text] * len(jobs)
        return [work(*job) for job in jobs]

    def stage(self, *_: Any) -> None: ...


@pytest.fixture
def shots(tmp_path: Path, rng: np.random.Generator) -> tuple[Any, list[Photo]]:
    """Six photos of one plane, shifted against each other."""
    wall = np.asarray(
        Image.fromarray(rng.integers(0, 255, (90, 120, 3), np.uint8)).resize((720, 540), Image.Resampling.BICUBIC)
    )
    photos = []
    for n in range(6):
        Image.fromarray(np.roll(wall, (9 * n, 14 * n), (0, 1))[60:440, 60:580]).save(tmp_path / f"{n}.png")
        photos.append(Photo(number=n, path=f"{n}.png", sha=f"content {n}", width=520, height=380, focal=600.0))
    return SimpleNamespace(file=lambda p: tmp_path / p.path), photos


def test_the_same_count_of_other_partners_is_another_bundle(tmp_path: Path, shots: tuple[Any, list[Photo]]) -> None:
    making: Any = Making(tmp_path)
    listed, photos = shots
    features = find_features(making, listed, photos, False)
    asked = [(0, 1), (0, 2), (0, 3), (0, 5)]
    assert set(match_all(making, photos, features, asked).data.matches) == set(asked)
    asked = [(0, 1), (0, 2), (0, 4), (0, 5)]
    assert set(match_all(making, photos, features, asked).data.matches) == set(asked)
    # and what was asked before is not made again
    before = len(making.done)
    match_all(making, photos, features, asked)
    assert making.done[before:] == ["Matching photos"]  # a bundle that finds its file there
    assert made_of(making.folder).pairs == asked


def test_features_of_another_attempt_in_the_same_folder_are_other_files(
    tmp_path: Path, shots: tuple[Any, list[Photo]]
) -> None:
    making: Any = Making(tmp_path)
    listed, photos = shots
    plain = find_features(making, listed, photos, False, PLAIN)
    first = match_all(making, photos, plain, [(0, 1)])
    tilted = find_features(making, listed, photos, False, TILTED)
    second = match_all(making, photos, tilted, [(0, 1)])
    assert len(second.data.xy[0]) > len(first.data.xy[0])
    for found in (first, second):
        m = found.data.matches[0, 1]
        assert m[:, 0].max() < len(found.data.xy[0])
        assert m[:, 1].max() < len(found.data.xy[1])
        off = found.data.xy[0][m[:, 0]] - found.data.xy[1][m[:, 1]] + np.array([14, 9])
        assert (np.abs(off).max(1) < 1.5).mean() > 0.97
    assert made_of(making.folder).tilts == TILTED.tilts
    # only what the result was made from stays
    keep_only(making.folder, {*tilted.files, *second.files})
    assert sorted((making.folder / "features").iterdir()) == sorted(tilted.files)
    assert features_of(making.folder, 3) == tilted.files[3]
    assert set(all_matches(making.folder)) == {(0, 1)}
    assert not (making.folder / "units").exists()


def test_files_of_earlier_programs_are_found(tmp_path: Path) -> None:
    for part in ("features", "matches"):
        (tmp_path / part).mkdir()
    write_arrays(tmp_path / "features" / "00012.npz", xy=np.zeros((1, 2)))
    assert features_of(tmp_path, 12) == tmp_path / "features" / "00012.npz"
    assert number_of(tmp_path / "matches" / "00012-00013-4.npz") == 12
    write_made(tmp_path, Made({1: "a", 2: "path-b"}, 0.8, [(1, 2)]))
    assert made_of(tmp_path).keys == {1: "a"}
    (tmp_path / "made.json").write_text('{"features": {"1": "a"}, "ratio": 0.8, "pairs": []}')
    assert (made_of(tmp_path).keys, made_of(tmp_path).tilts) == ({1: "a"}, ())
    (tmp_path / "made.json").write_text("[]")
    assert made_of(tmp_path) == Made()


@pytest.mark.parametrize("bend", [0.0, 0.001, 0.3])
def test_cameras_on_a_line_are_laid_over_by_points_too(rng: np.random.Generator, bend: float) -> None:
    """Of cameras on a line (0.1 % of it off, or nothing) the centres do not say how the model is turned about it."""
    n, p = 8, 300
    centers = np.stack([np.linspace(-1, 1, n), bend * np.linspace(-1, 1, n) ** 2, np.zeros(n)], 1)
    rotations = np.stack([rotation_from_vector(rng.normal(0, 0.1, 3)) for _ in range(n)])
    points = np.array([0.0, 0.0, 3.0]) + rng.normal(0, 0.4, (p, 3))
    photo = np.tile(np.arange(n), p)
    xy = rng.uniform(0, 600, (n * p, 2)).astype(np.float32)
    solution: Any = SimpleNamespace(
        centers=centers, rotations=rotations, points=points, start=np.arange(p + 1) * n, photo=photo, xy=xy
    )
    # the model stands otherwise, its photos come two later, and a tenth of its points were made anew elsewhere
    away = Similarity(0.4, rotation_from_vector(np.array([0.5, -0.9, 0.3])), np.array([3.0, 1.0, -2.0]))
    shift = lambda x: np.concatenate([np.zeros((2, *x.shape[1:])), x])  # noqa: E731
    posed = [away.pose(r, c) for r, c in zip(rotations, centers)]
    theirs = away.points(points)
    theirs[::10] += rng.normal(0, 0.3, theirs[::10].shape)
    model: Any = SimpleNamespace(
        placed=np.ones(n + 2, bool), rotations=shift(np.stack([r for r, _ in posed])), points=theirs,
        centers=shift(np.stack([c for _, c in posed]) + rng.normal(0, 2e-4, (n, 3))),
        inlier=np.ones(n * p, bool), good=np.ones(p, bool), track_of=np.repeat(np.arange(p), n), xy=xy.astype(float),
        tracks=SimpleNamespace(photo=photo + 2),
    )  # fmt: skip
    laid = laid_over(solution, model, {k: k + 2 for k in range(n)})
    assert laid is not None
    assert laid.moved < MOVED
    assert rotation_angle_deg(laid.back.rotation @ away.rotation) < 0.1
    # a model that did turn about its line is not taken for the same
    about = Similarity(1.0, rotation_from_vector(np.array([np.radians(5), 0, 0])), np.zeros(3))
    model.centers[2:], model.points = away.points(about.points(centers)), away.points(points)
    model.rotations[2:] = np.stack([away.pose(*about.pose(r, c))[0] for r, c in zip(rotations, centers)])
    laid = laid_over(solution, model, {k: k + 2 for k in range(n)})
    assert laid is not None
    assert laid.moved > MOVED
