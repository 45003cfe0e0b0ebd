"""Versions are whole, or not there: kills, cuts of the power, two runs at once."""

from __future__ import annotations

import json
import multiprocessing
import shutil
import threading
from pathlib import Path

import numpy as np
import pytest

from vast_quarry.core.errors import PlainError
from vast_quarry.core.formats.atomic import atomic_write, is_whole, read_json, write_arrays, write_json
from vast_quarry.core.formats.documents import changed
from vast_quarry.core.formats.lock import Taken, hold, lock, release
from vast_quarry.pipeline.store import Store, Version


@pytest.fixture
def store(tmp_path: Path) -> Store:
    out = Store(tmp_path)
    out.prepare()
    return out


def make(store: Store, key: str = "k1") -> Version:
    folder = store.partial("photos", key)
    (folder / "units").mkdir(exist_ok=True)
    write_json(folder / "photos.json", {"photos": list(range(40))})
    write_arrays(folder / "units" / "0.npz", a=np.arange(100))
    return store.finish("photos", key, {}, {}, {"photos": 40}, [], 1.0)


def test_a_version_lists_its_files_and_is_found(store: Store) -> None:
    folder = store.partial("photos", "k1")
    (folder / ".photos.json.99.abcd.partial").write_bytes(b"half")  # of a unit that was killed
    version = make(store)
    assert set(version.files or {}) == {"photos.json", "units/0.npz"}
    assert store.find("photos", "k1") == version
    assert store.in_use() == {"photos": 1}
    assert not list(store.folder(version).rglob("*.partial"))


@pytest.mark.parametrize("what", ["photos.json", "units/0.npz", "version.json"])
@pytest.mark.parametrize("how", ["cut", "empty", "gone"])
def test_a_version_of_which_something_is_missing_is_not_there(store: Store, what: str, how: str) -> None:
    version = make(store)
    file = store.folder(version) / what
    if how == "gone":
        file.unlink()
    else:
        file.write_bytes(file.read_bytes()[: 0 if how == "empty" else -5])
    import vast_quarry.pipeline.store as module

    module._known.clear()  # as after a restart
    assert store.versions("photos") == []
    assert store.find("photos", "k1") is None
    if what != "version.json":
        with pytest.raises(PlainError, match="missing or cut"):
            store.use(version)
    # made again it gets a number of its own
    assert make(store).number == 2


def test_versions_of_before_their_files_were_listed_stay(store: Store) -> None:
    version = make(store)
    file = store.folder(version) / "version.json"
    document = json.loads(file.read_bytes())
    del document["files"]
    file.write_text(json.dumps(document))
    assert [v.number for v in store.versions("photos")] == [1]


def test_a_run_whose_folder_was_removed_does_not_make_it_again(store: Store) -> None:
    shutil.rmtree(store.partial("photos", "k1"))
    with pytest.raises(PlainError, match="was removed while it ran"):
        store.finish("photos", "k1", {}, {}, {}, [], 1.0)
    assert store.versions("photos") == []
    assert store.in_use() == {}


def test_two_runs_in_one_folder(store: Store) -> None:
    with store.making(), pytest.raises(PlainError, match="Another run is at work"), store.making():
        pass
    with store.making():
        pass


def _hold_and_die(path: str, ready: object) -> None:
    hold(Path(path))
    ready.set()  # type: ignore[attr-defined]
    threading.Event().wait()


def test_a_lock_ends_with_its_holder(tmp_path: Path) -> None:
    context = multiprocessing.get_context("spawn")
    ready = context.Event()
    other = context.Process(target=_hold_and_die, args=(str(tmp_path / "l"), ready))
    other.start()
    assert ready.wait(60)
    with pytest.raises(Taken) as error:
        hold(tmp_path / "l")
    assert str(other.pid) in error.value.whose
    other.kill()
    other.join()
    release(hold(tmp_path / "l"))


def test_threads_that_write_one_file_never_tear_it(tmp_path: Path) -> None:
    file = tmp_path / "thumb.webp"
    bodies = [bytes([k]) * 200_000 for k in range(6)]
    wrong: list[object] = []

    def write(body: bytes) -> None:
        for _ in range(20):
            try:
                with atomic_write(file) as out:
                    out.write(body)
                if file.read_bytes() not in bodies:
                    wrong.append("torn")
            except OSError as error:
                wrong.append(error)

    threads = [threading.Thread(target=write, args=(b,)) for b in bodies]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    assert wrong == []
    assert [p.name for p in tmp_path.iterdir()] == ["thumb.webp"]


def test_changes_from_many_threads_are_all_kept(tmp_path: Path) -> None:
    file = tmp_path / "sets.json"

    def add(k: int) -> None:
        with changed(file) as known:
            known[str(k)] = k

    threads = [threading.Thread(target=add, args=(k,)) for k in range(24)]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    assert read_json(file) == {str(k): k for k in range(24)}


def test_what_cannot_be_read_is_not_taken_for_nothing(tmp_path: Path) -> None:
    file = tmp_path / "decided.json"
    assert read_json(file, list) == []
    file.write_text('["a"')
    with pytest.raises(PlainError, match="left as it is"), changed(file, list) as known:
        known.append("b")
    assert file.read_text() == '["a"'
    file.write_text('{"a": 1}')
    with pytest.raises(PlainError, match="something else"):
        read_json(file, list)


def test_units_that_a_power_cut_left_short_are_made_again(tmp_path: Path) -> None:
    write_arrays(tmp_path / "a.npz", x=np.arange(1000))
    np.save(tmp_path / "b.npy", np.arange(1000))
    write_json(tmp_path / "c.json", {"a": [1, 2, 3]})
    (tmp_path / "d.png").write_bytes(b"x" * 100)
    for file in tmp_path.iterdir():
        assert is_whole(file), file
        body = file.read_bytes()
        file.write_bytes(b"")
        assert not is_whole(file), file
        if file.suffix != ".png":
            file.write_bytes(body[: len(body) // 2])
            assert not is_whole(file), file
    assert not is_whole(tmp_path / "none.npz")


def test_a_lock_that_is_waited_for(tmp_path: Path) -> None:
    from vast_quarry.core.formats.lock import wait_for

    handle = hold(tmp_path / "l")
    threading.Timer(0.3, release, [handle]).start()
    release(wait_for(tmp_path / "l", 20))
    with lock(tmp_path / "l"), pytest.raises(Taken):
        wait_for(tmp_path / "l", 0.2)
