"""What should stay as it is along every solution: quantities that are conserved, and states that are never negative."""

from __future__ import annotations

from unhurried_heron.errors import UnusedValueError, listing, near_spelling
from unhurried_heron.formulas.expression import TIME, free_names
from unhurried_heron.input.problem_input import Said
from unhurried_heron.model.model import Model


def refuse_unknown(said: Said, model: Model) -> None:
    """Refuse conserved quantities that cannot be read, and what is no state among those never negative.

    Raises
    ------
    FormulationError
        One of its subclasses.
    """
    for text in said.conserved:
        if not isinstance(text, str):
            raise UnusedValueError("this is no quantity", name="conserved", place="conserved",
                                   expected="names or formulas", given=repr(text)[:80])  # fmt: skip
        if text not in model.functions:
            model.read_formula(text, f"conserved, '{text}'")
    for name in said.never_negative:
        if not isinstance(name, str) or (name not in model.layout.by_name and model.layout.slot(name) is None):
            hint = near_spelling(str(name), model.layout.by_name)
            raise UnusedValueError(
                f"'{name}' is no state{hint}", name=str(name), place="never_negative",
                expected="names of states: " + listing(model.layout.by_name), given=repr(name)[:80],
            )  # fmt: skip


def conserved_quantities(said: Said, model: Model, derived_names: tuple[str, ...]) -> tuple[str, ...]:
    """Return what was declared to be conserved, and the energy of a system on which no force acts, if it has one.

    The energy is conserved where it does not depend on the time explicitly (H. Goldstein, C. Poole and J. Safko,
    *Classical Mechanics*, 3rd ed., 2002, section 2.7).
    """
    found = list(said.conserved)
    derived = said.form in ("lagrangian", "hamiltonian") and not said.forces and "energy" in derived_names
    if derived and "energy" not in found:
        energy = model.read_formula("energy", "energy")
        slopes = [block.node for block in getattr(model.rates, "blocks", ())]
        measured = set(said.inputs) | {TIME}
        if not any(free_names(node) & measured for node in (energy, *slopes)):
            found.append("energy")
    return tuple(found)


def never_negative_states(said: Said, model: Model) -> tuple[str, ...]:
    """Return the states that were declared never to be negative, members of families one by one."""
    layout, found = model.layout, list[str]()
    for name in said.never_negative:
        group = layout.by_name.get(name)
        found += [name] if group is None else list(group.members())
    return tuple(found)
