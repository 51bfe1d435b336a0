"""Writing a problem file: what was said, in one order and one style, so that equal problems give equal bytes."""

from __future__ import annotations

from dataclasses import fields, replace
from pathlib import Path
from typing import Any

import numpy as np
import tomli_w

from unhurried_heron.errors import DocumentError
from unhurried_heron.input.event import Event
from unhurried_heron.input.measured import Measured
from unhurried_heron.input.problem_input import ProblemInput


def write_document(user_input: ProblemInput, folder: Path) -> bytes:
    """Return a problem as a TOML file that stands in ``folder``.

    Raises
    ------
    DocumentError
        It holds Python functions.
    """
    if user_input.form == "rates":
        raise _no_functions("the rates of this problem are a Python function")
    content: dict[str, Any] = {"title": user_input.title} if user_input.title else {}
    content[user_input.form] = user_input.text
    if user_input.form != "equations":
        pairs = dict(zip(user_input.coordinates, user_input.momenta, strict=False))
        content["coordinates"] = pairs or list(user_input.coordinates)
    content |= {
        name: list(getattr(user_input, name)) for name in ("conserved", "never_negative") if getattr(user_input, name)
    }
    content |= {} if user_input.check_units else {"check_units": False}
    content["interval"] = {"from": _plain(user_input.interval[0]), "to": _plain(user_input.interval[1])}
    content["initial"] = {str(name): _plain(value) for name, value in user_input.initial.items()}
    tables = {
        "parameters": {str(name): _plain(value) for name, value in (user_input.parameters or {}).items()},
        "forces": dict(user_input.forces),
        "units": dict(user_input.units),
        "inputs": {name: _table(table, folder) for name, table in user_input.inputs.items()},
        "exact": dict(user_input.exact),
        "integrate": {name: _plain(value) for name, value in user_input.integrate_options.items()},
    }
    content |= {name: table for name, table in tables.items() if table}
    if user_input.events:
        content["events"] = [_event(event) for event in user_input.events]
    return tomli_w.dumps(content, multiline_strings=True).encode("utf-8")


def _plain(value: Any) -> Any:
    if value is None:
        return "open"
    if isinstance(value, np.ndarray | list | tuple):
        return [_plain(part) for part in value]
    if isinstance(value, dict):
        return {str(name): _plain(part) for name, part in value.items()}
    return value if isinstance(value, bool | int | str) else float(value)


def _event(event: Event) -> dict[str, Any]:
    if event.called:
        raise _no_functions(f"the event '{event.name}' is a Python function, or has one")
    plain = replace(event, name="")
    entries: dict[str, Any] = {"name": event.name} if event.name != plain.name else {}
    for each in fields(Event):
        value = getattr(event, each.name)
        if each.name != "name" and value != each.default:
            entries[each.name] = _plain(value)
    return entries


def _table(table: Measured, folder: Path) -> dict[str, Any]:
    interpolation = {"interpolation": table.interpolation} if table.interpolation != "linear" else {}
    if table.file is not None and table.file[0] == str(folder.resolve()):
        return {"file": table.file[1], "time": table.file[2], "value": table.file[3], **interpolation}
    return {"times": table.times.tolist(), "values": table.values.tolist(), **interpolation}


def _no_functions(message: str) -> DocumentError:
    return DocumentError(
        message,
        name="to_file",
        location="to_file",
        expected="a problem of written equations",
        given="a Python function",
    )
