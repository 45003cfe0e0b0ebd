"""What tests of the server begin with, where they say nothing else: a copy of the built project, and an application over it."""

from __future__ import annotations

from pathlib import Path

import pytest
from fastapi.testclient import TestClient
from tests.conftest import moved

from vast_quarry.server.app import make_app


@pytest.fixture
def data(built_data: Path, tmp_path: Path) -> Path:
    """A data folder of its own with the built project."""
    return moved(built_data, tmp_path / "data")


@pytest.fixture
def client(data: Path) -> TestClient:
    """An application over it."""
    return TestClient(make_app(data), "http://127.0.0.1")
