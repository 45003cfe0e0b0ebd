"""Which photos share a lens, at which size they are used, and what an alignment says in words."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from vast_quarry.core.align.growth import AlignInput
from vast_quarry.core.align.trouble import Trouble
from vast_quarry.core.align.zoom import Refocused
from vast_quarry.core.camera import Camera
from vast_quarry.core.errors import PlainError
from vast_quarry.pipeline.alignment_words import findings, focal_sentences, lens_sentences, other_groups, told
from vast_quarry.pipeline.features import SMALLEST_USEFUL, photo_scale
from vast_quarry.pipeline.matching import _lenses
from vast_quarry.pipeline.output import MARK, claim_output
from vast_quarry.pipeline.steps.photos import Photo, PhotoList, _as_kept, read_photo_list


def shot(number: int, key: str = "a", source: str = "35 mm equivalent", **more: Any) -> Photo:
    size = {"width": 4000, "height": 3000, "focal": 3000.0} | more
    return Photo(number=number, path=f"{number}.jpg", lens_key=key, focal_source=source, **size)


def test_photos_of_one_camera_and_zoom_share_a_lens() -> None:
    begin, own, lenses, guessed = _lenses([shot(0, "a"), shot(1, "b", focal=5000.0), shot(2, "a")])
    assert begin.tolist() == own.tolist() == [0, 1, 0]
    assert [x.fx for x in lenses] == [3000.0, 5000.0]
    assert guessed == [False, False]


def test_photos_that_say_nothing_begin_with_the_lens_of_most_photos_of_their_size() -> None:
    photos = [shot(0, "a"), shot(1, "b", focal=5000.0), shot(2, "b", focal=5000.0)]
    silent = [shot(3, "x", "guessed", focal=4400.0), shot(4, "y", "guessed", width=3000, height=4000)]
    begin, own, _, guessed = _lenses([*photos, *silent])
    assert begin.tolist() == [0, 1, 1, 1, 3]  # the upright one is like none, and keeps its own
    assert own.tolist() == [0, 1, 1, 2, 3]
    assert guessed == [False, False, True, True]


def test_a_cropped_frame_keeps_where_the_lens_looked() -> None:
    _, _, (lens,), _ = _lenses([shot(0, center=(1999.5, 1300.0))])
    assert (lens.cx, lens.cy) == (1999.5, 1300.0)
    assert _lenses([shot(0)])[2][0].cx == pytest.approx(1999.5)


@pytest.mark.parametrize(
    ("longest", "scale", "largest", "expected"),
    [
        (4000, 0.5, 3200, 0.5),
        (8000, 1.0, 3200, 0.4),  # very large ones are made smaller
        (1200, 0.5, 3200, SMALLEST_USEFUL / 1200),  # small ones less than the grade says
        (640, 0.5, 3200, 1.0),  # and none is made larger
    ],
)
def test_size_at_which_a_photo_is_used(longest: int, scale: float, largest: int, expected: float) -> None:
    assert photo_scale(shot(0, width=longest, height=300), scale, largest) == pytest.approx(expected)
    assert photo_scale(shot(0, width=300, height=longest), scale, largest) == pytest.approx(expected)


def matched(pairs: dict[tuple[int, int], int], photos: int) -> AlignInput:
    empty = [np.zeros((0, 2))] * photos
    matches = {k: np.zeros((n, 2), np.int32) for k, n in pairs.items()}
    lens = Camera.simple(4000, 3000, 3000.0)
    zeros = np.zeros(photos, np.int64)
    return AlignInput(empty, [np.zeros(0)] * photos, matches, zeros, [lens], [False], zeros)


class States:
    """As much of a solution as the words look at."""

    def __init__(self, text: str) -> None:
        self.states = [{"p": "placed", "w": "weak", "l": "loose"}[c] for c in text]


def said(text: str, pairs: dict[tuple[int, int], int], mirrored: list[int] | None = None) -> list[str]:
    photos = [shot(n) for n in range(len(text))]
    return findings(photos, States(text), matched(pairs, len(text)), mirrored or [])  # type: ignore[arg-type]


def test_another_subject_is_a_group_of_its_own_and_a_lone_photo_is_none() -> None:
    pairs = {(0, 1): 400, (3, 4): 90, (4, 5): 80, (0, 6): 12}
    assert other_groups([3, 4, 5, 6], matched(pairs, 7)) == [[3, 4, 5]]
    # loose ones that match the placed ones are no other subject, whatever they match among themselves
    assert other_groups([3, 4, 5], matched({**pairs, (1, 4): 60}, 7)) == []
    assert other_groups([3, 6], matched({(0, 1): 400}, 7)) == []


def test_each_loose_photo_is_named_once_with_its_own_reason() -> None:
    text = said("pppplllllll"[:11], {(0, 1): 400, (4, 5): 90, (5, 6): 80, (0, 7): 9}, mirrored=[8])
    reasons = {
        "8.jpg could not be placed": "flipped",
        "4.jpg, 5.jpg and 6.jpg could not": "they match each other",
        "9.jpg and 10.jpg could not": "nothing in them",
        "7.jpg could not be placed": "too few of their places",
    }
    for names, why in reasons.items():
        assert sum(s.startswith(names) and why in s for s in text) == 1, (names, text)
    assert text[-1].startswith("Only 4 of 11 photos could be placed.")
    for n in range(4, 11):
        assert sum(f"{n}.jpg" in s for s in text[:-1]) == 1


def test_all_placed_says_nothing_and_many_are_not_all_listed() -> None:
    assert said("pppp", {(0, 1): 400}) == []
    (weak,) = said("pppppppp" + "w" * 6, {(0, 1): 400})
    assert weak.startswith("8.jpg, 9.jpg, 10.jpg, 11.jpg and 2 more are tied in by few points")
    assert "0.jpg is tied in" in said("wppp", {(0, 1): 400})[0]


def test_every_trouble_has_a_reason_a_remedy_and_photos_that_show_it() -> None:
    for cause in ("nothing moves", "turned on the spot", "still backdrop", "too few matches", "no parallax"):
        error = told(Trouble(cause, (1, 2)), ["a.jpg", "b.jpg", "c.jpg"])  # type: ignore[arg-type]
        assert "Seen for instance in b.jpg, c.jpg" in str(error)
        assert error.remedy.endswith(".")
    assert "seen for instance" not in str(told(Trouble("no parallax", ()), ["a.jpg"]))


def test_what_is_known_of_a_lens_and_what_is_held_is_told() -> None:
    lens = {"photos": 20, "size": (4000, 3000), "focal_px": 3001.4, "focal_from": "guessed", "solved": ["f", "k1"],
            "held": ["k3", "p1"]}  # fmt: skip
    (one,) = lens_sentences([lens], 0.21)
    assert one == (
        "The lens has a focal length of 3001 px. Nothing was known of it. Solved from the photos: focal length and k1. "
        "Held, since the photos do not determine it: k3 and decentring. Features lie within about 0.21 px."
    )
    known = {**lens, "focal_from": "35 mm equivalent", "solved": [], "held": []}
    two = lens_sentences([lens, known], None)
    assert two[1] == "The lens of 20 photos (4000 x 3000) has a focal length of 3001 px. Nothing of it was solved."


def test_a_folder_that_is_not_ours_is_left_alone(tmp_path: Path) -> None:
    out = tmp_path / "out"
    claim_output(out)
    claim_output(out)  # ours already
    (out / MARK).write_text("{")
    with pytest.raises(PlainError, match="damaged"):
        claim_output(out)
    other = tmp_path / "other"
    other.mkdir()
    (other / "letter.txt").write_text("dear")
    with pytest.raises(PlainError, match="left alone"):
        claim_output(other)
    with pytest.raises(PlainError, match="in one another"):
        claim_output(tmp_path / "photos" / "out", photos=tmp_path_with(tmp_path / "photos"))
    assert not (tmp_path / "photos" / "out").exists()


def tmp_path_with(folder: Path) -> Path:
    folder.mkdir()
    (folder / "a.jpg").write_bytes(b"x")
    return folder


def test_folders_of_the_project_are_kept_as_seen_from_the_version_and_others_as_they_are(tmp_path: Path) -> None:
    version = tmp_path / "project" / "versions" / "photos" / "1"
    version.mkdir(parents=True)
    inside, outside = tmp_path / "project" / "photos", tmp_path / "elsewhere"
    kept = [_as_kept(inside, version), _as_kept(outside, version)]
    assert not Path(kept[0]).is_absolute()
    assert kept[1] == str(outside.resolve())
    photos = [shot(0), shot(1, base=_as_kept(tmp_path / "project" / "frames", version))]
    (version / "photos.json").write_text(PhotoList(folder=kept[0], photos=photos).model_dump_json())
    (tmp_path / "project").rename(tmp_path / "moved")
    there = read_photo_list(tmp_path / "moved" / "versions" / "photos" / "1")
    assert there.file(there.photos[0]) == (tmp_path / "moved" / "photos").resolve() / "0.jpg"
    assert there.file(there.photos[1]) == (tmp_path / "moved" / "frames").resolve() / "1.jpg"
    # lists of before, with whole paths, are read as they were
    (tmp_path / "moved" / "versions" / "photos" / "1" / "photos.json").write_text(
        PhotoList(folder=str(outside), photos=[shot(0)]).model_dump_json()
    )
    assert read_photo_list(tmp_path / "moved" / "versions" / "photos" / "1").folder == str(outside)


def test_focal_lengths_that_differ_are_told_and_zooms_by_their_photos() -> None:
    photos = [shot(k) for k in range(8)]
    lens = {"photos": 8, "focal_px": 573.0, "focal_from": "35 mm equivalent", "focal_said_px": 1109.0}
    (said,) = focal_sentences(photos, [Refocused(tuple(range(8)), 1109.0, 573.0)], [lens])  # type: ignore[list-item]
    assert "differs by 48 %" in str(said)
    assert not focal_sentences(photos, [], [lens | {"focal_px": 1120.0}])  # type: ignore[list-item]
    assert not focal_sentences(photos, [], [lens | {"focal_said_px": None}])  # type: ignore[list-item]
    zoomed = [Refocused((0, 1, 2, 3, 4), 444.0, 571.0), Refocused((5, 6, 7), 444.0, 858.0)]
    (said,) = focal_sentences(photos, zoomed, [lens | {"focal_px": 858.0, "focal_said_px": 444.0}])  # type: ignore[list-item]
    assert "858 px against 571" in str(said)
    assert all(name in str(said) for name in ("5.jpg", "6.jpg", "7.jpg"))
