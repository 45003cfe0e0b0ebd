"""Photos that come to an alignment, and go: nothing is started over, level, scale and box stay."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import numpy as np
import pytest
from tests.conftest import SMALL, RigSet
from typer.testing import CliRunner

from vast_quarry.cli.main import app
from vast_quarry.core.match.pairs import choose_pairs
from vast_quarry.core.pose import fit_similarity
from vast_quarry.pipeline.reuse import BY_PATH, Earlier, feature_key, features_of, made_of
from vast_quarry.pipeline.solution import load_solution
from vast_quarry.pipeline.steps.photos import Photo

SET = ["--grade", "rough", "--set", f"cameras.photo_scale={SMALL['cameras']['photo_scale']}"]


def run(*args: object) -> str:
    done = CliRunner().invoke(app, [str(a) for a in args])
    assert done.exit_code == 0, done.output
    return done.output


def cameras(out: Path) -> dict[str, list[float]]:
    found = json.loads((out / "cameras.json").read_text("utf-8"))["cameras"]
    return {c["photo"]: c["center"] for c in found if c["aligned"]}


@pytest.fixture(scope="module")
def first(milestone_set: RigSet, tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path, Path]:
    """Folders of most photos, of the others, and of the alignment of most."""
    root = tmp_path_factory.mktemp("first")
    for n, file in enumerate(sorted(milestone_set.photos.iterdir())):
        folder = root / ("others" if n in (3, 10, 17) else "most")
        folder.mkdir(exist_ok=True)
        shutil.copy(file, folder)
    run("align", root / "most", "--out", root / "out", *SET, "--set", "cameras.height=600")
    return root / "most", root / "others", root / "out"


def test_photos_are_added_and_what_was_there_stays(
    first: tuple[Path, Path, Path], milestone_set: RigSet, tmp_path: Path
) -> None:
    _, others, before = first
    said = run("align", others, "--out", tmp_path / "all", "--add-to", before)
    assert "Adding photos" in said
    assert "3 of 3 photos that came were added to Cameras 1" in said
    old, new = cameras(before), cameras(tmp_path / "all")
    assert len(old) == 21
    assert len(new) == 24
    # in the same frame: level, scale and origin are not found again
    far = np.array([np.subtract(new[k], old[k]) for k in old])
    spread = np.linalg.norm(np.ptp(np.array(list(old.values())), axis=0))
    assert np.abs(far).max() < 0.003 * spread
    truth = {c["photo"]: c["center"] for c in milestone_set.cameras}
    names = sorted(new)
    a, b = np.array([new[n] for n in names]), np.array([truth[n] for n in names])
    assert np.linalg.norm(fit_similarity(a, b).points(a) - b, axis=1).max() < 0.004 * np.linalg.norm(np.ptp(b, axis=0))
    # only the photos that came were read for features and matched: the others are the same files
    folder = tmp_path / "all" / "versions" / "cameras" / "2"
    solution = load_solution(folder)
    assert solution.states == ["placed"] * 24
    mine, theirs = made_of(folder).keys, set(made_of(before / "versions" / "cameras" / "1").keys.values())
    for number, key in mine.items():
        linked = features_of(folder, number).stat().st_nlink > 1
        assert linked == (key in theirs)
    report = json.loads((tmp_path / "all" / "report.json").read_text("utf-8"))
    assert "rough" in json.dumps(report)  # the height that was typed in holds on


def test_photos_that_are_left_out_do_not_move_the_others(first: tuple[Path, Path, Path], tmp_path: Path) -> None:
    most, _, before = first
    shutil.copytree(most, tmp_path / "photos")
    gone = sorted((tmp_path / "photos").iterdir())[5]
    gone.unlink()
    shutil.copytree(before, tmp_path / "out")
    said = run("align", tmp_path / "photos", "--out", tmp_path / "out", *SET, "--set", "cameras.height=600")
    assert "Adding photos" in said
    assert "Finding features" not in said
    old, new = cameras(before), cameras(tmp_path / "out")
    assert set(old) - set(new) == {gone.name}
    spread = np.linalg.norm(np.ptp(np.array(list(old.values())), axis=0))
    assert max(np.abs(np.subtract(new[k], old[k])).max() for k in new) < 0.003 * spread
    afresh = run(
        "align", tmp_path / "photos", "--out", tmp_path / "out", *SET, "--set", "cameras.go_on=never"
    )  # fmt: skip
    assert "Adding photos" not in afresh


def test_there_must_be_something_to_add_to(tmp_path: Path, first: tuple[Path, Path, Path]) -> None:
    _, others, _ = first
    done = CliRunner().invoke(app, ["align", str(others), "--out", str(tmp_path / "a"), "--add-to", str(tmp_path)])
    assert done.exit_code == 1
    assert "There is no result in" in done.output or "There is no result in" in str(done.exception)


def test_features_are_of_the_photo_its_mask_its_tone_and_the_settings(tmp_path: Path) -> None:
    photo = Photo(number=0, path="a.jpg", sha="abc", width=4, height=3)
    (tmp_path / "m.png").write_bytes(b"one")
    keys = [
        feature_key(photo, None, 1.0),
        feature_key(photo, None, 0.5),
        feature_key(photo, tmp_path / "m.png", 1.0),
        feature_key(photo.model_copy(update={"tone": {"brightness": 1.0}}), None, 1.0),
        feature_key(photo.model_copy(update={"sha": "abd"}), None, 1.0),
    ]
    assert len(set(keys)) == 5
    # another number or name changes nothing
    assert feature_key(photo.model_copy(update={"number": 7, "path": "b.jpg"}), None, 1.0) == keys[0]
    # whose content is not known is known by its place, within its version only
    assert feature_key(photo.model_copy(update={"sha": ""}), None, 1.0).startswith(BY_PATH)
    making = tmp_path / "x.partial"
    making.mkdir()
    assert Earlier(making).matches("a", "b", 0.8) is None
    assert not Earlier(making).take_features("", tmp_path / "f.npz")


def test_only_those_that_choose_get_partners() -> None:
    likeness = np.triu(np.full((9, 9), 30), 1)
    assert choose_pairs(likeness, partners=2, choosing=[4]) == [(0, 4), (1, 4)]
