"""Looking a problem over before a run: everything that is wrong, doubtful or worth knowing, all at once."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Final, Literal

import numpy as np

from unhurried_heron.errors import FormulationError
from unhurried_heron.formulas.evaluate import STATE, evaluate
from unhurried_heron.formulas.layout import Block, places
from unhurried_heron.problem.dimensions import disagreements
from unhurried_heron.problem.facts import Facts
from unhurried_heron.problem.findings import Findings
from unhurried_heron.problem.functions import NamedFunction
from unhurried_heron.problem.said import Said
from unhurried_heron.problem.settle import settle
from unhurried_heron.problem.switches import Switch

Weight = Literal["wrong", "doubtful", "note"]
# beyond this many states the eigenvalues of a full matrix take too long to look at beforehand
_MOST_EIGENVALUES = 400
# an explicit method of order 4 or 5 is stable up to about this product of step and eigenvalue
_STABLE = 3.3
_STIFF_STEPS = 5_000.0
_FOR_STIFF = "radau-iia-5"
_SHOWN_TIMES = 4

# the tolerances of a run that is given none
_RTOL: Final = 1e-7
_ATOL_PART: Final = 1000.0


@dataclass(frozen=True)
class Finding:
    """One thing found: how grave it is, what it is about, and what it says."""

    weight: Weight
    about: str
    message: str


@dataclass(frozen=True)
class Report:
    """What a check found; printing it tells everything.

    Attributes
    ----------
    title : str
    findings : tuple of Finding
        What is wrong first, then what is doubtful, then what is worth knowing.
    first_order : str
        The reduced equations, or nothing if they could not be found or were first order as written.
    """

    title: str
    findings: tuple[Finding, ...]
    first_order: str = ""

    @property
    def ok(self) -> bool:
        """Whether nothing is wrong."""
        return not self.wrong

    @property
    def wrong(self) -> tuple[Finding, ...]:
        """What has to be put right before the problem can be trusted."""
        return tuple(each for each in self.findings if each.weight == "wrong")

    def __str__(self) -> str:
        lines = [self.title or "Problem"]
        for each in self.findings:
            first, *rest = each.message.splitlines()
            lines += [f"{each.weight:>8}  {each.about}: {first}", *(f"          {line}" for line in rest)]
        if self.first_order:
            lines += ["as a first-order system", *(f"          {line}" for line in self.first_order.splitlines())]
        count = len(self.wrong)
        lines.append("nothing wrong" if not count else f"{count} thing{'s' * (count > 1)} wrong")
        return "\n".join(lines)


def check_said(said: Said) -> tuple[Report, Facts | None]:
    """Check what was said, gathering every mistake; return the problem too where there is one."""
    findings = Findings(gather=True)
    problem: Facts | None = None
    try:
        problem = Facts(said, settle(said, findings))
    except FormulationError as error:
        findings.wrong.append(error)
    wrong = [Finding("wrong", _about(error), str(error)) for error in _once(findings.wrong)]
    if problem is None:
        return Report(said.title, tuple(wrong)), None
    return _report(problem, wrong, sound=not wrong), problem if not wrong else None


def check_file(path: Path) -> tuple[Report, Facts | None]:
    """Check a problem file, gathering every mistake; return the problem too where there is one."""
    from unhurried_heron.problem.document import load_toml, parse_document

    # a file that cannot be read at all has nothing to be looked over
    content = load_toml(path)
    try:
        said = parse_document(content, str(path), path.parent)
    except FormulationError as error:
        return Report(path.name, (Finding("wrong", _about(error), str(error)),)), None
    return check_said(said)


def check_problem(problem: Facts) -> Report:
    """Check a problem that was made without mistakes."""
    return _report(problem, [], sound=True)


def _once(errors: list[FormulationError]) -> list[FormulationError]:
    seen: dict[str, FormulationError] = {}
    for error in errors:
        seen.setdefault(str(error), error)
    return list(seen.values())


def _about(error: FormulationError) -> str:
    words = "".join(" " + c.lower() if c.isupper() else c for c in type(error).__name__.removesuffix("Error"))
    return {"unit": "units", "value given": "value"}.get(words.strip(), words.strip())


def _report(problem: Facts, wrong: list[Finding], *, sound: bool) -> Report:
    found = [*wrong, *_units(problem)]
    if sound:
        found += _open(problem)
        found += _switches(problem)
        found += _start(problem)
    order = {"wrong": 0, "doubtful": 1, "note": 2}
    found.sort(key=lambda each: order[each.weight])
    higher = any(k > 1 for k in problem.model.orders.values()) or problem.said.form != "equations"
    higher = higher or any(statement.target is None for statement in problem.model.statements)
    written = not isinstance(problem.model.rates, NamedFunction)
    return Report(problem.title, tuple(found), problem.first_order().text if sound and higher and written else "")


def _units(problem: Facts) -> Iterator[Finding]:
    try:
        yield from (Finding("wrong", "units", str(each)) for each in disagreements(problem))
    except FormulationError as error:
        yield Finding("wrong", "units", str(error))
    if problem.units and not isinstance(problem.model.rates, NamedFunction):
        bare = [name for name in problem.parameters if not problem.units.get(name) and not _plain_number(problem, name)]
        if bare:
            yield Finding("note", "units", "not declared, so not checked: " + ", ".join(bare))


def _plain_number(problem: Facts, name: str) -> bool:
    """Whether a parameter was declared to be a plain number, is a size, or has the unit of its formula."""
    formula = problem.settled.definitions[name].formula
    return name in problem.units or name in problem.model.sizes or formula is not None


def _open(problem: Facts) -> Iterator[Finding]:
    if problem.open:
        yield Finding("note", "parameters", "still open: " + ", ".join(problem.open))


def _switches(problem: Facts) -> Iterator[Finding]:
    if problem.open:
        return
    for switch in problem.switches:
        yield Finding("note", "switch", f"{switch.text}: {_when(switch)}")
    for text in problem.model.smooth.left:
        yield Finding("note", "switch", f"{text}: inside a family, left to the error estimate")


def _when(switch: Switch) -> str:
    if switch.times is None:
        return f"a {switch.kind}, located during the run"
    shown = ", ".join(f"{time:.6g}" for time in switch.times[:_SHOWN_TIMES])
    more = len(switch.times) - _SHOWN_TIMES
    if not switch.times:
        return f"a {switch.kind}, not within the interval"
    return f"a {switch.kind} at t = {shown}" + (f" and {more:,} more times" if more > 0 else "") + ", landed on"


def _start(problem: Facts) -> Iterator[Finding]:
    """Look at starting values, rates and eigenvalues there, and say the size."""
    model, n = problem.model, problem.model.layout.size
    start = problem.start
    if problem.open or not np.isfinite(start).all():
        yield from _size(problem)
        return
    zero = [group.name for group in model.layout.groups if not start[model.layout.stretch(group.name)].any()]
    relative_only = problem.integrate_options.get("atol") == 0
    if zero and relative_only:
        yield Finding(
            "doubtful",
            "initial",
            f"{', '.join(zero)} start{'s' * (len(zero) == 1)} at zero, where a relative tolerance alone "
            "allows no error; give an atol",
        )
    yield from _tiny(problem, start)
    rates = _rates(problem, start)
    bad = np.flatnonzero(~np.isfinite(rates))
    if bad.size:
        names = [model.layout.names[k] for k in bad[:6]]
        message = (
            f"the rate of {', '.join(names)} is not finite at the start: look for a root or logarithm of a negative "
            "number, or a division by zero"
        )
        yield Finding("wrong", "initial", message)
    elif n and not rates.any():
        yield Finding("doubtful", "initial", "all rates are zero at the start: the problem begins at an equilibrium")
    yield from _size(problem)
    if not bad.size and n <= _MOST_EIGENVALUES:
        yield from _stiffness(problem, start)


def _tiny(problem: Facts, start: Any) -> Iterator[Finding]:
    """Hold starting values against the absolute tolerance that a run would have."""
    rtol, atol = (problem.integrate_options.get(name) for name in ("rtol", "atol"))
    allowed = atol if isinstance(atol, int | float) else (rtol if isinstance(rtol, int | float) else _RTOL) / _ATOL_PART
    tiny = np.flatnonzero((start != 0.0) & (np.abs(start) < 10.0 * allowed))
    if tiny.size:
        names = ", ".join(problem.model.layout.names[k] for k in tiny[:6])
        message = f"{names} start{'s' * (tiny.size == 1)} below ten times the absolute tolerance, {allowed:.2g}: "
        yield Finding(
            "doubtful", "tolerance", message + "little or nothing of so small a value is certain; give a smaller atol"
        )


def _size(problem: Facts) -> Iterator[Finding]:
    n = problem.model.layout.size
    if isinstance(problem.model.rates, NamedFunction) and problem.said.sparsity is None:
        yield Finding("note", "size", f"{n:,} state{'s' * (n != 1)}; a Python function, its Jacobian taken as full")
        return
    filled = problem.jacobian_pattern().nnz
    share = f"{100 * filled / n**2:.3g} %" if n else "none"
    yield Finding("note", "size", f"{n:,} state{'s' * (n != 1)}; "
                  f"{filled:,} of the Jacobian's {n**2:,} entries can be nonzero ({share})")  # fmt: skip


def _surroundings(problem: Facts, start: Any) -> dict[str, Any]:
    layout = problem.model.layout
    scalars = {name: start[place] for name, place in layout.scalars.items()}
    return {**problem.inputs, **problem.parameters, **scalars, "t": problem.interval[0], STATE: start}


def _filled(blocks: tuple[Block, ...], size: int, values: dict[str, Any]) -> Any:
    """Evaluate blocks into an array."""
    out = np.zeros(size)
    for block in blocks:
        strides = dict(zip((loop.index for loop in block.loops), block.strides, strict=True))
        ranges = [np.arange(loop.first, loop.last + 1.0) for loop in block.loops]
        grids = np.meshgrid(*ranges, indexing="ij") if ranges else []
        here = {loop.index: grid.ravel() for loop, grid in zip(block.loops, grids, strict=True)}
        where = places(block.loops, block.base, strides)
        np.add.at(out, where, np.broadcast_to(evaluate(block.node, {**values, **here}), where.shape))
    return out


def _rates(problem: Facts, start: Any) -> Any:
    rates = problem.model.rates
    if not isinstance(rates, NamedFunction):
        return _filled(rates, start.size, _surroundings(problem, start))
    call = rates.caller([*problem.parameters.values()], interpreted=True)

    def ask(state: Any) -> Any:
        answer = call(problem.interval[0], state)
        ordered = [answer[name] for name in rates.states] if rates.by_name else answer
        return np.asarray(ordered, dtype=np.float64)

    with np.errstate(all="ignore"):
        return ask(start.copy())


def _stiffness(problem: Facts, start: Any) -> Iterator[Finding]:
    """Estimate from the eigenvalues of the Jacobian how an explicit method would fare."""
    from unhurried_heron.formulas.differentiate import jacobian

    model, n = problem.model, start.size
    if isinstance(model.rates, NamedFunction):
        matrix = _differences(problem, start)
    else:
        matrix = _filled(jacobian(model.rates, model.layout), n * n, _surroundings(problem, start)).reshape(n, n)
    if not n or not np.isfinite(matrix).all():
        yield Finding("doubtful", "stiffness", "the Jacobian is not finite at the start")
        return
    values = np.linalg.eigvals(matrix)
    length = abs(problem.interval[1] - problem.interval[0])
    direction = 1.0 if problem.interval[1] > problem.interval[0] else -1.0
    decays = -direction * values.real
    fastest = float(decays.max(initial=0.0))
    steps = fastest * length / _STABLE
    unit = problem.units.get("t", "")
    swing = float(np.abs(values.imag).max(initial=0.0))
    told = f"; the fastest swing takes {2 * np.pi / swing:.3g}{' ' + unit if unit else ''}" if swing > 0.0 else ""
    if fastest <= 1e-12 * swing or fastest <= 0.0:
        yield Finding("note", "stiffness", f"nothing decays at the start{told}; an explicit method will do")
        return
    scale = f"{1.0 / fastest:.3g}{' ' + unit if unit else ''}"
    if steps > _STIFF_STEPS:
        chosen = problem.integrate_options.get("method") == _FOR_STIFF
        message = (
            f"stiff at the start: the fastest decay takes {scale}, and the interval {length:.6g} {unit}".rstrip()
            + f"; an explicit method would need about {steps:.2g} steps to stay stable. "
            + (f"{_FOR_STIFF} is the right kind" if chosen else f'Try method = "{_FOR_STIFF}"')
        )
        yield Finding("note" if chosen else "doubtful", "stiffness", message)
    else:
        message = (
            f"not stiff at the start: the fastest decay takes {scale}{told}; an explicit method needs at least "
            f"{max(1, round(steps)):,} step{'s' * (round(steps) > 1)} to stay stable"
        )
        yield Finding("note", "stiffness", message)


def _differences(problem: Facts, start: Any) -> Any:
    base = _rates(problem, start)
    matrix = np.empty((start.size, start.size))
    for k in range(start.size):
        moved = start.copy()
        moved[k] += 1.5e-8 * max(abs(start[k]), 1e-6)
        matrix[:, k] = (_rates(problem, moved) - base) / (moved[k] - start[k])
    return matrix
