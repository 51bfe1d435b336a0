"""Measures: one number for each run of a sweep, a formula of questions to it such as ``largest(level) - crest``."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Final, NamedTuple

import numpy as np

from unhurried_heron.arrays import Array
from unhurried_heron.errors import ExpressionError, OptionError, RunError, excerpt, listing
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.expression import Node, name, names_in
from unhurried_heron.formulas.parser import read
from unhurried_heron.formulas.source import Source
from unhurried_heron.problem.problem import Problem
from unhurried_heron.run.columns import modes_at
from unhurried_heron.run.extent import extent
from unhurried_heron.run.run import Run
from unhurried_heron.sweeps.axes import plain_name

if TYPE_CHECKING:
    from unhurried_heron.driver.step_measures import Extent

# What stands for the answer to a question in the formula of a measure.
_ANSWER: Final = "answer_{}_"


def _time_of(run: Run, event: str) -> float:
    """When an event happened first, NaN where it never did."""
    times = _times(run, event)
    return float(times[0]) if times.size else np.nan


def _times(run: Run, event: str) -> Any:
    return run.data.event_log.times[run.data.event_log.which == _index(run.data.events, event)]


def _index(events: Iterable[Any], event: str) -> int:
    names = [each.name for each in events]
    if event not in names:
        raise OptionError(f"there is no event '{event}'", name=event, location="measures",
                          expected="one of " + (listing(names) or "none"), given=event)  # fmt: skip
    return names.index(event)


def _period(run: Run, event: str) -> float:
    times = _times(run, event)
    return float(np.abs(np.diff(times)).mean()) if times.size > 1 else np.nan


def _final(run: Run, quantity: str) -> float:
    trajectory: Any = run.data.trajectory
    end = np.array([trajectory.end_time])
    return float(final_values(run.problem, quantity, end, trajectory.end_state[None], modes_at(run, end))[0])


def final_values(problem: Problem, quantity: str, ends: Array, states: Array, changing: Any) -> Array:
    """Return a quantity at the ends of runs.

    Parameters
    ----------
    problem : Problem
    quantity : str
    ends : ndarray, shape (n_runs,)
    states : ndarray, shape (n_runs, n_states)
    changing : (ndarray of int64, ndarray), or None
        Indices of parameters that differ, and their values, shape (n_runs, n_changing).

    Returns
    -------
    ndarray, shape (n_runs,)
    """
    from unhurried_heron.codegen.evaluate_many import evaluate_rows
    from unhurried_heron.codegen.system import native_queries

    found: Array = evaluate_rows(native_queries(problem, quantity), ends, states, changing)[:, 0]
    return found


class Question(NamedTuple):
    """A question to a run: how it is answered, and whether that takes the run's steps, or is about an event."""

    answer: Callable[[Run, str], float]
    of_steps: bool
    of_event: bool


QUESTIONS: Final[dict[str, Question]] = {
    "final": Question(_final, of_steps=False, of_event=False),
    "largest": Question(lambda run, quantity: extent(run, quantity)[1], of_steps=True, of_event=False),
    "smallest": Question(lambda run, quantity: extent(run, quantity)[0], of_steps=True, of_event=False),
    "mean": Question(lambda run, quantity: run.mean(quantity), of_steps=True, of_event=False),
    "integral": Question(lambda run, quantity: run.integral(quantity), of_steps=True, of_event=False),
    "time_of": Question(_time_of, of_steps=False, of_event=True),
    "count": Question(lambda run, event: float(_times(run, event).size), of_steps=False, of_event=True),
    "period": Question(_period, of_steps=False, of_event=True),
}


def of_extent(found: Extent, times: Any) -> dict[str, Any]:
    """Return the answers to questions about steps.

    Parameters
    ----------
    found : Extent
    times : float or ndarray
        How long the march took.

    Returns
    -------
    dict of str to float or ndarray
    """
    with np.errstate(all="ignore"):
        mean = found.integral / times
    return {"smallest": found.smallest, "largest": found.largest, "integral": found.integral, "mean": mean}


def _in_steps(run: Run, question: str, about: str) -> float:
    """Return the answer to a question about steps, as the loop over members finds it.

    Parameters
    ----------
    run : Run
    question : str
    about : str
        A formula.

    Returns
    -------
    float
    """
    # what compiles is loaded only when something runs
    from unhurried_heron.driver.step_measures import extents_along, is_plain

    if not is_plain(run.problem, about, run.modes):
        return QUESTIONS[question].answer(run, about)
    time = np.abs(run.ending.time - run.problem.interval[0])
    return float(of_extent(extents_along(run, [about]), time)[question][0])


_CALL: Final = re.compile(rf"\b({'|'.join(QUESTIONS)})\s*\(")


@dataclass(frozen=True)
class Measure:
    """A number of a run.

    Attributes
    ----------
    name : str
        Of its variable.
    text : str
        The formula, or the name of the function.
    questions : tuple of (str, str)
        The questions in it, and what each is about.
    formula : Node or None
        Of the answers and parameters.
    function : callable or None
        Of a run, in place of a formula.
    """

    name: str
    text: str
    questions: tuple[tuple[str, str], ...] = ()
    formula: Node | None = None
    function: Callable[[Run], Any] | None = None

    @property
    def of_steps(self) -> bool:
        """Whether it takes a run that kept its steps."""
        return self.function is not None or any(QUESTIONS[question].of_steps for question, _ in self.questions)

    def unit(self, problem: Problem) -> str:
        """Return its unit, where it is the answer to one question; else empty, as one that is not known."""
        if len(self.questions) != 1 or self.formula != name(_ANSWER.format(0)):
            return ""
        ((question, about),) = self.questions
        if QUESTIONS[question].of_event:
            return "" if question == "count" else problem.units.get("t", "")
        from unhurried_heron.problem.dimensions import unit_of

        return unit_of(problem, about, times=int(question == "integral"))

    def of(self, run: Run) -> float:
        """Return the number of a run; NaN where the question has no answer."""
        if self.function is not None:
            return float(self.function(run))
        try:
            answers = [_in_steps(run, question, about) if QUESTIONS[question].of_steps
                       else QUESTIONS[question].answer(run, about) for question, about in self.questions]  # fmt: skip
        except RunError:
            return np.nan
        return float(self.put_together(answers, run.problem.parameters))

    def put_together(self, answers: Iterable[Any], parameters: Mapping[str, Any]) -> Any:
        """Return the value of the formula.

        Parameters
        ----------
        answers : iterable of float or ndarray
            In the order of the questions.
        parameters : mapping of str to float or ndarray

        Returns
        -------
        float or ndarray
        """
        named = {_ANSWER.format(k): answer for k, answer in enumerate(answers)}
        return evaluate(self.formula, {**parameters, **named}) if self.formula is not None else np.nan


def read_measures(problem: Problem, events: tuple[Any, ...], given: Any) -> tuple[Measure, ...]:
    """Return the measures of a sweep.

    Parameters
    ----------
    problem : Problem
    events : tuple of Event
        All that are looked for.
    given : sequence of str or callable, or mapping of str to these

    Returns
    -------
    tuple of Measure

    Raises
    ------
    OptionError, ExpressionError
    """
    if isinstance(given, str) or callable(given):
        given = [given]
    if isinstance(given, Mapping):
        pairs = list(given.items())
    elif isinstance(given, Iterable):
        pairs = [("", each) for each in given]
    else:
        pairs = [("", None)]
    found = []
    for called, each in pairs:
        if callable(each):
            label = called or getattr(each, "__name__", "measure")
            found.append(Measure(plain_name(label), label, function=each))
        elif isinstance(each, str):
            found.append(_read(problem, events, called, each))
        else:
            raise OptionError("a measure is a formula or a function", name="measures", location="measures",
                              expected='such as "largest(level)", or a function of a run',
                              given=excerpt(each))  # fmt: skip
    names = [each.name for each in found]
    if len({*names}) < len(names):
        raise OptionError("two measures have one name", name="measures", location="measures",
                          expected="a name for each, {'peak': \"largest(level)\"}", given=listing(names))  # fmt: skip
    return tuple(found)


def _read(problem: Problem, events: tuple[Any, ...], called: str, text: str) -> Measure:
    """Read a measure.

    Parameters
    ----------
    problem : Problem
    events : tuple of Event
    called : str
        Its variable; empty for that of its text.
    text : str

    Returns
    -------
    Measure

    Raises
    ------
    OptionError, ExpressionError
    """
    questions: list[tuple[str, str]] = []
    rest, written = text, ""
    while match := _CALL.search(rest):
        about, end = _inside(rest, match.end(), text)
        if not QUESTIONS[match[1]].of_event:
            problem.model.read_formula(about, f"measures, '{text}'")
        else:
            about = about.strip("\"'")
            _index(events, about)
        written += rest[: match.start()] + _ANSWER.format(len(questions))
        questions.append((match[1], about))
        rest = rest[end:]
    formula = read(Source(written + rest, f"measures, '{text}'")).node
    unknown = names_in(formula) - {*problem.parameters, *(_ANSWER.format(k) for k in range(len(questions)))}
    if unknown or not questions:
        expected = f"questions to a run ({', '.join(QUESTIONS)}) and parameters"
        raise OptionError(f"'{text}' is no measure of a run", name=text, location="measures", expected=expected,
                          given=listing(sorted(unknown)) or text)  # fmt: skip
    return Measure(plain_name(called or text), text, tuple(questions), formula)


def _inside(text: str, begin: int, whole: str) -> tuple[str, int]:
    """Return what stands between the parentheses that open before a position, and where they are closed.

    Parameters
    ----------
    text : str
    begin : int
        The position.
    whole : str
        The measure, for messages.

    Returns
    -------
    (str, int)

    Raises
    ------
    ExpressionError
    """
    depth = 1
    for position in range(begin, len(text)):
        depth += {"(": 1, ")": -1}.get(text[position], 0)
        if depth == 0:
            return text[begin:position].strip(), position + 1
    raise ExpressionError("a parenthesis is not closed", name=whole, location="measures",
                          expected="as many that close as open", given=whole)  # fmt: skip
