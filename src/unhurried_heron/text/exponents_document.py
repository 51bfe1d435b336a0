"""Lyapunov exponents in words and as a table."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Final

from unhurried_heron.text.document import Column, Document, Statement, Table, Tone

if TYPE_CHECKING:
    from unhurried_heron.dynamics.exponents import Exponents

_WORDS: Final = {
    "settles": "it settles: differences between solutions vanish",
    "cycles": "it cycles: one exponent is zero, as on a closed orbit, and the others are negative",
    "quasi-periodic": "it is quasi-periodic: several exponents are zero, and none is positive",
    "chaotic": "it is chaotic: differences between solutions grow until they are as large as the motion itself",
    "not certain": "it is not certain what it does: the largest exponent is not told from zero; more seconds=… may",
}


def exponents_document(found: Exponents) -> Document:
    """Return what Lyapunov exponents say."""
    unit = found.problem.units.get("t", "")
    tone = Tone.DOUBTFUL if found.verdict == "not certain" else Tone.PLAIN
    parts: list[Statement | Table] = [Statement("verdict", _WORDS[found.verdict], {}, tone)]
    if found.verdict == "chaotic":
        text = f"a difference grows tenfold in {math.log(10.0) / found.values[0]:.4g} {unit}".rstrip()
        parts.append(Statement("horizon", text, {"largest": float(found.values[0])}))
    columns = (Column("exponent"), Column("value", digits=5, unit=f"1/{unit}" if unit else ""),
               Column("95% within ±", digits=2))  # fmt: skip
    rows = tuple(
        (k + 1, float(value), float(width))
        for k, (value, width) in enumerate(zip(found.values, found.half_widths, strict=True))
    )
    caption = f"over a time of {found.time:.4g} {unit}".rstrip()
    if found.dimension is not None:
        caption += f"; dimension after Kaplan and Yorke {found.dimension:.4g}"
    parts.append(Table(columns, rows, caption=caption))
    return Document(f"Lyapunov exponents of {found.problem.title or 'a problem'}", tuple(parts))
