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
from unhurried_heron.input.problem_input import Said


def write_document(said: Said, folder: Path) -> bytes:
    """Return a problem as a TOML file that stands in ``folder``.

    Raises
    ------
    DocumentError
        It holds Python functions.
    """
    if said.form == "rates":
        raise _no_functions("the rates of this problem are a Python function")
    content: dict[str, Any] = {"title": said.title} if said.title else {}
    content[said.form] = said.text
    if said.form != "equations":
        pairs = dict(zip(said.coordinates, said.momenta, strict=False))
        content["coordinates"] = pairs or list(said.coordinates)
    content |= {name: list(getattr(said, name)) for name in ("conserved", "never_negative") if getattr(said, name)}
    content |= {} if said.check_units else {"check_units": False}
    content["interval"] = {"from": _plain(said.interval[0]), "to": _plain(said.interval[1])}
    content["initial"] = {str(name): _plain(value) for name, value in said.initial.items()}
    tables = {
        "parameters": {str(name): _plain(value) for name, value in (said.parameters or {}).items()},
        "forces": dict(said.forces),
        "units": dict(said.units),
        "inputs": {name: _table(table, folder) for name, table in said.inputs.items()},
        "exact": dict(said.exact),
        "integrate": {name: _plain(value) for name, value in said.integrate_options.items()},
    }
    content |= {name: table for name, table in tables.items() if table}
    if said.events:
        content["events"] = [_event(event) for event in said.events]
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
    told: dict[str, Any] = {"name": event.name} if event.name != plain.name else {}
    for each in fields(Event):
        value = getattr(event, each.name)
        if each.name != "name" and value != each.default:
            told[each.name] = _plain(value)
    return told


def _table(table: Measured, folder: Path) -> dict[str, Any]:
    between = {"between": table.between} if table.between != "linear" else {}
    if table.file is not None and table.file[0] == str(folder.resolve()):
        return {"file": table.file[1], "time": table.file[2], "value": table.file[3], **between}
    return {"times": table.times.tolist(), "values": table.values.tolist(), **between}


def _no_functions(message: str) -> DocumentError:
    return DocumentError(
        message, name="to_file", place="to_file", expected="a problem of written equations", given="a Python function"
    )
