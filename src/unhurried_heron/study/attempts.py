"""Runs that a study makes by methods of its own choice, whatever becomes of them."""

from __future__ import annotations

from enum import Enum, auto
from typing import Any, Final, NamedTuple

from unhurried_heron.driver.integrate import integrate
from unhurried_heron.errors import HeronError
from unhurried_heron.input.rules import ON_INTERRUPT
from unhurried_heron.methods.method import Method
from unhurried_heron.problem.problem import Problem
from unhurried_heron.quiet import quietly
from unhurried_heron.run.ending import EndingReason
from unhurried_heron.run.run import Run


class Outcome(Enum):
    """What became of a run of a study."""

    REACHED_END = auto()
    STOPPED = auto()
    ENDED_EARLY = auto()
    RAISED = auto()
    INTERRUPTED = auto()


class Attempt(NamedTuple):
    """A run, None where there is none; why it did not come to its end, and what was raised."""

    run: Run | None
    why: str = ""
    raised: Exception | None = None

    @property
    def done(self) -> bool:
        """Whether it came to its end."""
        return self.run is not None and self.run.ending.as_requested

    @property
    def outcome(self) -> Outcome:
        """What became of the run; without a run or an error, the study was interrupted before it."""
        if self.run is None:
            return Outcome.INTERRUPTED if self.raised is None else Outcome.RAISED
        if self.run.ending.reason is EndingReason.END:
            return Outcome.REACHED_END
        return Outcome.STOPPED if self.done else Outcome.ENDED_EARLY

    @property
    def ending(self) -> str:
        """What a row of a table says of it."""
        if self.outcome is Outcome.REACHED_END:
            return "reached the end"
        return self.why if self.run is None else self.run.ending.message


def attempt_run(problem: Problem, method: str | Method, **options: Any) -> Attempt:
    """Integrate without a word; what the user's function raises is kept, for methods ask where others do not.

    Parameters
    ----------
    problem : Problem
    method : str | Method
    **options : object
        As for `integrate`.

    Returns
    -------
    Attempt
    """
    try:
        with quietly():
            run = integrate(problem, method, progress=False, **options)
    except Exception as error:
        return Attempt(None, in_words(error), error)
    return Attempt(run, "" if run.ending.as_requested else run.ending.message)


class OnInterrupt:
    """What Ctrl-C does to a study: it raises KeyboardInterrupt, or ends it with what was done.

    Raises
    ------
    OptionError
        It is neither.
    """

    def __init__(self, what: str) -> None:
        ON_INTERRUPT(what, "on_interrupt")
        self._keeps, self.hit = what == "return", False

    def __enter__(self) -> None:
        return None

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: Any) -> bool:
        """Swallow Ctrl-C, where the study is to return what was done.

        Parameters
        ----------
        kind : type of BaseException, or None
        error : BaseException or None
        trace : traceback or None

        Returns
        -------
        bool
        """
        if not (self._keeps and isinstance(error, KeyboardInterrupt)):
            return False
        self.hit = True
        return True


INTERRUPTED: Final = Attempt(None, "interrupted")


def in_words(error: Exception) -> str:
    """Say an error in a line: our own by its first sentence, another with its type."""
    return str(error.args[0]) if isinstance(error, HeronError) else f"{type(error).__name__}: {error}"


def raise_common_error(found: list[Attempt]) -> None:
    """Raise what the user's function raised, where it did so in every run: nobody else tells of it then.

    Raises
    ------
    Exception
        The first.
    """
    own = [each.raised for each in found if each.raised is not None and not isinstance(each.raised, HeronError)]
    if own and len(own) == len(found):
        raise own[0]
