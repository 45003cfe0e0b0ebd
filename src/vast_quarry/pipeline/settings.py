"""Settings as people see them: told by the page, by the command line and by ``docs/settings.md``."""

from __future__ import annotations

import json
from functools import cache
from pathlib import Path
from typing import Any, Literal

import numpy as np
from pydantic import BaseModel

from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import say
from vast_quarry.pipeline.grades import GRADES, Grade
from vast_quarry.pipeline.registry import STEPS
from vast_quarry.pipeline.step import Step, StepSettings

SettingValue = bool | int | float | str | None


class SettingInfo(BaseModel):
    """One setting of a layer: enough to draw a form for it."""

    name: str
    kind: Literal["boolean", "integer", "number", "choice"]
    #: an empty field has a meaning of its own
    may_be_empty: bool
    title: str
    description: str
    #: shown at once; the others are folded away
    main: bool
    unit: str
    #: where sensible values lie
    usual: list[float] | None
    #: what more of it takes
    cost: str
    default: SettingValue
    minimum: float | None = None
    maximum: float | None = None
    choices: list[str] | None = None
    labels: list[str] | None = None
    #: what values are taken, in words
    possible: str = ""


def number_in_words(value: Any) -> str:
    """A value as it is written."""
    if value is None:
        return "empty"
    if isinstance(value, bool):
        return "on" if value else "off"
    return f"{value:,.0f}".replace(",", "\N{NARROW NO-BREAK SPACE}") if abs(value) >= 10_000 else f"{value:g}"


def _possible(rules: dict[str, Any]) -> str:
    return ", ".join(
        word + number_in_words(rules[name])
        for name, word in (
            ("minimum", "from "), ("exclusiveMinimum", "above "), ("maximum", "up to "), ("exclusiveMaximum", "below ")
        )
        if name in rules
    )  # fmt: skip


def _info(name: str, schema: dict[str, Any]) -> SettingInfo | None:
    if "title" not in schema or "main" not in schema:
        return None
    one: dict[str, Any] = next((x for x in schema.get("anyOf", ()) if x.get("type") != "null"), {})
    rules = {**schema, **one}
    pattern = rules.get("pattern", "")
    choices = pattern.removeprefix("^(").removesuffix(")$").split("|") if pattern.startswith("^(") else None
    choices = choices or rules.get("enum")
    labels = rules.get("labels") or {}
    return SettingInfo(
        name=name, kind="choice" if choices else rules["type"], may_be_empty=bool(one), title=rules["title"],
        description=rules["description"], main=rules["main"], unit=rules["unit"], usual=rules["usual"],
        cost=rules["cost"], default=rules.get("default"), minimum=rules.get("minimum", rules.get("exclusiveMinimum")),
        maximum=rules.get("maximum", rules.get("exclusiveMaximum")), choices=choices,
        labels=[labels.get(c, c) for c in choices] if choices else None,
        possible=", ".join(labels.get(c, c) for c in choices) if choices else _possible(rules),
    )  # fmt: skip


@cache
def _listed(model: type[StepSettings]) -> tuple[SettingInfo, ...]:
    found = [_info(n, s) for n, s in model.model_json_schema()["properties"].items()]
    return tuple(sorted((s for s in found if s is not None), key=lambda s: not s.main))


def settings_of(step: Step) -> tuple[SettingInfo, ...]:
    """Settings of a layer that people see, those that matter first; worked out once, since pages ask often."""
    return _listed(step.settings_model)


def keep_box(text: str) -> dict[str, Any]:
    """A keep box as it is typed.

    Raises
    ------
    PlainError
        When it is none.
    """
    try:
        numbers = [float(x) for x in text.split(",")]
    except ValueError:
        numbers = []
    low, high = numbers[:3], numbers[3:6]
    if len(numbers) not in (6, 7) or not np.isfinite(numbers).all() or not all(a < b for a, b in zip(low, high)):
        raise PlainError(
            say("{text} is no keep box.", text=text),
            "Give six numbers with commas between: the lowest corner X0,Y0,Z0, then the highest X1,Y1,Z1, and the turn in degrees "
            "after them where there is one.",
        )
    return {"low": low, "high": high, "turn": float(np.radians(numbers[6])) if len(numbers) == 7 else 0.0}


#: what has a place on the page and not in a form, and can be typed: as JSON, or ``@FILE`` that holds some
BY_HAND = {"cameras": ("level", "center", "bars", "places"), "points": ("box",)}


def by_hand(step: Step) -> dict[str, str]:
    """What can be typed of a layer beside :func:`settings_of`, and what it is."""
    fields = step.settings_model.model_fields
    return {name: str(fields[name].description) for name in BY_HAND.get(step.layer, ())}


def _typed(name: str, value: str) -> Any:
    """What was typed of that."""
    if value.startswith("@"):
        try:
            value = Path(value[1:]).read_text("utf-8")
        except (OSError, ValueError) as error:
            raise PlainError(
                say("{file} cannot be read.", file=value[1:]), "Give @ and the name of a JSON file."
            ) from error
    if not value:
        return None if name in ("box", "center") else []
    try:
        return json.loads(value)
    except ValueError:
        if name == "box":
            return keep_box(value)
        try:
            return [float(x) for x in value.split(",")]
        except ValueError:
            return value  # told with the reason when the recipe is read


def parsed(text: str) -> tuple[str, dict[str, Any]]:
    """A setting typed as ``layer.name=value``: the layer, and what is to be changed there.

    Raises
    ------
    PlainError
        When it is not written so, or there is none of that name.
    """
    name, sign, value = text.partition("=")
    layer, dot, name = name.strip().partition(".")
    steps = {s.layer: s for s in STEPS}
    known = {s.name: s for s in settings_of(steps[layer])} if layer in steps else {}
    if sign and layer in steps and name in by_hand(steps[layer]):
        return layer, {name: _typed(name, value.strip())}
    if not (sign and dot) or name not in known:
        remedy = "`vast-quarry settings` lists them; write LAYER.NAME=VALUE, as in points.least_views=4."
        raise PlainError(say('There is no setting "{name}".', name=text.strip()), remedy)
    value = value.strip()
    if known[name].kind == "choice":
        return layer, {name: value}
    words = {"yes": True, "on": True, "no": False, "off": False, "": None}
    try:
        return layer, {name: words[value.lower()] if value.lower() in words else json.loads(value)}
    except ValueError:
        return layer, {name: value}  # told with the reason when the recipe is read


def value_in(grade: Grade, layer: str, s: SettingInfo) -> str:
    """A setting's value in a grade."""
    value = GRADES[grade].get(layer, {}).get(s.name, s.default)
    if s.choices and s.labels:
        return s.labels[s.choices.index(str(value))]
    return number_in_words(value)
