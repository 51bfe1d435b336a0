"""Writing a problem file: what was said, in one order and one style, so that equal problems give equal bytes."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import tomli_w

from unhurried_heron.equality import same
from unhurried_heron.input.file_entries import entry_of, no_functions
from unhurried_heron.input.problem_input import FIELDS, UNSAID, ProblemInput


def write_document(user_input: ProblemInput, folder: Path) -> bytes:
    """Return a problem as a TOML file that stands in ``folder``.

    Raises
    ------
    DocumentError
        It holds Python functions.
    """
    if user_input.form == "rates":
        raise no_functions("the rates of this problem are a Python function")
    content: dict[str, Any] = {}
    for name, known in FIELDS.items():
        value = getattr(user_input, name)
        if known.in_files and (entry_of(name).required or not same(value, UNSAID[name])):
            key = user_input.form if name == "text" else known.key or name
            content[key] = entry_of(name).write(value, folder)
    return tomli_w.dumps(content, multiline_strings=True).encode("utf-8")
