"""Files are read apart from the server: what hangs, crashes or swallows memory is told, and the next one is read."""

from __future__ import annotations

import os
import shutil
import threading
import time
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.cli.test_frames import Quiet
from tests.pipeline.misbehaving import (
    crash,
    hang,
    inspect_or_die,
    inspect_or_hang,
    keep_or_die,
    no_disk,
    pid_of,
    stumble,
    swallow,
)

import vast_quarry.pipeline.glances as glances
import vast_quarry.pipeline.judging as inspecting
import vast_quarry.pipeline.steps.photos as steps
from vast_quarry.core.errors import PlainError
from vast_quarry.pipeline.apart import apart, end_all, load_small, probe, read_facts
from vast_quarry.pipeline.executors import LazyExecutor
from vast_quarry.pipeline.grades import Grade
from vast_quarry.pipeline.recipe import recipe_for
from vast_quarry.pipeline.run import Runner
from vast_quarry.pipeline.steps.photos import read_photo_list
from vast_quarry.pipeline.store import Store

FILE = Path("a.jpg")


def test_it_is_another_process_and_stays_one() -> None:
    first = apart(pid_of)(FILE)
    assert first != os.getpid()
    assert apart(pid_of)(FILE) == first


def test_a_reader_that_starts_slowly_is_no_fault_of_the_file(monkeypatch: pytest.MonkeyPatch) -> None:
    end_all()
    monkeypatch.setenv("VQ_TEST_SLOW_IMPORT", "1.5")
    assert apart(pid_of, patience=1.0)(FILE) != os.getpid()


@pytest.mark.parametrize(
    ("what", "says"),
    [(hang, "takes longer than"), (crash, "takes its reader down"), (swallow, "more memory"), (stumble, "made up")],
)
def test_what_cannot_be_read_is_told_and_the_next_one_is_read(what, says: str) -> None:  # type: ignore[no-untyped-def]
    with pytest.raises(PlainError, match=says):
        apart(what, patience=1.0 if what is hang else 20.0)(FILE)
    assert apart(pid_of)(FILE) != os.getpid()
    with pytest.raises(PlainError, match=f"a.jpg .*{says}"):
        apart(what, patience=1.0 if what is hang else 20.0, by_name=True)(FILE)


def test_a_full_disk_is_not_the_files_fault() -> None:
    with pytest.raises(OSError, match="No space") as error:
        apart(no_disk)(FILE)
    assert error.value.errno == 28


def test_photos_and_their_troubles_come_through(tmp_path: Path) -> None:
    Image.fromarray(np.full((80, 120, 3), 90, np.uint8)).save(tmp_path / "a.png")
    assert (read_facts(tmp_path / "a.png").width, load_small(tmp_path / "a.png", 60).shape[1]) == (120, 60)
    (tmp_path / "b.jpg").write_bytes(b"no picture")
    with pytest.raises(PlainError, match="not a picture") as error:
        read_facts(tmp_path / "b.jpg")
    assert error.value.remedy
    with pytest.raises(PlainError, match="no file"):
        probe(tmp_path / "c.mp4")


@pytest.fixture
def photos(tmp_path: Path) -> Path:
    """Four photos, and one that does harm."""
    folder = tmp_path / "photos"
    folder.mkdir()
    for k in range(4):
        rng = np.random.default_rng(k)
        Image.fromarray(rng.integers(0, 255, (96, 128, 3), np.uint8)).save(folder / f"{k}.png")
    shutil.copy(folder / "3.png", folder / "deadly.png")
    return folder


@pytest.mark.parametrize(
    ("harm", "says"), [("die", "takes its reader down"), ("hang", "takes longer than 3 s to read")]
)
def test_a_run_names_the_photo_that_holds_or_breaks_its_process_and_goes_on(
    photos: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, harm: str, says: str
) -> None:
    """A pool of processes that breaks, or stands, over one photo: they are read one by one, and that one is left out."""
    monkeypatch.setattr(steps, "inspect_photo", inspect_or_die if harm == "die" else inspect_or_hang)
    monkeypatch.setattr(steps, "PATIENCE", 3.0)
    store = Store(tmp_path / "out")
    done = Runner(store, Quiet()).run(
        recipe_for(Grade.ROUGH, {}), {"photos": {"folder": str(photos)}, "masks": {"folder": None}}, "photos"
    )
    listed = {p.path: p for p in read_photo_list(store.folder(done.versions["photos"])).photos}
    assert [p for p, x in listed.items() if not x.usable] == ["deadly.png"]
    assert says in (listed["deadly.png"].problem or "")


def test_judging_names_the_photo_that_breaks_its_process(
    photos: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    kept = tmp_path / "kept"
    monkeypatch.setattr(inspecting, "keep_glance", keep_or_die)
    monkeypatch.setattr(glances, "keep_glance", keep_or_die)
    pool = LazyExecutor()
    try:
        found = inspecting.look_over(
            photos, sorted(p.name for p in photos.iterdir()), None, kept, pool, lambda *_: None
        )
    finally:
        pool.close(True)
    assert [p.photo for p in found.photos if "unreadable" in p.reasons] == ["deadly.png"]


def test_a_pool_closed_at_once_leaves_no_thread_for_the_exit_to_stumble_over() -> None:
    """Its thread and the interpreter's exit would meet at one pipe, and a good command would end with a traceback."""
    pool = LazyExecutor()
    waiting = pool().submit(hang, FILE)
    (thread,) = [t for t in threading.enumerate() if type(t).__name__ == "_ExecutorManagerThread"]
    pool.close(at_once=True)
    assert not thread.is_alive()
    assert waiting.done(), "whoever waits for it would wait for ever"


def test_a_pool_that_rests_holds_no_processes_and_works_again() -> None:
    pool = LazyExecutor()
    try:
        first = {pool().submit(os.getpid).result() for _ in range(4)}
        pool.rest()
        deadline = time.monotonic() + 10
        while any(Path(f"/proc/{p}").exists() for p in first) and time.monotonic() < deadline:
            time.sleep(0.02)
        assert not [p for p in first if Path(f"/proc/{p}").exists()]
        assert pool().submit(os.getpid).result() not in first
    finally:
        pool.close()
