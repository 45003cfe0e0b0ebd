"""A version of Photos is known by what its photos hold, in every folder they lie in."""

from __future__ import annotations

import os
import shutil
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.pipeline.test_run import Silent

from vast_quarry.core.formats.atomic import read_json, write_json
from vast_quarry.core.progress import Cancelled, silent
from vast_quarry.pipeline.contents import KNOWN, content_of, folder_contents
from vast_quarry.pipeline.grades import Grade
from vast_quarry.pipeline.recipe import recipe_for
from vast_quarry.pipeline.run import Runner
from vast_quarry.pipeline.steps.photos import read_photo_list
from vast_quarry.pipeline.store import NOTES, Store, Version


def shoot(file: Path, seed: int) -> None:
    file.parent.mkdir(parents=True, exist_ok=True)
    Image.fromarray(np.random.default_rng(seed).integers(0, 255, (240, 320, 3), np.uint8)).save(file)


@pytest.fixture
def folders(tmp_path: Path) -> tuple[Path, Path]:
    """Three photos in one folder, one in a further one."""
    for n in range(3):
        shoot(tmp_path / "photos" / f"{n}.png", n)
    shoot(tmp_path / "more" / "back" / "3.png", 3)
    return tmp_path / "photos", tmp_path / "more"


def looked_at(folders: tuple[Path, Path], out: Path, until: str = "photos") -> Version:
    places = {"photos": {"folder": str(folders[0]), "more": str(folders[1])}, "masks": {}}
    return Runner(Store(out), Silent()).run(recipe_for(Grade.ROUGH, {}), places, until).versions[until]


def test_only_what_photos_hold_makes_another_version(folders: tuple[Path, Path], tmp_path: Path) -> None:
    photos = folders[0]
    first = looked_at(folders, tmp_path / "out")
    assert first.figures["photos"] == 4
    (photos / "Thumbs.db").write_bytes(b"whatever")
    (photos / ".hidden.jpg").write_bytes(b"whatever")
    os.utime(photos / "1.png", (1, 1))
    assert looked_at(folders, tmp_path / "out") == first


@pytest.mark.parametrize("change", ["replaced in a further folder", "added to a further folder", "removed", "renamed"])
def test_a_change_in_any_folder_is_seen(folders: tuple[Path, Path], tmp_path: Path, change: str) -> None:
    photos, more = folders
    first = looked_at(folders, tmp_path / "out")
    if change == "replaced in a further folder":
        shoot(more / "back" / "3.png", 30)
    elif change == "added to a further folder":
        shoot(more / "4.png", 4)
    elif change == "removed":
        (photos / "0.png").unlink()
    else:
        (photos / "0.png").rename(photos / "00.png")
    second = looked_at(folders, tmp_path / "out")
    assert second.number == 2
    listed = read_photo_list(Store(tmp_path / "out").folder(second))
    assert {p.sha for p in listed.photos} == {content_of(p) for f in folders for p in f.rglob("*.png")}
    assert second.key != first.key


def test_photos_that_moved_are_listed_anew_and_what_was_made_of_them_holds(
    folders: tuple[Path, Path], tmp_path: Path
) -> None:
    store = Store(tmp_path / "out")
    masks = looked_at(folders, tmp_path / "out", "masks")
    elsewhere = tmp_path / "elsewhere"
    shutil.move(folders[0], elsewhere)
    assert looked_at((elsewhere, folders[1]), tmp_path / "out", "masks") == masks
    assert store.in_use() == {"photos": 2, "masks": 1}
    assert store.out_of_date() == []
    listed = read_photo_list(store.root / "photos" / "2")
    assert all(listed.file(p).exists() for p in listed.photos)


def test_versions_of_earlier_programs_are_known_again(folders: tuple[Path, Path], tmp_path: Path) -> None:
    first = looked_at(folders, tmp_path / "out")
    notes = tmp_path / "out" / "versions" / "photos" / "1" / NOTES
    write_json(notes, {**read_json(notes), "key": "as it was named once"})
    assert looked_at(folders, tmp_path / "out").number == first.number
    shoot(folders[0] / "1.png", 11)
    assert looked_at(folders, tmp_path / "out").number == 2


def test_files_are_read_once(folders: tuple[Path, Path], tmp_path: Path) -> None:
    read: list[float] = []
    known = tmp_path / KNOWN
    held = folder_contents(folders, known, lambda done, total: read.append(done))
    assert [h.content for h in held] == [content_of(h.folder / h.name) for h in held]
    assert len(read) == 4
    shoot(folders[0] / "1.png", 11)
    (folders[0] / "gone.png").symlink_to(tmp_path / "nowhere")
    again = folder_contents(folders, known, lambda done, total: read.append(done))
    assert len(read) == 5
    assert [h.content for h in again if h.name == "gone.png"] == ["?"]
    assert {h.name for h in held if h not in again} == {"1.png"}
    assert folder_contents([tmp_path / "nothing"], known, silent) == []

    def stop(done: float, total: float) -> None:
        raise Cancelled

    with pytest.raises(Cancelled):
        folder_contents(folders, tmp_path / "fresh.json", stop)


def test_a_list_of_contents_that_cannot_be_read_is_only_made_again(folders: tuple[Path, Path], tmp_path: Path) -> None:
    known = tmp_path / KNOWN
    known.write_text("{cut", "utf-8")
    held = folder_contents(folders, known, silent)
    assert [h.content for h in held] == [content_of(h.folder / h.name) for h in held]
    assert len(read_json(known)) == 4
