"""Sentences: patterns and values, plurals, another language, and the catalogues being whole."""

from __future__ import annotations

import json
import pickle
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from sqlalchemy.engine import default
from typer.testing import CliRunner

from vast_quarry.cli.main import app
from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import Said, catalogue, fill, say, together, written
from vast_quarry.pipeline.sentence import as_data, sentence
from vast_quarry.server.models import SaidLines, SaidText

SHOTS = "{n, plural, =0 {No shot} one {One shot} other {# shots}} of {names}{more, plural, =0 {} other { and # more}}."


def test_plurals_as_icu_has_them() -> None:
    # Unicode ICU User Guide, "Formatting Messages": an exact match wins over a category, # is the number
    assert fill(SHOTS, {"n": 0, "names": "a", "more": 0}) == "No shot of a."
    assert fill(SHOTS, {"n": 1, "names": ["a", "b"], "more": 0}) == "One shot of a and b."
    assert fill(SHOTS, {"n": 12345, "names": ["a", "b", "c"], "more": 2}) == (
        "12\N{NARROW NO-BREAK SPACE}345 shots of a, b and c and 2 more."
    )
    assert fill("{state, select, placed {stands} other {is {state}}}", {"state": "loose"}) == "is loose"


@pytest.mark.parametrize("pattern", ["{", "{a b}", "{n, plural, one {a}", "{n, spell}"])
def test_what_is_no_pattern_is_told(pattern: str) -> None:
    with pytest.raises(ValueError, match="not a pattern"):
        fill(pattern, {"n": 1, "a": 1})


def test_numbers_as_they_are_read() -> None:
    assert [written(x) for x in (2.0, 0.5, 1234, 12345.5, np.float64(1.25), float("inf"))] == [
        "2", "0.5", "1234", "12\N{NARROW NO-BREAK SPACE}345.5", "1.25", "inf",
    ]  # fmt: skip
    assert written(0.5, "de") == "0,5"
    assert written(["a", "b"], "de") == "a und b"


def test_sentences_within_sentences_are_said_in_german() -> None:
    inner = say("is {stops} stops darker than the others", stops=0.5)
    whole = say("{name} {problem}", name="a.jpg", problem=together([inner, Said("is no longer there.")], "; "))
    assert whole == "a.jpg is 0.5 stops darker than the others; is no longer there."
    assert whole.in_language("de") == "a.jpg ist um 0,5 Blendenstufen dunkler als die anderen; ist nicht mehr da."
    assert whole.in_language("xx") == whole
    error = PlainError(say("There is no folder {folder}.", folder=Path("/a b")), "Check the path.")
    assert str(error) == "There is no folder /a b. Check the path."
    assert error.said.in_language("de") == "Es gibt keinen Ordner /a b. Den Pfad prüfen."


def test_they_outlive_processes_files_and_the_database() -> None:
    said = say("done in {seconds} s", seconds=1.5)
    again = pickle.loads(pickle.dumps(said))
    assert (again, again.pattern, again.values) == (said, said.pattern, said.values)
    error = pickle.loads(pickle.dumps(PlainError(said, "Try it again.")))
    assert error.what.values == {"seconds": 1.5}
    nested = together([said, Said("Done")])
    back = sentence(json.loads(json.dumps(as_data(nested))))
    assert back.in_language("de") == nested.in_language("de") == "fertig in 1,5 s Fertig"
    assert sentence("as it was written before").in_language("de") == "as it was written before"
    with pytest.raises(ValueError, match="text"):
        sentence(3)
    dialect = default.DefaultDialect()
    column, lines = SaidText(), SaidLines()
    assert column.process_result_value(column.process_bind_param(said, dialect), dialect).values == said.values
    assert column.process_result_value(column.process_bind_param("plain", dialect), dialect) == "plain"
    kept = lines.process_result_value(lines.process_bind_param(["plain", said], dialect), dialect)
    assert [line.in_language("de") for line in kept] == ["plain", "fertig in 1,5 s"]


def test_the_catalogue_is_whole_and_asks_for_the_same_values() -> None:
    script = Path(__file__).parents[2] / "scripts" / "words.py"
    done = subprocess.run([sys.executable, str(script), "--check"], capture_output=True, text=True)
    assert done.returncode == 0, done.stdout

    class Any(dict):
        def __missing__(self, name: str) -> str:
            asked.add(name)
            return "2"  # type: ignore[return-value]

    for english, german in catalogue("de").items():
        names = []
        for pattern in (english, german):
            asked: set[str] = set()
            fill(pattern, Any())
            names.append(asked)
        assert names[0] == names[1], english


def test_the_command_line_speaks_german_where_the_machine_does(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setenv("VAST_QUARRY_LANGUAGE", "de_DE.UTF-8")
    listed = CliRunner().invoke(app, ["settings", "points"])
    assert "Fotos, die übereinstimmen müssen" in listed.output
    monkeypatch.setenv("VAST_QUARRY_LANGUAGE", "en")
    assert "Photos that must agree" in CliRunner().invoke(app, ["settings", "points"]).output
