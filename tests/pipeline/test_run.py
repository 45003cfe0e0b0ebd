"""The pipeline on a small rig set: figures against truth, resume after a kill, replay, versions."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.conftest import SMALL, RigSet, camera_of, moved
from threadpoolctl import threadpool_info, threadpool_limits

from vast_quarry.core.camera import project
from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.ply import read_ply
from vast_quarry.core.pose import Similarity, fit_similarity
from vast_quarry.core.progress import Cancelled
from vast_quarry.core.raycast import RayScene
from vast_quarry.core.surface.mesh import components, sample_surface
from vast_quarry.pipeline.export import write_results
from vast_quarry.pipeline.grades import Grade
from vast_quarry.pipeline.recipe import Recipe, read_recipe, recipe_for
from vast_quarry.pipeline.run import Runner, RunResult
from vast_quarry.pipeline.steps.cameras import CamerasSettings
from vast_quarry.pipeline.steps.photos import PhotosStep, read_photo_list
from vast_quarry.pipeline.steps.points import load_cloud
from vast_quarry.pipeline.store import Store, version_key


class Silent:
    """A reporter that keeps what it is told, and can cancel."""

    def __init__(self) -> None:
        self.stages: list[tuple[str, str, float, float]] = []
        self.reused: list[str] = []
        self.runner: Runner | None = None
        self.cancel_at = ""

    def begin(self, layer: str, title: str, number: int = 1, of: int = 1) -> None: ...

    def stage(self, layer: str, text: str, done: float, total: float, left: float | None = None) -> None:
        self.stages.append((layer, text, done, total))
        if self.cancel_at and text == self.cancel_at and self.runner:
            self.runner.cancelled.set()

    def end(self, layer: str, seconds: float, reused: bool) -> None:
        if reused:
            self.reused.append(layer)

    def say(self, text: str) -> None: ...


def places(photos: Path, masks: Path | None = None) -> dict:
    return {"photos": {"folder": str(photos)}, "masks": {"folder": str(masks) if masks else None}}


def small(grade: Grade = Grade.ROUGH) -> Recipe:
    return recipe_for(grade, SMALL)


@pytest.fixture(scope="session")
def built(built_data: Path, tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, RunResult]:
    """The results of the milestone, with all files written out."""
    out = moved(built_data, tmp_path_factory.mktemp("results")) / "projects" / "1"
    store, recipe, reporter = Store(out), small(), Silent()
    result = Runner(store, reporter).run(recipe, places(out / "photos"))
    assert reporter.reused == list(result.versions), "a data folder that was moved is made anew"
    write_results(store, result, recipe, out)
    return out, result


def to_truth(out: Path, rig: RigSet) -> tuple[Similarity, list[dict], dict[str, dict]]:
    """Similarity from the result's frame to the truth's, by camera centres."""
    cams = [c for c in json.loads((out / "cameras.json").read_text())["cameras"] if c["aligned"]]
    true = {c["photo"]: c for c in rig.cameras}
    a = np.array([c["center"] for c in cams])
    b = np.array([true[c["photo"]]["center"] for c in cams])
    return fit_similarity(a, b), cams, true


def test_every_photo_placed_and_precise(built: tuple[Path, RunResult], milestone_set: RigSet) -> None:
    """Reprojection discrepancy of true points under 0.4 px (median over photos), centres within 0.5 % of the distance."""
    out, _ = built
    s, cams, true = to_truth(out, milestone_set)
    assert len(cams) == 24
    mesh = milestone_set.mesh
    points = sample_surface(mesh.points, mesh.faces, 400)
    off = []
    for c in cams:
        t = true[c["photo"]]
        r, center = s.pose(np.array(c["rotation"]), np.array(c["center"]))
        ours, _ = project(camera_of(c), r, center, points)
        theirs, _ = project(camera_of(t), np.array(t["rotation"]), np.array(t["center"]), points)
        off.append(np.sqrt(((ours - theirs) ** 2).sum(1).mean()))
        assert np.linalg.norm(center - t["center"]) < 0.005 * np.linalg.norm(t["center"])
    assert np.median(off) < 0.4
    # upright, and on the ground at the origin
    up = s.rotation[2, 2]
    assert np.degrees(np.arccos(min(up, 1))) < 2
    foot = s.inverse().points(np.zeros((1, 3)))[0] * s.scale
    assert abs(foot[2]) < 0.02 * milestone_set.info["object_size"]


def test_mesh_is_one_body_near_the_truth(built: tuple[Path, RunResult], milestone_set: RigSet) -> None:
    out, _ = built
    s, _, _ = to_truth(out, milestone_set)
    ours, info = read_ply(out / "mesh.ply"), milestone_set.info
    assert ours.faces is not None
    assert components(ours.faces).max() == 0
    assert ours.points[:, 2].min() > -1e-6  # cut at the ground
    scene = RayScene()
    scene.add(milestone_set.mesh.points, milestone_set.mesh.faces)
    p = s.points(sample_surface(ours.points, ours.faces, 5000))
    p = p[p[:, 2] > info["z_cut"]]
    error = scene.distance(p) / info["gsd"]
    assert np.median(error) < 0.9
    assert (error < 4).mean() > 0.9
    back = RayScene()
    back.add(s.points(ours.points), ours.faces)
    seen = np.load(milestone_set.folder / "truth" / "visibility.npz")["count"] >= 3
    v = milestone_set.mesh.points[seen & (milestone_set.mesh.points[:, 2] > info["z_cut"])]
    assert (back.distance(v) / info["gsd"] < 8).mean() > 0.96


def test_expected_errors_of_points_are_what_their_errors_are(
    built: tuple[Path, RunResult], milestone_set: RigSet
) -> None:
    """Half of the errors lie within 0.674 of a normal distribution's standard deviation: between 0.5 and 0.9 is asked for."""
    out, result = built
    s, _, _ = to_truth(out, milestone_set)
    cloud = load_cloud(out / "versions" / "points" / str(result.versions["points"].number))
    scene = RayScene()
    scene.add(milestone_set.mesh.points, milestone_set.mesh.faces)
    points = s.points(cloud.points)
    body = points[:, 2] > milestone_set.info["z_cut"]
    error = scene.distance(points[body]) / (cloud.sigma[body] * s.scale)
    assert 0.5 < np.median(error) < 0.9
    # and says which points are the better ones
    sure = cloud.sigma[body] < np.median(cloud.sigma[body])
    off = scene.distance(points[body])
    assert np.median(off[sure]) < 0.85 * np.median(off[~sure])


def test_result_folder_is_complete(built: tuple[Path, RunResult]) -> None:
    out, result = built
    for name in (
        "cameras.json",
        "sparse.ply",
        "dense.ply",
        "mesh.ply",
        "model.glb",
        "model.obj",
        "model.mtl",
        "model.jpg",
        "seen.png",
        "report.json",
        "recipe.json",
    ):
        assert (out / name).stat().st_size > 0, name
    report = json.loads((out / "report.json").read_text())
    with Image.open(out / "seen.png") as picture:
        shade = np.asarray(picture)
    figures = result.versions["texture"].figures
    assert shade.shape == (figures["atlas"],) * 2
    told = 100 * (shade == 128).sum() / (shade > 0).sum()
    assert told == pytest.approx(figures["unseen_percent"], abs=0.006)
    assert (shade == 255).mean() > 0.4
    assert [s["layer"] for s in report["steps"]] == ["photos", "masks", "cameras", "points", "surface", "texture"]
    assert report["peak_memory_mb"] > 50
    with np.load(out / "versions" / "cameras" / "1" / "live.npz") as live:  # what watchers saw while it grew
        assert 2 <= live["placed"].sum() <= 24
        assert live["points"].shape[1] == 3
    dense = read_ply(out / "dense.ply")
    assert dense.normals is not None
    assert dense.colors is not None
    assert result.versions["points"].parents == {"photos": 1, "masks": 1, "cameras": 1}


def test_linear_algebra_runs_on_one_thread(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    """On several, sums come out in another order: figures would depend on the machine and on what else runs."""
    seen: list[int] = []

    def run(step: object, context: object) -> dict:
        seen.extend(t["num_threads"] for t in threadpool_info() if t["user_api"] == "blas")
        raise PlainError("That is all.")

    monkeypatch.setattr(PhotosStep, "run", run)
    with threadpool_limits(2, user_api="blas"), pytest.raises(PlainError, match="That is all"):
        Runner(Store(tmp_path), Silent()).run(recipe_for(Grade.ROUGH), places(tmp_path), until="photos")
    assert seen
    assert set(seen) == {1}


def test_a_result_goes_by_what_the_photos_are_and_not_by_where_they_lie(
    built: tuple[Path, RunResult], tmp_path: Path
) -> None:
    out, first = built
    elsewhere, reporter = tmp_path / "photos", Silent()
    shutil.copytree(out / "photos", elsewhere)
    result = Runner(Store(out), reporter).run(small(), places(elsewhere))
    assert reporter.reused == ["photos", "masks", "cameras", "points", "surface", "texture"]
    assert result.versions["texture"].number == 1
    listed = read_photo_list(Store(out).folder(first.versions["photos"]))
    assert {listed.file(p) for p in listed.photos} == set((out / "photos").resolve().iterdir())
    # a copy made at another time holds the same; one photo that holds something else makes another result
    changed = min(elsewhere.iterdir())
    os.utime(changed, (1e9, 1e9))
    same = Runner(Store(out), Silent()).run(small(), places(elsewhere), until="photos")
    assert same.versions["photos"].number == 1
    changed.write_bytes(changed.read_bytes() + b"more")
    again = Runner(Store(out), Silent()).run(small(), places(elsewhere), until="photos")
    assert again.versions["photos"].number == 2
    Store(out).use(first.versions["photos"])


def test_a_changed_setting_makes_a_new_version_and_says_what_is_out_of_date(
    built: tuple[Path, RunResult],
) -> None:
    out, _ = built
    store = Store(out)
    recipe = small()
    recipe.layers["surface"] = {"faces": 5000, "closed": True}
    result = Runner(store, Silent()).run(recipe, places(out / "photos"), until="surface")
    assert result.versions["surface"].number == 2
    assert result.versions["surface"].figures["triangles"] < 6000  # the foot comes on top
    assert result.versions["surface"].figures["open_edges"] == 0
    assert store.out_of_date() == ["texture"]
    store.use(store.versions("surface")[0])
    assert store.out_of_date() == []


def test_cancel_stops_and_the_next_run_goes_on(ring_set: RigSet, tmp_path: Path) -> None:
    reporter = Silent()
    runner = Runner(Store(tmp_path), reporter)
    reporter.runner, reporter.cancel_at = runner, "Matching photos"
    with pytest.raises(Cancelled):
        runner.run(small(), places(ring_set.photos), until="cameras")
    features = list(tmp_path.glob("versions/cameras/*.partial/features/*.npz"))
    assert len(features) == 16
    stamps = {f.name: f.stat().st_mtime_ns for f in features}
    result = Runner(Store(tmp_path), Silent()).run(small(), places(ring_set.photos), until="cameras")
    after = {f.name: f.stat().st_mtime_ns for f in tmp_path.glob("versions/cameras/1/features/*.npz")}
    assert after == stamps
    assert result.versions["cameras"].figures["placed"] == 16


def test_a_killed_replay_goes_on_from_its_last_unit_to_the_same_figures(
    built: tuple[Path, RunResult], milestone_set: RigSet, tmp_path: Path
) -> None:
    results, first = built
    out, recipe = tmp_path / "out", results / "recipe.json"
    command = [sys.executable, "-m", "vast_quarry.cli.main", "build", str(milestone_set.photos), "--out", str(out), "--recipe", str(recipe)]  # fmt: skip
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True)
    deadline = time.monotonic() + 120
    while len(list(out.glob("versions/cameras/*.partial/features/*.npz"))) < 3 and time.monotonic() < deadline:
        time.sleep(0.05)
    os.killpg(process.pid, signal.SIGKILL)
    process.wait()
    before = {f.name: f.stat().st_mtime_ns for f in out.glob("versions/cameras/*.partial/features/*.npz")}
    assert len(before) >= 3
    assert not (out / "cameras.json").exists()
    again = Runner(Store(out), Silent()).run(read_recipe(recipe), places(milestone_set.photos), until="points")
    after = {f.name: f.stat().st_mtime_ns for f in out.glob("versions/cameras/1/features/*.npz")}
    assert len(after) == 24
    assert all(after[k] == v for k, v in before.items())
    assert "points" in again.versions
    for layer in again.versions:
        assert again.versions[layer].figures == first.versions[layer].figures, layer


def test_turntable_with_masks_and_without_exif(finial_set: RigSet, tmp_path: Path) -> None:
    """A still backdrop misleads; with masks, and a focal length that nobody told, every photo is placed.

    But the one whose mask keeps nothing: nothing of it counts, and that is said.
    """
    masks = moved(finial_set.masks, tmp_path / "masks")
    black = sorted(masks.iterdir())[7]
    Image.new("L", (480, 360)).save(black)
    result = Runner(Store(tmp_path / "runs"), Silent()).run(small(), places(finial_set.photos, masks), until="cameras")
    figures = result.versions["cameras"].figures
    assert figures["placed"] + figures["weak"] == 31
    assert (
        f"{black.stem}.jpg: The mask keeps nothing, so nothing of this photo counts."
        in result.versions["masks"].findings
    )
    assert any(black.stem in f and "could not be placed" in f for f in result.versions["cameras"].findings)
    true = camera_of(finial_set.cameras[0])
    assert figures["lenses"][0]["focal_px"] == pytest.approx(true.fx, rel=0.03)
    assert figures["upright_by"] in ("camera laps", "level photos")


def test_results_stay_in_force_when_the_program_learns_a_setting() -> None:
    """A setting that came later counts only once it is touched."""
    assert CamerasSettings().untouched == {"center", "subject"}
    assert CamerasSettings(center=(0.0, 0.0, 1.0)).untouched == {"subject"}


def test_keys_tell_results_apart() -> None:
    base = version_key("points", {"a": 1}, {"cameras": "k"})
    assert base == version_key("points", {"a": 1}, {"cameras": "k"})
    assert (
        len(
            {base, version_key("points", {"a": 2}, {"cameras": "k"}), version_key("points", {"a": 1}, {"cameras": "m"})}
        )
        == 3
    )


def test_recipes_that_do_not_fit(tmp_path: Path) -> None:
    (tmp_path / "a.json").write_text("{]")
    with pytest.raises(PlainError, match="not a recipe"):
        read_recipe(tmp_path / "a.json")
    (tmp_path / "b.json").write_text('{"layers": {"magic": {}}}')
    with pytest.raises(PlainError, match="magic"):
        read_recipe(tmp_path / "b.json")
    recipe = recipe_for(Grade.ROUGH, {"surface": {"faces": -3}})
    with pytest.raises(PlainError, match="faces of surface"):
        Runner(Store(tmp_path / "s"), Silent()).run(recipe, places(tmp_path))
    assert not list((tmp_path / "s").glob("versions/*/*"))


def test_damaged_version_is_passed_over(tmp_path: Path) -> None:
    store = Store(tmp_path)
    store.prepare()
    (store.root / "points" / "1").mkdir(parents=True)
    (store.root / "points" / "1" / "version.json").write_text("{half")
    assert store.versions("points") == []
    store.partial("points", "k")
    made = store.finish("points", "k", {}, {}, {"x": 1}, [], 0.1)
    assert made.number == 2
    assert store.in_use() == {"points": 2}
