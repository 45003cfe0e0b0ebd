"""Sentences that can be said in another language: a pattern in English, and the values that go into it.

Patterns are ICU messages of three forms: ``{name}``, ``{n, plural, one {# photo} other {# photos}}`` and
``{state, select, placed {placed} other {loose}}``. The English pattern is the key of the catalogues of other languages
(``words/de.json``), as in gettext; the page fills the same patterns by the same rules.

References
----------
Unicode ICU User Guide, "Formatting Messages"; Unicode CLDR plural rules (English and German: one is 1, all else is other).
"""

from __future__ import annotations

import json
import math
import re
from collections.abc import Iterator, Mapping, Sequence
from functools import cache
from importlib.resources import files
from typing import Any

#: languages with a catalogue, beside English
LANGUAGES = ("de",)
#: how numbers are written: decimal sign
_DECIMAL = {"en": ".", "de": ","}
_HEAD = re.compile(r"\{\s*(\w+)\s*(?:(\})|,\s*(plural|select)\s*,)")


class Said(str):
    """A sentence in English that remembers how it was put together.

    It is a string like any other, for the command line and for files. ``pattern`` and ``values`` (text, numbers, further
    sentences, or lists of them) tell it in another language.
    """

    pattern: str
    values: dict[str, Any]

    def __new__(cls, text: str, pattern: str = "", values: Mapping[str, Any] | None = None) -> Said:
        """A sentence; without a pattern the text itself is one."""
        made = super().__new__(cls, text)
        made.pattern = pattern or text
        made.values = dict(values or {})
        return made

    def __reduce__(self) -> tuple[type[Said], tuple[str, str, dict[str, Any]]]:
        return Said, (str(self), self.pattern, self.values)

    def in_language(self, language: str) -> str:
        """The sentence in a language; what the catalogue does not have stays English."""
        if language not in LANGUAGES:
            return str(self)
        pattern = catalogue(language).get(self.pattern, self.pattern)
        return fill(pattern, {k: in_language(v, language) for k, v in self.values.items()}, language)


def say(pattern: str, /, **values: Any) -> Said:
    """A sentence from its pattern; numbers are to be rounded as they shall be read.

    Raises
    ------
    KeyError
        When the pattern asks for a value that is not given.
    """
    plain = {k: _plain(v) for k, v in values.items()}
    return Said(fill(pattern, plain), pattern, plain)


def pattern(text: str) -> str:
    """A pattern that is told elsewhere: marked so that the catalogues are checked for it."""
    return text


def together(sentences: Sequence[str], between: str = " ") -> Said:
    """Some sentences as one."""
    if len(sentences) == 1:
        return sentences[0] if isinstance(sentences[0], Said) else Said(sentences[0])
    names = [f"s{k}" for k in range(len(sentences))]
    return say(between.join(f"{{{n}}}" for n in names), **dict(zip(names, sentences)))


def _plain(value: Any) -> Any:
    """A value as JSON takes it: paths, errors and the like are text."""
    if isinstance(value, str | bool | int | float) or value is None:
        return value
    if isinstance(value, list | tuple):
        return [_plain(v) for v in value]
    return value.item() if hasattr(value, "item") else str(value)


def in_language(value: Any, language: str) -> Any:
    """A value of a sentence, itself perhaps a sentence or a list of them, in a language."""
    if isinstance(value, Said):
        return value.in_language(language)
    if isinstance(value, str):
        return catalogue(language).get(value, value)
    if isinstance(value, list | tuple):
        return [in_language(v, language) for v in value]
    return value


def rounded(x: float, digits: int) -> float:
    """A number with so many significant digits."""
    return x if not x or not math.isfinite(x) else round(x, digits - 1 - math.floor(math.log10(abs(x))))


def fill(pattern: str, values: Mapping[str, Any], language: str = "en") -> str:
    """Put values into a pattern.

    Raises
    ------
    KeyError
        When a value is missing.
    ValueError
        When the pattern is not one.
    """
    return "".join(_parts(pattern, values, language, None))


def _parts(pattern: str, values: Mapping[str, Any], language: str, count: str | None) -> Iterator[str]:
    at = 0
    while at < len(pattern):
        brace = pattern.find("{", at)
        plain = pattern[at : brace if brace >= 0 else None]
        yield plain if count is None else plain.replace("#", count)
        if brace < 0:
            return
        head = _HEAD.match(pattern, brace)
        if head is None:
            raise ValueError(f"not a pattern: {pattern!r}")
        name, simple, kind = head.groups()
        value = values[name]
        if simple:
            yield written(value, language)
            at = head.end()
            continue
        cases, at = _cases(pattern, head.end())
        if kind == "select":
            yield from _parts(cases.get(str(value), cases["other"]), values, language, count)
        else:
            kinds = (f"={value}", "one" if value == 1 else "other", "other")
            chosen = next(cases[k] for k in kinds if k in cases)
            yield from _parts(chosen, values, language, written(value, language))


def _cases(pattern: str, at: int) -> tuple[dict[str, str], int]:
    """Cases of a plural or a choice that begin at a place, and the place after its closing brace."""
    cases: dict[str, str] = {}
    while True:
        found = re.compile(r"\s*(?:(\})|([\w=]+)\s*\{)").match(pattern, at)
        if found is None:
            raise ValueError(f"not a pattern: {pattern!r}")
        if found.group(1):
            return cases, found.end()
        depth, end = 1, found.end()
        while depth:
            depth += {"{": 1, "}": -1}.get(pattern[end : end + 1] or "}", 0)
            end += 1
        cases[found.group(2)], at = pattern[found.end() : end - 1], end


def written(value: Any, language: str = "en") -> str:
    """A value as it is read: numbers with a decimal sign and thin spaces, lists with "and"."""
    if isinstance(value, bool) or value is None or isinstance(value, str):
        return str(value)
    if isinstance(value, int | float):
        if not math.isfinite(value):
            return str(value)
        text = f"{value:.10g}" if isinstance(value, float) else str(value)
        whole, dot, rest = text.partition(".")
        if len(whole.lstrip("-")) > 4:
            whole = f"{int(whole):,}".replace(",", "\N{NARROW NO-BREAK SPACE}")
        return whole + (_DECIMAL[language] if dot else "") + rest
    if isinstance(value, Sequence):
        words = [written(v, language) for v in value]
        last = {"en": " and ", "de": " und "}[language]
        return last.join([", ".join(words[:-1]), words[-1]] if len(words) > 1 else words)
    return str(value)


@cache
def catalogue(language: str) -> dict[str, str]:
    """English patterns with what they are in a language; empty for English, and for one that is not there."""
    if language not in LANGUAGES:
        return {}
    found: dict[str, str] = json.loads((files("vast_quarry") / "words" / f"{language}.json").read_text("utf-8"))
    return found


@cache
def _codes() -> dict[str, str]:
    found: dict[str, str] = json.loads((files("vast_quarry") / "words" / "codes.json").read_text("utf-8"))
    return {text: code for code, text in found.items()}


def code_of(what: str) -> str:
    """The code of a sentence, which stays when it is worded anew; of several together that of the first; empty without one."""
    if not isinstance(what, Said):
        return _codes().get(str(what), "")
    code = _codes().get(what.pattern, "")
    inner = [v for v in what.values.values() if isinstance(v, Said)]
    return code or next((c for v in inner if (c := code_of(v))), "")
