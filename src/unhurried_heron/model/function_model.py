"""The model of a problem whose rates are a Python function."""

from __future__ import annotations

from dataclasses import replace

from unhurried_heron.errors import UnusedValueError, ValueGivenError, excerpt, listing, near_spelling, unforeseen
from unhurried_heron.formulas.expression import IMAGINARY, TIME, names_in
from unhurried_heron.formulas.layout import Layout
from unhurried_heron.formulas.parser import read
from unhurried_heron.formulas.source import Formula, Source
from unhurried_heron.input.error_collector import ErrorCollector
from unhurried_heron.input.event import Event
from unhurried_heron.input.names import check_defined, check_name
from unhurried_heron.input.problem_input import ProblemInput
from unhurried_heron.model.closed_forms import read_closed_forms
from unhurried_heron.model.constraints import mass_of
from unhurried_heron.model.equation_sorting import ClassifiedEquations
from unhurried_heron.model.formulate import derived_formulas
from unhurried_heron.model.functions import match_arguments
from unhurried_heron.model.indexed import Resolver
from unhurried_heron.model.mass_matrix import MassMatrix, checked_mass
from unhurried_heron.model.model import Model, write_out
from unhurried_heron.model.rates import FunctionRates, WrittenRates
from unhurried_heron.model.real_pairs import as_real, infer
from unhurried_heron.model.sparsity import checked_sparsity
from unhurried_heron.model.switch_types import Cause, FunctionSwitch, Switch, UnheldSwitch
from unhurried_heron.model.transformation import FirstOrder


def rate_model(
    user_input: ProblemInput, parameters: tuple[str, ...], layout: Layout, collector: ErrorCollector
) -> Model:
    """Match the functions to their arguments, and read the formulas beside them.

    Parameters
    ----------
    user_input : ProblemInput
    parameters : tuple of str
        Their names.
    layout : Layout
        Of the states.
    collector : ErrorCollector
        Gathers what is wrong.

    Returns
    -------
    Model

    Raises
    ------
    FormulationError
        One of its subclasses.
    """
    states = tuple(layout.by_name)
    formulas: dict[str, Formula] = {}
    functions = {}
    for key, given in user_input.derived.items():
        check_name(key, "derived")
        if callable(given):
            functions[key] = match_arguments(given, layout, parameters)
        else:
            formulas[key] = read(Source(str(given), f"derived '{key}'"))
    known = [*states, *formulas, *parameters, *user_input.inputs]
    imaginary = layout.has_complex and IMAGINARY not in known
    check_defined(formulas, [*known, *((IMAGINARY,) if imaginary else ())], "derived quantities")
    sorted_formulas = ClassifiedEquations(derived=write_out({key: formula.node for key, formula in formulas.items()}))
    starts = frozenset(group.name for group in layout.groups if group.complex)
    complex_states = infer(sorted_formulas, starts, imaginary=imaginary)
    real = as_real(sorted_formulas, complex_states)
    resolver = Resolver(layout, {}, real.derived_rules)
    derived_layout, derived = derived_formulas(real, resolver, complex_states)
    if user_input.function is None:
        raise unforeseen("a problem of a function without its function")
    rates = match_arguments(user_input.function, layout, parameters)
    exact = read_closed_forms(user_input.exact, layout, parameters, collector)
    about = Model(layout, parameters, WrittenRates(layout, (), ()), tuple(user_input.inputs), derived_layout, derived,
                  formulas=real.derived, resolver=resolver,
                  transformations=(complex_states, FirstOrder(dict.fromkeys(states, 1))))  # fmt: skip
    switches = tuple(_switch(each, about) for each in user_input.switches)
    sparsity = None if user_input.sparsity is None else checked_sparsity(user_input.sparsity, layout)
    jacobian = user_input.jacobian and match_arguments(user_input.jacobian, layout, parameters)
    return replace(
        about,
        rates=FunctionRates(layout, rates, jacobian or None, sparsity, switches),
        functions=functions,
        exact=exact,
        mass=_mass(user_input, layout),
    )


def _mass(user_input: ProblemInput, layout: Layout) -> MassMatrix | None:
    """Return the mass matrix of a function: that which was given, or rows of zeros for algebraic states.

    Raises
    ------
    UnusedValueError, ValueGivenError
    """
    if not user_input.algebraic:
        return None if user_input.mass is None else checked_mass(user_input.mass, layout)
    groups = [group.name for group in layout.groups]
    unknown = [str(name) for name in user_input.algebraic if name not in groups]
    if unknown:
        raise UnusedValueError(f"there is no state '{unknown[0]}'{near_spelling(unknown[0], groups)}", name=unknown[0],
                               location="algebraic", expected="states: " + listing(groups),
                               given=listing(map(str, user_input.algebraic)))  # fmt: skip
    if user_input.mass is not None or {*groups} <= {*user_input.algebraic}:
        given = "a mass matrix, too" if user_input.mass is not None else "all states"
        raise ValueGivenError("these states cannot all be algebraic", name="algebraic", location="algebraic",
                              expected="some of the states; in the place of a mass matrix, whose rows of zeros say the "
                              "same", given=given)  # fmt: skip
    return mass_of(layout, {*user_input.algebraic})


def _switch(given: object, model: Model) -> Switch:
    """Return a switch said by an equation such as ``"t = 6"``, or by a function whose zero it is.

    Parameters
    ----------
    given : str or callable
        As the user gave it.
    model : Model
        All but the rates.

    Returns
    -------
    Switch

    Raises
    ------
    ExpressionError, UndefinedNameError, RateFunctionError, ValueGivenError
    """
    if callable(given):
        function = match_arguments(given, model.layout, model.parameters)
        return FunctionSwitch(function.label, "jump", "state", function)
    if not isinstance(given, str):
        raise ValueGivenError(
            "a switch needs a condition",
            name="switches",
            location="switches",
            expected='an equation such as "t = 6" or "level = crest", or a function whose zero it is',
            given=excerpt(given),
        )
    written = Event(given, name=given).read()
    known = [*model.layout.value_names, *model.layout.by_name, *model.parameters, *model.formulas, *model.inputs]
    check_defined({given: written}, [*known, *model.complex_states.known(model)], "a switch")
    gap = model.written_out(written.node)
    of_state, names = bool(model.layout.states_in(gap)), names_in(gap)
    cause: Cause = "state" if of_state else "input" if names & set(model.inputs) else "time"
    if cause == "time" and TIME not in names:
        raise ValueGivenError(
            f"the switch '{given}' never changes",
            name=given,
            location="switches",
            expected="a condition on the time or on states",
            given=given,
        )
    return UnheldSwitch(given, "jump", cause, gap)
