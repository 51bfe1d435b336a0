"""Equations that no rate is told by: residuals of states and their rates, which are zero all along."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Iterable, Mapping
from typing import Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import NameClashError, ValueGivenError, listing
from unhurried_heron.formulas.layout import Group, Layout
from unhurried_heron.model.sparsity import checked_sparsity

# What the name of a state's rate ends with, and what the whole state and all rates are called.
RATE: Final = "_rate"
_WHOLE, _RATES = "y", "y" + RATE


class Residuals:
    """The rates of states, and the residuals that their rates and the algebraic states must make zero.

    Parameters
    ----------
    function : callable
        Of the residuals.
    sizes : mapping of str to int
        How many numbers each state has, in the order of the states.
    algebraic : iterable of str
        The states that have no rate.
    """

    def __init__(self, function: Callable[..., Any], sizes: Mapping[str, int], algebraic: Iterable[str]) -> None:
        self.function, self.sizes, self.algebraic = function, dict(sizes), tuple(algebraic)
        self._taken = tuple(inspect.signature(function).parameters)
        self.__name__ = getattr(function, "__name__", "residuals")
        self._moving = [name for name in self.sizes if name not in self.algebraic]
        # a state may have one of the names of the whole
        self._whole = {_WHOLE, _RATES} - {*self.sizes, *(name + RATE for name in self._moving)}
        named = [name for name in self._taken if name not in self._whole]
        names = dict.fromkeys([*self.sizes, *(name + RATE for name in self._moving), *named])
        self.__signature__ = inspect.Signature(
            [inspect.Parameter(name, inspect.Parameter.POSITIONAL_OR_KEYWORD) for name in names]
        )
        self._order = {name: index for index, name in enumerate(names)}

    def __call__(self, *given: Any) -> Array:
        """Return the rates of all states, those of rates being residuals."""
        values = {name: given[index] for name, index in self._order.items()}
        rates = {name: np.ravel(values[name + RATE]) for name in self._moving}
        if self._whole & {*self._taken}:
            nothing = {name: np.zeros(size) for name, size in self.sizes.items() if name in self.algebraic}
            in_order = [{**rates, **nothing}[name] for name in self.sizes]
            whole = np.concatenate([np.ravel(values[name]) for name in self.sizes])
            of_all = {_WHOLE: whole, _RATES: np.concatenate(in_order)}
            values |= {name: of_all[name] for name in self._whole}
        residuals = self._flat(self.function(*(values[name] for name in self._taken)))
        parts = dict(zip(self.sizes, np.split(residuals, np.cumsum([*self.sizes.values()])[:-1]), strict=True))
        found = [rates.get(name, parts[name]) for name in self.sizes]
        return np.concatenate([*found, *(parts[name] for name in self._moving)])

    def pattern(self, sparsity: Any) -> Any:
        """Return the pattern of the whole Jacobian, from where residuals depend on states or their rates.

        Parameters
        ----------
        sparsity : array_like or sparse matrix, shape (n_states, n_states)

        Returns
        -------
        csr_array
        """
        from scipy.sparse import block_array, csr_array, diags_array, eye_array

        layout = Layout(tuple(Group(name, ((1, size),)) for name, size in self.sizes.items()))
        depends = csr_array(checked_sparsity(sparsity, layout))
        moving = layout.indices_of_all(self._moving)
        rates, still = eye_array(layout.size, format="csr")[:, moving], np.ones(layout.size)
        still[moving] = 0
        own = (diags_array(still) @ depends).tocsr()
        above = [own, rates + own[:, moving]]
        return block_array([above, [depends[moving], depends[moving][:, moving]]], format="csr") != 0

    def _flat(self, answer: Any) -> Array:
        """Return the residuals as one array.

        Raises
        ------
        ValueGivenError
            They are as many as the states.
        """
        if isinstance(answer, Mapping):
            answer = [answer[name] for name in self.sizes]
        parts = [np.ravel(np.asarray(part, dtype=float)) for part in answer]
        found: Array = np.concatenate([np.empty(0), *parts])
        wanted = sum(self.sizes.values())
        if found.size != wanted:
            raise ValueGivenError(
                "there are not as many residuals as states",
                name="residuals",
                location="residuals",
                expected=f"{wanted} numbers, one for each of {listing([*self.sizes])}",
                given=f"{found.size} numbers",
            )
        return found

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Residuals):
            return NotImplemented
        same = self.function == other.function and self.sizes == other.sizes
        return bool(same and self.algebraic == other.algebraic)

    def __hash__(self) -> int:
        return hash((self.function, tuple(self.sizes), self.algebraic))


def residuals_of(
    function: Callable[..., Any], initial: Mapping[str, Any], guess: Mapping[str, Any], algebraic: Iterable[str]
) -> tuple[Residuals, dict[str, Any], list[str]]:
    """Return the rates of a problem that is told by residuals, what its rates are guessed as, and the algebraic states.

    Parameters
    ----------
    function : callable
    initial : mapping of str to object
    guess : mapping of str to object
        Of states, and of rates by their names.
    algebraic : iterable of str
        Those that are named; where a function asks for rates one by one, the others follow from that.

    Returns
    -------
    (Residuals, dict of str to object, list of str)

    Raises
    ------
    NameClashError
        A state is called as a rate is.
    """
    taken = tuple(inspect.signature(function).parameters)
    states = {**initial, **{name: value for name, value in guess.items() if not name.endswith(RATE)}}
    for name in states:
        if name.endswith(RATE) and name[: -len(RATE)] in states:
            raise NameClashError(f"'{name}' is the name of a rate", name=name, location="initial",
                                 expected=f"a state that does not end with {RATE}", given=name)  # fmt: skip
    still = list(algebraic)
    if _RATES not in taken or _WHOLE in states:
        still += [name for name in states if name + RATE not in taken and name not in still]
    sizes = {name: int(np.size(value)) for name, value in states.items()}
    guesses: dict[str, Any] = {name: value for name, value in guess.items() if not name.endswith(RATE)}
    for name, value in states.items():
        if name not in still:
            guesses[name + RATE] = guess.get(name + RATE, np.zeros(np.shape(value)) if np.ndim(value) else 0.0)
    return Residuals(function, sizes, still), guesses, [*still, *(name + RATE for name in states if name not in still)]
