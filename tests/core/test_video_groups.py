"""Decoding only what is needed of a video, and looking through it by the first part of each group of pictures."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import cv2
import numpy as np
import pytest

from vast_quarry.core.photo import skim
from vast_quarry.core.photo.frames import SIDE, Scan, _likeness, laps, scan
from vast_quarry.core.photo.packets import Packets, decoded, list_packets
from vast_quarry.core.photo.skim import look_over, merged
from vast_quarry.core.photo.travel import angles, by_motion
from vast_quarry.core.photo.video import each_frame, probe, take_frames
from vast_quarry.pipeline.steps.photos import inspect_photo
from vast_quarry.pipeline.video import Choice, chosen_frames, frames_of, look_through

TURN, FRAMES, GROUP = 600, 1380, 24


@pytest.fixture(scope="module")
def panorama(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A picture that goes past and comes back to itself after 600 frames, in groups of 24."""
    file = tmp_path_factory.mktemp("film") / "round.mp4"
    rng = np.random.default_rng(5)
    wide = cv2.resize(rng.integers(0, 255, (30, 120, 3), np.uint8), (960, 240), interpolation=cv2.INTER_CUBIC)
    twice = np.hstack([wide, wide])
    container = av.open(str(file), "w")
    stream: Any = container.add_stream("mpeg4", rate=25)
    stream.width, stream.height, stream.pix_fmt, stream.bit_rate = 320, 240, "yuv420p", 3_000_000
    stream.options = {"bf": "2", "g": str(GROUP)}
    for k in range(FRAMES):
        shift = np.array([[1.0, 0.0, -((k * 960 / TURN) % 960)], [0.0, 1.0, 0.0]])
        shown = cv2.warpAffine(twice, shift, (320, 240))
        container.mux(stream.encode(av.VideoFrame.from_ndarray(shown, format="rgb24")))
    container.mux(stream.encode())
    container.close()
    return file


@pytest.fixture(scope="module")
def whole(panorama: Path) -> Scan:
    return scan(each_frame(panorama, 1, SIDE))


def test_packets_are_numbered_as_frames_are_shown(panorama: Path) -> None:
    packets = list_packets(panorama)
    assert packets is not None
    assert sorted(packets.number) == list(range(FRAMES))
    assert not np.array_equal(packets.number, np.arange(FRAMES))  # decoded in another order than shown
    assert packets.group_seconds() == pytest.approx(GROUP / 25, abs=0.05)
    np.testing.assert_allclose(np.sort(packets.seconds), np.arange(FRAMES) / 25, atol=1e-6)


def test_single_frames_are_those_of_decoding_everything(panorama: Path) -> None:
    chosen = [0, 23, 24, 25, 37, 100, FRAMES - 1]
    every = {n: f.to_ndarray(format="rgb24") for n, _, f in decoded(panorama) if n in chosen}
    got = {n: (t, rgb) for n, t, rgb in take_frames(panorama, chosen)}
    assert sorted(got) == chosen
    for n, (time, rgb) in got.items():
        assert time == pytest.approx(n / 25)
        np.testing.assert_array_equal(rgb, every[n])


def test_what_a_frame_needs_is_its_group_up_to_it() -> None:
    # two groups of four, shown in the order in which they are decoded
    p = Packets(np.arange(8), np.arange(8), np.arange(8) / 25, np.arange(8) % 4 == 0)
    assert np.flatnonzero(p.needed_for({5})).tolist() == [4, 5]
    assert p.needed_for(set()).sum() == 0
    assert not p.open_groups
    # the second group begins with a picture that is shown after two others, which build on the group before
    pts = np.array([0, 1, 2, 3, 6, 4, 5, 7])
    q = Packets(pts, pts, pts / 25, p.key)
    assert q.open_groups
    assert np.flatnonzero(q.needed_for({4})).tolist() == [0, 1, 2, 3, 4, 5]
    assert np.flatnonzero(q.needed_for({6})).tolist() == [4]


def test_a_look_at_the_first_part_of_each_group_finds_the_same_laps(
    panorama: Path, whole: Scan, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(skim, "LARGE", 0)
    monkeypatch.setattr(skim, "FAR", 0.2)  # the made-up film goes quickly
    looked: list[int] = []
    found = look_over(panorama, probe(panorama), lambda seen: looked.append(seen.number))
    assert len(looked) < 0.65 * FRAMES
    assert len(found.number) < len(whole.number)
    assert (np.diff(found.number) > 0).all()
    turns = [(int(found.number[a]), int(found.number[b])) for a, b in laps(found)]
    exact = [(int(whole.number[a]), int(whole.number[b])) for a, b in laps(whole)]
    assert len(turns) == len(exact) == 2
    for (a, b), (x, y) in zip(turns, exact):
        assert b - a + 1 == TURN
        assert y - x + 1 == TURN
        assert abs(a - x) <= GROUP
    # a flat picture that goes past has no pose: what counts is how it moved
    found, whole = replace(found, turned=None), replace(whole, turned=None)
    # it moved as far, and frames are nowhere farther apart than wanted, with few more than are needed
    assert angles(found)[-1] == pytest.approx(angles(whole)[-1], rel=0.1)
    for seen in (found, whole):
        steps = np.diff(by_motion(seen, 24.0)) * 360 / TURN
        assert steps.max() <= 24.0 * 1.05
        assert len(steps) <= 2.0 * FRAMES / TURN * 360 / 24


def test_laps_are_found_as_well_when_only_every_second_frame_is_looked_at(panorama: Path) -> None:
    half = scan(each_frame(panorama, 2, SIDE))
    assert set(half.gap) == {2}
    for a, b in laps(half):
        assert half.number[b] - half.number[a] + 2 == pytest.approx(TURN, abs=2)
    assert len(laps(half)) == 2


def test_what_moves_far_between_is_looked_at_closely(panorama: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(skim, "LARGE", 0)
    monkeypatch.setattr(skim, "FAR", 0.01)
    found = look_over(panorama, probe(panorama), lambda _: None)
    assert len(found.number) > 0.95 * FRAMES


def test_a_stretch_that_was_looked_at_again_takes_the_place_of_what_was_known(whole: Scan) -> None:
    rows = np.r_[0:4, 12:16, 24:28]
    parts = ("number", "time", "move", "growth", "sharp", "small")
    thin = Scan(*(getattr(whole, n)[rows] for n in parts), whole.still)
    again = Scan(*(getattr(whole, n)[4:13] for n in parts), whole.still)
    both = merged(thin, again)
    assert both.number.tolist() == [*range(16), 24, 25, 26, 27]
    np.testing.assert_array_equal(both.move[13], whole.move[13])
    blank = Scan(*(getattr(whole, n)[:0] for n in parts), whole.still)
    assert merged(thin, blank) is thin


def test_frames_by_step_are_known_without_looking(panorama: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("vast_quarry.pipeline.video.look_over", None)
    found = look_through(panorama, probe(panorama), Choice(by="step"))
    chosen = chosen_frames(found, Choice(by="step", step=100, ranges=((4.0, 12.0),)))
    assert chosen == [[100, 200, 300]]
    assert chosen_frames(found, Choice(by="count", count=5)) == [[0, 345, 690, 1034, 1379]]


def test_laps_are_looked_for_however_frames_are_chosen(
    panorama: Path, whole: Scan, monkeypatch: pytest.MonkeyPatch
) -> None:
    asked = []
    monkeypatch.setattr("vast_quarry.pipeline.video.look_over", lambda *what: asked.append(what) or whole)
    choice = Choice(by="step", step=60, one_turn=True)
    parts = chosen_frames(look_through(panorama, probe(panorama), choice), choice)
    assert len(asked) == 1
    assert [len(part) for part in parts] == [TURN // 60, TURN // 60]


def test_each_range_has_its_own_crop(panorama: Path, tmp_path: Path) -> None:
    choice = Choice(
        by="step", step=50, ranges=((0.0, 3.0), (10.0, 12.5)), crop=(10, 0, 0, 0), crops=(None, (0, 0, 0, 40))
    )
    rows = frames_of(panorama, tmp_path, choice)
    sizes = {row["frame"]: cv2.imread(str(tmp_path / row["photo"])).shape[:2] for row in rows}
    assert sizes == {0: (240, 310), 50: (240, 310), 250: (200, 320), 300: (200, 320)}


def recording(file: Path, width: int, height: int, frames: int) -> bytes:
    container = av.open(str(file), "w")
    stream: Any = container.add_stream("mpeg2video", rate=25)
    stream.width, stream.height, stream.pix_fmt = width, height, "yuv420p"
    picture = np.random.default_rng(0).integers(0, 255, (height, width, 3), np.uint8)
    for k in range(frames):
        shown = np.ascontiguousarray(np.roll(picture, 2 * k, axis=1))
        container.mux(stream.encode(av.VideoFrame.from_ndarray(shown, format="rgb24")))
    container.mux(stream.encode())
    container.close()
    return file.read_bytes()


def test_recordings_of_two_sizes_put_one_after_the_other(tmp_path: Path) -> None:
    file = tmp_path / "both.ts"
    file.write_bytes(recording(tmp_path / "a.ts", 320, 240, 20) + recording(tmp_path / "b.ts", 160, 128, 20))
    video = file.rename(tmp_path / "both.mts")
    found = look_over(video, probe(video), lambda _: None)
    # the decoder may drop one where the size changes
    assert len(found.number) >= 38
    assert found.number.tolist() == list(range(len(found.number)))
    assert (np.diff(found.time) > 0).all()  # although the second one counts from nought again
    rows = frames_of(video, tmp_path / "out", Choice(by="step", step=30))
    sizes = [cv2.imread(str(tmp_path / "out" / row["photo"])).shape[:2] for row in rows]
    assert sizes == [(240, 320), (128, 160)]


def test_a_video_that_breaks_off_gives_what_came_before(panorama: Path, tmp_path: Path) -> None:
    whole_file = recording(tmp_path / "a.ts", 320, 240, 60)
    cut = tmp_path / "cut.mts"
    cut.write_bytes(whole_file[: len(whole_file) // 2])
    found = look_over(cut, probe(cut), lambda _: None)
    assert 20 < len(found.number) < 40
    assert len(list(take_frames(cut, found.number[:3].tolist()))) == 3


def test_squeezed_pictures_get_square_pixels_and_may_be_made_smaller(tmp_path: Path) -> None:
    # ITU-R BT.601 widescreen: 720 x 576 pixels that are 64/45 as wide as high show 16:9
    file = tmp_path / "wide.mp4"
    container = av.open(str(file), "w")
    stream: Any = container.add_stream("mpeg4", rate=25)
    stream.width, stream.height, stream.pix_fmt = 720, 576, "yuv420p"
    stream.codec_context.sample_aspect_ratio = Fraction(64, 45)
    picture = np.zeros((576, 720, 3), np.uint8)
    picture[200:376, 298:422] = 255  # 176 high, 124 x 64/45 = 176 wide: a square
    for _ in range(3):
        container.mux(stream.encode(av.VideoFrame.from_ndarray(picture, format="rgb24")))
    container.mux(stream.encode())
    container.close()
    info = probe(file)
    assert (info.width, info.height) == (1024, 576)
    rgb = next(take_frames(file, [1], info.aspect))[2]
    lit = np.argwhere(rgb[..., 0] > 128)
    assert np.ptp(lit[:, 0]) == pytest.approx(np.ptp(lit[:, 1]), abs=3)
    rows = frames_of(file, tmp_path / "out", Choice(by="step", step=3, scale=0.5, crop=(24, 0, 0, 0)))
    photo = inspect_photo(0, str(tmp_path / "out"), rows[0]["photo"], str(tmp_path / "unit.json"))
    assert (photo["width"], photo["height"]) == (500, 288)
    assert tuple(photo["center"]) == (511 / 2 - 12, 287 / 2)


def test_all_distances_at_once_are_those_taken_one_by_one() -> None:
    rng = np.random.default_rng(2)
    x = rng.normal(size=(40, 7)).astype(np.float32)
    at = np.sort(rng.choice(60, 40, replace=False))
    at[[0, -1]] = 0, 59
    found = _likeness(x, at, 60)
    row = {int(p): k for k, p in enumerate(at)}
    for lag in range(60):
        both = [float(x[row[p]] @ x[row[p + lag]]) for p in row if p + lag in row]
        assert found[lag] == pytest.approx(np.mean(both), abs=1e-6) if both else np.isnan(found[lag])
