"""Optics and plans on the command line."""

from __future__ import annotations

import csv
import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from typer.testing import CliRunner

from vast_quarry.cli.main import app
from vast_quarry.core.errors import PlainError

OPTICS = [
    "optics",
    "--sensor",
    "23.5x15.6",
    "--pixels",
    "6000x4000",
    "--focal",
    "35",
    "--aperture",
    "8",
    "--distance",
    "0.8",
]


def call(*arguments: str | Path) -> str:
    """Output of a command that is to go well."""
    done = CliRunner().invoke(app, [str(a) for a in arguments])
    assert done.exit_code == 0, done.exception
    return done.stdout


def complaint(*arguments: str | Path) -> str:
    """What a command that is to fail says."""
    done = CliRunner().invoke(app, [str(a) for a in arguments])
    assert isinstance(done.exception, PlainError), done.output
    return str(done.exception)


def test_optics_in_json() -> None:
    out = json.loads(call(*OPTICS, "--shutter", "1/125", "--json"))
    # handbook formulas by hand: 2 atan(d / 2f), pitch x distance / f, f^2 / (N c) + f, 2.44 x 0.55 um x N
    assert out["fov_deg"] == pytest.approx(37.1, abs=0.05)
    assert out["gsd_mm"] == pytest.approx(0.0895, abs=1e-4)
    assert out["coc_mm"] == pytest.approx(0.0188, abs=1e-4)
    assert out["hyperfocal_m"] == pytest.approx(35**2 / (8 * 0.018804) / 1000 + 0.035, rel=1e-3)
    assert out["airy_um"] == pytest.approx(10.74, abs=0.01)
    assert out["near_m"] < 0.8 < out["far_m"]
    assert out["blur_px"] == pytest.approx(4.801 * 53.687 / 125, rel=1e-3)
    assert json.loads(call(*OPTICS, "--shutter", "1/125", "--hold", "tripod", "--json"))["blur_px"] == 0
    table = json.loads(call(*OPTICS, "--shutter", "1/50", "--hold", "table:12", "--size", "0.2", "--json"))
    assert table["blur_px"] == pytest.approx(np.radians(12) / 50 * 100 / (0.7 / 0.8 * 0.0895238), rel=1e-3)


def test_far_limit_is_null_when_infinite() -> None:
    out = json.loads(call(*OPTICS[:-1], "50", "--json"))
    assert out["far_m"] is None
    assert "infinite" in call(*OPTICS[:-1], "50")


@pytest.mark.parametrize(
    ("change", "says"),
    [
        (["--sensor", "big"], "23.5x15.6"),
        (["--pixels", "6000.5x4000"], "whole pixels"),
        (["--focal", "0"], "focal length"),
        (["--distance", "-1"], "distance"),
        (["--distance", "0.03"], "cannot focus"),
        (["--shutter", "1/0"], "1/125"),
        (["--shutter", "1/60", "--hold", "teeth"], "hand, tripod or table"),
    ],
)
def test_impossible_optics_are_one_sentence(change: list[str], says: str) -> None:
    assert says in complaint(*OPTICS, *change)


def test_a_plan_is_written_shot_and_left_alone(tmp_path: Path) -> None:
    subject = tmp_path / "subject.json"
    subject.write_text(json.dumps({"rings": 1, "pixels_wide": 96, "pixels_high": 72, "removed": list(range(4, 20))}))
    said = call("plan", subject, "--out", tmp_path / "plan")
    assert "4 shots" in said
    document = json.loads((tmp_path / "plan" / "plan.json").read_text())
    rows = list(csv.DictReader((tmp_path / "plan" / "shots.csv").open()))
    assert len(rows) == len(document["result"]["stations"]) == 4
    coverage = json.loads((tmp_path / "plan" / "coverage.json").read_text())
    assert len(coverage["count"]) * 9 == len(coverage["corners"])
    # the practice rig stands where the plan says
    call("rig", "shoot", "--plan", tmp_path / "plan" / "plan.json", "--out", tmp_path / "set")
    truth = json.loads((tmp_path / "set" / "truth" / "cameras.json").read_text())["cameras"]
    assert len(truth) == 4
    for camera, station in zip(truth, document["result"]["stations"]):
        np.testing.assert_allclose(camera["center"], station["center"], atol=1e-9)
    assert "left alone" in complaint("plan", subject, "--out", tmp_path / "set")


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("{", "no JSON file"),
        ('{"width": 0}', "width"),
        ('{"focal_mm": 0}', "focal_mm"),
        ('{"height": -2}', "height"),
        ('{"lowest_m": 3}', "no position"),
        ('{"colour": "red"}', "colour"),
    ],
)
def test_impossible_plans_are_one_sentence_and_write_nothing(tmp_path: Path, text: str, says: str) -> None:
    (tmp_path / "s.json").write_text(text)
    assert says in complaint("plan", tmp_path / "s.json", "--out", tmp_path / "out")
    assert not (tmp_path / "out").exists()


def test_a_failure_ends_with_code_one_and_one_line() -> None:
    command = [sys.executable, "-m", "vast_quarry.cli.main", "plan", "/no/such.json", "--out", "/tmp/nowhere"]
    done = subprocess.run(command, capture_output=True, text=True)
    assert done.returncode == 1
    assert len(done.stderr.strip().splitlines()) == 1
