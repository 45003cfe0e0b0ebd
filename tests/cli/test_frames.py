"""Frames from a film of the rig, whose every frame is known."""

from __future__ import annotations

import itertools
import json
import sys
from dataclasses import replace
from pathlib import Path
from typing import Any

import av
import numpy as np
import pytest
from PIL import Image
from typer.testing import CliRunner

from vast_quarry.cli.build import _sources
from vast_quarry.cli.frames import parse_ranges, parse_time
from vast_quarry.cli.main import app
from vast_quarry.core.errors import PlainError
from vast_quarry.core.photo.frames import (
    SIDE,
    Scan,
    by_count,
    by_rate,
    by_step,
    laps,
    scan,
    steady_stretches,
    still_edges,
)
from vast_quarry.core.photo.skim import look_over
from vast_quarry.core.photo.travel import by_motion
from vast_quarry.core.photo.video import each_frame, probe, take_frames
from vast_quarry.core.rig.film import film as shoot_film
from vast_quarry.core.rig.shoot import ShootSettings
from vast_quarry.pipeline.grades import Grade
from vast_quarry.pipeline.recipe import recipe_for
from vast_quarry.pipeline.run import Runner
from vast_quarry.pipeline.steps.photos import inspect_photo, read_photo_list
from vast_quarry.pipeline.store import Store


@pytest.fixture(scope="module")
def film(tmp_path_factory: pytest.TempPathFactory) -> Path:
    out = tmp_path_factory.mktemp("film") / "two.mp4"
    call = ["rig", "film", "--out", str(out), "--size", "240x180", "--per-lap", "60", "--laps", "2", "--bars", "12"]
    done = CliRunner().invoke(app, call)
    assert done.exit_code == 0, done.exception
    return out


@pytest.fixture(scope="module")
def looked(film: Path) -> Scan:
    return scan(each_frame(film, 1, SIDE))


def truth(film: Path) -> list[dict[str, Any]]:
    return list(json.loads(film.with_suffix(".json").read_text())["frames"])


def test_what_a_film_holds(film: Path) -> None:
    info = probe(film)
    assert (info.width, info.height, info.turn) == (240, 180, 0)
    assert info.rate == pytest.approx(25.0)
    assert info.frames == len(truth(film))


def test_each_lap_is_cut_at_exactly_one_turn_and_what_lies_between_is_dropped(film: Path, looked: Scan) -> None:
    found = laps(looked)
    of = [f["lap"] for f in truth(film)]
    assert len(found) == 2
    for k, (a, b) in enumerate(found):
        assert b - a + 1 == pytest.approx(60, abs=1)
        inside = [of[r] for r in range(a + 3, b - 2)]
        assert set(inside) == {k}
    assert len(steady_stretches(looked)) == 2


def test_edges_that_stand_still_are_found(film: Path, looked: Scan) -> None:
    left, top, right, bottom = still_edges(looked, 240, 180)
    assert (left, right) == (0, 0)
    assert top == pytest.approx(12, abs=2)
    assert bottom == pytest.approx(12, abs=2)


def test_frames_by_motion_are_evenly_spread_and_never_taken_twice_where_nothing_moves(film: Path, looked: Scan) -> None:
    chosen = by_motion(looked, 24.0)
    assert chosen == sorted(set(chosen))
    first = [n for n in chosen if truth(film)[n]["lap"] == 0]
    steps = np.diff(first)
    # 6 degrees a frame: steps of at most 24 degrees, and no needlessly small ones
    assert steps.max() <= 4
    assert np.median(steps) >= 3
    between = [n for n in chosen if truth(film)[n]["lap"] == -1][:99]
    pause = [n for n, f in enumerate(truth(film)) if f["lap"] == -1][:8]
    assert sum(n in pause for n in between) <= 1
    assert len(by_motion(looked, 12.0)) > 1.4 * len(chosen)


def made_up(sharp: np.ndarray, move: float = 0.05) -> Scan:
    n = len(sharp)
    steps = np.zeros((n, 2))
    steps[1:, 0] = move
    blank = np.zeros((n, 16), np.float32)
    return Scan(np.arange(n), np.arange(n) / 30, steps, np.zeros(n), sharp, blank, np.zeros((1, 1), np.float32))


def test_the_sharpest_of_a_window_is_taken_and_blurred_ones_are_passed_over() -> None:
    sharp = np.full(60, 100.0)
    sharp[[7, 8, 9, 23]] = 20.0  # shaken
    sharp[30::4] = 140.0
    chosen = by_motion(made_up(sharp), 30.0)
    assert not {7, 8, 9, 23} & set(chosen)
    assert all(n % 4 == 2 for n in chosen if n > 32)
    # 2 x 0.05 of the width a frame are 6.6 degrees as they are counted: about every third or fourth
    assert 13 <= len(chosen) <= 20


def test_shake_is_no_travel_and_no_frame_is_taken_from_it(tmp_path: Path) -> None:
    """A walk round a milestone with a shaken stretch: steps of at most 12 degrees elsewhere, none from the stretch."""
    file = tmp_path / "walk.mp4"
    settings = ShootSettings(scene="milestone", width=240, height=180, heldout=0, seed=3)
    assert shoot_film(settings, file, 1, 90, shaken=(38, 48)) == 99
    true = truth(file)
    s = look_over(file, probe(file), lambda seen: None)
    chosen = by_motion(s)
    shaken = [f["frame"] for f in true if f["shaken"]]
    assert not set(chosen) & set(shaken)
    turn = np.degrees(np.unwrap([np.arctan2(f["center"][1], f["center"][0]) for f in true]))
    steps = np.abs(np.diff(turn[chosen]))
    across = np.array([a < shaken[0] and b > shaken[-1] for a, b in itertools.pairwise(chosen)])
    assert across.sum() <= 1
    # a frame is four degrees here, and the moments before and after shaking are left out too
    assert np.quantile(steps[~across], 0.9) <= 12.0
    assert 28 <= len(chosen) <= 60
    # neither a film of a still subject nor a moment of one gives more than a frame or two
    still = s.part(np.zeros(40, int))
    assert (
        len(
            by_motion(
                replace(
                    still, number=np.arange(40), time=np.arange(40) / 25, move=np.zeros((40, 2)), turned=np.zeros(40)
                )
            )
        )
        == 1
    )


def test_step_rate_and_count() -> None:
    s = made_up(np.full(61, 50.0))
    assert by_step(s, 20) == [0, 20, 40, 60]
    assert len(by_rate(s, 5.0)) == pytest.approx(11, abs=1)
    assert by_count(s, 4) == [0, 20, 40, 60]
    assert by_count(s, 500) == list(range(61))


def test_frames_know_their_source_and_a_crop_moves_the_principal_point(film: Path, tmp_path: Path) -> None:
    call = [
        "frames",
        str(film),
        "--out",
        str(tmp_path / "f"),
        "--by",
        "step",
        "--step",
        "5",
        "--keep",
        "0:00.4-0:01",
        "--crop",
        "0,16,10,0",
    ]
    done = CliRunner().invoke(app, call)
    assert done.exit_code == 0, done.exception
    rows = json.loads((tmp_path / "f" / "frames.json").read_text())["frames"]
    assert [r["frame"] for r in rows] == [10, 15, 20, 25]
    assert [r["time"] for r in rows] == pytest.approx([0.4, 0.6, 0.8, 1.0], abs=1e-6)
    photo = inspect_photo(0, str(tmp_path / "f"), rows[1]["photo"], str(tmp_path / "unit.json"))
    assert (photo["frame"], photo["width"], photo["height"]) == (15, 230, 164)
    # the middle of the whole picture, counted from the corner of what is left
    assert tuple(photo["center"]) == (119.5, 89.5 - 16)
    whole = next(take_frames(film, [15]))[2]
    got = np.asarray(Image.open(tmp_path / "f" / rows[1]["photo"]), float)
    assert np.abs(got - whole[16:, :-10]).mean() < 3.0


def test_a_turned_film_stands_upright_and_times_may_vary(tmp_path: Path) -> None:
    file = tmp_path / "odd.mp4"
    container = av.open(str(file), "w")
    stream: Any = container.add_stream("mpeg4", rate=25)
    stream.width, stream.height, stream.pix_fmt = 128, 96, "yuv420p"
    times = [0, 1, 2, 7, 8, 20]
    for t in times:
        frame = av.VideoFrame.from_ndarray(np.full((96, 128, 3), 10 * t, np.uint8), format="rgb24")
        frame.pts = t
        container.mux(stream.encode(frame))
    container.mux(stream.encode())
    container.close()
    got = list(each_frame(file, 1, 64))
    assert [round(25 * f.time) for f in got] == times
    assert [f.number for f in got] == list(range(6))


@pytest.mark.parametrize(
    ("name", "body", "says"),
    [("empty.mp4", b"", "no video"), ("text.mov", b"not a film at all", "no video"), ("gone.mp4", None, "no file")],
)
def test_what_is_no_video_is_told(tmp_path: Path, name: str, body: bytes | None, says: str) -> None:
    if body is not None:
        (tmp_path / name).write_bytes(body)
    with pytest.raises(PlainError, match=says):
        probe(tmp_path / name)


def test_sound_alone_and_a_film_that_breaks_off(tmp_path: Path, film: Path) -> None:
    sound = tmp_path / "sound.mp4"
    container = av.open(str(sound), "w")
    stream: Any = container.add_stream("aac", rate=44100)
    for k in range(4):
        frame = av.AudioFrame.from_ndarray(np.zeros((1, 1024), np.float32), format="fltp", layout="mono")
        frame.sample_rate, frame.pts = 44100, 1024 * k
        container.mux(stream.encode(frame))
    container.mux(stream.encode())
    container.close()
    with pytest.raises(PlainError, match="only sound"):
        probe(sound)
    data = film.read_bytes()
    (tmp_path / "cut.mp4").write_bytes(data[: len(data) // 2])
    with pytest.raises(PlainError):
        probe(tmp_path / "cut.mp4")


def test_ranges_and_crops_are_read_or_refused(film: Path, tmp_path: Path) -> None:
    assert parse_time("1:02.5") == 62.5
    assert parse_ranges("0:02-0:14,20-31.5") == ((2.0, 14.0), (20.0, 31.5))
    for wrong in (
        ["--keep", "5-2"],
        ["--keep", "x-y"],
        ["--crop", "1,2"],
        ["--crop", "300,0,100,0"],
        ["--by", "magic"],
        ["--keep", "90-99"],
    ):
        done = CliRunner().invoke(app, ["frames", str(film), "--out", str(tmp_path / "no"), *wrong])
        assert isinstance(done.exception, PlainError), wrong


def test_a_folder_may_hold_photos_and_video(film: Path, tmp_path: Path) -> None:
    """Both are taken together; a video that is broken is told, and the rest goes on."""
    folder, out = tmp_path / "mixed", tmp_path / "out"
    (folder / "day").mkdir(parents=True)
    out.mkdir()
    (folder / "day" / "walk.mp4").write_bytes(film.read_bytes())
    (folder / "broken.mov").write_bytes(b"no film")
    rgb = next(take_frames(film, [40]))[2]
    Image.fromarray(rgb).save(folder / "photo.jpg")
    settings = _sources(folder, out)
    assert settings["folder"] == str(folder)
    taken = sorted((out / "frames" / "day-walk").glob("*.jpg"))
    assert len(taken) > 20
    store = Store(out)
    recipe = recipe_for(Grade.ROUGH, {})
    result = Runner(store, Quiet()).run(recipe, {"photos": settings, "masks": {"folder": None}}, "photos")
    listed = read_photo_list(store.folder(result.versions["photos"]))
    assert listed.photos[0].path == "photo.jpg"
    assert len(listed.usable) == len(taken) + 1
    assert all(listed.file(p).is_file() for p in listed.photos)
    # the same folder again takes the frames that are there
    before = taken[0].stat().st_mtime_ns
    assert _sources(folder, out) == settings
    assert taken[0].stat().st_mtime_ns == before
    bad = tmp_path / "bad"
    bad.mkdir()
    (bad / "broken.mov").write_bytes(b"no film")
    with pytest.raises(PlainError, match="no video"):
        _sources(bad, tmp_path / "none")


class Quiet:
    """A reporter that says nothing."""

    def begin(self, layer: str, title: str, number: int = 1, of: int = 1) -> None: ...
    def stage(self, layer: str, text: str, done: float, total: float, left: float | None = None) -> None: ...
    def end(self, layer: str, seconds: float, reused: bool) -> None: ...
    def say(self, text: str) -> None: ...


def test_a_list_of_other_files_is_no_video(film: Path, tmp_path: Path) -> None:
    """A file named like a film that asks the decoder to open others is refused, wherever they lie."""
    (tmp_path / "real.mp4").write_bytes(film.read_bytes())
    for name, text in {
        "concat.mp4": "ffconcat version 1.0\nfile real.mp4\n",
        "list.mp4": f"#EXTM3U\n#EXT-X-TARGETDURATION:9\n#EXTINF:9,\nfile://{tmp_path}/real.mp4\n#EXT-X-ENDLIST\n",
    }.items():
        (tmp_path / name).write_text(text)
        with pytest.raises(PlainError, match="no video"):
            probe(tmp_path / name)
    assert probe(tmp_path / "real.mp4").frames > 0


def test_films_without_their_decoder_are_told(film: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Who leaves PyAV away (docs/dependencies.md) can work with photos all the same."""
    monkeypatch.setitem(sys.modules, "av", None)
    with pytest.raises(PlainError, match="PyAV is not installed"):
        probe(film)
