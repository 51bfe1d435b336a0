"""Looking a problem over before a run: everything that is wrong, doubtful or worth knowing, all at once."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from unhurried_heron.checks.report import Finding, Report
from unhurried_heron.driver.tolerances import ATOL_PART, DEFAULT_RTOL
from unhurried_heron.errors import FormulationError, MethodError, OptionError, excerpt, listing
from unhurried_heron.formulas.narrow_features import varies_too_often
from unhurried_heron.formulas.printing import to_text
from unhurried_heron.input.error_collector import ErrorCollector
from unhurried_heron.input.problem_input import ProblemInput
from unhurried_heron.methods.catalogue import CATALOGUE, DEFAULT, FOR_SMOOTH, FOR_STIFF, find_method
from unhurried_heron.model.constraints import Constraints
from unhurried_heron.model.mass_matrix import MassMatrix
from unhurried_heron.model.switch_types import Switch
from unhurried_heron.problem.assembly import assemble
from unhurried_heron.problem.problem import Problem
from unhurried_heron.problem.quotients import what_to_write, zero_denominator

# Beyond this number of states the eigenvalues of a full matrix take too long for a check.
_MAX_EIGENVALUES = 400
# An explicit method that needs more steps than this for stability alone meets a stiff problem.
_STIFF_STEPS = 5_000.0
# Known times of a switch that are listed.
_SHOWN_TIMES = 4
# Switches that are listed.
_SHOWN_SWITCHES = 12
# Two equal eigenvalues separate by about the square root of the rounding error.
_ROUNDING = 2.0 * float(np.sqrt(np.finfo(float).eps))


def check(problem: Problem) -> Report:
    """Look a problem over before a run: units, starting values, switches, stiffness, size.

    Parameters
    ----------
    problem : Problem
        What to look at; parameters may still be open.

    Returns
    -------
    Report
        Printing it tells everything; ``report.ok`` is whether nothing is wrong.

    Raises
    ------
    OptionError
        What is given is no problem.

    Examples
    --------
    >>> import unhurried_heron as uh
    >>> slosh = uh.Problem.from_text("z'' + 4*z = 0", initial={"z": 0.1, "z'": 0}, interval=(0, 10))
    >>> uh.check(slosh).ok
    True
    """
    if not isinstance(problem, Problem):
        raise OptionError("this is no problem to look over", name="problem", location="check",
                          expected="a Problem", given=excerpt(problem))  # fmt: skip
    return _report(problem, [], sound=True)


def check_input(user_input: ProblemInput) -> tuple[Report, Problem | None]:
    """Check what was said, gathering every mistake; return the problem too where there is one."""
    collector = ErrorCollector(gather=True)
    problem: Problem | None = None
    try:
        problem = Problem(user_input, assemble(user_input, collector))
    except FormulationError as error:
        collector.wrong.append(error)
    wrong = [Finding("wrong", _about(error), str(error)) for error in _once(collector.wrong)]
    if problem is None:
        return Report(user_input.title, tuple(wrong)), None
    return _report(problem, wrong, sound=not wrong), problem if not wrong else None


def check_file(path: Path) -> tuple[Report, Problem | None]:
    """Check a problem file, gathering every mistake; return the problem too where there is one."""
    from unhurried_heron.input.file_reader import load_toml, parse_document

    # There is nothing to check in a file that cannot be read.
    content = load_toml(path)
    try:
        user_input = parse_document(content, str(path), path.parent)
    except FormulationError as error:
        return Report(path.name, (Finding("wrong", _about(error), str(error)),)), None
    return check_input(user_input)


def _once(errors: list[FormulationError]) -> list[FormulationError]:
    seen: dict[str, FormulationError] = {}
    for error in errors:
        seen.setdefault(str(error), error)
    return list(seen.values())


def _about(error: FormulationError) -> str:
    words = "".join(" " + c.lower() if c.isupper() else c for c in type(error).__name__.removesuffix("Error"))
    return {"unit": "units", "value given": "value"}.get(words.strip(), words.strip())


def _report(problem: Problem, wrong: list[Finding], *, sound: bool) -> Report:
    """Return what is wrong with a problem, and, where it is sound, what else is worth knowing.

    Parameters
    ----------
    problem : Problem
    wrong : list[Finding]
    sound : bool
        Whether it could be assembled whole.

    Returns
    -------
    Report
    """
    found = [*wrong, *_units(problem), *_method(problem)]
    if sound:
        found += _open(problem)
        found += _switches(problem)
        found += _narrow(problem)
        found += _start(problem)
    order = {"wrong": 0, "doubtful": 1, "note": 2}
    found.sort(key=lambda each: order[each.weight])
    higher = any(k > 1 for k in problem.model.orders.values()) or problem.user_input.form != "equations"
    higher = higher or any(statement.target is None for statement in problem.model.statements)
    written = problem.model.rates.written
    return Report(problem.title, tuple(found), problem.first_order().text if sound and higher and written else "")


def _method(problem: Problem) -> Iterator[Finding]:
    try:
        find_method(problem.integrate_options.get("method", DEFAULT))
    except MethodError as error:
        yield Finding("wrong", "method", str(error))


def _units(problem: Problem) -> Iterator[Finding]:
    try:
        weight: Any = "wrong" if problem.user_input.check_units else "doubtful"
        yield from (Finding(weight, "units", str(each)) for each in problem.check_units())
    except FormulationError as error:
        yield Finding("wrong", "units", str(error))
    if problem.units and problem.model.rates.written:
        bare = [name for name in problem.parameters if not problem.units.get(name) and not _plain_number(problem, name)]
        if bare:
            yield Finding("note", "units", "not declared, so not checked: " + listing(bare))


def _plain_number(problem: Problem, name: str) -> bool:
    """Whether a parameter was declared to be a plain number, is a size, or has the unit of its formula."""
    formula = problem.assembled.definitions[name].formula
    return name in problem.units or name in problem.model.sizes or formula is not None


def _open(problem: Problem) -> Iterator[Finding]:
    if problem.open:
        yield Finding("note", "parameters", "still open: " + listing(problem.open))


def _switches(problem: Problem) -> Iterator[Finding]:
    if problem.open:
        return
    # an extreme of three has two switches of one name
    known_switches = list(dict.fromkeys(f"{switch.text}: {_when(switch)}" for switch in problem.switches))
    for each in known_switches[:_SHOWN_SWITCHES]:
        yield Finding("note", "switch", each)
    if len(known_switches) > _SHOWN_SWITCHES:
        yield Finding("note", "switch", f"and {len(known_switches) - _SHOWN_SWITCHES} more: problem.switches has all")
    for text in problem.model.rates.left:
        yield Finding("note", "switch", f"{text}: over a long range of an index, left to the error estimate")


def _narrow(problem: Problem) -> Iterator[Finding]:
    ends = min(problem.interval), max(problem.interval)
    for formula in () if problem.open else problem.model.of_time:
        if varies_too_often(formula, problem.parameters, *ends):
            reason = "varies too often for its narrow parts to be known: bound steps by largest_step"
            yield Finding("doubtful", "narrow", f"{to_text(formula)} {reason}")


def _when(switch: Switch) -> str:
    if switch.times is None:
        return f"a {switch.kind}, located during the run"
    shown = ", ".join(f"{time:.6g}" for time in switch.times[:_SHOWN_TIMES])
    more = len(switch.times) - _SHOWN_TIMES
    if not switch.times:
        return f"a {switch.kind}, not within the interval"
    return (
        f"a {switch.kind} at t = {shown}"
        + (f" and {more:,} more time{'s' * (more > 1)}" if more > 0 else "")
        + ", landed on"
    )


def _start(problem: Problem) -> Iterator[Finding]:
    """Look at starting values, rates and eigenvalues there, and say the size."""
    model, n = problem.model, problem.model.layout.size
    start = problem.start
    if problem.open or not np.isfinite(start).all():
        yield from _size(problem)
        return
    zero = [group.name for group in model.layout.groups if not start[model.layout.slice_of(group.name)].any()]
    relative_only = problem.integrate_options.get("atol") == 0
    if zero and relative_only:
        yield Finding(
            "doubtful",
            "initial",
            f"{', '.join(zero)} start{'s' * (len(zero) == 1)} at zero, where a relative tolerance alone "
            "allows no error; give an atol",
        )
    yield from _tiny(problem, start)
    rates = problem.rates_at(problem.interval[0], start)
    bad = np.flatnonzero(~np.isfinite(rates))
    if bad.size:
        names = [model.layout.names[k] for k in bad[:6]]
        divisor = zero_denominator(problem, problem.interval[0], start)
        message = f"the rate of {', '.join(names)} is not finite at the start: " + (
            f"'{divisor}' is zero there. {what_to_write(divisor)}"
            if divisor
            else "look for a root or logarithm of a negative number, or a division by zero"
        )
        yield Finding("wrong", "initial", message)
    elif n and not rates.any():
        yield Finding("doubtful", "initial", "all rates are zero at the start: the problem begins at an equilibrium")
    yield from _size(problem)
    yield from _constraints(problem)
    if problem.model.mass is not None:
        if problem.model.made_by(Constraints) is None:
            yield _mass_matrix(problem.model.mass, n)
    elif not bad.size and n <= _MAX_EIGENVALUES:
        yield from _stiffness(problem, start)


def _constraints(problem: Problem) -> Iterator[Finding]:
    """Tell what became of constraints: what they tell by formulas, what in every step, and what they keep."""
    made = problem.model.made_by(Constraints)
    if made is None:
        return
    for name, words in made.solved.items():
        yield Finding("note", "constraint", f"'{words}' is solved for {name}")
    for name, words in made.algebraic.items():
        yield Finding("note", "constraint", f"'{words}' tells {name}, an algebraic state")
    for words in dict.fromkeys(each.words for each in made.held):
        times = sum(each.words == words for each in made.held)
        derived = f"{times} derivative{'s' * (times > 1)}"
        hidden = f"it and {times - 1} hidden one{'s' * (times > 2)} hold"
        kept = f"{hidden if times > 1 else 'it holds'} after every step"
        yield Finding("note", "constraint", f"'{words}' tells its unknown after {derived}; {kept}")
    held = problem.model.mass.constraints(problem.start.size) if problem.model.mass is not None else 0
    free = problem.start.size - held - problem.model.n_manifold
    yield Finding("note", "constraint", f"index {made.index}, {free} degree{'s' * (free != 1)} of freedom: as many "
                  "starting values can be chosen")  # fmt: skip


def _tiny(problem: Problem, start: Any) -> Iterator[Finding]:
    """Hold starting values against the absolute tolerance that a run would have."""
    rtol, atol = (problem.integrate_options.get(name) for name in ("rtol", "atol"))
    allowed = (
        atol if isinstance(atol, int | float) else (rtol if isinstance(rtol, int | float) else DEFAULT_RTOL) / ATOL_PART
    )
    tiny = np.flatnonzero((start != 0.0) & (np.abs(start) < 10.0 * allowed))
    if tiny.size:
        names = ", ".join(problem.model.layout.names[k] for k in tiny[:6])
        message = f"{names} start{'s' * (tiny.size == 1)} below ten times the absolute tolerance, {allowed:.2g}: "
        yield Finding(
            "doubtful", "tolerance", message + "little or nothing of so small a value is certain; give a smaller atol"
        )


def _size(problem: Problem) -> Iterator[Finding]:
    layout = problem.model.layout
    n = layout.size
    if layout.has_complex:
        names = [group.name for group in layout.groups if group.complex]
        yield Finding("note", "complex", f"{listing(names)} {'are' if len(names) > 1 else 'is'} complex: real and "
                      "imaginary parts march as states of their own")  # fmt: skip
    if not problem.model.rates.known:
        yield Finding("note", "size", f"{n:,} state{'s' * (n != 1)}; a Python function, its Jacobian taken as full")
        return
    filled = problem.jacobian_pattern().nnz
    share = f"{100 * filled / n**2:.3g} %" if n else "none"
    yield Finding("note", "size", f"{n:,} state{'s' * (n != 1)}; "
                  f"{filled:,} of the Jacobian's {n**2:,} entries can be nonzero ({share})")  # fmt: skip


def _mass_matrix(mass: MassMatrix, n: int) -> Finding:
    """Return the finding on a mass matrix of n rows: explicit methods do not take it, however stiff the problem is."""
    rows = mass.constraints(n)
    held = f"with {rows:,} row{'s' * (rows > 1)} of zeros, which are constraints" if rows else "without rows of zeros"
    return Finding("note", "mass matrix", f"{held}: {DEFAULT} takes an implicit method")


def _stiffness(problem: Problem, start: Any) -> Iterator[Finding]:
    """Estimate from the eigenvalues of the Jacobian how an explicit method would fare."""
    values = problem.eigenvalues_at(problem.interval[0], start)
    if not start.size or not np.isfinite(values).all():
        yield Finding("doubtful", "stiffness", "the Jacobian is not finite at the start")
        return
    length = abs(problem.interval[1] - problem.interval[0])
    direction = 1.0 if problem.interval[1] > problem.interval[0] else -1.0
    decays = -direction * values.real
    fastest = float(decays.max(initial=0.0))
    steps = fastest * length / find_method(FOR_SMOOTH).real_stability_limit
    unit = problem.units.get("t", "")
    swing = float(np.abs(values.imag).max(initial=0.0))
    # Rounding alone turns two equal eigenvalues into a complex pair.
    if swing <= _ROUNDING * float(np.abs(values).max(initial=0.0)):
        swing = 0.0
    swing_text = f"; the fastest swing takes {2 * np.pi / swing:.3g}{' ' + unit if unit else ''}" if swing > 0.0 else ""
    if fastest <= 1e-12 * swing or fastest <= 0.0:
        yield Finding("note", "stiffness", f"nothing decays at the start{swing_text}; an explicit method will do")
        return
    scale = f"{1.0 / fastest:.3g}{' ' + unit if unit else ''}"
    if steps > _STIFF_STEPS:
        method = problem.integrate_options.get("method", DEFAULT)
        chosen = method in CATALOGUE and CATALOGUE[method].stiff
        advice = f"{method} is the right kind" if chosen else f'Try method = "{FOR_STIFF}"'
        if method == DEFAULT:
            advice = f"{DEFAULT} changes to an implicit one"
        message = (
            f"stiff at the start: the fastest decay takes {scale}, and the interval {length:.6g} {unit}".rstrip()
            + f"; an explicit method would need about {steps:.2g} steps to stay stable. {advice}"
        )
        yield Finding("note" if chosen else "doubtful", "stiffness", message)
    else:
        message = (
            f"not stiff at the start: the fastest decay takes {scale}{swing_text}; an explicit method needs at least "
            f"{max(1, round(steps)):,} step{'s' * (round(steps) > 1)} to stay stable"
        )
        yield Finding("note", "stiffness", message)
