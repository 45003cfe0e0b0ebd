"""Folders as people bring them: the true reason is told, and what can be aligned is aligned."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import av
import numpy as np
from PIL import Image, ImageOps
from tests.cli.test_cli import run
from tests.conftest import RigSet

from vast_quarry.core.plan.rings import Station, fitting_distance
from vast_quarry.core.pose import look_at
from vast_quarry.core.rig.shoot import Set, ShootSettings


def test_shuffled_photos_a_flipped_one_and_a_second_subject(
    milestone_set: RigSet, finial_set: RigSet, tmp_path: Path
) -> None:
    """Names in no order; one photo flipped; another subject among them: each is told apart, and poses are true."""
    photos = tmp_path / "photos"
    photos.mkdir()
    ring = sorted(milestone_set.photos.iterdir())[12:]
    order = np.random.default_rng(5).permutation(len(ring))
    name_of = {p.name: f"{chr(97 + int(k))}.jpg" for p, k in zip(ring, order)}
    for p in ring:
        shutil.copy(p, photos / name_of[p.name])
    flipped = sorted(milestone_set.photos.iterdir())[1]
    ImageOps.mirror(Image.open(flipped)).save(photos / "m.jpg", quality=97)
    other = sorted(finial_set.photos.iterdir())[:5]
    for p in other:
        shutil.copy(p, photos / f"other {p.name}")

    done = run("align", photos, "--out", tmp_path / "out", "--grade", "rough", "--set", "cameras.photo_scale=1")
    assert done.returncode == 0, done.stderr
    document = json.loads((tmp_path / "out" / "cameras.json").read_text("utf-8"))
    placed = {c["photo"]: np.array(c["center"]) for c in document["cameras"] if c["aligned"]}
    assert set(placed) == set(name_of.values())
    assert "m.jpg could not be placed" in done.stdout
    assert "flipped like in a mirror" in done.stdout
    # the other subject is kept as a group of its own
    assert "see only each other (5 of 18): they are kept as group 2" in done.stdout
    second = json.loads((tmp_path / "out" / "group-2.json").read_text("utf-8"))
    assert {c["photo"] for c in second["cameras"] if c["aligned"]} == {f"other {p.name}" for p in other}
    assert {c["state"] for c in document["cameras"] if c["photo"].startswith("other")} == {"apart"}
    # distances between the photos in true order, as the rig knows them: no order of names was leant on
    truth = {c["photo"]: np.array(c["center"]) for c in milestone_set.cameras}
    names = [p.name for p in ring]
    a = np.array([placed[name_of[n]] for n in names])
    b = np.array([truth[n] for n in names])
    da, db = (np.linalg.norm(x[:, None] - x[None], axis=-1) for x in (a, b))
    np.testing.assert_allclose(da / da.max(), db / db.max(), atol=0.01)


def test_the_same_frame_again_and_again_is_refused_with_the_reason(milestone_set: RigSet, tmp_path: Path) -> None:
    photos = tmp_path / "photos"
    photos.mkdir()
    picture = Image.open(sorted(milestone_set.photos.iterdir())[3])
    for n in range(5):
        picture.save(photos / f"{n}.jpg", quality=97)  # bytes alike: taken once
    done = run("align", photos, "--out", tmp_path / "a", "--grade", "rough")
    assert done.returncode == 1
    assert "photo" in done.stderr
    for n in range(5):
        picture.save(photos / f"{n}.jpg", quality=80 + 3 * n)  # one view kept five times at different quality
    done = run("align", photos, "--out", tmp_path / "b", "--grade", "rough")
    assert done.returncode == 1
    assert len(done.stderr.strip().splitlines()) == 1
    assert "one and the same" in done.stderr or "Only one photo" in done.stderr


def test_photos_through_haze_get_another_try_with_contrast_lifted(milestone_set: RigSet, tmp_path: Path) -> None:
    """Contrast pressed to a fifth: no two photos matched, and the user was told to take others."""
    rng = np.random.default_rng(0)
    (tmp_path / "photos").mkdir()
    for file in sorted(milestone_set.photos.iterdir()):
        with Image.open(file) as image:
            exif, rgb = image.getexif(), np.asarray(image).astype(float)
        hazy = 190 + (rgb - 128) / 5 + rng.normal(0, 0.4, rgb.shape)
        Image.fromarray(hazy.round().astype(np.uint8)).save(tmp_path / "photos" / file.name, quality=92, exif=exif)
    done = run("align", tmp_path / "photos", "--out", tmp_path / "out", "--grade", "rough")
    assert done.returncode == 0, done.stderr
    assert "contrast was lifted" in done.stdout
    placed = int(done.stdout.splitlines()[-1].split(" of 24 photos placed")[0])
    assert placed >= 22, done.stdout


def clip(file: Path, turns: list[float]) -> None:
    """Film the milestone from the given angles in degrees, 25 frames a second."""
    settings = ShootSettings(scene="milestone", width=320, height=240, heldout=0, seed=3)
    studio = Set(settings)
    target = np.array([0.0, 0.0, studio.scene.size[2] * 0.47])
    distance = fitting_distance(studio.scene.size, studio.camera, settings.fill)
    with av.open(str(file), "w") as container:
        stream = container.add_stream("mpeg4", rate=25)
        stream.width, stream.height, stream.pix_fmt, stream.bit_rate = 320, 240, "yuv420p", 1_500_000
        for k, turn in enumerate(np.radians(turns)):
            center = target + distance * np.array([0.9 * np.sin(turn), -0.9 * np.cos(turn), 0.43])
            photo, _ = studio.expose(studio.shot(Station(look_at(center, target), center, 0), k), k)
            container.mux(stream.encode(av.VideoFrame.from_ndarray(photo, format="rgb24")))
        container.mux(stream.encode())


def test_a_clip_of_one_second(tmp_path: Path) -> None:
    """A second in which the camera goes 50 degrees round gives enough frames, and all are placed."""
    folder = tmp_path / "clips"
    folder.mkdir()
    clip(folder / "clip.mp4", list(np.linspace(0, 50, 25)))
    done = run("align", folder, "--out", tmp_path / "out", "--grade", "rough")
    assert done.returncode == 0, done.stderr
    cameras = json.loads((tmp_path / "out" / "cameras.json").read_text("utf-8"))["cameras"]
    assert sum(c["aligned"] for c in cameras) == len(cameras) >= 4
    # two degrees a frame: steps of at most twelve or so
    numbers = [int(c["photo"][-10:-4]) for c in cameras]
    assert max(np.diff(numbers)) <= 6


def test_a_clip_of_a_still_subject_says_so(tmp_path: Path) -> None:
    folder = tmp_path / "clips"
    folder.mkdir()
    clip(folder / "clip.mp4", [20.0] * 25)
    done = run("align", folder, "--out", tmp_path / "out", "--grade", "rough")
    assert done.returncode == 1
    assert len(done.stderr.strip().splitlines()) == 1
    assert "Nothing moves in clip.mp4" in done.stderr
