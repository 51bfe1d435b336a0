"""Requests that were checked before: the same call on the same model is not checked anew.

Only what plain calls give is remembered: a method by name, numbers as tolerances or step, and nothing out of the
ordinary besides.
"""

from __future__ import annotations

from typing import Any, Final

from unhurried_heron.driver.run_request import RunRequest
from unhurried_heron.problem.problem import Problem

_NUMBERS: Final = (float, type(None))
_COUNTS: Final = (int, type(None))
# Entries of a key beside those of events.
_WORDS: Final = 6
# Requests of one model that are remembered.
_MAX: Final = 16


def key_of(
    method: Any, rtol: Any, atol: Any, step: Any, count: Any, record: Any, events: Any
) -> tuple[Any, ...] | None:
    """Return what a plain call is remembered by; None where it holds anything but names, numbers and counts.

    Parameters
    ----------
    method, rtol, atol, step, count, record : object
        As given to `integrate`.
    events : tuple or list
        Likewise; they are told by their identities, and kept alive by the request.

    Returns
    -------
    tuple or None
    """
    plain = (
        type(method) is str
        and type(rtol) in _NUMBERS
        and type(atol) in _NUMBERS
        and type(step) in _NUMBERS
        and type(count) in _COUNTS
        and type(record) in (str, int)
    )
    return (method, rtol, atol, step, count, record, *map(id, events)) if plain else None


def recall(problem: Problem, key: tuple[Any, ...] | None) -> RunRequest | None:
    """Return the request of an earlier call for this problem; None where there was none that fits."""
    found: RunRequest | None = problem.model.requests.get(key)
    if found is None:
        return None
    mine, its = problem.assembled, found.problem.assembled
    if mine is its:
        return found
    if key is None or len(key) > _WORDS:
        # events of a call were checked with the values of its problem
        return None
    same = mine.interval == its.interval and mine.units is its.units and not mine.open
    words, others = problem.user_input, found.problem.user_input
    same = same and words.events is others.events and words.never_negative is others.never_negative
    if not (same and words.inputs is others.inputs):
        return None
    # what was checked does not depend on the values of parameters and states
    return found.of(problem)


def remember(key: tuple[Any, ...] | None, request: RunRequest) -> None:
    """Keep a request that was checked, if it may serve again."""
    known = request.problem.model.requests
    if key is not None and not callable(getattr(request.starter, "member", None)):
        if len(known) >= _MAX:
            known.clear()
        known[key] = request
