"""A skin made in slabs, as the pipeline makes it of large clouds."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import trimesh

from vast_quarry.core.dense.fusion import Cloud
from vast_quarry.core.surface.mesh import components
from vast_quarry.core.surface.poisson import median_spacing, trimmed
from vast_quarry.pipeline import skin as skins
from vast_quarry.pipeline.steps import surface as step


class Here:
    """A context that does its units here, and notes them."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.done: list[str] = []

    def each(self, text: str, work: Callable[..., Any], jobs: Iterable[tuple], memory: list[float]) -> None:
        for job, _ in zip(jobs, memory, strict=True):
            work(*job)
            self.done.append(work.__name__)


@pytest.fixture
def bowl(rng: np.random.Generator) -> Cloud:
    """The upper part of a ball twice as long as wide; the lower third was not seen."""
    n = rng.normal(0, 1, (16_000, 3))
    n /= np.linalg.norm(n, axis=1, keepdims=True)
    n = n[n[:, 2] > -0.35]
    normals = n / [2.0, 1.0, 1.0]
    normals /= np.linalg.norm(normals, axis=1, keepdims=True)
    points = n * [2.0, 1.0, 1.0] + normals * rng.normal(0, 0.002, (len(n), 1))
    blank = np.zeros(len(n))
    return Cloud(
        points,
        normals.astype(np.float32),
        np.zeros((len(n), 3), np.uint8),
        blank.astype(np.int32),
        blank.astype(np.float32),
    )


def test_slabs_agree_across_what_nobody_saw(bowl: Cloud, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Closed it holds water; left open it is one piece with one rim. Each slab alone would close what is below in its own way."""
    monkeypatch.setattr(skins, "ALONE", 5_000)
    monkeypatch.setattr(skins, "MARGIN", 8.0)
    monkeypatch.setattr(skins, "SLAB", 6_000)
    spacing = median_spacing(bowl.points)
    context = Here(tmp_path)
    v, f = skins.skin(context, bowl, 2.5 * spacing)  # type: ignore[arg-type]
    assert context.done == ["guide", *["skin_of_slab"] * 2]
    assert not list(tmp_path.iterdir())
    assert trimesh.Trimesh(v, f, process=False).is_winding_consistent
    tv, tf = trimmed(v, f, bowl.points, 5 * spacing, 60 * spacing)
    seen = trimesh.Trimesh(tv, tf, process=False)
    assert (components(tf) == 0).all()
    assert tv[:, 2].min() > -0.45
    rims = trimesh.graph.connected_components(
        seen.edges[trimesh.grouping.group_rows(seen.edges_sorted, require_count=1)]
    )
    assert len(rims) == 1
    # below, where nobody saw, it is nearly closed: what is left of cracks is short
    whole = trimesh.Trimesh(v, f, process=False)
    rim = whole.edges[trimesh.grouping.group_rows(whole.edges_sorted, require_count=1)]
    assert np.linalg.norm(v[rim[:, 0]] - v[rim[:, 1]], axis=1).sum() < 2.0
    assert abs(whole.volume) == pytest.approx(4 / 3 * np.pi * 2, rel=0.25)


def test_what_was_finished_before_a_kill_is_not_made_again(
    bowl: Cloud, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(skins, "ALONE", 5_000)
    monkeypatch.setattr(skins, "MARGIN", 4.0)
    monkeypatch.setattr(skins, "SLAB", 6_000)
    cell = 4 * median_spacing(bowl.points)

    class Killed(Here):
        def each(self, text: str, work: Callable[..., Any], jobs: Iterable[tuple], memory: list[float]) -> None:
            for job in jobs:
                if len(self.done) == 2:
                    raise KeyboardInterrupt
                work(*job)
                self.done.append(work.__name__)

    with pytest.raises(KeyboardInterrupt):
        skins.skin(Killed(tmp_path), bowl, cell)  # type: ignore[arg-type]
    assert [p.name for p in (tmp_path / "slabs").glob("skin-*")] == ["skin-0000.npz"]
    made: list[int] = []
    plain = skins.units.poisson_surface

    def noted(points: np.ndarray, normals: np.ndarray, cell: float) -> tuple[np.ndarray, np.ndarray]:
        made.append(len(points))
        return plain(points, normals, cell)

    monkeypatch.setattr(skins.units, "poisson_surface", noted)
    again = skins.skin(Here(tmp_path), bowl, cell)  # type: ignore[arg-type]
    assert len(made) == 1
    fresh = skins.skin(Here(tmp_path), bowl, cell)  # type: ignore[arg-type]
    for one, two in zip(again, fresh):
        np.testing.assert_array_equal(one, two)
    assert len(made) == 4


def test_triangles_of_a_large_mesh_are_made_fewer_by_a_worker_that_goes(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The same comes of it as here, and nothing is left behind."""
    ball = trimesh.creation.icosphere(4)
    v, f = np.asarray(ball.vertices), np.asarray(ball.faces, np.int64)
    rests = []

    class There(Here):
        settings = type("Settings", (), {"faces": 1000})
        executor = type("Executor", (), {"rest": lambda self: rests.append(len(list(tmp_path.iterdir())))})()

        def each(self, text: str, work: Callable[..., Any], jobs: Iterable[tuple], memory: object = None) -> None:
            for job in jobs:
                work(*job)

    context: Any = There(tmp_path)
    here = step._fewer(context, v, f)
    assert not rests
    monkeypatch.setattr(step, "APART", 2000)
    there = step._fewer(context, v, f)
    # before nothing was written, after it both meshes; then they are gone
    assert rests == [0, 2]
    assert not list(tmp_path.iterdir())
    assert 900 < len(there[1]) <= 1000
    for mine, yours in zip(here, there, strict=True):
        np.testing.assert_array_equal(mine, yours)
