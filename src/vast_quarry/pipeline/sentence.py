"""Sentences in models and files: as data where the page is to say them in its language, as plain text elsewhere."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any

from pydantic import BaseModel, GetCoreSchemaHandler, GetJsonSchemaHandler
from pydantic.json_schema import JsonSchemaValue
from pydantic_core import CoreSchema, core_schema

from vast_quarry.core.words import Said, code_of


class SentenceOut(BaseModel):
    """A sentence: in English, and the pattern and values by which it is said in another language."""

    text: str
    pattern: str
    #: text, numbers, lists, or sentences like this one
    values: dict[str, Any]
    #: stays when the sentence is worded anew; empty for what is not a sentence of the program
    code: str


def as_data(value: Any) -> Any:
    """A sentence, or a value in one, as JSON takes it."""
    if isinstance(value, Said):
        return {
            "text": str(value),
            "pattern": value.pattern,
            "values": {k: as_data(v) for k, v in value.values.items()},
            "code": code_of(value),
        }
    if isinstance(value, str):
        return str(value)
    if isinstance(value, list | tuple):
        return [as_data(v) for v in value]
    return value


def from_data(value: Any) -> Any:
    """The reverse of :func:`as_data`; plain text, as in files of before, is a sentence without values."""
    if isinstance(value, Mapping) and "text" in value:
        values = {str(k): from_data(v) for k, v in dict(value.get("values") or {}).items()}
        return Said(str(value["text"]), str(value.get("pattern") or ""), values)
    if isinstance(value, list | tuple):
        return [from_data(v) for v in value]
    return value


def sentence(value: Any) -> Said:
    """A sentence from a sentence, from text or from what :func:`as_data` made.

    Raises
    ------
    ValueError
        When it is none of them.
    """
    found = from_data(value)
    if isinstance(found, Said):
        return found
    if isinstance(found, str):
        return Said(found)
    raise ValueError("a sentence is text")


class _AsSentence:
    """How pydantic reads, writes and describes a sentence."""

    @classmethod
    def __get_pydantic_core_schema__(cls, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        return core_schema.no_info_plain_validator_function(
            sentence, serialization=core_schema.plain_serializer_function_ser_schema(as_data, when_used="json")
        )

    @classmethod
    def __get_pydantic_json_schema__(cls, schema: CoreSchema, handler: GetJsonSchemaHandler) -> JsonSchemaValue:
        return handler(SentenceOut.__pydantic_core_schema__)


#: a sentence in a model: text when the model is written to a file (``model_dump()``), data for the page (``mode="json"``)
Sentence = Annotated[Said, _AsSentence]
