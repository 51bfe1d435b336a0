"""An equilibrium: where it is, how the motion around it goes, and what it is called."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Final, Literal

import numpy as np

from unhurried_heron.arrays import Array, ComplexArray
from unhurried_heron.equality import ByValue
from unhurried_heron.problem.problem import Problem
from unhurried_heron.text.document import Document
from unhurried_heron.text.equilibria_document import equilibria_document

if TYPE_CHECKING:
    import pandas as pd

Kind = Literal["node", "focus", "saddle", "saddle focus", "centre", "not hyperbolic"]
# A last correction above this tells that Newton's method came nearer but slowly, as where an eigenvalue is zero.
_SLOW: Final = 1e-11
# Real parts below this share of the size of Jacobians are rounding: linear theory does not tell their sign.
_ROUNDING: Final = 1e-12


@dataclass(frozen=True, eq=False)
class Equilibrium(ByValue):
    """A state at which all rates vanish.

    Attributes
    ----------
    problem : Problem
    state : ndarray, shape (n_states,)
    eigenvalues : ndarray of complex, shape (n_states,)
        Of the Jacobian there, the largest real part first; with constraints fewer.
    kind : {"node", "focus", "saddle", "saddle focus", "centre", "not hyperbolic"}
        As linear theory has it: a focus turns, a saddle has ways in and out, a centre turns without coming nearer;
        where an eigenvalue is zero, or some are imaginary and others not, it tells nothing.
    stable : bool or None
        Whether what begins nearby comes back; None where linear theory does not tell.
    error : float
        The last correction of Newton's method, relative to the state.
    """

    problem: Problem = field(repr=False)
    state: Array
    eigenvalues: ComplexArray
    kind: Kind
    stable: bool | None
    error: float

    def __getitem__(self, name: str) -> float:
        """Return the value of a state by its name."""
        return float(self.state[self.problem.states.index(name)])

    @property
    def named(self) -> dict[str, float]:
        """The states by name."""
        return dict(zip(self.problem.states, self.state.tolist(), strict=True))

    def __str__(self) -> str:
        values = ((name, f"{value:.8g}", self.problem.units.get(name, "")) for name, value in self.named.items())
        return f"{self.words} at " + ", ".join(
            " ".join((f"{name} = {value}", unit)).rstrip() for name, value, unit in values
        )

    @property
    def words(self) -> str:
        """Stability and kind in words."""
        stability = {True: "stable ", False: "unstable ", None: ""}[self.stable]
        return self.kind if self.kind.startswith("saddle") else f"{stability}{self.kind}"


def equilibrium_at(
    problem: Problem, state: Array, eigenvalues: ComplexArray, error: float, typical: float = 0.0
) -> Equilibrium:
    """Return an equilibrium with what its eigenvalues tell.

    Parameters
    ----------
    problem : Problem
    state : ndarray, shape (n_states,)
    eigenvalues : ndarray of complex, shape (n_states,)
    error : float
    typical : float, optional
        The size of Jacobians around, where that is known.

    Returns
    -------
    Equilibrium
    """
    # those of constraints are infinite, and no numbers
    eigenvalues = eigenvalues[np.isfinite(eigenvalues)]
    ordered = eigenvalues[np.lexsort((eigenvalues.imag, -eigenvalues.real))]
    rounding = _ROUNDING * float(np.abs(ordered).max(initial=typical))
    real, turns = ordered.real, bool((np.abs(ordered.imag) > rounding).any())
    neutral = np.abs(real) <= rounding
    if error > _SLOW and ordered.size:
        neutral[np.argmin(np.abs(ordered))] = True
    kind: Kind
    if neutral.any():
        whole = neutral.all() and bool((np.abs(ordered.imag) > rounding).all())
        growing = bool((real > rounding).any())
        kind, stable = ("centre", None) if whole else ("not hyperbolic", False if growing else None)
    elif (real < 0).all() or (real > 0).all():
        kind, stable = "focus" if turns else "node", bool((real < 0).all())
    else:
        kind, stable = "saddle focus" if turns else "saddle", False
    return Equilibrium(problem, state, ordered, kind, stable, error)


@dataclass(frozen=True, eq=False)
class Equilibria(ByValue):
    """Equilibria that were found within a box.

    Attributes
    ----------
    problem : Problem
    found : tuple of Equilibrium
        In the order of their states.
    within : dict of str to (float, float)
        The box.
    starts : int
        From how many points Newton's method began.
    solutions : int or None
        Where rates are quotients of polynomials, and algebra has found all solutions of these, how many there are:
        then none is missed. None where it has not.
    in_time : bool
        Whether Newton's method was done in the seconds that were given.
    """

    problem: Problem
    found: tuple[Equilibrium, ...]
    within: dict[str, tuple[float, float]]
    starts: int
    solutions: int | None = None
    in_time: bool = True

    def __len__(self) -> int:
        return len(self.found)

    def __iter__(self) -> Iterator[Equilibrium]:
        return iter(self.found)

    def __getitem__(self, index: int) -> Equilibrium:
        """Return one of them."""
        return self.found[index]

    def frame(self) -> pd.DataFrame:
        """Return a row for each: its states, kind, whether it is stable, and the largest real part."""
        import pandas as pd

        rows: list[dict[str, Any]] = [
            {**each.named, "kind": each.kind, "stable": each.stable,
             "largest real part": float(each.eigenvalues.real.max(initial=-np.inf))}
            for each in self.found
        ]  # fmt: skip
        return pd.DataFrame(rows, columns=[*self.problem.states, "kind", "stable", "largest real part"])

    def document(self) -> Document:
        """What was found."""
        return equilibria_document(self)

    def __str__(self) -> str:
        return str(self.document())
