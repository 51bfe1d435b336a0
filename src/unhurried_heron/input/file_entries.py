"""How each field of an input stands in a problem file: its type there, how it is read and how it is written."""

from __future__ import annotations

import functools
import inspect
import operator
import re
import typing
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, fields, replace
from pathlib import Path, PurePosixPath
from types import NoneType, UnionType
from typing import Any, Final, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, StrictBool, StrictFloat, StrictInt, StrictStr, create_model

from unhurried_heron.disk import lies_within
from unhurried_heron.errors import DocumentError
from unhurried_heron.input.event import Event
from unhurried_heron.input.measured import Measured
from unhurried_heron.input.problem_input import FIELDS, UNSAID, ProblemInput
from unhurried_heron.input.values import has_complex

Number = StrictFloat | StrictInt
Word = StrictStr


class FileTable(BaseModel):
    """A table of a problem file: it has no other keys than these."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class IntervalTable(FileTable):
    """From when to when; a text may carry a unit, as in "3 d"."""

    start: Number | Word = Field(alias="from")
    end: Number | Word = Field(alias="to")


class ComplexTable(FileTable):
    """A complex number, or an array of them: the real and the imaginary part."""

    re: Number | list[Any]
    im: Number | list[Any]


class MeasuredTable(FileTable):
    """A measured quantity: two columns of a CSV file beside this one, or the numbers themselves."""

    file: Word | None = None
    time: Word | None = None
    value: Word | None = None
    times: list[Number] | None = None
    values: list[Number] | None = None
    interpolation: Literal["previous", "linear", "cubic"] = "linear"


class IntegrateTable(FileTable):
    """How `heron run` integrates, unless its options say otherwise."""

    method: Word | None = None
    rtol: Number | dict[str, Number] | None = None
    atol: Number | Word | dict[str, Number | Word] | None = None
    step: Number | Word | None = None
    count: StrictInt | None = None
    record: StrictInt | list[Number] | Word | None = None
    switches: StrictBool | None = None


_PLAIN_TYPES: Final[dict[Any, Any]] = {str: Word, bool: StrictBool, int: StrictInt, float: Number, NoneType: None}


def file_type(annotation: Any) -> Any:
    """Return the type that a problem file gives a value: functions fall away, numbers and texts are not mixed up."""
    origin, parts = typing.get_origin(annotation), typing.get_args(annotation)
    if origin in (typing.Union, UnionType):
        return functools.reduce(
            operator.or_, (file_type(part) for part in parts if typing.get_origin(part) is not Callable)
        )
    if origin in (tuple, list, Sequence, Iterable):
        return list[file_type(parts[0])]  # type: ignore[misc]  # a type that is made here
    if origin is Mapping:
        return dict[str, file_type(parts[1])]  # type: ignore[misc]  # likewise
    return _PLAIN_TYPES.get(annotation, annotation)


_ENTRY: Final = re.compile(r"^(?P<names>\w+(?:, \w+)*) : [^\n]*\n(?P<text>(?:    [^\n]*\n?)+)", re.MULTILINE)


def described(kind: type) -> dict[str, str]:
    """Return what the docstring of a class says of each of its attributes or parameters, on one line each."""
    found = _ENTRY.finditer(inspect.getdoc(kind) or "")
    return {
        name: " ".join(each["text"].replace("``", "").split()) for each in found for name in each["names"].split(", ")
    }


def _with_complex(given: Mapping[str, Any]) -> dict[str, Any]:
    """Return starting values with complex numbers, and arrays of them, as such."""
    found = dict(given)
    for name, value in given.items():
        if isinstance(value, ComplexTable):
            number = np.asarray(value.re, dtype=np.float64) + 1j * np.asarray(value.im, dtype=np.float64)
            found[name] = number if number.ndim else complex(number)
    return found


def _event_table() -> type[FileTable]:
    meanings, types = described(Event), typing.get_type_hints(Event)
    made = {
        each.name: (file_type(types[each.name]), Field(each.default, description=meanings[each.name]))
        for each in fields(Event)
    }
    return create_model("EventTable", __base__=FileTable, __doc__="Something to look for in every run.", **made)  # type: ignore[call-overload,no-any-return]  # made here


EventTable: Final = _event_table()
_MEANINGS: Final = described(ProblemInput)


@dataclass(frozen=True)
class Position:
    """Where something stands in a file, for messages, and the folder of the file."""

    location: str
    folder: Path | None


@dataclass(frozen=True)
class FileEntry:
    """How a field stands in a problem file.

    Attributes
    ----------
    type : type
        As the file is checked.
    read : callable
        A checked value and its `Position` to the value of the field.
    write : callable
        The value of a field and the folder of the file to what stands in it.
    required : bool
    """

    type: Any
    read: Callable[[Any, Position], Any] = lambda given, position: given
    write: Callable[[Any, Path], Any] = lambda value, folder: plain(value)
    required: bool = False


def entry_of(name: str) -> FileEntry:
    """Return how a field stands in a problem file: most of them by their type alone."""
    return _ENTRIES[name] if name in _ENTRIES else FileEntry(file_type(_TYPES[name]))


def file_keys() -> dict[str, str]:
    """Return the keys of a problem file, each with its field; those of the text are the forms."""
    return {known.key or name: name for name, known in FIELDS.items() if known.in_files and name != "text"}


def key_field(name: str) -> Any:
    """Return the key of a field as a problem file is checked: its default, and what it means."""
    return Field(... if entry_of(name).required else UNSAID[name], description=_MEANINGS[name])


def misfit(position: Position, name: str, expected: str, given: str) -> DocumentError:
    """Return the error that refuses a part of a problem file.

    Parameters
    ----------
    position : Position
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
    return DocumentError(
        "the problem file does not fit", name=name, location=position.location, expected=expected, given=given
    )


def plain(value: Any) -> Any:
    """Return a value as TOML can hold it."""
    if value is None:
        return "open"
    if isinstance(value, np.ndarray | list | tuple) and has_complex(value):
        numbers = np.asarray(value)
        return {"re": numbers.real.tolist(), "im": numbers.imag.tolist()}
    if isinstance(value, np.ndarray | list | tuple):
        return [plain(part) for part in (value.tolist() if isinstance(value, np.ndarray) else value)]
    if isinstance(value, Mapping):
        return {str(name): plain(part) for name, part in value.items()}
    if isinstance(value, complex | np.complexfloating):
        return {"re": float(value.real), "im": float(value.imag)}
    return value if isinstance(value, bool | int | str) else float(value)


def no_functions(message: str) -> DocumentError:
    """Return the error that refuses to write what holds a Python function."""
    return DocumentError(
        message,
        name="to_file",
        location="to_file",
        expected="a problem of written equations",
        given="a Python function",
    )


def _written_event(event: Event) -> dict[str, Any]:
    if event.called:
        raise no_functions(f"the event '{event.name}' is a Python function, or has one")
    unnamed = replace(event, name="")
    entries: dict[str, Any] = {"name": event.name} if event.name != unnamed.name else {}
    for each in fields(Event):
        value = getattr(event, each.name)
        if each.name != "name" and value != each.default:
            entries[each.name] = plain(value)
    return entries


def _written_table(table: Measured, folder: Path) -> dict[str, Any]:
    interpolation = {"interpolation": table.interpolation} if table.interpolation != "linear" else {}
    if table.file is not None and table.file[0] == str(folder.resolve()):
        return {"file": table.file[1], "time": table.file[2], "value": table.file[3], **interpolation}
    return {"times": table.times.tolist(), "values": table.values.tolist(), **interpolation}


def _measured(name: str, table: MeasuredTable, position: Position) -> Measured:
    """Return a measured input that a problem file gives.

    Parameters
    ----------
    name : str
        Of the input.
    table : MeasuredTable
    position : Position
        In whose folder files are looked for.

    Returns
    -------
    Measured

    Raises
    ------
    DocumentError
        It is neither in a file nor written out.
    InputError
        The table cannot be used.
    """
    if table.file is None:
        if table.times is None or table.values is None:
            raise misfit(position, f"inputs.{name}", "file, time and value, or times and values", "neither")
        return Measured(table.times, table.values, table.interpolation, f"the input '{name}' of {position.location}")
    if table.time is None or table.value is None or table.times is not None or table.values is not None:
        raise misfit(position, f"inputs.{name}", "file, time and value, the columns of the table", "other keys")
    # a problem file reaches tables beside it, and nothing else
    folder, relative = position.folder, PurePosixPath(table.file)
    outside = relative.is_absolute() or ".." in relative.parts or "\\" in table.file or ":" in table.file
    if folder is None or outside:
        raise misfit(position, f"inputs.{name}.file", "a table in the folder of the problem file", table.file[:80])
    if not lies_within(folder / relative, folder):
        raise misfit(position, f"inputs.{name}.file", "a table in the folder of the problem file, not a link", "a link")
    read = Measured.from_csv(folder / relative, time=table.time, value=table.value, interpolation=table.interpolation)
    return replace(read, file=(str(folder.resolve()), table.file, table.time, table.value))


_TYPES: Final = typing.get_type_hints(ProblemInput)
# those of another shape in files than in memory
_ENTRIES: Final[dict[str, FileEntry]] = {
    "interval": FileEntry(
        IntervalTable,
        lambda given, position: (given.start, given.end),
        lambda value, folder: {"from": plain(value[0]), "to": plain(value[1])},
        required=True,
    ),
    "initial": FileEntry(
        dict[str, Number | Word | list[Any] | ComplexTable], lambda given, position: _with_complex(given), required=True
    ),
    "parameters": FileEntry(dict[str, Number | Word] | None),
    "guess": FileEntry(
        dict[str, Number | Word | list[Any] | ComplexTable], lambda given, position: _with_complex(given)
    ),
    "coordinates": FileEntry(
        list[Word] | dict[str, Word], lambda given, position: given if isinstance(given, dict) else tuple(given)
    ),
    "constraints": FileEntry(
        list[Word] | dict[str, Word], lambda given, position: given if isinstance(given, dict) else tuple(given)
    ),
    "inputs": FileEntry(
        dict[str, MeasuredTable],
        lambda given, position: {name: _measured(name, table, position) for name, table in given.items()},
        lambda value, folder: {name: _written_table(table, folder) for name, table in value.items()},
    ),
    "integrate_options": FileEntry(IntegrateTable, lambda given, position: given.model_dump(exclude_none=True)),
    "events": FileEntry(
        list[EventTable],  # type: ignore[valid-type]  # made above
        lambda given, position: tuple(Event(**event.model_dump()) for event in given),
        lambda value, folder: [_written_event(event) for event in value],
    ),
}
