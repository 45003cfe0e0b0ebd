"""Judging a shoot of the rig with planted defects: all found, no good photo condemned."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from typer.testing import CliRunner

from vast_quarry.cli.main import app
from vast_quarry.core.errors import PlainError
from vast_quarry.pipeline.glances import glance

PLANTED = {3: "motion blur", 7: "out of focus", 11: "overexposed", 15: "underexposed"}


@pytest.fixture(scope="module")
def spoilt(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("shoot")
    plant = "3:motion:9,7:focus:8,11:ev:1.7,15:ev:-2.5"
    call = ["rig", "shoot", "--plan", "ring:1x18", "--size", "480x360", "--plant", plant, "--out", str(folder / "set")]
    assert CliRunner().invoke(app, call).exit_code == 0
    call = [
        "rig",
        "shoot",
        "--scene",
        "finial",
        "--plan",
        "ring:1x1",
        "--size",
        "480x360",
        "--out",
        str(folder / "other"),
    ]
    assert CliRunner().invoke(app, call).exit_code == 0
    photos = folder / "set" / "photos"
    with Image.open(photos / "milestone_005.jpg") as image:
        image.resize((360, 270)).save(photos / "milestone_005_small.jpg", quality=85)
    shutil.copy(photos / "milestone_009.jpg", photos / "milestone_009_copy.jpg")
    shutil.copy(folder / "other" / "photos" / "finial_001.jpg", photos / "zz.jpg")
    (photos / "cut.jpg").write_bytes((photos / "milestone_001.jpg").read_bytes()[:8000])
    return photos


@pytest.fixture(scope="module")
def found(spoilt: Path) -> dict[str, dict]:
    told = spoilt.parent / "found.json"
    done = CliRunner().invoke(app, ["inspect", str(spoilt), "--json", str(told)])
    assert done.exit_code == 0, done.exception
    assert "to leave out" in done.stdout
    return {p["photo"]: p for p in json.loads(told.read_text())["photos"]}


def test_every_planted_defect_is_found(found: dict[str, dict]) -> None:
    for number, reason in PLANTED.items():
        p = found[f"milestone_{number:03d}.jpg"]
        assert reason in p["reasons"], (number, p)
        assert p["proposal"] != "keep"
    assert found["milestone_005_small.jpg"]["duplicate_of"] == "milestone_005.jpg"
    assert found["milestone_009_copy.jpg"]["reasons"] == ["duplicate"]
    assert "unrelated" in found["zz.jpg"]["reasons"]
    assert found["cut.jpg"]["reasons"] == ["unreadable"]


def test_no_good_photo_is_condemned(found: dict[str, dict]) -> None:
    good = [f"milestone_{k:03d}.jpg" for k in range(1, 19) if k not in PLANTED]
    assert [n for n in good if found[n]["proposal"] != "keep"] == []
    assert len({found[n]["set"] for n in good}) == 1


def test_aligning_leaves_out_only_what_cannot_serve_and_says_so(spoilt: Path, tmp_path: Path) -> None:
    out = tmp_path / "out"
    done = CliRunner().invoke(app, ["align", str(spoilt), "--grade", "rough", "--out", str(out)])
    assert done.exit_code == 0, done.exception
    without = {row["photo"]: row["why"] for row in json.loads((out / "report.json").read_text())["left_out"]}
    assert "belongs to nothing else" in without.pop("zz.jpg")
    assert without.pop("cut.jpg").startswith("is cut short")
    assert without.pop("milestone_009_copy.jpg") == "is the same file as milestone_009.jpg."
    # blurred and badly exposed ones may fail to be placed, good ones may not
    assert set(without) <= {f"milestone_{k:03d}.jpg" for k in PLANTED}
    assert "zz.jpg belongs to nothing else" in done.stdout


def test_figures_are_those_that_were_planted(found: dict[str, dict]) -> None:
    assert found["milestone_015.jpg"]["ev_offset"] == pytest.approx(-2.5, abs=0.3)
    assert found["milestone_011.jpg"]["ev_offset"] == pytest.approx(1.7, abs=0.4)
    assert found["milestone_003.jpg"]["motion_deg"] in (0.0, 22.5, 157.5)
    assert found["milestone_003.jpg"]["widest_px"] > 2.5 * found["milestone_002.jpg"]["widest_px"]
    assert found["milestone_001.jpg"]["focal_source"] == "35 mm equivalent"


def test_a_folder_without_photos(tmp_path: Path) -> None:
    done = CliRunner().invoke(app, ["inspect", str(tmp_path)])
    assert isinstance(done.exception, PlainError)
    assert "no photos" in str(done.exception)


def test_only_the_subject_is_judged_where_a_mask_says_what_it_is(tmp_path: Path) -> None:
    picture = np.full((240, 320, 3), 120, np.uint8)
    picture[:, 160:] = 255  # a window beside the subject
    picture[60:180, 40:120] = np.random.default_rng(0).integers(60, 180, (120, 80, 3))
    Image.fromarray(picture).save(tmp_path / "a.png")
    (tmp_path / "masks").mkdir()
    mask = np.zeros((240, 320), np.uint8)
    mask[50:190, 30:130] = 255
    Image.fromarray(mask).save(tmp_path / "masks" / "a.png")
    assert glance(tmp_path, "a.png").look.quality.clipped_high_percent > 40
    assert glance(tmp_path, "a.png", tmp_path / "masks").look.quality.clipped_high_percent == 0.0
