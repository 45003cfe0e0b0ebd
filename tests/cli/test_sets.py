"""A subject that was turned over between two sets: each aligned by itself, joined, and all solved afresh."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import numpy as np
import pytest
from tests.cli.test_cli import run
from tests.conftest import RigSet

from vast_quarry.cli import build
from vast_quarry.cli.build import further_set
from vast_quarry.core.pose import fit_similarity
from vast_quarry.core.rig.scenes import finial, tip_over
from vast_quarry.core.rig.shoot import ShootSettings, shoot


@pytest.fixture(scope="module")
def lying(tmp_path_factory: pytest.TempPathFactory) -> RigSet:
    """The finial of ``turning_set`` tipped over, in the same light."""
    folder = tmp_path_factory.mktemp("lying")
    shoot(
        ShootSettings(
            scene="finial", rings=2, per_ring=10, width=400, height=300, heldout=0, seed=8, exif=False,
            backdrop="patterned", on=frozenset({"lamps"}), tipped=100.0,
        ),
        folder,
    )  # fmt: skip
    return RigSet(folder)


def test_both_sides_of_what_was_turned_over_become_one(turning_set: RigSet, lying: RigSet, tmp_path: Path) -> None:
    masks = tmp_path / "masks"
    shutil.copytree(turning_set.masks, masks)
    shutil.copytree(lying.masks, masks / "lying")
    done = run(
        "align", turning_set.photos, "--set", f"lying={lying.photos}", "--masks", masks, "--out", tmp_path / "out",
        "--grade", "rough", "--set", "cameras.photo_scale=1.0",
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    joined = next(line for line in done.stdout.splitlines() if "joined by" in line)
    assert joined.strip().startswith("lying (20 photos)")
    laid, solved = (float(joined.split(text)[1].split(" px")[0]) for text in ("error was ", "and is "))
    assert solved < 0.7 * laid
    cameras = json.loads((tmp_path / "out" / "cameras.json").read_text("utf-8"))["cameras"]
    placed = {c["photo"]: c["center"] for c in cameras if c["aligned"]}
    assert len(placed) >= 38
    truth = {c["photo"]: c["center"] for c in turning_set.cameras}
    truth |= {f"lying/{c['photo']}": c["center"] for c in lying.cameras}
    a, b = (np.array([of[name] for name in sorted(placed)]) for of in (placed, truth))
    # in one frame, to about a per cent of the way to the subject
    far = np.linalg.norm(b - b.mean(0), axis=1).mean()
    assert np.linalg.norm(fit_similarity(a, b).points(a) - b, axis=1).max() < 0.012 * far

    # a third set added to that result: photos of all lie in one folder, and each is still known by its set
    more = tmp_path / "more"
    more.mkdir()
    shutil.copy(turning_set.photos / turning_set.cameras[0]["photo"], more / "again.jpg")
    first, added = build._added_to(tmp_path / "out", more, tmp_path / "next")
    further = build._further_sets([f"top={lying.photos}"], tmp_path / "next" / build.ADDED)
    assert first == turning_set.photos
    assert added["photos"] == further["photos"]
    names = added["cameras"]["sets"] | further["cameras"]["sets"]
    lying_names = {c["photo"] for c in lying.cameras}
    assert names == {f"{s}/{n}": s for s in ("lying", "top") for n in lying_names}
    gathered = {str(p.relative_to(added["photos"]["more"])) for p in Path(added["photos"]["more"]).rglob("*.jpg")}
    assert gathered == set(names) | {"again.jpg"}


def test_what_is_tipped_over_keeps_its_own_coordinates_and_the_room_turns() -> None:
    scene = finial(cell=0.006, fine=False)
    before, size = scene.subject.vertices.copy(), scene.size
    tip_over(scene, 90.0)
    np.testing.assert_array_equal(scene.subject.vertices, before)
    # what was high is deep now, and it stands on the table, whose top is level in the room
    assert scene.size[1] == pytest.approx(size[2], abs=1e-9)
    assert scene.size[2] == pytest.approx(size[1], abs=1e-9)
    assert scene.room.points(scene.subject.vertices)[:, 2].min() == pytest.approx(0, abs=1e-9)
    assert np.ptp(scene.room.points(scene.bodies[1].vertices)[:, 2]) < 1e-9


def test_a_set_is_told_from_a_setting() -> None:
    assert further_set("lying=/there") == ("lying", Path("/there"))
    assert further_set("points.least_views=4") is None
    assert further_set("lying") is None


@pytest.mark.parametrize(("given", "says"), [("a/b=.", "is no name"), ("side=gone", "There is no folder")])
def test_sets_that_cannot_be(turning_set: RigSet, tmp_path: Path, given: str, says: str) -> None:
    done = run("align", turning_set.photos, "--set", given, "--out", tmp_path / "out", "--grade", "rough")
    assert done.returncode == 1
    assert says in done.stderr
