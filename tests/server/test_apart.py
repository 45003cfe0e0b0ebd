"""Files are read apart from the server: what hangs, crashes or swallows memory is told, and the next one is read."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.server.misbehaving import crash, hang, no_disk, pid_of, stumble, swallow

from vast_quarry.core.errors import PlainError
from vast_quarry.server.services.apart import apart, load_small, probe, read_facts

FILE = Path("a.jpg")


def test_it_is_another_process_and_stays_one() -> None:
    first = apart(pid_of)(FILE)
    assert first != os.getpid()
    assert apart(pid_of)(FILE) == first


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
