"""Photos that are kept back from the texture, and the pictures that lie over it."""

from __future__ import annotations

import io
from pathlib import Path

import cv2
import numpy as np
import pytest
import trimesh
from PIL import Image
from tests.conftest import Quiet, moved
from tests.pipeline.test_run import places, small

from vast_quarry.core.errors import PlainError
from vast_quarry.core.photo.srgb import linear
from vast_quarry.core.raycast import RayScene
from vast_quarry.core.surface.mesh import components
from vast_quarry.core.surface.poisson import median_spacing
from vast_quarry.core.texture.charts import stretch
from vast_quarry.pipeline import atlas_files
from vast_quarry.pipeline.atlas_files import DEEP_TEXTURE, SOURCE_MAP, TEXTURE
from vast_quarry.pipeline.atlas_maps import STRETCH_TONES, atlas_map, photo_tone
from vast_quarry.pipeline.export import write_results
from vast_quarry.pipeline.run import Runner
from vast_quarry.pipeline.solution import load_solution
from vast_quarry.pipeline.steps.points import load_cloud
from vast_quarry.pipeline.steps.surface import load_mesh
from vast_quarry.pipeline.steps.texture import HELD, SIZES
from vast_quarry.pipeline.store import Store


def test_photos_kept_back_give_no_colour_and_are_held_against_the_model(built_data: Path, tmp_path: Path) -> None:
    out = moved(built_data, tmp_path) / "projects" / "1"
    store, recipe = Store(out), small()
    recipe.layers["texture"] = {**recipe.layers.get("texture", {}), "kept_back": 3}
    version = Runner(store, Quiet()).run(recipe, places(out / "photos")).versions["texture"]  # type: ignore[arg-type]
    held = version.figures["held_out"]
    folder = store.folder(version)
    assert [h["row"] for h in held] == [4, 12, 20]  # evenly over 24
    assert all(h["photo"].endswith(".jpg") and h["psnr_db"] > 22 and 0.6 < h["ssim"] <= 1 for h in held)
    assert all(h["compared_percent"] > 5 for h in held)
    with Image.open(folder / SOURCE_MAP) as picture:
        source = np.asarray(picture)
    said = set(np.unique(source).tolist()) - {0}
    assert said
    assert not said & {h["row"] + 1 for h in held}
    for h in held:
        shown = {name: folder / HELD / f"{h['row']:05d}-{name}.jpg" for name in ("photo", "model", "off")}
        sizes = {Image.open(f).size for f in shown.values()}
        assert len(sizes) == 1
    assert version.figures["seam_visibility"] < 1.3
    assert version.figures["contradicted_percent"] < 5  # nobody walked through

    recipe.layers["texture"]["kept_back"] = 13
    with pytest.raises(PlainError, match="13 photos cannot be kept back of 24"):
        Runner(store, Quiet()).run(recipe, places(out / "photos"))  # type: ignore[arg-type]
    assert store.versions("texture")[-1].number == version.number

    over = Image.open(io.BytesIO(atlas_map(folder, "source") or b""))
    tones = {tuple(c[:3]) for _, c in over.getcolors(1 << 20) or [] if c[3]}
    assert tones == {photo_tone(k - 1) for k in said}
    bent = np.asarray(Image.open(io.BytesIO(atlas_map(folder, "stretch") or b"")))
    assert (
        (bent[..., 3] > 0) == (source[:: source.shape[0] // len(bent)][:, :: source.shape[0] // len(bent)] > 0)
    ).mean() > 0.9


def test_a_texture_of_sixteen_bits_is_the_same_finer_and_comes_with_obj(built_data: Path, tmp_path: Path) -> None:
    out = moved(built_data, tmp_path) / "projects" / "1"
    store, recipe = Store(out), small()
    before = cv2.imread(str(store.folder(store.versions("texture")[-1]) / TEXTURE)).astype(int)
    recipe.layers["texture"] = {**recipe.layers.get("texture", {}), "bits": "16"}
    recipe.layers["finish"] = {"edits": [{"kind": "main-body"}]}
    result = Runner(store, Quiet()).run(recipe, places(out / "photos"), "finish")  # type: ignore[arg-type]
    folder = store.folder(result.versions["texture"])
    deep = cv2.imread(str(folder / DEEP_TEXTURE), cv2.IMREAD_UNCHANGED)
    eight = cv2.imread(str(folder / TEXTURE)).astype(int)
    assert deep.dtype == np.uint16
    assert len(np.unique(deep[..., 1])) > 1000
    assert np.abs(eight - before).mean() < 1
    assert np.abs(deep / 257 - eight).mean() < 1.5  # JPEG's loss
    # what no edit changed goes on to the next layer, and out
    assert (store.folder(result.versions["finish"]) / DEEP_TEXTURE).read_bytes() == (folder / DEEP_TEXTURE).read_bytes()
    (tmp_path / "handed").mkdir()
    write_results(store, result, recipe, tmp_path / "handed", levels=1)
    assert (tmp_path / "handed" / "model.png").read_bytes() == (folder / DEEP_TEXTURE).read_bytes()
    assert "map_Kd model.png" in (tmp_path / "handed" / "model.mtl").read_text()
    assert (tmp_path / "handed" / "model-level1.jpg").exists()
    assert b"image/jpeg" in (tmp_path / "handed" / "model.glb").read_bytes()


def test_a_texture_larger_than_memory_allows_says_which_would_fit(
    built_data: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    out = moved(built_data, tmp_path) / "projects" / "1"
    store, recipe = Store(out), small()
    made = store.versions("texture")[-1]
    recipe.layers["texture"] = {**recipe.layers.get("texture", {}), "texels_per_pixel": 1.3}
    monkeypatch.setattr(atlas_files, "free_memory", lambda: 0.5e6)
    with pytest.raises(PlainError, match="512 pixels a side takes 0 GB") as told:
        Runner(store, Quiet()).run(recipe, places(out / "photos"))  # type: ignore[arg-type]
    assert "Take 256" in str(told.value.remedy)
    assert store.versions("texture")[-1].number == made.number
    with pytest.raises(PlainError, match="more than a picture file holds") as told:
        atlas_files.check_room(131_072, 4, False, SIZES)
    monkeypatch.setattr(atlas_files, "free_memory", lambda: 1e12)
    atlas_files.check_room(16_384, 1, True, SIZES)


def test_light_is_taken_out_and_stays_out_after_an_edit_in_several_pictures(built_data: Path, tmp_path: Path) -> None:
    """The rig's sky is brighter overhead: what faces up is as bright as what faces aside once the light is taken out. And an edited
    model is coloured anew as its texture was: four pictures."""
    out = moved(built_data, tmp_path) / "projects" / "1"
    store, recipe = Store(out), small()

    def up_against_aside(folder: Path) -> float:
        with np.load(folder / "model.npz") as m:
            n, colors = m["mesh_normals"][:, 2], linear(np.ascontiguousarray(m["mesh_colors"])).mean(1)
        return float(np.median(colors[n > 0.8]) / np.median(colors[np.abs(n) < 0.3]))

    before = up_against_aside(store.folder(store.versions("texture")[-1]))
    recipe.layers["texture"] = {**recipe.layers.get("texture", {}), "unlit": 1.0, "tiles": 2, "largest": 128}
    recipe.layers["finish"] = {"edits": [{"kind": "decimate", "faces": 3000}]}
    result = Runner(store, Quiet()).run(recipe, places(out / "photos"), "finish")  # type: ignore[arg-type]
    made = result.versions
    assert before > 1.25
    assert up_against_aside(store.folder(made["texture"])) == pytest.approx(1, abs=0.12)
    assert up_against_aside(store.folder(made["finish"])) == pytest.approx(1, abs=0.15)
    told = " ".join(str(f) for f in made["texture"].findings)
    assert "no sun was found" in told
    assert made["texture"].figures["atlas"] == made["finish"].figures["atlas"] == 256
    (tmp_path / "handed").mkdir()
    write_results(store, result, recipe, tmp_path / "handed")
    scene = trimesh.load(tmp_path / "handed" / "model.glb")
    assert sum(len(g.faces) for g in scene.geometry.values()) == made["surface"].figures["triangles"]
    assert {g.visual.material.baseColorTexture.size for g in scene.geometry.values()} == {(128, 128)}
    assert len(list((tmp_path / "handed").glob("model.10??.jpg"))) == len(scene.geometry) > 1


def test_stretch_is_how_a_face_was_drawn_out() -> None:
    """A right triangle drawn three times as long one way, turned, and one that only grew."""
    vertices = np.array([[0.0, 0, 0], [1, 0, 0], [0, 1, 0]])
    faces = np.array([[0, 1, 2], [3, 4, 5]])
    turn = np.array([[0.6, -0.8], [0.8, 0.6]])
    uv = np.concatenate([np.array([[0.0, 0], [3, 0], [0, 1]]) @ turn.T, 7 * np.array([[0.0, 0], [1, 0], [0, 1]])])
    np.testing.assert_allclose(stretch(np.concatenate([vertices, vertices]), uv, faces), [3, 1], rtol=1e-6)
    flat = stretch(np.concatenate([vertices, vertices]), np.zeros((6, 2)), faces)
    assert np.isfinite(flat).all()
    assert len(STRETCH_TONES) == 4


def test_a_surface_out_of_the_depth_maps_is_where_the_skin_is(built_data: Path, tmp_path: Path) -> None:
    out = moved(built_data, tmp_path) / "projects" / "1"
    store, recipe = Store(out), small()
    whole = store.versions("surface")[-1]
    recipe.layers["surface"] = {**recipe.layers.get("surface", {}), "way": "thin"}
    version = Runner(store, Quiet()).run(recipe, places(out / "photos"), until="surface").versions["surface"]  # type: ignore[arg-type]
    v, f = load_mesh(store.folder(version))
    cloud = load_cloud(store.folder(store.versions("points")[-1]))
    assert (components(f) == 0).all()
    assert (
        np.unique(np.sort(np.stack([f, np.roll(f, -1, 1)], -1).reshape(-1, 2), 1), axis=0, return_counts=True)[1].max()
        == 2
    )
    scene = RayScene()
    scene.add(*load_mesh(store.folder(whole)))
    assert np.median(scene.distance(v)) < 0.5 * median_spacing(cloud.points)
    assert not list(store.folder(version).glob("tiles*"))


def test_a_first_look_needs_no_depth_and_says_so(built_data: Path, tmp_path: Path) -> None:
    out = moved(built_data, tmp_path) / "projects" / "1"
    store, recipe = Store(out), small()
    recipe.layers["points"] = {**recipe.layers.get("points", {}), "made_from": "sparse"}
    made = Runner(store, Quiet()).run(recipe, places(out / "photos"), until="surface").versions  # type: ignore[arg-type]
    assert made["points"].figures["depth_maps"] == 0
    assert "first look" in str(made["points"].findings[0])
    assert not (store.folder(made["points"]) / "depth").exists()
    v, f = load_mesh(store.folder(made["surface"]))
    assert len(f) > 100
    scene = RayScene()
    scene.add(*load_mesh(store.folder(store.versions("surface")[0])))
    box = load_solution(store.folder(made["points"])).box
    assert np.median(scene.distance(v)) < 0.02 * box.size.max()
    # where thin parts are wanted, depth is
    recipe.layers["surface"] = {**recipe.layers.get("surface", {}), "way": "thin"}
    with pytest.raises(PlainError, match="say nothing of a surface"):
        Runner(store, Quiet()).run(recipe, places(out / "photos"), until="surface")  # type: ignore[arg-type]
