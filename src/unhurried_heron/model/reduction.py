"""Solving equations for their highest derivatives: any arrangement, linear in them, then first order by renaming."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Final

from unhurried_heron.errors import OrderError, listing
from unhurried_heron.formulas.differentiate import Differentiator
from unhurried_heron.formulas.expression import (
    ZERO,
    Node,
    add,
    div,
    names_in,
    neg,
    replace_names,
    rewrite,
    walk,
)
from unhurried_heron.formulas.operations import with_fact
from unhurried_heron.formulas.printing import to_text
from unhurried_heron.formulas.simplify import ratio_of_sums, simplified
from unhurried_heron.formulas.source import Formula

JUMPING: Final = with_fact(lambda each: each.jumps)


@dataclass(frozen=True)
class Residual:
    """An equation ``node = 0`` in unknown highest derivatives; ``where`` and ``sides`` are the user's own words."""

    node: Node
    location: str
    sides: tuple[Formula, ...] = ()


def solve_highest(residuals: Sequence[Residual], unknowns: Sequence[str]) -> dict[str, Node]:
    """Return a formula for each unknown highest derivative.

    Equations are solved together only where they share unknowns: one alone by division, several by SymPy.

    Raises
    ------
    OrderError
        An equation is not linear in the unknowns, there are too few or too many, or they do not determine them.
    """
    coefficients = [coefficients_of(residual, unknowns) for residual in residuals]
    solved: dict[str, Node] = {}
    for rows in _coupled(coefficients):
        solved |= _solve_coupled([residuals[row] for row in rows], [coefficients[row] for row in rows], unknowns)
    missing = [name for name in unknowns if name not in solved]
    if missing:
        raise OrderError(
            "no equation holds " + listing(missing, quoted=True),
            name=listing(missing),
            location="the equations",
            expected="; ".join(f"an equation with {name} in it" for name in missing),
            given=f"{len(residuals)} equations for " + listing(unknowns),
        )
    return solved


def linear_answer(residuals: Sequence[Residual], unknowns: Sequence[str]) -> dict[str, Node] | None:
    """Return formulas of unknowns that stand linearly in as many equations; None where they do not.

    Nor where their coefficients jump, and so may be zero for a while.
    """
    try:
        factors = [factor for each in residuals for factor in coefficients_of(each, unknowns).values()]
        if any(part.op in JUMPING for part in walk(*factors)):
            return None
        return solve_highest(residuals, unknowns)
    except OrderError:
        return None


def highest_of(
    residuals: Sequence[Residual], rates: Mapping[str, Node], derived: Mapping[str, Node], unknowns: Sequence[str]
) -> dict[str, Node]:
    """Return formulas for the highest derivatives that stand in equations.

    Parameters
    ----------
    residuals : sequence of Residual
    rates : mapping of str to Node
        Those that stand alone on a left side.
    derived : mapping of str to Node
        Derived quantities, written out.
    unknowns : sequence of str
        All highest derivatives.

    Returns
    -------
    dict of str to Node

    Raises
    ------
    OrderError
        They cannot be solved for.
    """
    open_ones = [label for label in unknowns if label not in rates]
    if not residuals and not open_ones:
        return {}
    # derived quantities that hold unknowns are written out, the others keep their names
    wanted = set(unknowns)
    carriers = {key: node for key, node in derived.items() if names_in(node) & wanted}
    written = []
    for residual in residuals:
        node = replace_names(residual.node, carriers.get, {})
        written.append(replace(residual, node=replace_names(node, rates.get, {})))
    return solve_highest(written, open_ones)


def tidied(node: Node) -> Node:
    """Return a formula without needless parts."""
    return _with_values(node, {})


def _solve_coupled(
    residuals: Sequence[Residual], coefficients: Sequence[Mapping[str, Node]], unknowns: Sequence[str]
) -> dict[str, Node]:
    """Solve equations that share unknowns.

    Parameters
    ----------
    residuals : Sequence[Residual]
    coefficients : Sequence[Mapping[str, Node]]
    unknowns : Sequence[str]

    Returns
    -------
    dict[str, Node]

    Raises
    ------
    OrderError
        They have no unique solution.
    """
    names = list(dict.fromkeys(name for row in coefficients for name in row))
    locations = "; ".join(residual.location for residual in residuals)
    if not names:
        raise OrderError(
            "an equation holds no highest derivative: it is a constraint, which no method here takes yet",
            name=residuals[0].location,
            location=locations,
            expected="a highest derivative in each equation" + (f": one of {', '.join(unknowns)}" if unknowns else ""),
            given=to_text(residuals[0].node)[:80] + " = 0",
        )
    if len(names) != len(residuals):
        raise OrderError(
            f"{len(residuals)} equation{'s' * (len(residuals) > 1)} for {len(names)} highest derivative"
            f"{'s' * (len(names) > 1)}: " + listing(names, quoted=True),
            name=listing(names),
            location=locations,
            expected="as many equations as highest derivatives in them",
            given=f"{len(residuals)} and {len(names)}",
        )
    zero = dict.fromkeys(names, ZERO)
    matrix = [[row.get(name, ZERO) for name in names] for row in coefficients]
    right = [simplified(neg(_with_values(residual.node, zero))) for residual in residuals]
    found = [_quotient(right[0], matrix[0][0])] if len(right) == 1 else _solve_together(matrix, right)
    if found is None:
        raise OrderError(
            "the equations do not determine " + " and ".join(f"'{name}'" for name in names),
            name=listing(names),
            location=locations,
            expected="equations that are independent in their highest derivatives",
            given="a matrix of coefficients whose determinant is zero",
        )
    return dict(zip(names, found, strict=True))


def _with_values(node: Node, values: Mapping[str, Node]) -> Node:
    def put(part: Node) -> Node | None:
        return values.get(str(part.args[0])) if part.op == "name" else simplified(part)

    return rewrite(node, put, {})


def _quotient(above: Node, below: Node) -> Node:
    if below.value is not None and below.value < 0:
        above, below = simplified(neg(above)), simplified(neg(below))
    return ratio_of_sums(above, below)


def coefficients_of(residual: Residual, unknowns: Sequence[str]) -> dict[str, Node]:
    """Return the factor of each unknown in an equation.

    Raises
    ------
    OrderError
        The equation is not linear in them; the term is named.
    """
    mentioned = names_in(residual.node)
    involved = [name for name in unknowns if name in mentioned]
    partials = Differentiator(involved).by_name(residual.node)
    found = {name: _with_values(partials[name], {}) for name in involved if name in partials}
    # what is constant between its jumps has no derivative, and is not linear for that
    jumping = names_in(*(part for part in walk(residual.node) if part.op in JUMPING)) & set(involved)
    bent = [name for name, partial in found.items() if name in jumping or names_in(partial) & set(involved)]
    flat = [name for name in involved if name not in found]
    if bent or flat:
        name = (bent or flat)[0]
        raise OrderError(
            f"'{name}' does not stand linearly in this equation",
            name=name,
            location=residual.location,
            expected=f"{name} only in sums and times factors without it, so that the equation can be solved for it",
            given=f"the term {_bent_term(residual, involved)}",
        )
    return {name: partial for name, partial in found.items() if partial is not ZERO}


def _bent_term(residual: Residual, involved: Sequence[str]) -> str:
    """Find the user's words for the smallest term that is not linear in the highest derivatives."""
    for side in residual.sides:
        terms = [side.node]
        while terms:
            term = terms.pop()
            if term.op in ("add", "neg"):
                terms.extend(term.operands)
            elif not _linear(term, involved):
                return side.words(term) or to_text(term)
    return to_text(residual.node)[:80]


def _linear(term: Node, involved: Sequence[str]) -> bool:
    partials = Differentiator(involved).by_name(term)
    present = names_in(term) & set(involved)
    return present == set(partials) and not any(names_in(partial) & set(involved) for partial in partials.values())


def _coupled(coefficients: Sequence[Mapping[str, Node]]) -> list[list[int]]:
    """Group equations that share unknowns, directly or through others, in their order."""
    leader = list(range(len(coefficients)))

    def find(row: int) -> int:
        while leader[row] != row:
            leader[row] = leader[leader[row]]
            row = leader[row]
        return row

    first: dict[str, int] = {}
    for row, own in enumerate(coefficients):
        for name in own:
            leader[find(row)] = find(first.setdefault(name, row))
    groups: dict[int, list[int]] = {}
    for row in range(len(coefficients)):
        groups.setdefault(find(row), []).append(row)
    return list(groups.values())


def _solve_together(matrix: list[list[Node]], right: list[Node]) -> list[Node] | None:
    """Return the solution of coupled equations, or None where their determinant is zero."""
    from unhurried_heron.formulas.algebra import MAX_TOGETHER, solve_linear

    if len(right) <= MAX_TOGETHER:
        return solve_linear(matrix, right)
    return _eliminate([row[:] for row in matrix], right[:])


def _eliminate(matrix: list[list[Node]], right: list[Node]) -> list[Node] | None:
    """Solve many coupled equations by elimination: the formulas share their parts, so they stay of bounded size.

    The pivot is a number where there is one, else the shortest entry; mass matrices need no exchange of rows.
    """
    n = len(right)
    for k in range(n):
        rows = [row for row in range(k, n) if matrix[row][k] is not ZERO]
        if not rows:
            return None
        best = min(rows, key=lambda row: (matrix[row][k].value is None, sum(1 for _ in walk(matrix[row][k])), row))
        matrix[k], matrix[best], right[k], right[best] = matrix[best], matrix[k], right[best], right[k]
        for row in range(k + 1, n):
            if matrix[row][k] is ZERO:
                continue
            factor = simplified(div(matrix[row][k], matrix[k][k]))
            for column in range(k + 1, n):
                matrix[row][column] = _less(matrix[row][column], factor, matrix[k][column])
            right[row] = _less(right[row], factor, right[k])
    solution = [ZERO] * n
    for k in reversed(range(n)):
        total = right[k]
        for column in range(k + 1, n):
            total = _less(total, matrix[k][column], solution[column])
        solution[k] = _quotient(total, matrix[k][k])
    return solution


def _less(start: Node, factor: Node, other: Node) -> Node:
    """Return ``start - factor*other``.

    Parameters
    ----------
    start : Node
    factor : Node
    other : Node

    Returns
    -------
    Node
    """
    if factor is ZERO or other is ZERO:
        return start
    product = simplified(Node("mul", factor, other))
    return simplified(add(start, simplified(neg(product))))
