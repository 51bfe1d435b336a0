"""The ordered list of methods; every other list of methods is derived from it."""

from __future__ import annotations

import functools
import math
import re
from collections.abc import Callable, Iterator, Mapping, MutableMapping
from typing import Any, Final

from unhurried_heron.errors import MethodError, as_text, excerpt, listing, near_spelling
from unhurried_heron.methods.additive import Additive
from unhurried_heron.methods.method import FACTS, Method, is_method
from unhurried_heron.methods.multistep import Multistep
from unhurried_heron.methods.multistep_formulas import adams_bashforth, adams_moulton, backward_differentiation
from unhurried_heron.methods.nodes import exactly, gauss, lobatto_iiic, radau_right
from unhurried_heron.methods.orthogonal_stages import OrthogonalStages
from unhurried_heron.methods.partitioned import Partitioned
from unhurried_heron.methods.published import published
from unhurried_heron.methods.rosenbrock import Rosenbrock
from unhurried_heron.methods.runge_kutta import RungeKutta
from unhurried_heron.methods.stabilised import Stabilised
from unhurried_heron.methods.stiffness_switching import Decaying, StiffnessSwitching, VariableOrder
from unhurried_heron.methods.variable_multistep import VARIABLE_ADAMS, VARIABLE_DIFFERENTIATION, VariableMultistep

Makers = Mapping[str, Callable[[], Method]]


class Catalogue(MutableMapping[str, Method]):
    """Methods by their names, which are read when one is asked for, and each of which is made when it is.

    Parameters
    ----------
    sections : callable
        Each returns what makes the methods of a part of the catalogue, by name.
    """

    def __init__(self, *sections: Callable[[], Makers]) -> None:
        self.sections = sections
        self._own: dict[str, Method] = {}

    @functools.cached_property
    def _listed(self) -> Makers:
        return {name: maker for section in self.sections for name, maker in section().items()}

    @functools.cached_property
    def _makers(self) -> dict[str, Callable[[], Method]]:
        return {name: functools.partial(self.own, name) for name in self._listed}

    def own(self, name: str) -> Method:
        """Return one of the package's own methods, whatever now has its name.

        Raises
        ------
        MethodError
            There is none.
        """
        if name not in self._listed:
            raise MethodError(f"there is no method '{name}' in this version", name=name, location="a pickle",
                              expected="what was pickled by the same version", given=name)  # fmt: skip
        if name not in self._own:
            self._own[name] = self._listed[name]()
        return self._own[name]

    def is_own(self, method: object) -> bool:
        """Return whether a method is one of the package's own, whatever now has its name."""
        return self._own.get(getattr(method, "name", "")) is method

    def __getitem__(self, name: str) -> Method:
        return self._makers[name]()

    def __setitem__(self, name: str, method: Method) -> None:
        self._makers[name] = lambda: method

    def __delitem__(self, name: str) -> None:
        del self._makers[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._makers)

    def __len__(self) -> int:
        return len(self._makers)


def _published(kind: str, made_by: Callable[..., Method]) -> Callable[[], Makers]:
    """Return the section of a file of coefficients: each of its records is a method."""

    def maker(record: dict[str, Any]) -> Callable[[], Method]:
        return lambda: made_by(**record)

    return lambda: {name: maker(record) for name, record in published(kind).items()}


def _block_method(kind: str, order: int) -> Callable[[], Method]:
    def make() -> Method:
        if kind == "gauss":
            return RungeKutta.from_nodes(f"gauss-{order}", exactly(gauss(order // 2)), _GAUSS)
        if kind == "radau-iia":
            return RungeKutta.from_nodes(f"radau-iia-{order}", exactly(radau_right((order + 1) // 2)), _RADAU)
        a, b = lobatto_iiic(order // 2 + 1)
        return RungeKutta(f"lobatto-iiic-{order}", a=a, b=b, source=_LOBATTO)

    return make


def _auto() -> Method:
    smooth = ((math.inf, "dormand-prince-54"), (1e-5, "verner-76"), (1e-9, "verner-98"))
    stiff = ((math.inf, "radau-iia-5"), (1e-5, "radau-iia-9"))
    large = ((math.inf, "backward-differentiation-variable"),)
    first, second, third = (
        tuple((largest, CATALOGUE[name]) for largest, name in methods) for methods in (smooth, stiff, large)
    )
    # the second has more stages; measured on a square with 20,000 and 80,000 unknowns
    decaying = (
        Decaying(CATALOGUE[FOR_LARGE], 3e5, 1e-10, autonomous=True),
        Decaying(CATALOGUE["runge-kutta-chebyshev-2"], 5e6, 1e-6, autonomous=False),
    )
    return StiffnessSwitching("auto", first, second, third, decaying)


_FULLY_IMPLICIT: Final = {"gauss": (4, 6), "radau-iia": (3, 5, 9, 13), "lobatto-iiic": (4, 6)}
_MULTISTEP = {"adams-bashforth": 8, "adams-moulton": 8, "adams-pece": 8, "backward-differentiation": 6}


def _multistep(kind: str, order: int) -> Callable[[], Method]:
    def make() -> Method:
        name = f"{kind}-{order}"
        if kind == "backward-differentiation":
            return Multistep(name, *backward_differentiation(order), source=_DIFFERENTIATION)
        if kind == "adams-bashforth":
            return Multistep(name, [1], adams_bashforth(order), source=_ADAMS)
        predictor = ([1], adams_bashforth(order)) if kind == "adams-pece" else None
        return Multistep(name, [1], adams_moulton(order), predictor, source=_ADAMS)

    return make


_ADAMS = "F. Bashforth and J. C. Adams (1883); Hairer, Norsett and Wanner, Solving ODEs I, III.1"
_KROGH = "F. T. Krogh, SIAM J. Numer. Anal. 10 (1973) 949-965; Hairer, Norsett and Wanner, Solving ODEs I, III.5"
_DIFFERENTIATION = "C. F. Curtiss and J. O. Hirschfelder, Proc. Natl. Acad. Sci. 38 (1952) 235-243"
_CHEBYSHEV = "P. J. van der Houwen and B. P. Sommeijer, Z. Angew. Math. Mech. 60 (1980) 479-485"
_GAUSS = "J. Kuntzmann, Z. Angew. Math. Mech. 41 (1961) T28-T31; J. C. Butcher, Math. Comp. 18 (1964) 50-64"
_RADAU = "B. L. Ehle (1969); Hairer and Wanner, Solving ODEs II, IV.5 and IV.8"
_VARIABLE_RADAU = "E. Hairer and G. Wanner, J. Comput. Appl. Math. 111 (1999) 93-111"
_LOBATTO = "F. H. Chipman, BIT 11 (1971) 384-393; Hairer and Wanner, Solving ODEs II, IV.5"


def _computed() -> Makers:
    """Return the section of methods whose coefficients are computed."""
    makers: dict[str, Callable[[], Method]] = {
        f"{kind}-{order}": _block_method(kind, order) for kind, orders in _FULLY_IMPLICIT.items() for order in orders
    }
    makers |= {
        f"{kind}-{order}": _multistep(kind, order) for kind, most in _MULTISTEP.items() for order in range(1, most + 1)
    }
    makers["adams-variable"] = lambda: VariableMultistep("adams-variable", VARIABLE_ADAMS, 12, source=_KROGH)
    makers["backward-differentiation-variable"] = lambda: VariableMultistep(
        "backward-differentiation-variable", VARIABLE_DIFFERENTIATION, 5, evaluations=1, source=_DIFFERENTIATION
    )
    makers["radau-iia-variable"] = lambda: VariableOrder(
        "radau-iia-variable", tuple(CATALOGUE[f"radau-iia-{order}"] for order in (5, 9, 13)), source=_VARIABLE_RADAU
    )
    return makers


CATALOGUE: Final = Catalogue(
    lambda: {"auto": _auto},
    _published("explicit", RungeKutta),
    lambda: {"runge-kutta-chebyshev-2": lambda: Stabilised("runge-kutta-chebyshev-2", source=_CHEBYSHEV)},
    _published("stabilised", OrthogonalStages),
    _published("diagonally_implicit", RungeKutta),
    _published("additive", Additive),
    _published("rosenbrock", Rosenbrock),
    _published("partitioned", Partitioned),
    _computed,
)


def own_method(name: str) -> Method:
    """Return one of the package's own methods, as pickles ask for them."""
    return CATALOGUE.own(name)


# The method that runs by default, and those recommended for smooth and for stiff problems.
DEFAULT: Final = "auto"
FOR_SMOOTH: Final = "dormand-prince-54"
FOR_STIFF: Final = "radau-iia-5"
# The method for systems whose equations cost too much to be solved, and whose fast modes only decay.
FOR_LARGE: Final = "runge-kutta-chebyshev-4"
# The methods that the demo compares.
COMPARED: Final = (DEFAULT, FOR_SMOOTH, FOR_STIFF)


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
    if not isinstance(method, str) and is_method(method):
        lacking = [
            fact for fact in FACTS if not (hasattr(type(method), fact) or fact in getattr(method, "__dict__", ()))
        ]
        if lacking:
            raise MethodError(f"a method of {type(method).__name__} does not say everything of itself", name="method",
                              location="method", expected="every fact of unhurried_heron.methods.method.Method",
                              given="none for " + listing(lacking))  # fmt: skip
        return method
    if not isinstance(method, str) or method not in CATALOGUE:
        meant = _meant(as_text(method))
        raise MethodError(
            f"there is no method '{as_text(method)}'"
            + (f"; did you mean '{meant}'?" if meant else near_spelling(method, CATALOGUE)),
            name="method",
            location="method",
            expected=f"a name from uh.methods() or 'heron methods', such as {DEFAULT}, {FOR_SMOOTH} or {FOR_STIFF}; "
            "or a method of your own",
            given=excerpt(method),
        )
    return CATALOGUE[method]


# abbreviations and other names of textbooks, as patterns; a number is the order
_OTHER_NAMES: Final = (
    (r"(forward|explicit)-euler", "euler"),
    (r"(implicit-euler|ie|be)", "backward-euler"),
    (r"rk-?4|runge-kutta(-4)?|rk", "classical-rk-4"),
    (r"(explicit-)?midpoint", "midpoint-2"),
    (r"heun", "heun-2"),
    (r"ralston", "ralston-2"),
    (r"crank-nicolson|cn|trapezoid|trapezium", "trapezoidal"),
    (r"(bdf|gear|backward-differentiation)", "backward-differentiation-variable"),
    (r"(?:bdf|gear)-?([1-6])", "backward-differentiation-{}"),
    (r"adams", "adams-variable"),
    (r"ab-?([1-8])", "adams-bashforth-{}"),
    (r"am-?([1-8])", "adams-moulton-{}"),
    (r"(?:abm|pece)-?([1-8])", "adams-pece-{}"),
    (r"radau(-iia)?", "radau-iia-variable"),
    (r"gauss(-legendre)?", "gauss-4"),
    (r"lobatto(-iiic)?", "lobatto-iiic-4"),
    (r"(velocity-)?verlet|leap-?frog|stormer", "stormer-verlet-2"),
    (r"symplectic", "blanes-moan-4"),
    (r"sdirk", "sdirk-43"),
    (r"esdirk", "esdirk-43"),
    (r"additive(-runge-kutta)?|imex|implicit-explicit", "ark-43"),
    (r"rosenbrock", "hairer-wanner-43"),
    (r"(runge-kutta-)?chebyshev|stabili[sz]ed", "runge-kutta-chebyshev-2"),
    (r"rkf-?45|fehlberg", "fehlberg-45"),
    (r"stiff", FOR_STIFF),
    (r"explicit|non-?stiff", FOR_SMOOTH),
)


def _meant(name: str) -> str:
    """Return the method that a common abbreviation or other name stands for, or nothing."""
    plain = re.sub(r"[\s_]+", "-", name.strip().lower())
    for pattern, meant in _OTHER_NAMES:
        found = re.fullmatch(pattern, plain)
        if found:
            return meant.format(*found.groups())
    words = sorted(re.findall(r"[a-z]+|\d+", plain))
    # The words may be in another order, or written together.
    return next((each for each in CATALOGUE if sorted(each.split("-")) == words or each.replace("-", "") == plain), "")
