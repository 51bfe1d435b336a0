"""The problem file: TOML with our own keys, checked key by key."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Any, Final

from pydantic import Field, ValidationError, create_model

from unhurried_heron.disk import read_plain_file
from unhurried_heron.errors import DocumentError, excerpt, listing, near_spelling
from unhurried_heron.input.file_entries import (
    EventTable,
    FileTable,
    IntegrateTable,
    IntervalTable,
    MeasuredTable,
    Position,
    Word,
    entry_of,
    file_keys,
    key_field,
    misfit,
)
from unhurried_heron.input.input_field import WRITTEN, Form
from unhurried_heron.input.problem_input import FIELDS, ProblemInput


def _document() -> type[FileTable]:
    texts: dict[str, Any] = {form: (Word | None, Field(None, description=_TEXTS[form])) for form in WRITTEN}
    keys: dict[str, Any] = {key: (entry_of(name).type, key_field(name)) for key, name in file_keys().items()}
    # the title first, the text next, as one writes
    ordered = {"title": keys.pop("title"), **texts, **keys}
    made: type[FileTable] = create_model(
        "_Document", __base__=FileTable, __doc__="A problem file of Unhurried Heron.", **ordered
    )
    return made


_TEXTS = {
    "equations": "Equations, one to a line.",
    "lagrangian": "kinetic = … and potential = …, instead of equations.",
    "hamiltonian": "hamiltonian = …, instead of equations.",
}
_Document: Final = _document()
_TABLES: dict[str, type[FileTable]] = {
    "interval": IntervalTable,
    "events": EventTable,
    "integrate": IntegrateTable,
    "inputs": MeasuredTable,
}
_WANTED = {
    "missing": "this key",
    "float_type": "a number",
    "int_type": "a whole number",
    "string_type": "a text",
    "bool_type": "true or false",
    "dict_type": "a table",
    "list_type": "a list",
    "model_type": "a table",
}


_LINE = re.compile(r"at line (\d+)")
_PRIMED_KEY = re.compile(r"\s*(?P<key>[^\W\d]\w*['′-‴]+(?:\[[^\]\n]*\])?)\s*=\s*[^=\n]")
# a key of very many parts would take the reader's stack
_MAX_PARTS = 200


def read_document(path: Path) -> ProblemInput:
    """Read a problem file; return what `parse_document` returns.

    Raises
    ------
    DocumentError
    """
    return parse_document(load_toml(path), str(path), path.parent)


def load_toml(path: Path) -> dict[str, Any]:
    """Return the content of a TOML file.

    Raises
    ------
    DocumentError
    """
    try:
        text = read_plain_file(path).decode("utf-8")
        if any(line.partition("=")[0].count(".") > _MAX_PARTS for line in text.splitlines()):
            raise ValueError(f"a key of more than {_MAX_PARTS} parts")
        return tomllib.loads(text)
    except OSError as error:
        raise DocumentError(
            f"cannot read the problem file: {error.strerror}",
            name=str(path),
            location=str(path),
            expected="a readable TOML file",
            given=error.strerror or "",
        ) from None
    except (ValueError, RecursionError) as error:
        raise DocumentError("the problem file is not TOML", name=str(path), location=str(path),
                            expected=_toml_wanted(path, str(error)), given=str(error)) from None  # fmt: skip


def _toml_wanted(path: Path, reason: str) -> str:
    """Return what a file should be, with the commonest slip in the line that is told: a primed key without quotes."""
    line = _LINE.search(reason)
    try:
        lines = read_plain_file(path).decode("utf-8").splitlines()
        # equations have primes, too, and are no keys
        primed = _PRIMED_KEY.match(lines[int(line[1]) - 1]) if line else None
    except (OSError, ValueError, IndexError):
        primed = None
    return f'TOML; a key with a prime stands in quotes: "{primed["key"]}" = …' if primed else "TOML"


def parse_document(content: dict[str, Any], location: str, folder: Path | None = None) -> ProblemInput:
    """Check the content of a problem file and return what it says.

    Parameters
    ----------
    content : mapping of str to object
        The parsed TOML.
    location : str
        Where this was said, for messages.
    folder : Path, optional
        Where tables that the file names are looked for; without one, they cannot be read.

    Returns
    -------
    ProblemInput

    Raises
    ------
    DocumentError
        Keys are unknown, missing or of the wrong type; all of them are listed.
    InputError
        A table cannot be used.
    """
    try:
        document = _Document.model_validate(content)
    except ValidationError as error:
        raise _explained(error, location) from None
    position = Position(location, folder)
    texts = {form: text for form in WRITTEN if (text := getattr(document, form)) is not None}
    if len(texts) != 1:
        raise misfit(position, "equations", "one of equations, lagrangian and hamiltonian", ", ".join(texts) or "none")
    ((form, text),) = texts.items()
    read = {
        name: entry_of(name).read(getattr(document, key), position)
        for key, name in file_keys().items()
        if key in document.model_fields_set
    }
    _refuse_coordinates(read, form, position)
    shaped = {name: FIELDS[name].kind.shaped(value, name) for name, value in read.items()}
    return ProblemInput(form=form, text=text, **shaped)


def schema() -> dict[str, Any]:
    """Return the JSON Schema of the problem file."""
    made = _Document.model_json_schema(by_alias=True)
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **made, "title": "Unhurried Heron problem file"}


def _refuse_coordinates(read: Mapping[str, Any], form: Form, position: Position) -> None:
    """Refuse coordinates that do not fit the form.

    Parameters
    ----------
    read : mapping of str to object
        What the file says, by field.
    form : str
    position : Position

    Raises
    ------
    DocumentError
    """
    given = read.get("coordinates")
    if form == "equations":
        if given is not None or read.get("forces"):
            raise misfit(position, "coordinates", "coordinates and forces with energies only", "equations")
    elif form == "lagrangian":
        if not isinstance(given, tuple):
            raise misfit(position, "coordinates", 'a list, such as coordinates = ["z"]', excerpt(given))
    elif not isinstance(given, dict):
        raise misfit(position, "coordinates", 'the momentum of each, such as coordinates = {z = "p"}', excerpt(given))


def _explained(error: ValidationError, where: str) -> DocumentError:
    found: dict[str, tuple[str, str]] = {}
    for detail in error.errors(include_url=False):
        location = [part for part in detail["loc"] if not str(part).startswith(("function-", "constrained-"))]
        key = _path(location)
        given = excerpt(detail["input"])
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
        name=listing(found),
        location=where,
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
        "dict[str,union[float,int,str]]",
        "list[any]",
        "list[str]",
        "dict[str,str]",
        "ComplexTable",
    }
    text = ""
    for part in location:
        if isinstance(part, int):
            text += f"[{part}]"
        elif part not in types:
            text += f".{part}" if text else str(part)
    return text
