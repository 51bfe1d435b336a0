"""The methods of the catalogue side by side."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from typing import Any, Final

from unhurried_heron.text.document import Cell, Column, Document, Statement, Table, Tone

_COLUMNS: Final = (
    Column("method", "name"), Column("order"), Column("embedded"), Column("between"), Column("stages"),
    Column("rates"), Column("adapts", "words"), Column("stable"), Column("stiff", "words"), Column("real"),
    Column("imaginary"), Column("carries", "words"), Column("source", "words"),
)  # fmt: skip
_LEGEND: Final = (
    "embedded: order of the second solution. between: order between the steps. rates: evaluations a step, of implicit "
    "methods in one iteration. stable: A, L, or the angle of the wedge. real, imaginary: how far h lambda may go."
)
_ADAPTS: Final = {"none": "no", "step doubling": "doubling", "second solution": "yes"}
_PURPOSES: Final = {
    "stiff": "They damp fast decays however long the step (|R| < 1 far out, and stable in a wedge around the negative "
    "axis), and choose their steps.",
    "smooth": "They solve no equations, and their order of 4 and more makes long steps where the solution is smooth.",
    "accurate": "From order 6 on, ten times the accuracy costs steps less than half as long again.",
    "cheap": "One or two evaluations of the rates a step, and no equations to solve.",
    "large": "They solve with one real matrix of the size of the system, or none; methods with several stages at once "
    "also factor complex ones.",
}


def why_for(purpose: str) -> str:
    """Return why the methods for a purpose are for it."""
    return _PURPOSES[purpose]


def methods_document(facts: Iterable[Mapping[str, Any]], why: str = "") -> Document:
    """Return a table for each family: orders, work, whether methods adapt and suit stiff problems, stability, source.

    Parameters
    ----------
    facts : iterable of mapping
        Of each method, as `methods_table.facts_of` returns them, with its name as ``method``.
    why : str
        A sentence above the tables; empty for none.
    """
    families: dict[str, list[tuple[Cell, ...]]] = {}
    for each in facts:
        families.setdefault(each["family"], []).append(_row(each))
    tables = [Table(_COLUMNS, tuple(rows), family, pile="methods") for family, rows in families.items()]
    head = [Statement("purpose", why)] if why else []
    return Document("", (*head, *tables, Statement("legend", _LEGEND, tone=Tone.QUIET)))


def _row(facts: Mapping[str, Any]) -> tuple[Cell, ...]:
    return (
        facts["method"],
        facts["order"],
        facts["embedded order"] or "–",
        facts["order between steps"],
        facts["stages"],
        facts["evaluations"],
        _ADAPTS[facts["error estimate"]],
        _stability(facts),
        "yes" if facts["stiff"] else "no",
        _limit(facts["real limit"]),
        _limit(facts["imaginary limit"]),
        facts["carries"] or "–",
        facts["source"],
    )


def _stability(facts: Mapping[str, Any]) -> str:
    if facts["L-stable"]:
        return "L"
    if facts["A-stable"]:
        return "A"
    return f"{facts['angle']:.4g}°" if facts["angle"] else "–"


def _limit(value: float) -> str:
    return "∞" if math.isinf(value) else f"{value:.4g}"
