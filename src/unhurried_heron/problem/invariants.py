"""What should stay as it is along every solution: quantities that are conserved, and states that are never negative."""

from __future__ import annotations

from unhurried_heron.errors import UnusedValueError, as_text, excerpt, listing, near_spelling
from unhurried_heron.formulas.expression import TIME, free_names
from unhurried_heron.input.measured_rates import measured_names
from unhurried_heron.input.problem_input import ProblemInput
from unhurried_heron.model.model import Model


def refuse_unknown(user_input: ProblemInput, model: Model) -> None:
    """Refuse conserved quantities that cannot be read, and what is no state among those never negative.

    Raises
    ------
    FormulationError
        One of its subclasses.
    """
    for text in user_input.conserved:
        if not isinstance(text, str):
            raise UnusedValueError("this is no quantity", name="conserved", location="conserved",
                                   expected="names or formulas", given=excerpt(text))  # fmt: skip
        if text not in model.functions:
            model.read_formula(text, f"conserved, '{text}'")
    for name in user_input.never_negative:
        if isinstance(name, str) and name in model.layout.by_name and model.layout.by_name[name].complex:
            raise UnusedValueError(f"'{name}' is complex", name=name, location="never_negative",
                                   expected="real states", given=name)  # fmt: skip
        if not isinstance(name, str) or (name not in model.layout.by_name and model.layout.slot(name) is None):
            hint = near_spelling(name, model.layout.by_name)
            raise UnusedValueError(
                f"'{as_text(name)}' is no state{hint}", name=as_text(name), location="never_negative",
                expected="names of states: " + listing(model.layout.by_name), given=excerpt(name),
            )  # fmt: skip


def conserved_quantities(user_input: ProblemInput, model: Model, derived_names: tuple[str, ...]) -> tuple[str, ...]:
    """Return what was declared to be conserved, and the energy of a system on which no force acts, if it has one.

    The energy is conserved where it does not depend on the time explicitly (H. Goldstein, C. Poole and J. Safko,
    *Classical Mechanics*, 3rd ed., 2002, section 2.7).

    Parameters
    ----------
    user_input : ProblemInput
    model : Model
    derived_names : tuple of str

    Returns
    -------
    tuple of str
    """
    found = list(user_input.conserved)
    derived = user_input.form in ("lagrangian", "hamiltonian") and not user_input.forces and "energy" in derived_names
    if derived and "energy" not in found:
        energy = model.read_formula("energy", "energy")
        rate_formulas = [formula.node for formula in getattr(model.rates, "indexed_formulas", ())]
        measured = measured_names(user_input.inputs) | {TIME}
        if not any(free_names(node) & measured for node in (energy, *rate_formulas)):
            found.append("energy")
    return tuple(found)


def never_negative_states(user_input: ProblemInput, model: Model) -> tuple[str, ...]:
    """Return the states that were declared never to be negative, members of indexed states one by one."""
    layout, found = model.layout, list[str]()
    for name in user_input.never_negative:
        group = layout.by_name.get(name)
        found += [name] if group is None else list(group.members())
    return tuple(found)
