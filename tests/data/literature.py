"""The problems of the literature, for tests, benchmarks and the tool that confirms their values."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import unhurried_heron as uh

COLLECTION = Path(__file__).with_name("reference_problems.json")
REFERENCES: dict[str, Any] = {
    problem["name"]: problem for problem in json.loads(COLLECTION.read_text(encoding="utf-8"))["problems"]
}


def literature_problem(name: str) -> uh.Problem:
    """Make a problem of the reference collection."""
    given = REFERENCES[name]
    return uh.Problem.from_text(
        "\n".join(given["equations"]),
        parameters={key: float(value) for key, value in (given["parameters"] or {}).items()},
        initial={key: float(value) for key, value in given["initial"].items()},
        interval=tuple(float(value) for value in given["interval"]),
    )
