"""The problem file: TOML with our own keys, checked key by key."""

from __future__ import annotations

import re
import tomllib
from dataclasses import replace
from pathlib import Path, PurePosixPath
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

from unhurried_heron.disk import lies_within, read_plain_file
from unhurried_heron.errors import DocumentError, excerpt, listing, near_spelling
from unhurried_heron.input.event import Event
from unhurried_heron.input.measured import Measured
from unhurried_heron.input.problem_input import ProblemInput

Number = StrictFloat | StrictInt
Word = StrictStr


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class _Interval(_Table):
    """From when to when; a text may carry a unit, as in "3 d"."""

    start: Number | Word = Field(alias="from")
    end: Number | Word = Field(alias="to")


class _Input(_Table):
    """A measured quantity: two columns of a CSV file beside this one, or the numbers themselves."""

    file: Word | None = None
    time: Word | None = None
    value: Word | None = None
    times: list[Number] | None = None
    values: list[Number] | None = None
    interpolation: Literal["previous", "linear", "cubic"] = "linear"


class _Event(_Table):
    """Something to look for in every run."""

    name: Word = ""
    when: Word | None = None
    going: Literal["up", "down", "either"] = "either"
    stop: StrictBool = False
    then: Word | list[Word] | None = Field(None, description="Assignments to states and parameters.")
    at: Number | Word | list[Number | Word] | None = Field(None, description="Known times, in place of when.")
    every: Number | Word | None = Field(None, description="The period of known times.")
    first: Number | Word | None = None
    only_if: Word | None = Field(None, description="A condition under which it happens.")
    at_most: StrictInt | None = None
    stop_after: StrictInt | None = None


class _Integrate(_Table):
    """How `heron run` integrates, unless its options say otherwise."""

    method: Word | None = None
    rtol: Number | dict[str, Number] | None = None
    atol: Number | Word | dict[str, Number | Word] | None = None
    step: Number | Word | None = None
    count: StrictInt | None = None
    record: StrictInt | list[Number] | Word | None = None
    switches: StrictBool | None = None


class _Document(_Table):
    """A problem file of Unhurried Heron."""

    title: Word = ""
    equations: Word | None = Field(None, description="Equations, one to a line.")
    lagrangian: Word | None = Field(None, description="kinetic = … and potential = …, instead of equations.")
    hamiltonian: Word | None = Field(None, description="hamiltonian = …, instead of equations.")
    coordinates: list[Word] | dict[str, Word] | None = Field(
        None, description="Coordinates of the energies; of a Hamiltonian each with its momentum."
    )
    forces: dict[str, Word] = Field(default_factory=dict, description="Forces along coordinates.")
    interval: _Interval
    initial: dict[str, Number | Word | list[Any]] = Field(description="Numbers, quantities, formulas or arrays.")
    parameters: dict[str, Number | Word] = Field(
        default_factory=dict, description='Numbers, quantities such as "1800 m^2", formulas, or "open".'
    )
    units: dict[str, Word] = Field(default_factory=dict, description="Units by name; t is the time.")
    check_units: StrictBool = Field(True, description="Whether units that disagree are refused.")
    inputs: dict[str, _Input] = Field(default_factory=dict, description="Measured quantities by name.")
    events: list[_Event] = Field(default_factory=list)
    exact: dict[str, Word] = Field(default_factory=dict, description="Closed forms of states.")
    conserved: list[Word] = Field(default_factory=list, description="Quantities that should keep their value.")
    never_negative: list[Word] = Field(
        default_factory=list, description="States that are never negative: adaptive steps keep them so."
    )
    integrate: _Integrate = Field(default_factory=_Integrate)


_TABLES: dict[str, type[_Table]] = {"interval": _Interval, "events": _Event, "integrate": _Integrate, "inputs": _Input}
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
    forms = {"equations": document.equations, "lagrangian": document.lagrangian, "hamiltonian": document.hamiltonian}
    given = [form for form, text in forms.items() if text is not None]
    if len(given) != 1:
        raise _misfit(location, "equations", "one of equations, lagrangian and hamiltonian", ", ".join(given) or "none")
    coordinates, momenta = _coordinates(document, given[0], location)
    return ProblemInput(
        form=given[0],  # type: ignore[arg-type]  # one of the three
        text=forms[given[0]] or "",
        initial=document.initial,
        parameters=document.parameters,
        interval=(document.interval.start, document.interval.end),
        events=tuple(Event(**event.model_dump()) for event in document.events),
        exact=document.exact,
        units=document.units,
        inputs={name: _measured(name, table, location, folder) for name, table in document.inputs.items()},
        coordinates=coordinates,
        momenta=momenta,
        forces=document.forces,
        conserved=tuple(document.conserved),
        never_negative=tuple(document.never_negative),
        title=document.title,
        check_units=document.check_units,
        integrate_options=document.integrate.model_dump(exclude_none=True),
    )


def schema() -> dict[str, Any]:
    """Return the JSON Schema of the problem file."""
    made = _Document.model_json_schema(by_alias=True)
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **made, "title": "Unhurried Heron problem file"}


def _misfit(location: str, name: str, expected: str, given: str) -> DocumentError:
    """Return the error that refuses a part of a problem file.

    Parameters
    ----------
    location : str
        Where this was said, for messages.
    name : str
        Of the key.
    expected : str
        What was expected.
    given : str
        What was given.

    Returns
    -------
    DocumentError
    """
    return DocumentError("the problem file does not fit", name=name, location=location, expected=expected, given=given)


def _coordinates(document: _Document, form: str, location: str) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Return the coordinates and momenta that a problem file names.

    Parameters
    ----------
    document : _Document
    form : str
    location : str
        Where this was said, for messages.

    Returns
    -------
    tuple[tuple of str, tuple of str]

    Raises
    ------
    T
        They do not fit the form.
    """
    given = document.coordinates
    if form == "equations":
        if given is not None or document.forces:
            raise _misfit(location, "coordinates", "coordinates and forces with energies only", "equations")
        return (), ()
    if form == "lagrangian":
        if not isinstance(given, list):
            raise _misfit(location, "coordinates", 'a list, such as coordinates = ["z"]', excerpt(given))
        return tuple(given), ()
    if not isinstance(given, dict):
        raise _misfit(location, "coordinates", 'the momentum of each, such as coordinates = {z = "p"}', excerpt(given))
    return tuple(given), tuple(given.values())


def _measured(name: str, table: _Input, location: str, folder: Path | None) -> Measured:
    """Return a measured input that a problem file gives.

    Parameters
    ----------
    name : str
        Of the input.
    table : _Input
    location : str
        Where this was said, for messages.
    folder : Path or None
        In which files are looked for.

    Returns
    -------
    Measured

    Raises
    ------
    I
        It is neither in a file nor written out.
    """
    if table.file is not None:
        if table.time is None or table.value is None or table.times is not None or table.values is not None:
            raise _misfit(location, f"inputs.{name}", "file, time and value, the columns of the table", "other keys")
        # a problem file reaches tables beside it, and nothing else
        relative = PurePosixPath(table.file)
        if (
            folder is None
            or relative.is_absolute()
            or ".." in relative.parts
            or "\\" in table.file
            or ":" in table.file
        ):
            raise _misfit(location, f"inputs.{name}.file", "a table in the folder of the problem file", table.file[:80])
        if not lies_within(folder / relative, folder):
            raise _misfit(
                location, f"inputs.{name}.file", "a table in the folder of the problem file, not a link", "a link"
            )
        read = Measured.from_csv(
            folder / relative, time=table.time, value=table.value, interpolation=table.interpolation
        )
        return replace(read, file=(str(folder.resolve()), table.file, table.time, table.value))
    if table.times is None or table.values is None:
        raise _misfit(location, f"inputs.{name}", "file, time and value, or times and values", "neither")
    return Measured(table.times, table.values, table.interpolation, f"the input '{name}' of {location}")


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
    }
    text = ""
    for part in location:
        if isinstance(part, int):
            text += f"[{part}]"
        elif part not in types:
            text += f".{part}" if text else str(part)
    return text
