"""Several machines: a real scheduler and two worker processes of it, one of which is killed in the middle."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from distributed import Client
from tests.conftest import SMALL, Quiet, RigSet

from vast_quarry.core.errors import PlainError
from vast_quarry.pipeline import cluster
from vast_quarry.pipeline.cluster import ClusterPool
from vast_quarry.pipeline.executors import LazyExecutor
from vast_quarry.pipeline.grades import Grade
from vast_quarry.pipeline.recipe import recipe_for
from vast_quarry.pipeline.run import Runner
from vast_quarry.pipeline.store import Store


class Noting(Quiet):
    """Remembers stages."""

    def __init__(self) -> None:
        self.stages: set[str] = set()

    def stage(self, *told: object) -> None:
        self.stages.add(str(told[1]))


def free_port() -> int:
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return int(s.getsockname()[1])


def dask(*arguments: str, folder: Path) -> subprocess.Popen:
    """One of Dask's own commands, in a process group of its own."""
    return subprocess.Popen(
        [sys.executable, "-m", "dask", *arguments],
        cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True,
    )  # fmt: skip


@pytest.fixture(scope="module")
def scheduler(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    folder = tmp_path_factory.mktemp("dask")
    address = f"tcp://127.0.0.1:{free_port()}"
    started = [
        dask("scheduler", "--host", address, "--no-dashboard", folder=folder),
        dask("worker", address, "--nworkers", "2", "--nthreads", "1", "--no-dashboard", "--local-directory", str(folder), folder=folder),
    ]  # fmt: skip
    with Client(address, timeout=60, set_as_default=False) as client:
        client.wait_for_workers(2, timeout=60)
    yield address
    for process in reversed(started):
        os.killpg(process.pid, signal.SIGKILL)
        process.wait()


def test_a_run_on_two_workers_one_of_them_killed_gives_the_same_to_the_bit(
    scheduler: str, built_data: Path, milestone_set: RigSet, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("VAST_QUARRY_SCHEDULER", scheduler)
    here = Store(built_data / "projects" / "1")
    reporter = Noting()
    killed: list[int] = []

    def kill_one() -> None:
        while len(list(tmp_path.rglob("features/*.npz"))) < 5:
            time.sleep(0.02)
        with Client(scheduler, set_as_default=False) as client:
            pid = next(iter(client.run(os.getpid).values()))
        os.kill(pid, signal.SIGKILL)
        killed.append(pid)

    thread = threading.Thread(target=kill_one, daemon=True)
    thread.start()
    done = Runner(Store(tmp_path), reporter).run(
        recipe_for(Grade.ROUGH, SMALL), {"photos": {"folder": str(milestone_set.photos)}}, until="cameras"
    )
    thread.join(30)
    assert killed
    assert "Matching photos" in reporter.stages
    folder = Store(tmp_path).folder(done.versions["cameras"])
    number = here.in_use()["cameras"]
    before = here.root / "cameras" / str(number)
    files = sorted(p.relative_to(before) for p in before.rglob("*.npz") if p.name != "live.npz")
    assert len(files) > 24
    for file in files:
        with np.load(before / file) as ours, np.load(folder / file) as theirs:
            assert ours.files == theirs.files, file
            for name in ours.files:
                np.testing.assert_array_equal(ours[name], theirs[name], err_msg=f"{file} {name}")


def test_stopping_does_not_wait_for_what_runs_elsewhere(scheduler: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("VAST_QUARRY_SCHEDULER", scheduler)
    pool = LazyExecutor()
    waiting = [pool().submit(time.sleep, 6) for _ in range(6)]
    time.sleep(0.5)
    began = time.monotonic()
    pool.close(at_once=True)
    assert time.monotonic() - began < 2.5
    assert not any(f.done() and f.exception() is None for f in waiting)


def test_what_cannot_work_is_told_before_anything_is_computed(
    scheduler: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    pool = ClusterPool(scheduler)
    try:
        assert pool.submit(len, "abc").result(30) == 3
        with pytest.raises(ZeroDivisionError):
            pool.submit(divmod, 1, 0).result(30)
        pool.check(tmp_path)
        assert not list(tmp_path.iterdir())
        monkeypatch.chdir(tmp_path)
        Path("only-here").mkdir()
        with pytest.raises(PlainError, match="does not see the folder only-here"):
            pool.check(Path("only-here"))
        assert pool.room() > 1e8
    finally:
        pool.shutdown()
    monkeypatch.setattr(cluster, "__version__", "0.0.0")
    with pytest.raises(PlainError, match="has another version"):
        ClusterPool(scheduler)
    monkeypatch.setattr(cluster, "PATIENCE", 1.0)
    with pytest.raises(PlainError, match="does not answer"):
        ClusterPool(f"tcp://127.0.0.1:{free_port()}")
