"""Branches of equilibria over a parameter, as results."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.arrays import Array, BoolArray, ComplexArray
from unhurried_heron.dynamics.bifurcation import Bifurcation
from unhurried_heron.equality import ByValue
from unhurried_heron.problem.problem import Problem
from unhurried_heron.text.branches_document import branches_document
from unhurried_heron.text.document import Document

if TYPE_CHECKING:
    import pandas as pd

# Real parts below this share of the largest eigenvalue on the branch are none.
_NEUTRAL: Final = 1e-8


@dataclass(frozen=True, eq=False)
class Branch(ByValue):
    """One curve of equilibria.

    Attributes
    ----------
    values : ndarray, shape (n_points,)
        Of the parameter, along the curve.
    states : ndarray, shape (n_points, n_states)
    eigenvalues : ndarray of complex, shape (n_points, n_states)
    ends : (str, str)
        Why it begins and ends where it does.
    """

    values: Array
    states: Array
    eigenvalues: ComplexArray
    ends: tuple[str, str]

    @property
    def stable(self) -> BoolArray:
        """Whether each point is stable, bool, shape (n_points,)."""
        stable: BoolArray = self.growth < -self._rounding
        return stable

    @property
    def stretches(self) -> list[tuple[bool, slice]]:
        """Stable and unstable parts in their order, each with the points where it changes."""
        stable, n = self.stable, self.values.size
        neutral = np.abs(self.growth) <= self._rounding
        firm = np.flatnonzero(~neutral)
        if not firm.size:
            return [(False, slice(0, n))]
        # a bifurcation belongs to what is before it and to what is after it
        changes = np.flatnonzero(np.diff(stable[firm].astype(int)))
        edges = [0, *(int(firm[k] + firm[k + 1]) // 2 for k in changes), n - 1]
        kinds = [bool(stable[firm[0]]), *(bool(stable[firm[k + 1]]) for k in changes)]
        return [(kind, slice(a, b + 1)) for kind, a, b in zip(kinds, edges[:-1], edges[1:], strict=True)]

    @property
    def _rounding(self) -> float:
        finite = np.abs(self.eigenvalues[np.isfinite(self.eigenvalues)])
        return _NEUTRAL * float(finite.max(initial=0.0))

    @property
    def growth(self) -> Array:
        """The largest real part at each point; eigenvalues of constraints are infinite, and no numbers."""
        real = self.eigenvalues.real
        growth: Array = np.where(np.isfinite(real), real, -np.inf).max(axis=1, initial=-np.inf)
        return growth


@dataclass(frozen=True, eq=False)
class Branches(ByValue):
    """Branches of equilibria over a parameter.

    Attributes
    ----------
    problem : Problem
    parameter : str
    over : (float, float)
        From where to where.
    within : dict of str to (float, float)
        The box.
    branches : tuple of Branch
    bifurcations : tuple of Bifurcation
        In the order of the parameter.
    starts : int
        From how many points branches were looked for.
    in_time : bool
        Whether all of them were gone through.
    """

    problem: Problem = field(repr=False)
    parameter: str
    over: tuple[float, float]
    within: dict[str, tuple[float, float]]
    branches: tuple[Branch, ...]
    bifurcations: tuple[Bifurcation, ...]
    starts: int
    in_time: bool = True

    def __len__(self) -> int:
        return len(self.branches)

    def __iter__(self) -> Iterator[Branch]:
        return iter(self.branches)

    def __getitem__(self, index: int) -> Branch:
        """Return one of them."""
        return self.branches[index]

    def frame(self) -> pd.DataFrame:
        """Return a row for each point: branch, parameter, states, whether it is stable, the largest real part."""
        import pandas as pd

        rows = []
        for number, branch in enumerate(self.branches, 1):
            columns: dict[str, Any] = {"branch": np.full(branch.values.size, number), self.parameter: branch.values}
            columns |= dict(zip(self.problem.states, branch.states.T, strict=True))
            columns["stable"] = branch.stable
            columns["largest real part"] = branch.growth
            rows.append(pd.DataFrame(columns))
        names = ["branch", self.parameter, *self.problem.states, "stable", "largest real part"]
        return pd.concat(rows, ignore_index=True) if rows else pd.DataFrame(columns=names)

    def document(self) -> Document:
        """What was found."""
        return branches_document(self)

    def __str__(self) -> str:
        return str(self.document())
