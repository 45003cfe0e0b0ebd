"""Results packed to be shipped come out as they were, as far as anybody can see."""

from __future__ import annotations

import shutil
from pathlib import Path

import numpy as np
import pytest

from vast_quarry.pipeline import packed
from vast_quarry.pipeline.packed import _decoded, _encoded
from vast_quarry.pipeline.solution import load_solution
from vast_quarry.pipeline.store import Store
from vast_quarry.pipeline.units.depth import load_depth


@pytest.mark.parametrize(
    "array",
    [
        np.arange(12, dtype=np.int64).reshape(4, 3)[::-1] * -7,
        np.array([[-(2**40)], [2**40]]),
        np.array([250, 3, 255, 0], np.uint8),
        np.array([[1.5, np.nan], [-np.inf, 0]], np.float32),
        np.array(["placed", "weak"]),
        np.array("mat"),
        np.array(True),
        np.array(-3, np.int32),
        np.zeros((0, 3)),
        np.zeros((0, 3, 2), np.int64),
        np.zeros((2, 0), np.int32),
    ],
)
def test_arrays_of_every_kind_come_back(array: np.ndarray) -> None:
    back = _decoded(_encoded(array))
    assert (back.dtype, back.shape) == (array.dtype, array.shape)
    np.testing.assert_array_equal(back, array)


def test_what_is_unpacked_is_whole_and_in_use(built_data: Path, tmp_path: Path) -> None:
    project = next(p for p in sorted((built_data / "projects").iterdir()) if (p / "versions" / "in-use.json").exists())
    here = Store(project)
    number = here.in_use()["cameras"]
    before = load_solution(here.root / "cameras" / str(number))
    pixel = before.gsd()
    note = tmp_path / "note.txt"
    note.write_text("beside")
    packed.pack(here, tmp_path / "all.zip", pixel, {"cache/note.txt": note})
    there = Store(tmp_path / "there")
    packed.unpack(tmp_path / "all.zip", there.root.parent)
    assert (tmp_path / "there" / "cache" / "note.txt").read_text() == "beside"
    assert there.in_use() == here.in_use()
    for layer in here.in_use():
        # nothing of a version that is cut or incomplete would be listed
        (version,) = (v for v in there.versions(layer) if v.number == here.in_use()[layer])
        (original,) = (v for v in here.versions(layer) if v.number == version.number)
        assert version.model_dump(exclude={"files"}) == original.model_dump(exclude={"files"})
    after = load_solution(there.root / "cameras" / str(number))
    assert after.states == before.states
    np.testing.assert_array_equal(after.centers, before.centers)
    # rounded by less than anybody can see, and not left alone either
    assert 0 < np.abs(after.points - before.points).max() <= pixel * packed.FINE / 2
    assert not (there.root / "cameras" / str(number) / "made.json").exists()
    points = there.root / "points" / str(here.in_use()["points"])
    row = next(int(p.stem) for p in sorted((points / "depth").iterdir()))
    old, new = load_depth(here.root / points.relative_to(there.root), row).depth, load_depth(points, row).depth
    assert ((old > 0) == (new > 0)).all()
    assert np.abs(1 / new[new > 0] - 1 / old[old > 0]).max() < 0.02 * np.ptp(1 / old[old > 0])
    small = (tmp_path / "all.zip").stat().st_size
    assert small < 0.25 * sum(p.stat().st_size for p in here.root.rglob("*") if p.is_file())
    shutil.rmtree(there.root)
