"""The methods of the catalogue side by side, and which of them are for what."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING, Any, Final

from unhurried_heron.errors import as_text
from unhurried_heron.input.rules import among
from unhurried_heron.methods.catalogue import all_methods
from unhurried_heron.methods.method import Method, capabilities
from unhurried_heron.text.document import Document
from unhurried_heron.text.methods_document import methods_document, why_for

if TYPE_CHECKING:
    import pandas as pd


def _single_matrix(method: Method) -> bool:
    return not method.implicit or method.family.startswith(("diagonally", "Rosenbrock", "backward"))


# What methods may be wanted for, and which of them are.
PURPOSES: Final[dict[str, Callable[[Method], bool]]] = {
    "stiff": lambda method: method.stiff and method.adaptive,
    "smooth": lambda method: method.adaptive and method.order >= 4 and (not method.implicit or method.name == "auto"),
    "accurate": lambda method: method.adaptive and method.order >= 6,
    "cheap": lambda method: method.evaluations <= 2 and not method.implicit,
    "large": lambda method: method.adaptive and _single_matrix(method) and (method.stiff or not method.implicit),
}


def chosen_for(purpose: str | None) -> tuple[tuple[Method, ...], str]:
    """Return the methods for a purpose, and why these; all methods for None.

    Raises
    ------
    OptionError
        There is no such purpose.
    """
    if purpose is None:
        return all_methods(), ""
    among(PURPOSES)(purpose, "purpose", "methods", message=f"there is no purpose '{as_text(purpose)}'")
    return tuple(filter(PURPOSES[purpose], all_methods())), why_for(purpose)


def estimate_of(method: Method) -> str:
    """Say how a method estimates its error."""
    if not method.adaptive:
        return "none"
    return "second solution" if capabilities(method).paired else "step doubling"


def carries(method: Method) -> str:
    """Say which of its two solutions an adaptive method carries on."""
    if not method.adaptive or not method.embedded_order or method.embedded_order == method.order:
        return ""
    return "higher" if method.order > method.embedded_order else "lower"


def facts_of(method: Method) -> dict[str, Any]:
    """Return what a table says of a method, by column; every number is computed from its coefficients."""
    region = method.region
    return {
        "family": method.family,
        "order": method.order,
        "embedded order": method.embedded_order,
        "carries": carries(method),
        "stages": method.stages,
        "evaluations": method.evaluations,
        "order between steps": method.interpolant_order,
        "adaptive": method.adaptive,
        "error estimate": estimate_of(method),
        "implicit": method.implicit,
        "stiff": method.stiff,
        "A-stable": region.a_stable,
        "L-stable": region.l_stable,
        "angle": region.angle,
        "real limit": region.real,
        "imaginary limit": region.imaginary,
        "source": method.source,
    }


def document_of(methods: Iterable[Method], why: str = "") -> Document:
    """Return methods side by side, a table for each family.

    Parameters
    ----------
    methods : iterable of Method
    why : str
        A sentence above the tables; empty for none.
    """
    return methods_document([{"method": method.name, **facts_of(method)} for method in methods], why)


def table_of(methods: Iterable[Method]) -> pd.DataFrame:
    """Return a DataFrame of methods: one row for each, indexed by its name."""
    import pandas as pd

    rows = [{"method": method.name, **facts_of(method)} for method in methods]
    return pd.DataFrame(rows).set_index("method")


def methods(purpose: str | None = None) -> pd.DataFrame:
    """Return a DataFrame of the methods: one row for each, indexed by its name.

    Parameters
    ----------
    purpose : {"stiff", "smooth", "accurate", "cheap", "large"}, optional
        Only those that are for it; what makes them so stands in ``frame.attrs["why"]``.

    Returns
    -------
    DataFrame
        ``family``; ``order`` of the solution, ``embedded order`` of the second one that estimates the error (0
        without), which of the two the method ``carries`` on; ``stages``; ``evaluations`` of the rates in a step, of
        methods that are solved for in one iteration; ``order between steps``; whether it is ``adaptive``, its ``error
        estimate``, whether it is ``implicit``, and meant for ``stiff`` problems; ``A-stable``, ``L-stable``, and the
        ``angle`` in degrees of the stable wedge around the negative axis; ``real limit`` and ``imaginary limit``: up to
        which x it is stable at h lambda = -x and i x; ``source``. Methods of variable order are listed with their
        highest order, and Adams with the region of its lowest; the stabilised method with its fewest stages, and the
        limit of its most.

    Raises
    ------
    OptionError
        There is no such purpose.
    """
    chosen, why = chosen_for(purpose)
    frame = table_of(chosen)
    frame.attrs["why"] = why
    return frame
