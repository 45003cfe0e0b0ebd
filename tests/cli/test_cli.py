"""The command line, above all on bad input: a plain sentence, the others go on, nothing already there is harmed."""

from __future__ import annotations

import io
import json
import os
import shutil
import subprocess
import sys
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.conftest import RigSet
from typer.testing import CliRunner

from vast_quarry.cli.main import app, main
from vast_quarry.core.errors import PlainError
from vast_quarry.pipeline.steps.texture import TextureStep


def run_apart(*arguments: str | Path) -> subprocess.CompletedProcess[str]:
    """The command as a process of its own."""
    command = [sys.executable, "-m", "vast_quarry.cli.main", *map(str, arguments)]
    return subprocess.run(command, capture_output=True, text=True, encoding="utf-8", timeout=300)


def run(*arguments: str | Path) -> subprocess.CompletedProcess[str]:
    """The command as it is called, but in this process: starting one takes seconds."""
    words, out, errors, code = list(map(str, arguments)), io.StringIO(), io.StringIO(), 0
    with pytest.MonkeyPatch.context() as patch, redirect_stdout(out), redirect_stderr(errors):
        patch.setattr(sys, "argv", ["vast-quarry", *words])
        try:
            main()
        except SystemExit as end:
            code = int(end.code or 0)
    return subprocess.CompletedProcess(words, code, out.getvalue(), errors.getvalue())


def noise(path: Path, seed: int, size: int = 200) -> None:
    a = np.random.default_rng(seed).integers(0, 255, (size, size, 3), np.uint8)
    Image.fromarray(a).save(path)


def test_help_and_version() -> None:
    assert "align" in run_apart("--help").stdout
    assert run("--version").stdout.startswith("vast-quarry ")


@pytest.mark.parametrize(
    ("make", "says"),
    [
        (lambda d: None, "no photos"),
        (lambda d: noise(d / "one.png", 1), "Only one photo"),
        (lambda d: (d / "a.jpg").write_text("x"), "None of the photos"),
        (lambda d: [noise(d / f"{n}.png", n) for n in range(4)], "No two photos"),
        (lambda d: [Image.new("RGB", (300, 300), (n, 9, 9)).save(d / f"{n}.png") for n in range(3)], "No two photos"),
    ],
)
def test_hopeless_photos_end_in_one_sentence(tmp_path: Path, make, says: str) -> None:  # type: ignore[no-untyped-def]
    photos = tmp_path / "photos"
    photos.mkdir()
    make(photos)
    done = run_apart("build", photos, "--out", tmp_path / "out")
    assert done.returncode == 1
    assert says in done.stderr
    assert "Traceback" not in done.stderr + done.stdout
    assert len(done.stderr.strip().splitlines()) == 1
    assert not (tmp_path / "out" / "model.glb").exists()


def test_paths_that_do_not_fit(tmp_path: Path) -> None:
    photos = tmp_path / "photos"
    photos.mkdir()
    noise(photos / "a.png", 1)
    assert "no folder" in run("build", tmp_path / "none", "--out", tmp_path / "o").stderr
    assert "is a file" in run("build", photos / "a.png", "--out", tmp_path / "o").stderr
    assert "is a file" in run("build", photos, "--out", photos / "a.png").stderr
    assert "one another" in run("build", photos, "--out", photos / "out").stderr
    assert "cannot be written" in run("build", photos, "--out", "/proc/nowhere").stderr
    other = tmp_path / "other"
    other.mkdir()
    (other / "letter.txt").write_text("dear")
    done = run("build", photos, "--out", other)
    assert done.returncode == 1
    assert "left alone" in done.stderr
    assert [p.name for p in other.iterdir()] == ["letter.txt"]
    assert "not a recipe" in run("build", photos, "--out", tmp_path / "o2", "--recipe", photos / "a.png").stderr
    two = tmp_path / "two"
    two.mkdir()
    noise(two / "a.png", 1)
    noise(two / "b.png", 2)
    assert "no folder of masks" in run("align", two, "--out", tmp_path / "o3", "--masks", tmp_path / "m").stderr


def test_mixed_bag_is_aligned_and_the_bad_are_named(milestone_set: RigSet, tmp_path: Path) -> None:
    """Good photos among bad files, odd names and odd kinds of pictures."""
    photos = tmp_path / "my photos"
    (photos / "δοκιμή").mkdir(parents=True)
    good = sorted(milestone_set.photos.iterdir())[12:]
    for n, p in enumerate(good):
        shutil.copy(p, photos / p.name)
        if n == 2:
            os.rename(photos / p.name, photos / "δοκιμή" / "写真 1.jpg")
        if n == 3:
            os.rename(photos / p.name, photos / "bell\x07name.jpg")
    gray = np.asarray(Image.open(good[4]).convert("L"))
    (photos / good[4].name).unlink()
    Image.fromarray(gray).save(photos / "gray.png")
    deep = np.asarray(Image.open(good[5]).convert("L")).astype(np.uint16) * 257
    (photos / good[5].name).unlink()
    Image.fromarray(deep).save(photos / "deep16.png")
    # an upright photo stored on its side
    side = Image.open(good[6]).transpose(Image.Transpose.ROTATE_90)
    exif = Image.open(good[6]).getexif()
    exif[0x0112] = 6
    side.save(photos / good[6].name, exif=exif, quality=95)
    (photos / "text.jpg").write_text("hello")
    (photos / "cut.jpg").write_bytes(good[7].read_bytes()[:9000])
    Image.new("RGB", (1, 1)).save(photos / "dot.png")
    Image.new("1", (20_000, 15_000)).save(photos / "huge.png")
    shutil.copy(good[8], photos / "again.jpg")
    before = {p: p.read_bytes() for p in photos.rglob("*") if p.is_file()}
    done = run("align", photos, "--out", tmp_path / "out")
    assert done.returncode == 0, done.stderr
    assert "Traceback" not in done.stderr + done.stdout
    assert "\x07" not in done.stdout
    document = json.loads((tmp_path / "out" / "cameras.json").read_text("utf-8"))
    state = {c["photo"]: c["state"] for c in document["cameras"]}
    assert len(state) == len(before)
    for bad in ("text.jpg", "cut.jpg", "dot.png", "huge.png"):
        assert state[bad] == "left out"
        assert bad in done.stdout
    assert [state["again.jpg"], state[good[8].name]].count("left out") == 1
    aligned = [c for c in document["cameras"] if c["aligned"]]
    assert len(aligned) == 12
    turned = next(c for c in aligned if c["photo"] == good[6].name)
    assert (turned["width"], turned["height"]) == (480, 360)
    assert all(p.read_bytes() == b for p, b in before.items())


def test_rig_shoots_the_same_twice_and_says_what_is_wrong(tmp_path: Path) -> None:
    for name in ("a", "b"):
        done = run("rig", "shoot", "--plan", "ring:1x2", "--size", "96x72", "--seed", "3", "--out", tmp_path / name)
        assert done.returncode == 0, done.stderr
    first = sorted((tmp_path / "a" / "photos").iterdir())
    assert len(first) == 2
    for p in first:
        assert p.read_bytes() == (tmp_path / "b" / "photos" / p.name).read_bytes()
    for wrong in (
        ["--plan", "cube"],
        ["--size", "big"],
        ["--scene", "castle"],
        ["--off", "gravity"],
        ["--size", "9x9"],
    ):
        done = run("rig", "shoot", *wrong, "--out", tmp_path / "c")
        assert done.returncode == 1
        assert len(done.stderr.strip().splitlines()) == 1
    assert "left alone" in run("rig", "shoot", "--plan", "ring:1x2", "--size", "96x72", "--out", tmp_path / "a").stderr


def test_what_was_made_before_a_layer_failed_is_written(
    ring_set: RigSet, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Texture breaks down: cameras, clouds and mesh are there all the same, and the reason is told in the report too."""

    def breaks(self: TextureStep, context: object) -> dict[str, object]:
        raise RuntimeError("made up")

    monkeypatch.setattr(TextureStep, "run", breaks)
    out = tmp_path / "out"
    done = CliRunner().invoke(app, ["build", str(ring_set.photos), "--out", str(out), "--grade", "rough"])
    assert isinstance(done.exception, PlainError)
    assert "Texture could not be made" in str(done.exception)
    assert str(out) in str(done.exception)
    for name in ("cameras.json", "sparse.ply", "dense.ply", "mesh.ply", "recipe.json"):
        assert (out / name).stat().st_size > 100, name
    assert not (out / "model.glb").exists()
    report = json.loads((out / "report.json").read_text())
    assert report["failed"]["layer"] == "texture"
    assert "made up" in report["failed"]["why"]
    assert [s["layer"] for s in report["steps"]] == ["photos", "masks", "cameras", "points", "surface"]
    # and a run that works again goes on from there
    monkeypatch.undo()
    done = CliRunner().invoke(
        app, ["build", str(ring_set.photos), "--out", str(out), "--grade", "rough", "--levels", "1"]
    )
    assert done.exit_code == 0, done.exception
    assert (out / "model.glb").stat().st_size > 1.5 * (out / "model-level1.glb").stat().st_size > 0
    assert (out / "model-level1.obj").exists()
    assert "failed" not in json.loads((out / "report.json").read_text())
