"""Small rig sets, shot once for all tests."""

from __future__ import annotations

import fcntl
import gc
import json
import os
import shutil
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest
from fastapi.testclient import TestClient
from hypothesis import settings

from vast_quarry.core.camera import Camera
from vast_quarry.core.formats.ply import PlyData, read_ply
from vast_quarry.core.rig.shoot import ShootSettings, shoot
from vast_quarry.server.app import make_app
from vast_quarry.server.worker import work

# machines are shared: how long an example takes says nothing
settings.register_profile("shared", deadline=None)
settings.load_profile("shared")


def pytest_itemcollected(item: pytest.Item) -> None:
    """Where several processes share the tests, a file stays whole; those in the browser share a server and a page.

    Marked as they are collected: once all are, the groups have been read already.
    """
    file = item.nodeid.split("::")[0]
    item.add_marker(pytest.mark.xdist_group("browser" if file.startswith("tests/browser/") else file))


def pytest_collection_finish() -> None:
    """Modules and tests stay: they need not be looked through each time a run hands memory back."""
    gc.collect()
    gc.freeze()


def made_once(factory: pytest.TempPathFactory, name: str, make: Callable[[Path], object]) -> Path:
    """A folder that the first process that needs it makes, for all of them; the others wait for it."""
    base = factory.getbasetemp()
    root = base.parent if os.environ.get("PYTEST_XDIST_WORKER") else base
    folder, done = root / f"shared-{name}", root / f"shared-{name}.done"
    with open(root / f"shared-{name}.lock", "w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not done.exists():
            folder.mkdir()
            make(folder)
            done.touch()
    return folder


@dataclass
class RigSet:
    """A rig set with its truth read in."""

    folder: Path

    @property
    def photos(self) -> Path:
        return self.folder / "photos"

    @property
    def masks(self) -> Path:
        return self.folder / "masks"

    @property
    def info(self) -> dict:
        return json.loads((self.folder / "truth" / "info.json").read_text())

    @property
    def cameras(self) -> list[dict]:
        return json.loads((self.folder / "truth" / "cameras.json").read_text())["cameras"]

    @property
    def mesh(self) -> PlyData:
        return read_ply(self.folder / "truth" / "mesh.ply")


def camera_of(entry: dict) -> Camera:
    """The lens of an entry of cameras.json."""
    names = ("fx", "fy", "cx", "cy", "k1", "k2", "k3", "p1", "p2")
    return Camera(entry["width"], entry["height"], *[entry[n] for n in names])


def rig_set(factory: pytest.TempPathFactory, name: str, settings: ShootSettings) -> RigSet:
    """A set of the rig, shot once for all processes. Nobody changes it: copy it."""
    return RigSet(made_once(factory, name, lambda folder: shoot(settings, folder)))


@pytest.fixture(scope="session")
def milestone_set(tmp_path_factory: pytest.TempPathFactory) -> RigSet:
    """Two rings of twelve photos of the milestone, 480 x 360."""
    settings = ShootSettings(scene="milestone", rings=2, per_ring=12, width=480, height=360, heldout=2, seed=4)
    return rig_set(tmp_path_factory, "milestone", settings)


@pytest.fixture(scope="session")
def ring_set(tmp_path_factory: pytest.TempPathFactory) -> RigSet:
    """One ring of sixteen photos of the milestone, 400 x 300: the smallest set that becomes a model."""
    settings = ShootSettings(scene="milestone", rings=1, per_ring=16, width=400, height=300, heldout=0, seed=4)
    return rig_set(tmp_path_factory, "ring", settings)


@pytest.fixture(scope="session")
def finial_set(tmp_path_factory: pytest.TempPathFactory) -> RigSet:
    """Two rings of sixteen photos of the finial on its turntable, 480 x 360, without EXIF."""
    settings = ShootSettings(
        scene="finial", rings=2, per_ring=16, width=480, height=360, heldout=1, seed=5, exif=False
    )  # fmt: skip
    return rig_set(tmp_path_factory, "finial", settings)


@pytest.fixture(scope="session")
def plain_set(tmp_path_factory: pytest.TempPathFactory) -> RigSet:
    """One ring of twenty photos of the hound, 480 x 360, painted in one colour, on boards with printed blocks about; no EXIF."""
    settings = ShootSettings(scene="hound", rings=1, per_ring=20, width=480, height=360, heldout=0, seed=6, exif=False)
    return rig_set(tmp_path_factory, "plain", settings)


#: changes to grade Rough that suit the small sets
SMALL = {"cameras": {"photo_scale": 1.0}, "points": {"photo_scale": 1.0, "sweeps": [1, 2, 5], "sources": 5}}


@pytest.fixture(scope="session")
def built_data(milestone_set: RigSet, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A data folder whose first project, of the milestone, was run through to Texture by the worker. Copy it."""
    return made_once(tmp_path_factory, "built", lambda data: build(milestone_set, data, "Carved milestone", "texture"))


@pytest.fixture(scope="session")
def plain_data(plain_set: RigSet, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A data folder whose first project, of the plain hound, was run through to Surface by the worker. Copy it."""
    return made_once(tmp_path_factory, "plain-built", lambda data: build(plain_set, data, "Iron hound", "surface"))


def build(rig: RigSet, data: Path, name: str, layer: str) -> None:
    client = TestClient(make_app(data), "http://127.0.0.1")
    where = f"/api/v1/projects/{client.post('/api/v1/projects', json={'name': name, 'grade': 'rough'}).json()['id']}"
    assert client.post(f"{where}/photos/from-path", json={"path": str(rig.photos)}).status_code == 202
    work(data, once=True)
    assert len(client.get(f"{where}/photos").json()) == len(rig.cameras)
    for changed, values in SMALL.items():
        assert client.put(f"{where}/layers/{changed}/settings", json=values).status_code == 200
    job = client.post(f"{where}/layers/{layer}/run").json()
    assert job["state"] == "queued"
    work(data, once=True)
    done = next(j for j in client.get("/api/v1/jobs").json() if j["id"] == job["id"])
    assert done["state"] == "done", done["message"]
    client.app.state.engine.dispose()  # type: ignore[attr-defined]


class Quiet:
    """A reporter that is told everything and says nothing."""

    def begin(self, *told: object) -> None: ...
    def stage(self, *told: object) -> None: ...
    def end(self, *told: object) -> None: ...
    def say(self, *told: object) -> None: ...
    def beat(self) -> None: ...


def moved(data: Path, to: Path) -> Path:
    """A data folder somewhere else, as when a disk is changed."""
    shutil.copytree(data, to, dirs_exist_ok=True)
    return to


@pytest.fixture
def rng() -> np.random.Generator:
    return np.random.default_rng(11)


@pytest.fixture(scope="session")
def turning_set(tmp_path_factory: pytest.TempPathFactory) -> RigSet:
    """Two heights of ten photos of the finial, 400 x 300, turned before a patterned backdrop in light that drifts, no EXIF."""
    settings = ShootSettings(
        scene="finial", rings=2, per_ring=10, width=400, height=300, heldout=0, seed=8, exif=False, backdrop="patterned",
        on=frozenset({"lamps"}),
    )  # fmt: skip
    return rig_set(tmp_path_factory, "turning", settings)
