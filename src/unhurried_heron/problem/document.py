"""The problem file: TOML with our own keys, checked key by key."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any, Literal

from pydantic import (
    BaseModel,
    ConfigDict,
    Field,
    StrictBool,
    StrictFloat,
    StrictInt,
    StrictStr,
    ValidationError,
)

from unhurried_heron.errors import DocumentError, near_spelling
from unhurried_heron.problem.event import Event

Number = StrictFloat | StrictInt


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)


class _Interval(_Table):
    start: Number = Field(alias="from")
    end: Number = Field(alias="to")


class _Event(_Table):
    name: StrictStr = ""
    when: StrictStr
    going: Literal["up", "down", "either"] = "either"
    stop: StrictBool = False


class _Integrate(_Table):
    method: StrictStr | None = None
    rtol: Number | dict[str, Number] | None = None
    atol: Number | dict[str, Number] | None = None
    step: Number | None = None
    record: StrictInt | list[Number] | Literal["steps"] | None = None


class _Document(_Table):
    title: StrictStr = ""
    equations: StrictStr
    interval: _Interval
    initial: dict[str, Number]
    parameters: dict[str, Number] = Field(default_factory=dict)
    units: dict[str, StrictStr] = Field(default_factory=dict)
    events: list[_Event] = Field(default_factory=list)
    exact: dict[str, StrictStr] = Field(default_factory=dict)
    integrate: _Integrate = Field(default_factory=_Integrate)


_TABLES: dict[str, type[_Table]] = {"interval": _Interval, "events": _Event, "integrate": _Integrate}
_WANTED = {
    "missing": "this key",
    "float_type": "a number",
    "int_type": "a whole number",
    "string_type": "a text",
    "bool_type": "true or false",
    "dict_type": "a table",
    "list_type": "a list of tables",
    "model_type": "a table",
}


def read_document(path: Path) -> dict[str, Any]:
    """Read a problem file; return what `parse_document` returns.

    Raises
    ------
    DocumentError
    """
    try:
        content = tomllib.loads(path.read_bytes().decode("utf-8"))
    except OSError as error:
        raise DocumentError(
            f"cannot read the problem file: {error.strerror}",
            name=str(path),
            place=str(path),
            expected="a readable TOML file",
            given=error.strerror or "",
        ) from None
    except (ValueError, RecursionError) as error:
        raise DocumentError(
            "the problem file is not TOML", name=str(path), place=str(path), expected="TOML", given=str(error)
        ) from None
    return parse_document(content, str(path))


def parse_document(content: dict[str, Any], where: str) -> dict[str, Any]:
    """Check the content of a problem file; return the arguments of `Problem.from_text` and ``integrate_options``.

    Raises
    ------
    DocumentError
        Keys are unknown, missing or of the wrong type; all of them are listed.
    """
    try:
        document = _Document.model_validate(content)
    except ValidationError as error:
        raise _explained(error, where) from None
    return {
        "equations": document.equations,
        "initial": document.initial,
        "parameters": document.parameters,
        "interval": (document.interval.start, document.interval.end),
        "events": [Event(event.when, event.name, event.going, event.stop) for event in document.events],
        "exact": document.exact,
        "units": document.units,
        "title": document.title,
        "integrate_options": document.integrate.model_dump(exclude_none=True),
    }


def _explained(error: ValidationError, where: str) -> DocumentError:
    found: dict[str, tuple[str, str]] = {}
    for detail in error.errors(include_url=False):
        location = [part for part in detail["loc"] if not str(part).startswith(("function-", "constrained-"))]
        key = _path(location)
        given = repr(detail["input"])[:60]
        if detail["type"] == "extra_forbidden":
            table = _TABLES.get(str(location[0]), _Document) if len(location) > 1 else _Document
            known = [field.alias or name for name, field in table.model_fields.items()]
            hint = near_spelling(str(location[-1]), known)
            found[key] = (f"unknown key '{key}'{hint}", "one of " + ", ".join(known))
        elif detail["type"] == "missing":
            found[key] = (f"key '{key}' is missing", "this key")
        else:
            wanted = _WANTED.get(detail["type"], detail["msg"].removeprefix("Input should be "))
            known_wants = found.get(key, ("", ""))[1]
            joined = f"{known_wants} or {wanted}" if known_wants and wanted not in known_wants else wanted
            found[key] = (f"'{key}' is {given}", joined)
    lines = [f"{message} (expected {wanted})" for message, wanted in found.values()]
    return DocumentError(
        "the problem file does not fit:\n  " + "\n  ".join(lines),
        name=", ".join(found),
        place=where,
    )


def _path(location: list[int | str]) -> str:
    """Write a location as ``events[0].when``; pydantic adds the name of the tried type, which is dropped."""
    types = {
        "float",
        "int",
        "str",
        "literal['steps']",
        "list[union[float,int]]",
        "dict[str,union[float,int]]",
    }
    text = ""
    for part in location:
        if isinstance(part, int):
            text += f"[{part}]"
        elif part not in types:
            text += f".{part}" if text else str(part)
    return text
