"""Which linear algebra suits a system: by its size, by its pattern, and by what is wanted."""

from __future__ import annotations

from typing import Any, Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import IntArray
from unhurried_heron.errors import MethodError, OptionError, excerpt
from unhurried_heron.model.mass_matrix import MassMatrix

# What is wanted by name,
KINDS: Final = ("dense", "banded", "sparse", "krylov")
# and in the place of "krylov": iterations with incomplete factors of a matrix, and with what is given in their place.
INCOMPLETE: Final = "incomplete"
GIVEN: Final = "given"
PRECONDITIONERS: Final = ("incomplete", "cells", "multigrid", "none")
# What stands in for iterations that fail, by the code of the march.
_STAND_INS: Final = ("", "sparse factors", "incomplete factors with fill-in")
# The number of states up to which compiled loops on full matrices are fastest, whatever the pattern of the Jacobian is.
# Measured by `benchmarks/run.py --part linear`, as the next one.
MAX_FULL: Final = 100
# The largest full matrix that a run keeps: 200 MB for a real one.
MAX_DENSE: Final = 5000
# The number of states up to which fixed steps keep full matrices, which Newton's full method on all stages needs.
MAX_DAMPED: Final = 500
# The number of states from which sparse factors are too expensive where linear algebra is not named: iterations take
# their place, and methods whose shifts are real that of others, where these are not named.
MANY_SPARSE: Final = 1000
# The width of a band up to which banded factors are faster than sparse ones,
_WIDEST_BAND: Final = 120
# and, of as many states as these have, than iterations.
_WIDEST_OF_MANY: Final = 30
# The share of nonzero entries below which a matrix is sparse.
SPARSE: Final = 0.1


class Entries(NamedTuple):
    """Where a Jacobian can be nonzero: rows and columns, int64 (n_entries,), in the order in which it is kept."""

    rows: IntArray
    columns: IntArray


def most_entries(n: int, wanted: str | None, preconditioner: Any) -> float:
    """Return how many entries of a Jacobian are looked for at most; with more of them there is no matrix.

    Parameters
    ----------
    n : int
    wanted : str or None
        By the user.
    preconditioner : str, callable or None
        Likewise.

    Returns
    -------
    float
    """
    may_be_without = wanted in (None, "krylov") and preconditioner in (None, "none")
    return SPARSE * n * n if n > MAX_DENSE and may_be_without else np.inf


def entries_with(entries: Entries, mass: MassMatrix | None) -> Entries:
    """Return where shift*M - J can be nonzero, from the entries of J."""
    if mass is None:
        return entries
    return Entries(np.concatenate([entries.rows, mass.rows]), np.concatenate([entries.columns, mass.columns]))


def choose_linear(
    n: int, entries: Entries | None, wanted: str | None, preconditioner: Any = None, *, fixed: bool
) -> str:
    """Return the kind of linear algebra for a system: one of `KINDS`, `INCOMPLETE` or `GIVEN`.

    Without matrices are systems of which no pattern is known, or which are not sparse, and which are too large for full
    ones. Fixed steps may
    need Newton's full method on all stages, which is for full matrices, up to `MAX_DAMPED` states.

    Parameters
    ----------
    n : int
        Number of states.
    entries : Entries or None
        Where the Jacobian can be nonzero; None where that is not known.
    wanted : str or None
        What the user asked for.
    preconditioner : str, callable or None
        Likewise; it goes with iterations.
    fixed : bool
        Whether steps are fixed.

    Returns
    -------
    str

    Raises
    ------
    OptionError
        What is wanted is no kind, or needs a pattern that is not known.
    """
    if wanted is not None and wanted not in KINDS:
        raise OptionError("there is no such linear algebra", name="linear", location="linear",
                          expected="one of " + ", ".join(KINDS), given=excerpt(wanted))  # fmt: skip
    if preconditioner is not None or wanted == "krylov":
        if entries is not None and preconditioner is None and entries.rows.size >= SPARSE * n * n:
            # its incomplete factors would be full ones
            return "krylov"
        return _iterations(entries, wanted, preconditioner)
    if entries is None:
        if wanted in ("banded", "sparse"):
            raise _without_pattern(f"{wanted} factors need", "linear", wanted)
        return wanted or ("dense" if n <= MAX_DENSE else "krylov")
    if wanted is not None:
        return wanted
    if n <= (MAX_DAMPED if fixed else MAX_FULL):
        return "dense"
    from unhurried_heron.families.factorisations import order_for_band

    _, below, above = order_for_band(n, *entries)
    if below + above <= (_WIDEST_BAND if n < MANY_SPARSE else _WIDEST_OF_MANY):
        return "banded"
    if entries.rows.size >= SPARSE * n * n:
        return "dense" if n <= MAX_DENSE else "krylov"
    return "sparse" if n < MANY_SPARSE else INCOMPLETE


def _iterations(entries: Entries | None, wanted: str | None, preconditioner: Any) -> str:
    """Return which iterations are wanted.

    Parameters
    ----------
    entries : Entries or None
    wanted : str or None
    preconditioner : str, callable or None

    Returns
    -------
    str

    Raises
    ------
    OptionError
        There is no such preconditioner, or it does not go with what else is wanted.
    """
    if not (preconditioner is None or callable(preconditioner) or preconditioner in PRECONDITIONERS):
        expected = (
            "one of " + ", ".join(PRECONDITIONERS) + ", or a function of the matrix that returns what solves with it"
        )
        raise OptionError("there is no such preconditioner", name="preconditioner", location="preconditioner",
                          expected=expected, given=excerpt(preconditioner))  # fmt: skip
    if wanted not in (None, "krylov"):
        raise OptionError("factors have no preconditioner", name="preconditioner", location="preconditioner",
                          expected='linear="krylov" beside it', given=excerpt(wanted))  # fmt: skip
    if callable(preconditioner):
        return GIVEN if entries is not None else "krylov"
    if preconditioner == "none" or (preconditioner is None and entries is None):
        return "krylov"
    if entries is None:
        raise _without_pattern(f'the preconditioner "{preconditioner}" needs', "preconditioner", preconditioner)
    return GIVEN if preconditioner == "multigrid" else INCOMPLETE


def _without_pattern(what: str, name: str, given: Any) -> OptionError:
    """Return the error of linear algebra that needs a pattern.

    Parameters
    ----------
    what : str
        Needs it.
    name : str
        Of the option.
    given : object

    Returns
    -------
    OptionError
    """
    return OptionError(
        f"{what} to know where the Jacobian can be nonzero",
        name=name,
        location=name,
        expected="written equations, or sparsity=… beside a Python function without a Jacobian of its own",
        given=excerpt(given),
    )


def in_words(kind: str, preconditioner: Any, stood_in: int) -> dict[str, str]:
    """Return what ``run.options`` tells of a kind of linear algebra.

    Parameters
    ----------
    kind : str
    preconditioner : str, callable or None
    stood_in : int
        For iterations that failed (`CONTROL`).

    Returns
    -------
    dict of str to str
    """
    if kind in ("dense", "banded", "sparse"):
        return {"linear": kind}
    named = preconditioner if isinstance(preconditioner, str) else getattr(preconditioner, "__name__", None)
    if named is None:
        named = ("incomplete" if kind == INCOMPLETE else "none") if preconditioner is None else "given"
    beside = {"stood_in": _STAND_INS[stood_in]} if stood_in else {}
    return {"linear": "krylov", "preconditioner": named, **beside}


def refuse_large(method: str, n: int) -> None:
    """Refuse full matrices of a size that takes the machine's memory.

    Raises
    ------
    MethodError
    """
    if n > MAX_DENSE:
        raise MethodError(
            f"{method} would solve its equations with full matrices, which {n:,} states make too large",
            name=method,
            location="method",
            expected=f"at most {MAX_DENSE:,} states, sparsity=… beside the rates, or an explicit method",
            given=f"{n:,} states: {4 * 8 * n * n / 1e9:.3g} GB of matrices",
        )
