"""The facts from which `endings` makes its sentences: where a march stopped, and what was seen there."""

from __future__ import annotations

import math
from enum import Enum, auto
from typing import NamedTuple

from unhurried_heron.kernels.memory.control import Reason


class CauseKind(Enum):
    """What was seen where a march failed."""

    ZERO_AT_START = auto()
    ZERO = auto()
    TERM = auto()
    STATE_UNBOUNDED = auto()
    RATE_UNBOUNDED = auto()
    TIMES_TOO_COARSE = auto()


class Cause(NamedTuple):
    """Why a march failed.

    Attributes
    ----------
    kind : CauseKind
    name : str
        The state, or the denominator that is zero; of a term of the equations what there is to say of it.
    time : float
    values : tuple of float
        Of an unbounded state its size and the largest before; of an unbounded rate the rate; of times that are too
        coarse their spacing, and how long the state takes to change by its size.
    """

    kind: CauseKind
    name: str
    time: float = math.nan
    values: tuple[float, ...] = ()


class StabilityLimit(NamedTuple):
    """That stability held steps back: how many steps there were, when it last did, and where the march stopped.

    ``explicit``: that of the explicit part of an additive method.
    """

    steps: int
    until: float
    time: float
    explicit: bool = False


class QuietStates(NamedTuple):
    """States that never came above ten times their absolute tolerance.

    Attributes
    ----------
    names : tuple of str
        The first of them, and whether there are ``more``.
    more : bool
    several : bool
        Whether there is more than one.
    largest, absolute : float
        Of the first: the largest size, and the tolerance.
    recorded : bool
        Whether only recorded times were looked at.
    """

    names: tuple[str, ...]
    more: bool
    several: bool
    largest: float
    absolute: float
    recorded: bool


class Leaps(NamedTuple):
    """Fixed steps whose equations had no root that continues the solution: how many, and when the first was."""

    steps: int
    time: float


class Stop(NamedTuple):
    """Why and where a march stopped, and what was seen of its values.

    Attributes
    ----------
    steps : int
        Accepted ones.
    fixed : bool
        Whether steps were fixed.
    budget, event, switch : str
        What was used up, stopped the run, or goes back and forth; empty for none.
    towards : float
        The time towards which an event accumulates.
    component : str
        The first state that is not finite at ``bad_time``, or empty.
    limit : StabilityLimit or None
    noise : QuietStates, Leaps or None
        What makes values doubtful.
    cause : Cause or None
        Why it failed, as far as that was seen.
    fastest : str
        Of collapsed steps the state that changes fastest.
    left : float
        How many more steps it would take at the pace of the last ones.
    held : bool
        Whether switches were landed on.
    """

    reason: Reason
    time: float
    steps: int = 0
    fixed: bool = False
    interrupted: bool = False
    budget: str = ""
    event: str = ""
    switch: str = ""
    towards: float = math.nan
    component: str = ""
    bad_time: float = math.nan
    limit: StabilityLimit | None = None
    noise: QuietStates | Leaps | None = None
    cause: Cause | None = None
    fastest: str = ""
    left: float = math.nan
    held: bool = True
