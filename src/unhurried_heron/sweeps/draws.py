"""Values of several quantities drawn from distributions."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Final, Literal

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.equality import ByValue
from unhurried_heron.errors import OptionError, excerpt, listing
from unhurried_heron.input.rules import POSITIVE_COUNT, choice, whole

_DESIGNS: Final = ("independent", "latin-hypercube", "sobol", "paired")
# The smallest share; none is 0 or 1, where most distributions are infinite.
_TINY: Final = 2.0**-53
_DESIGN: Final = choice(*_DESIGNS)
_SEED: Final = whole(0)


@dataclass(frozen=True, eq=False)
class Draws(ByValue):
    """Members of a sweep that are drawn.

    Parameters
    ----------
    distributions : mapping of str to frozen distribution of `scipy.stats`
        By parameter, state, or end of the interval.
    count : int
        How many members.
    seed : int
        The same seed gives the same members.
    design : {"independent", "latin-hypercube", "sobol", "paired"}
        How they fill the space: each by itself, one in each of ``count`` equal shares of every quantity, or a
        scrambled Sobol sequence (of which powers of 2 fill it most evenly). M. D. McKay, R. J. Beckman and W. J.
        Conover (1979); I. M. Sobol' (1967). Paired draws are for `sobol_indices`: two samples of a Sobol sequence, and
        for each quantity the first with that quantity of the second, so that there are ``count`` times two more
        members than quantities.
    correlation : array_like, shape (n, n), or mapping of (str, str) to float, optional
        Of the normal numbers behind the quantities; of normal distributions it is their own.

    Raises
    ------
    OptionError
        A distribution is none, or the correlation is no positive definite matrix.
    """

    distributions: Mapping[str, Any]
    count: int
    seed: int = 0
    design: Literal["independent", "latin-hypercube", "sobol", "paired"] = "independent"
    correlation: Any = field(default=None, repr=False)

    def __post_init__(self) -> None:
        given = self.distributions
        named = isinstance(given, Mapping) and bool(given) and all(isinstance(name, str) for name in given)
        if not named or not all(callable(getattr(each, "ppf", None)) for each in given.values()):
            raise OptionError("these are no distributions", name="distributions", location="Draws",
                              expected="frozen distributions of scipy.stats by name, {'inflow': stats.norm(1, 0.1)}",
                              given=excerpt(given))  # fmt: skip
        POSITIVE_COUNT(self.count, "count", "Draws")
        _SEED(self.seed, "seed", "Draws")
        _DESIGN(self.design, "design", "Draws")
        if self.design == "paired" and self.correlation is not None:
            raise OptionError("paired draws are of quantities that are independent", name="correlation",
                              location="Draws", expected="no correlation=…, or another design",
                              given=excerpt(self.correlation))  # fmt: skip
        if self.correlation is not None:
            # refuses what is none
            _ = self._root

    def compared(self) -> tuple[Any, ...]:
        """Return what makes two draws equal: all members."""
        return (tuple(self.distributions), *self.values.values())

    @cached_property
    def values(self) -> dict[str, Array]:
        """The values of each quantity, shape (count,)."""
        shares = self._shares()
        return {name: np.asarray(each.ppf(shares[:, k]), dtype=np.float64)
                for k, (name, each) in enumerate(self.distributions.items())}  # fmt: skip

    def _shares(self) -> Array:
        """Return numbers between 0 and 1, shape (count, n), each uniform, and correlated as was said."""
        from scipy import special
        from scipy.stats import qmc

        n = len(self.distributions)
        if self.design == "paired":
            both = self._sobol(2 * n)
            one, other = both[:, :n], both[:, n:]
            exchanged = [np.where(np.arange(n) == k, other, one) for k in range(n)]
            return np.concatenate([one, other, *exchanged])
        if self.design == "independent":
            shares = np.random.default_rng(self.seed).random((self.count, n))
        elif self.design == "latin-hypercube":
            shares = qmc.LatinHypercube(n, rng=np.random.default_rng(self.seed)).random(self.count)
        else:
            shares = self._sobol(n)
        # no share is 0 or 1, where most distributions are infinite
        shares = np.clip(shares, _TINY, 1.0 - 2.0 * _TINY)
        if self.correlation is None:
            return shares
        correlated: Array = special.ndtr(special.ndtri(shares) @ self._root.T)
        return correlated

    def _sobol(self, n: int) -> Array:
        """Return points of a scrambled Sobol sequence, shape (count, n)."""
        from scipy.stats import qmc

        whole_power = 1 << (self.count - 1).bit_length()
        points = qmc.Sobol(n, rng=np.random.default_rng(self.seed)).random(whole_power)[: self.count]
        found: Array = np.clip(points, _TINY, 1.0 - 2.0 * _TINY)
        return found

    @cached_property
    def _root(self) -> Array:
        """The lower triangular root of the correlation."""
        names, n = list(self.distributions), len(self.distributions)
        matrix = np.eye(n)
        if isinstance(self.correlation, Mapping):
            for pair, value in self.correlation.items():
                if not (isinstance(pair, tuple) and len(pair) == 2 and {*pair} <= {*names}):
                    raise OptionError("a correlation is of two quantities", name="correlation", location="Draws",
                                      expected="pairs of " + listing(names), given=excerpt(pair))  # fmt: skip
                i, j = (names.index(name) for name in pair)
                matrix[i, j] = matrix[j, i] = value
        else:
            matrix = np.asarray(self.correlation, dtype=np.float64)
        fits = matrix.shape == (n, n) and np.allclose(matrix, matrix.T) and np.allclose(np.diag(matrix), 1.0)
        try:
            if not fits:
                raise np.linalg.LinAlgError
            root: Array = np.linalg.cholesky(matrix).astype(np.float64)
            return root
        except np.linalg.LinAlgError:
            raise OptionError("this is no correlation", name="correlation", location="Draws",
                              expected=f"a symmetric, positive definite matrix {n} by {n} with ones on its diagonal",
                              given=excerpt(self.correlation)) from None  # fmt: skip
