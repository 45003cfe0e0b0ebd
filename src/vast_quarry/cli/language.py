"""The language that the command line tells results in."""

from __future__ import annotations

import os

from vast_quarry.core.words import LANGUAGES, in_language

#: where a language is asked for, the first that is set
ASKED = ("VAST_QUARRY_LANGUAGE", "LC_ALL", "LC_MESSAGES", "LANG")


def spoken() -> str:
    """Two letters; English where there is no catalogue for what is asked for."""
    asked = next((v for name in ASKED if (v := os.environ.get(name))), "en")[:2].lower()
    return asked if asked in LANGUAGES else "en"


def told(sentence: str) -> str:
    """A sentence in the user's language."""
    return str(in_language(sentence, spoken()))
