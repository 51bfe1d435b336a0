"""Which equation determines which unknown, by structure alone, and in which order they can be solved.

A. L. Dulmage and N. S. Mendelsohn, Canadian Journal of Mathematics 10 (1958) 517-534: a largest matching of equations
and unknowns tells the parts that have too many or too few of either, and the strongly connected parts of the rest.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from graphlib import TopologicalSorter
from typing import Any, NamedTuple

import numpy as np


class Component(NamedTuple):
    """Equations, by their numbers, and as many unknowns, that have to be solved together."""

    equations: tuple[int, ...]
    unknowns: tuple[str, ...]


class Structure(NamedTuple):
    """What equations determine.

    Attributes
    ----------
    components : tuple of Component
        What can be solved, each after those that it needs.
    over, under : Component or None
        The part with more equations than unknowns, and the part with more unknowns than equations.
    """

    components: tuple[Component, ...]
    over: Component | None
    under: Component | None


def structure_of(rows: Sequence[Collection[str]], unknowns: Sequence[str]) -> Structure:
    """Return what equations determine, of which only the unknowns in each are known.

    Parameters
    ----------
    rows : sequence of collections of str
        The unknowns in each equation.
    unknowns : sequence of str

    Returns
    -------
    Structure
    """
    where = {name: k for k, name in enumerate(unknowns)}
    columns = [sorted(where[name] for name in row if name in where) for row in rows]
    matched = _matching(columns, len(unknowns))
    owner = {column: row for row, column in enumerate(matched) if column >= 0}
    holders: dict[int, list[int]] = {k: [] for k in range(len(unknowns))}
    for row, own in enumerate(columns):
        for column in own:
            holders[column].append(row)
    loose_rows = [row for row, column in enumerate(matched) if column < 0]
    loose_columns = [column for column in range(len(unknowns)) if column not in owner]
    over = _reached(loose_rows, lambda row: [owner[column] for column in columns[row]])
    over_columns = {column for row in over for column in columns[row]}
    under_columns = _reached(loose_columns, lambda column: [matched[row] for row in holders[column]])
    under_rows = {row for column in under_columns for row in holders[column]}
    left = [row for row in range(len(rows)) if row not in over and row not in under_rows]
    edges = {row: {owner[c] for c in columns[row]} & set(left) - {row} for row in left}
    components = [
        Component(tuple(part), tuple(unknowns[matched[row]] for row in part)) for part in circles(edges, single=True)
    ]

    def part(equations: Iterable[int], names: Iterable[int]) -> Component:
        return Component(tuple(sorted(equations)), tuple(unknowns[k] for k in sorted(names)))

    return Structure(
        tuple(components),
        part(over, over_columns) if loose_rows else None,
        part(under_rows, under_columns) if loose_columns else None,
    )


def _matching(columns: Sequence[Sequence[int]], count: int) -> list[int]:
    """Return the unknown of each equation in a largest matching, -1 where there is none."""
    if not columns or not count:
        return [-1] * len(columns)
    # most problems have no constraints, and are formulated without a library for them
    from scipy.sparse import csr_array
    from scipy.sparse.csgraph import maximum_bipartite_matching

    ends = np.cumsum([0, *map(len, columns)])
    flat = np.array([column for own in columns for column in own], dtype=np.int64)
    graph = csr_array((np.ones(flat.size, dtype=np.int8), flat, ends), shape=(len(columns), count))
    found: list[int] = maximum_bipartite_matching(graph, perm_type="column").tolist()
    return found


def _reached(first: Iterable[int], beyond: Any) -> set[int]:
    """Return what is reached from some, each of which leads to others."""
    found, waiting = set(first), list(first)
    while waiting:
        for other in beyond(waiting.pop()):
            if other not in found:
                found.add(other)
                waiting.append(other)
    return found


def circles(edges: Mapping[Any, Collection[Any]], *, single: bool = False) -> list[list[Any]]:
    """Return the parts in which each leads to each other, those first to which others lead.

    Parameters
    ----------
    edges : mapping of object to collection of object
        Where each leads.
    single : bool, optional
        Whether those are returned, too, that lead to none that leads back.

    Returns
    -------
    list of list of object
    """
    names = list(edges)
    if not names:
        return []
    from scipy.sparse import csr_array
    from scipy.sparse.csgraph import connected_components

    index = {name: k for k, name in enumerate(names)}
    pairs = [(index[name], index[other]) for name, own in edges.items() for other in own if other in index]
    rows, columns = np.array(pairs, dtype=np.int64).reshape(-1, 2).T
    graph = csr_array((np.ones(rows.size, dtype=np.int8), (rows, columns)), shape=(len(names), len(names)))
    count, labels = connected_components(graph, directed=True, connection="strong")
    members: list[list[Any]] = [[] for _ in range(count)]
    for name, label in zip(names, labels.tolist(), strict=True):
        members[label].append(name)
    needs: dict[int, set[int]] = {label: set() for label in range(count)}
    for row, column in zip(labels[rows].tolist(), labels[columns].tolist(), strict=True):
        if row != column:
            needs[row].add(column)
    ordered = [members[label] for label in TopologicalSorter(needs).static_order()]
    return [part for part in ordered if single or len(part) > 1 or part[0] in edges[part[0]]]
