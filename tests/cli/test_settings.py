"""Settings are declared once: what the page, the command line and the document tell is the same, and complete."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from tests.cli.test_cli import run
from tests.conftest import RigSet

from vast_quarry.core.errors import PlainError
from vast_quarry.pipeline.grades import GRADES, Grade
from vast_quarry.pipeline.registry import STEPS, step_of
from vast_quarry.pipeline.settings import keep_box, parsed, settings_of, value_in

EVERY = [(step.layer, s) for step in STEPS for s in settings_of(step)]


@pytest.mark.parametrize(("layer", "s"), EVERY, ids=[f"{layer}.{s.name}" for layer, s in EVERY])
def test_a_setting_says_all_there_is_to_say(layer: str, s) -> None:  # type: ignore[no-untyped-def]
    assert s.title[0].isupper()
    assert "_" not in s.title
    assert s.description.endswith(".")
    assert not s.cost or s.cost.endswith(".")
    if s.kind in ("integer", "number"):
        assert s.usual is not None, "a number needs a range that is sensible"
        low, high = s.usual
        assert low < high
        assert s.minimum is None or s.minimum <= low
        assert s.maximum is None or high <= s.maximum
        for grade in Grade:
            value = GRADES[grade].get(layer, {}).get(s.name, s.default)
            # a grade's own value is one of the sensible ones, give or take what a quick look saves
            assert value is None or 0.5 * low <= value <= 1.25 * high, (grade, value)
    if s.kind == "choice":
        assert len(s.choices) == len(s.labels)
        assert s.default in s.choices


def test_of_each_layer_at_most_six_settings_are_shown_at_once_and_titles_are_told_apart() -> None:
    for step in STEPS:
        listed = settings_of(step)
        assert sum(s.main for s in listed) <= 6
        assert len({s.title for s in listed}) == len(listed)
        mains = [s.main for s in listed]
        assert mains == sorted(mains, reverse=True)
    titles = [s.title for _, s in EVERY]
    assert len(set(titles)) == len(titles), "one title means two things"


def test_the_document_is_that_of_the_declarations() -> None:
    document = (Path(__file__).parents[2] / "docs" / "settings.md").read_text("utf-8")
    for layer, s in EVERY:
        row = next(line for line in document.splitlines() if f"`{layer}.{s.name}`" in line)
        assert s.title in row
        assert value_in(Grade.POLISHED, layer, s) in row


def test_the_command_lists_them_and_takes_them(ring_set: RigSet, tmp_path: Path) -> None:
    told = run("settings", "points").stdout
    assert "points.least_views = 3 photos" in told
    assert "Photos that must agree" in told
    assert "surface" not in told
    assert "no layer 'stone'" in run("settings", "stone").stderr
    out = tmp_path / "out"
    done = run(
        "align", ring_set.photos, "--out", out, "--set", "cameras.features=2500", "--set", "cameras.ground=off"
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    used = json.loads((out / "recipe.json").read_text())["layers"]["cameras"]
    assert (used["features"], used["ground"]) == (2500, False)


@pytest.mark.parametrize(
    ("text", "layer", "values"),
    [
        ("points.least_views=4", "points", {"least_views": 4}),
        (" surface.closed = on ", "surface", {"closed": True}),
        ("surface.cell=1.25", "surface", {"cell": 1.25}),
        ("points.ground=keep", "points", {"ground": "keep"}),
        ("photos.focal_as_35_mm=", "photos", {"focal_as_35_mm": None}),
        ("points.box=0,0,0,1,2,3", "points", {"box": {"low": [0, 0, 0], "high": [1, 2, 3], "turn": 0.0}}),
        ('points.box={"low": [0,0,0], "high": [1,1,1]}', "points", {"box": {"low": [0, 0, 0], "high": [1, 1, 1]}}),
        ("points.box=", "points", {"box": None}),
        ("cameras.center=0.1, 0.2, 0", "cameras", {"center": [0.1, 0.2, 0]}),
        ('cameras.level=[["z", 90]]', "cameras", {"level": [["z", 90]]}),
    ],
)
def test_what_is_typed_is_read(text: str, layer: str, values: dict) -> None:
    assert parsed(text) == (layer, values)
    step_of(layer).settings_model.model_validate(values | ({"folder": "."} if layer == "photos" else {}))


def test_what_was_measured_can_be_given_as_a_file(tmp_path: Path) -> None:
    bar = {"name": "staff", "a": {"at": [0, 0, 0]}, "b": {"at": [0, 0, 1]}, "length_mm": 500}
    (tmp_path / "bars.json").write_text(json.dumps([bar]), "utf-8")
    layer, values = parsed(f"cameras.bars=@{tmp_path / 'bars.json'}")
    assert values == {"bars": [bar]}
    step_of(layer).settings_model.model_validate(values)
    with pytest.raises(PlainError, match="cannot be read"):
        parsed("cameras.bars=@nowhere.json")
    assert "cameras.bars = JSON or @FILE" in run("settings", "cameras").stdout


@pytest.mark.parametrize(
    "text", ["points", "points.sweeps=1", "stone.size=3", "points.keep", "=", "photos.folder=/etc"]
)
def test_what_is_no_setting_is_told(text: str) -> None:
    with pytest.raises(PlainError, match="no setting"):
        parsed(text)


def test_a_value_that_does_not_fit_is_told_before_anything_is_computed(ring_set: RigSet, tmp_path: Path) -> None:
    for text in ("surface.faces=many", "points.keep=99", "points.ground=grass"):
        done = run("build", ring_set.photos, "--out", tmp_path / "out", "--set", text)
        assert done.returncode == 1
        assert "does not fit" in done.stderr


@pytest.mark.parametrize("text", ["", "1,2,3", "0,0,0,1,1,0", "0,0,0,1,1,nan", "a,b,c,d,e,f", "0,0,0,1,1,1,5,6"])
def test_a_keep_box_that_is_none_is_told(text: str) -> None:
    with pytest.raises(PlainError, match="no keep box"):
        keep_box(text)


def test_a_keep_box_can_be_typed() -> None:
    assert keep_box("-1,-2,0,1,2,3") == {"low": [-1, -2, 0], "high": [1, 2, 3], "turn": 0.0}
    assert keep_box("-1,-2,0,1,2,3,90")["turn"] == pytest.approx(np.pi / 2)
