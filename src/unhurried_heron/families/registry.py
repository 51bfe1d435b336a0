"""The families of methods; whatever depends on a method's family asks here."""

from __future__ import annotations

from typing import Final

from unhurried_heron.errors import MethodError, excerpt
from unhurried_heron.families.diagonally_implicit import ADDITIVE_STAGES, DIAGONAL
from unhurried_heron.families.explicit import EXPLICIT
from unhurried_heron.families.family import Family
from unhurried_heron.families.fully_implicit import FULLY_IMPLICIT
from unhurried_heron.families.multistep import EXPLICIT_STEPS, IMPLICIT_STEPS
from unhurried_heron.families.partitioned import PARTS
from unhurried_heron.families.rosenbrock import LINEARLY_IMPLICIT
from unhurried_heron.families.stabilised import STABILISED_STAGES
from unhurried_heron.families.stiffness_switching import ALONG_THE_RUN
from unhurried_heron.families.variable_multistep import ADAMS, DIFFERENTIATION
from unhurried_heron.families.variable_order import SEVERAL_ORDERS
from unhurried_heron.methods.catalogue import CATALOGUE
from unhurried_heron.methods.method import Method
from unhurried_heron.model.constraints import Constraints
from unhurried_heron.problem.problem import Problem

FAMILIES: Final[dict[str, Family]] = {
    family.name: family
    for family in (
        FULLY_IMPLICIT,
        EXPLICIT,
        STABILISED_STAGES,
        DIAGONAL,
        ADDITIVE_STAGES,
        LINEARLY_IMPLICIT,
        EXPLICIT_STEPS,
        IMPLICIT_STEPS,
        ALONG_THE_RUN,
        DIFFERENTIATION,
        ADAMS,
        SEVERAL_ORDERS,
        PARTS,
    )
}


def family_of(method: Method) -> Family:
    """Return the record of a method's family.

    Raises
    ------
    MethodError
        The family is not known.
    """
    if method.family not in FAMILIES:
        raise MethodError(
            f"{method.name} belongs to no known family",
            name="family",
            location=method.name,
            expected="one of " + ", ".join(FAMILIES) + ", or one made known by add_family",
            given=excerpt(method.family),
        )
    return FAMILIES[method.family]


def add_family(family: Family, *methods: Method) -> None:
    """Make a family of methods known, and methods of it by their names.

    Parameters
    ----------
    family : Family
    methods : Method
        For the list of methods; others of the family can be given to `integrate` as they are.

    Raises
    ------
    MethodError
        One of the names is taken, or a method is of another family.
    """
    taken = [each.name for each in methods if each.name in CATALOGUE]
    if family.name in FAMILIES or taken:
        name = taken[0] if taken else family.name
        raise MethodError(f"there is a '{name}' already", name="name", location="add_family",
                          expected="a name that is not taken", given=excerpt(name))  # fmt: skip
    for each in methods:
        if each.family != family.name:
            raise MethodError(f"{each.name} is of another family", name="family", location="add_family",
                              expected=repr(family.name), given=excerpt(each.family))  # fmt: skip
    FAMILIES[family.name] = family
    CATALOGUE.update({each.name: each for each in methods})


def reference_methods(problem: Problem) -> dict[str, str]:
    """Return the methods that make references for a problem, by their families; those fit for stiff problems first."""
    if problem.model.mass is not None:
        # written constraints are marched by explicit methods, too
        written = problem.model.made_by(Constraints) is not None
        other = {EXPLICIT.name: EXPLICIT.reference} if written else {}
        return {
            FULLY_IMPLICIT.name: FULLY_IMPLICIT.reference,
            DIFFERENTIATION.name: "backward-differentiation-variable",
            **other,
        }
    able = [family for family in FAMILIES.values() if family.reference]
    return {family.name: family.reference for family in sorted(able, key=lambda family: not family.implicit)}
