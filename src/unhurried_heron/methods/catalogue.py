"""The ordered list of methods; every other list of methods is derived from it."""

from __future__ import annotations

from typing import Final

from unhurried_heron.errors import MethodError, near_spelling
from unhurried_heron.methods.collocation import RADAU_IIA_5
from unhurried_heron.methods.explicit import CLASSICAL_RK_4, DORMAND_PRINCE_54, EULER, FEHLBERG_45, HEUN_2
from unhurried_heron.methods.method import Method

CATALOGUE: Final[dict[str, Method]] = {
    method.name: method for method in (EULER, HEUN_2, CLASSICAL_RK_4, FEHLBERG_45, DORMAND_PRINCE_54, RADAU_IIA_5)
}


# what runs where none is named, and what is advised for stiff problems
DEFAULT: Final = DORMAND_PRINCE_54.name
FOR_STIFF: Final = RADAU_IIA_5.name
# what the demo sets side by side: another pair beside the two
COMPARED: Final = (FEHLBERG_45.name, DEFAULT, FOR_STIFF)


def all_methods() -> tuple[Method, ...]:
    """Return every method of the catalogue, explicit ones first, in rising order."""
    return tuple(CATALOGUE.values())


def find_method(method: str | Method) -> Method:
    """Return a method by its name, or the method itself.

    Raises
    ------
    MethodError
        There is no method of that name.
    """
    if not isinstance(method, str) and hasattr(method, "family") and not isinstance(method, type):
        return method
    if not isinstance(method, str) or method not in CATALOGUE:
        raise MethodError(
            f"there is no method '{method}'{near_spelling(str(method), CATALOGUE)}",
            name="method",
            place="method",
            expected="one of " + ", ".join(CATALOGUE) + ", or a RungeKutta of your own",
            given=repr(method),
        )
    return CATALOGUE[method]
