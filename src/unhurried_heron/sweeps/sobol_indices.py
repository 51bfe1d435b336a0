"""Sobol's sensitivity indices of a measure, from a sweep of paired draws.

First order: A. Saltelli, P. Annoni, I. Azzini, F. Campolongo, M. Ratto and S. Tarantola, Computer Physics
Communications 181 (2010) 259-270, table 2 (b). Total: M. J. W. Jansen, Computer Physics Communications 117 (1999) 35.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.equality import ByValue
from unhurried_heron.errors import OptionError, excerpt, listing
from unhurried_heron.input.rules import above, instance, whole
from unhurried_heron.sweeps.axes import MEMBER
from unhurried_heron.sweeps.sweep import Sweep
from unhurried_heron.text.document import Document
from unhurried_heron.text.sweep_document import indices_document

if TYPE_CHECKING:
    import pandas as pd

_A_SWEEP: Final = instance(Sweep, "a Sweep, what sweep returns")
_SHARE: Final = above(0.0, 0.999999)
_SEED: Final = whole(0)
_REPEATS: Final = whole(2)
# Numbers of resampled rows that are in memory at once.
_AT_ONCE: Final = 4_000_000


@dataclass(frozen=True, eq=False)
class SobolIndices(ByValue):
    """How much of the variance of a number comes from each of the quantities that were drawn.

    Attributes
    ----------
    quantity : str
        The number.
    names : tuple of str
        What was drawn.
    first, total : ndarray, shape (n_names,)
        Shares of the variance: of each quantity alone, and with all that it does together with others.
    first_interval, total_interval : ndarray, shape (n_names, 2)
        Within which they lie with the stated confidence, by bootstrap over draws.
    confidence : float
    mean, variance : float
        Of the number.
    count : int
        Draws that were used; each is one member for each quantity and two more.
    left_out : int
        Draws of which a member failed.
    """

    quantity: str
    names: tuple[str, ...]
    first: Array
    total: Array
    first_interval: Array
    total_interval: Array
    confidence: float
    mean: float
    variance: float
    count: int
    left_out: int

    def frame(self) -> pd.DataFrame:
        """Return a row for each quantity: its name, both indices, and their intervals."""
        import pandas as pd

        return pd.DataFrame(
            {
                "quantity": list(self.names),
                "first": self.first,
                "first low": self.first_interval[:, 0],
                "first high": self.first_interval[:, 1],
                "total": self.total,
                "total low": self.total_interval[:, 0],
                "total high": self.total_interval[:, 1],
            }
        )

    def document(self) -> Document:
        """What they say."""
        return indices_document(self)

    def __str__(self) -> str:
        return str(self.document())


def sobol_indices(
    sweep: Sweep, quantity: str, *, confidence: float = 0.95, repeats: int = 1000, seed: int = 0
) -> SobolIndices:
    """Find how much of the variance of a measure comes from each of the quantities that were drawn.

    Parameters
    ----------
    sweep : Sweep
        Of `Draws` with ``design="paired"``.
    quantity : str
        A measure as it was said, or a variable of ``sweep.dataset`` of one number for each member.
    confidence : float
        Of the intervals around them.
    repeats : int
        Resamplings of the draws.
    seed : int
        Of these.

    Returns
    -------
    SobolIndices

    Raises
    ------
    OptionError
        The sweep is none of paired draws, there is no such quantity, or it does not vary.

    Examples
    --------
    >>> from scipy import stats
    >>> from unhurried_heron import Draws, Problem, sweep
    >>> tank = Problem.from_text("level' = inflow - leak", parameters={"inflow": 1.0, "leak": 0.5},
    ...                          initial={"level": 0.0}, interval=(0, 1))
    >>> draws = Draws({"inflow": stats.uniform(0, 2), "leak": stats.uniform(0, 1)}, 1024, design="paired")
    >>> sobol_indices(sweep(tank, draws=draws), "final_level").total.round(2).tolist()
    [0.8, 0.2]
    """
    _A_SWEEP(sweep, "sweep", "sobol_indices")
    _SHARE(confidence, "confidence", "sobol_indices")
    _REPEATS(repeats, "repeats", "sobol_indices")
    _SEED(seed, "seed", "sobol_indices")
    names, rows = _paired(sweep, _numbers(sweep, quantity))
    good = np.isfinite(rows).all(axis=0)
    kept = rows[:, good]
    spread = float(kept[:2].var()) if kept.size else 0.0
    if kept.shape[1] < 2 or not spread > 0.0:
        raise OptionError(f"'{quantity}' does not vary", name=quantity, location="sobol_indices",
                          expected="a number of several members that differ",
                          given=f"{kept.shape[1]} draws, variance {spread:.3g}")  # fmt: skip
    first, total = _indices(kept[:, None])
    generator, count = np.random.default_rng(seed), kept.shape[1]
    several = max(1, _AT_ONCE // kept.size)
    found: list[tuple[Array, Array]] = []
    for begin in range(0, repeats, several):
        drawn = generator.integers(0, count, (min(several, repeats - begin), count))
        found.append(_indices(kept[:, drawn]))
    ends = [0.5 * (1.0 - confidence), 0.5 * (1.0 + confidence)]
    intervals = [np.quantile(np.concatenate(each, axis=1), ends, axis=1).T for each in zip(*found, strict=True)]
    return SobolIndices(str(quantity), names, first[:, 0], total[:, 0], intervals[0], intervals[1], float(confidence),
                        float(kept[:2].mean()), spread, count, int((~good).sum()))  # fmt: skip


def _numbers(sweep: Sweep, quantity: Any) -> Array:
    """Return the number of each member.

    Raises
    ------
    OptionError
    """
    by_text = {measure.text: measure.name for measure in sweep.measures}
    one = [str(name) for name, each in sweep.dataset.data_vars.items()
           if each.dims == (MEMBER,) and each.dtype.kind in "fi"]  # fmt: skip
    name = by_text.get(quantity, quantity) if isinstance(quantity, str) else None
    if name not in one:
        raise OptionError("there is no such number of each member", name="quantity", location="sobol_indices",
                          expected="one of " + listing(name for name in one if not name.startswith("tally_")),
                          given=excerpt(quantity))  # fmt: skip
    values: Array = sweep.dataset[name].to_numpy().astype(np.float64)
    return values


def _paired(sweep: Sweep, values: Array) -> tuple[tuple[str, ...], Array]:
    """Return what was drawn, and the numbers as rows: of both samples, and of the first with one quantity exchanged.

    Parameters
    ----------
    sweep : Sweep
    values : ndarray, shape (n_members,)

    Returns
    -------
    (tuple of str, ndarray of shape (2 + n_names, n_draws))

    Raises
    ------
    OptionError
    """
    axis = sweep.axes.axes[0]
    n = len(axis.variations)
    count, rest = divmod(axis.size, n + 2)
    drawn = np.array([each.values for each in axis.variations], dtype=np.float64)
    fits = len(sweep.axes.axes) == 1 and axis.dimension == MEMBER and rest == 0 and count > 0
    if fits:
        parts = drawn.reshape(n, n + 2, count)
        for k in range(n):
            exchanged = parts[:, 0].copy()
            exchanged[k] = parts[k, 1]
            fits = fits and bool(np.array_equal(parts[:, 2 + k], exchanged))
    if not fits:
        raise OptionError("this is no sweep of paired draws", name="sweep", location="sobol_indices",
                          expected='draws=uh.Draws({…}, count, design="paired")',
                          given=" x ".join(each.dimension for each in sweep.axes.axes))  # fmt: skip
    return tuple(each.name for each in axis.variations), values.reshape(n + 2, count)


def _indices(rows: Array) -> tuple[Array, Array]:
    """Return indices of first order and total ones.

    Parameters
    ----------
    rows : ndarray, shape (2 + n_names, n_repeats, n_draws)

    Returns
    -------
    (ndarray, ndarray), shapes (n_names, n_repeats)
    """
    one, other, exchanged = rows[0], rows[1], rows[2:]
    variance = np.concatenate([one, other], axis=-1).var(axis=-1)
    # less the mean, of which the estimates are free but for rounding and noise
    middle = 0.5 * (one.mean(axis=-1) + other.mean(axis=-1))[:, None]
    first = ((other - middle) * (exchanged - one)).mean(axis=-1) / variance
    total = ((one - exchanged) ** 2).mean(axis=-1) / (2.0 * variance)
    return first, total
