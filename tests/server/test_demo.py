"""What the demo shows of judging and of video is really found."""

from __future__ import annotations

import shutil
import threading
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from sqlmodel import Session, select
from tests.conftest import Quiet, RigSet

from vast_quarry.pipeline import judging
from vast_quarry.pipeline.grades import Grade
from vast_quarry.pipeline.recipe import recipe_for
from vast_quarry.pipeline.run import Runner
from vast_quarry.server import demo
from vast_quarry.server.database import open_database
from vast_quarry.server.models import Job, Project
from vast_quarry.server.services.folders import Folders, folders_of
from vast_quarry.server.services.judging import SO_FAR, judge_project, judged
from vast_quarry.server.services.layers import places_of, recipe_of
from vast_quarry.server.services.videos import list_videos, look


@pytest.fixture
def folders(tmp_path: Path) -> Folders:
    out = Folders(tmp_path)
    out.make()
    return out


def test_nothing_is_computed_before_the_page_opens_and_nothing_is_queued_twice(tmp_path: Path) -> None:
    engine = open_database(tmp_path)
    demo.add_demo(engine, tmp_path)
    demo.add_demo(engine, tmp_path)
    with Session(engine) as session:
        names = {p.id: p.name for p in session.exec(select(Project)).all()}
        queued = {(names[j.project_id], j.kind) for j in session.exec(select(Job)).all()}
        assert len(session.exec(select(Job)).all()) == 2
    assert queued == {(demo.SPOILT, "judge"), (demo.FILMED, "look")}
    assert len(names) == 6


def test_the_finished_project_is_there_whole_and_to_scale(folders: Folders) -> None:
    shipped = sum(p.stat().st_size for p in [*(demo.SHIPPED / "photos").iterdir(), demo.SHIPPED / demo.FINISHED])
    assert shipped < 20e6
    engine = open_database(folders.root)
    with Session(engine) as session:
        number = demo.add_finished(session, folders.root)
        project = session.get(Project, number)
        assert project is not None
        finished = folders_of(folders.root, number)
        quiet: Any = Quiet()
        # a run of all of it finds that nothing is missing
        done = Runner(finished.store, quiet).run(recipe_of(project), places_of(finished), until="texture")
    assert all(s["reused"] for s in done.steps)
    figures = {layer: v.figures for layer, v in done.versions.items()}
    assert (figures["cameras"]["placed"], figures["cameras"]["scale_from"]) == (36, "mat")
    with np.load(finished.store.folder(done.versions["texture"]) / "model.npz") as model:
        heights = model["vertices"][:, 2]
    assert heights.min() == pytest.approx(0, abs=1e-3)
    # the rig's milestone is 618 mm high, and its mat lies on 4 mm of grass
    assert np.ptp(heights) == pytest.approx(0.618 - 0.004, rel=0.003)


def test_the_spoilt_photos_of_the_demo_are_found_and_no_other(folders: Folders) -> None:
    quiet: Any = Quiet()
    demo._spoil(folders)
    judge_project(folders, quiet, threading.Event())
    found, _ = judged(folders)
    names = sorted(p.name for p in (demo.SHIPPED / "photos").iterdir())
    says = {"motion": "motion blur", "focus": "out of focus"}
    planted = {
        names[k - 1]: says.get(kind, "overexposed" if amount > 0 else "underexposed")
        for k, (kind, amount) in demo.DEFECTS.items()
    }
    for name, reason in planted.items():
        assert reason in found[name].reasons, (name, found[name])
    double = [n for n, p in found.items() if {"duplicate", "twin"} & set(p.reasons)]
    assert len(double) == 1
    assert names[7] in double[0]
    assert {n for n, p in found.items() if p.proposal != "keep"} == {*planted, *double}


def test_the_turntable_of_the_demo_gets_its_masks_by_itself(folders: Folders) -> None:
    quiet: Any = Quiet()
    demo._turn(folders)
    where = {"photos": {"folder": str(folders.photos)}, "masks": {"folder": None}}
    recipe = recipe_for(Grade.ROUGH, {"masks": {"way": "suggest"}})
    figures = Runner(folders.store, quiet).run(recipe, where, until="masks").versions["masks"].figures
    assert (figures["way"], figures["masked"], figures["unsure"]) == ("still", 24, 0)
    assert 8 < figures["kept_percent"] < 20


def test_the_film_of_the_demo_has_two_laps(folders: Folders) -> None:
    quiet: Any = Quiet()
    demo._film(folders)
    look(folders, demo.FILM, quiet, threading.Event())
    video = list_videos(folders)[0]
    assert video.looked
    assert len(video.laps) == 2
    # sixty frames a turn at 25 a second
    assert all(b - a == pytest.approx(59 / 25, abs=0.05) for a, b in video.laps)
    assert video.crop[1] == pytest.approx(20, abs=2)


def test_figures_of_photos_are_there_before_all_are_judged(
    ring_set: RigSet, folders: Folders, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What single photos show is told as they are looked at; the judgement, and its removal, leave nothing of it behind."""
    monkeypatch.setattr(judging, "EARLY_EVERY", 0.0)
    for file in sorted(ring_set.photos.iterdir())[:5]:
        shutil.copy(file, folders.photos / file.name)
    (folders.photos / "z.jpg").write_bytes(b"no photo")
    seen: list[dict[str, Any]] = []

    class Watching(Quiet):
        def stage(self, layer: str, text: str, done: float, total: float, left: float | None = None) -> None:
            if text == "Comparing photos":
                seen.append(dict(judged(folders)[0]))

    judge_project(folders, Watching(), threading.Event())
    early, (final, _) = seen[0], judged(folders)
    assert sorted(early) == sorted(final) == sorted(p.name for p in folders.photos.iterdir())
    for name, photo in early.items():
        assert photo.sharpness_px == final[name].sharpness_px
        assert photo.set is None
    assert early["z.jpg"].reasons == final["z.jpg"].reasons == ["unreadable"]
    assert not (folders.root / SO_FAR).exists()
    # one that was judged before keeps its judgement while it is looked at again
    seen.clear()
    judge_project(folders, Watching(), threading.Event())
    assert seen[0] == final
