"""Methods of the literature, read from files of coefficients when they are asked for."""

from __future__ import annotations

import functools
import json
from importlib.resources import files
from typing import Any


@functools.cache
def published(kind: str) -> dict[str, dict[str, Any]]:
    """Return the records of one file in ``published/`` by their names, in the order of the file."""
    text = files("unhurried_heron.methods").joinpath("published", f"{kind}.json").read_text(encoding="utf-8")
    return {record["name"]: record for record in json.loads(text)}
