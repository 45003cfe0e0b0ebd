"""Small rig sets, shot once for all tests."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest
from hypothesis import settings

from vast_quarry.core.camera import Camera
from vast_quarry.core.formats.ply import PlyData, read_ply
from vast_quarry.core.rig.shoot import ShootSettings, shoot

# machines are shared: how long an example takes says nothing
settings.register_profile("shared", deadline=None)
settings.load_profile("shared")


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


@pytest.fixture(scope="session")
def milestone_set(tmp_path_factory: pytest.TempPathFactory) -> RigSet:
    """Two rings of twelve photos of the milestone, 480 x 360."""
    folder = tmp_path_factory.mktemp("milestone")
    shoot(ShootSettings(scene="milestone", rings=2, per_ring=12, width=480, height=360, heldout=2, seed=4), folder)
    return RigSet(folder)


@pytest.fixture(scope="session")
def finial_set(tmp_path_factory: pytest.TempPathFactory) -> RigSet:
    """Two rings of sixteen photos of the finial on its turntable, 480 x 360, without EXIF."""
    folder = tmp_path_factory.mktemp("finial")
    shoot(
        ShootSettings(scene="finial", rings=2, per_ring=16, width=480, height=360, heldout=1, seed=5, exif=False),
        folder,
    )
    return RigSet(folder)


@pytest.fixture
def rng() -> np.random.Generator:
    return np.random.default_rng(11)
