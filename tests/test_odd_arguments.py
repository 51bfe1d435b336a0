"""Whatever is asked: an answer, or an error of our own that says what was wrong."""

from __future__ import annotations

import math
import warnings

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import unhurried_heron as uh
from unhurried_heron.input.file_reader import parse_document

ODD = [1e-300, 1e300, -0.0, True, None, "1", 1j, 10**400]
NUMBERS = st.one_of(st.floats(), st.integers(-3, 3), st.sampled_from(ODD))
ANYTHING = st.recursive(
    st.one_of(NUMBERS, st.text(max_size=5), st.binary(max_size=3)),
    lambda inner: st.one_of(st.lists(inner, max_size=3), st.dictionaries(st.text(max_size=4), inner, max_size=3)),
    max_leaves=6,
)


@settings(max_examples=150, deadline=None)
@given(
    initial=st.one_of(NUMBERS, st.just(1.0)),
    interval=st.one_of(st.tuples(NUMBERS, NUMBERS), ANYTHING),
    parameters=st.one_of(st.fixed_dictionaries({"k": NUMBERS}), ANYTHING),
)
def test_values(initial, interval, parameters) -> None:
    try:
        problem = uh.Problem.from_text("x' = k*x", initial={"x": initial}, interval=interval, parameters=parameters)
    except uh.HeronError as error:
        assert error.location or error.given
        return
    assert all(map(math.isfinite, (*problem.interval, *problem.initial.values(), *problem.parameters.values())))


@settings(max_examples=150, deadline=None)
@given(answer=ANYTHING)
def test_answers_of_rate_functions(answer) -> None:
    try:
        problem = uh.Problem.from_rates(lambda t, y: answer, initial={"x": 0.0, "v": 1.0}, interval=(0, 1))
    except uh.FormulationError as error:
        assert "2" in error.expected or "one rate" in error.expected
        return
    assert len(problem.states) == len(answer) == 2


@settings(max_examples=150, deadline=None)
@given(
    content=st.fixed_dictionaries(
        {"equations": st.one_of(st.just("x' = -x"), ANYTHING)},
        optional={
            "interval": st.one_of(st.just({"from": 0, "to": 1}), ANYTHING),
            "initial": st.one_of(st.just({"x": 1}), ANYTHING),
            "events": ANYTHING,
            "integrate": ANYTHING,
            "exact": ANYTHING,
            "units": ANYTHING,
            "tilte": ANYTHING,
        },
    )
)
@pytest.mark.long
def test_documents(content: dict) -> None:
    try:
        problem = uh.Problem.from_content(parse_document(content, "a file"))
    except uh.FormulationError as error:
        assert str(error)
        return
    assert problem.states == ("x",)


WORDS = st.sampled_from(["x = 1", "x >= 0", "k > 0", "x = -x", "k = 2*x\nx = k", "6 h", "t", "x", "1/0", "x = 1/0"])
PARTS = st.one_of(WORDS, NUMBERS, ANYTHING, st.functions(like=lambda x: None, returns=st.one_of(NUMBERS, ANYTHING)))


@settings(max_examples=400, deadline=None)
@given(
    words=st.fixed_dictionaries(
        {},
        optional=dict.fromkeys(("when", "then", "at", "every", "first", "only_if", "at_most", "stop_after"), PARTS),
    ),
    going=st.one_of(st.just("either"), ANYTHING),
)
@pytest.mark.long
def test_events(words, going) -> None:
    problem = uh.Problem.from_text("x' = -k*x", initial={"x": 2.0}, interval=(0, 3), parameters={"k": 1.0})
    try:
        event = uh.Event(**words, going=going)
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            run = uh.integrate(problem, events=[event], rtol=1e-4, budget={"steps": 400})
    except uh.HeronError as error:
        assert str(error)
        return
    assert run.events["time"].between(0, 3).all()
    assert len(run.times) == len(run.frame())
    assert run.at(run.times).shape == run.states.shape
