"""Values that follow from others: a changed copy is what is formulated anew, bit for bit, whichever way it is made."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import unhurried_heron as uh
from unhurried_heron.codegen.evaluate_many import evaluate_rows
from unhurried_heron.codegen.following_values import following_values
from unhurried_heron.codegen.runtime_data import context_of
from unhurried_heron.problem.following import formulas_that_follow

NAMES = ["a", "b", "c", "d"]
FORMULAS = [
    "{0}",
    "{0} + {1}",
    "{0}*{1} - 0.3",
    "exp(-{0}^2) + {1}",
    "sin({0}) + cos({1})",
    "max({0}, {1})",
    "{0}^1.5*0 + 2",
]


def chain(draw) -> dict[str, object]:
    """Parameters of which each may be a number, or a formula of those before it, in any order."""
    values: dict[str, object] = {}
    for k, name in enumerate(NAMES):
        if k == 0 or draw(st.booleans()):
            values[name] = draw(st.floats(0.1, 3.0))
        else:
            before = [draw(st.sampled_from(NAMES[:k])) for _ in range(2)]
            values[name] = draw(st.sampled_from(FORMULAS)).format(*before)
    return {name: values[name] for name in draw(st.permutations(NAMES))}


def formulated(values: dict[str, object], starts: dict[str, object]) -> uh.Problem:
    return uh.Problem.from_text(
        "x' = -a*x + b\ny' = c*x - d*y", parameters=values, initial={"x": 0.5, "y": 1.0, **starts}, interval=(0, 1)
    )


@settings(max_examples=60, deadline=None)
@given(st.data())
def test_a_changed_copy_is_what_is_formulated_anew(data: st.DataObject) -> None:
    values = chain(data.draw)
    starts = {"y": data.draw(st.sampled_from(["a + d", "c*b", "2*d - a"]))} if data.draw(st.booleans()) else {}
    problem = formulated(values, starts)
    plain = [name for name, value in values.items() if isinstance(value, float)]
    moved = {name: data.draw(st.floats(0.1, 3.0)) for name in data.draw(st.sets(st.sampled_from(plain), min_size=1))}
    changed, anew = problem.with_(parameters=moved), formulated({**values, **moved}, starts)
    assert changed == anew
    assert dict(changed.parameters) == dict(anew.parameters)
    assert changed.start.tobytes() == anew.start.tobytes()
    assert changed.fingerprint == anew.fingerprint
    # compiled code finds the same but for rounding, each formula by itself
    context = context_of(problem)
    following = following_values(problem, moved, context)
    context.change([moved.get(name, problem.parameters[name]) for name in problem.model.parameters])
    found = evaluate_rows(following.function, np.zeros(1), problem.start[None])[0]
    whole = [*anew.start, *(anew.parameters[name] for name in problem.model.parameters)]
    assert found == pytest.approx([whole[target] for target in following.targets], rel=1e-14)
    untouched = {name for name in NAMES if problem.parameters[name] != anew.parameters[name]} - moved.keys()
    assert untouched <= {problem.model.parameters[target - 2] for target in following.targets if target >= 2}


SINGLE = [f"u[{k}]" for k in (1, 2, 3)]


def laid_over(values: list[float], given: dict[str, object]) -> list[float]:
    """Values of u, with those that are given laid over them: of the whole first, then in the order of writing."""
    found = list(values)
    for key in sorted(given, key=lambda key: key != "u"):
        every = [given[key]] * 3 if key == "u" else [10.0 * k for k in (1, 2, 3)] if key == "u[i]" else []
        found = every or [given[key] if key == each else value for each, value in zip(SINGLE, found, strict=True)]
    return found


@given(st.data())
@settings(max_examples=60, deadline=None)
def test_values_of_the_whole_and_of_single_indices(data: st.DataObject) -> None:
    def some(*keys: str) -> dict[str, object]:
        chosen = data.draw(st.lists(st.sampled_from(keys), unique=True, min_size=1))
        return {key: "10*i" if key == "u[i]" else data.draw(st.floats(1, 9)) for key in chosen}

    whole = data.draw(st.sampled_from(["u", "u[i]"]))
    first = {whole: "10*i" if whole == "u[i]" else 2.0, **some(*SINGLE, "u[i]")}
    chain = uh.Problem.from_text("u[i]' = -u[i] for i in 1..3", initial=first, interval=(0, 1))
    expected = laid_over([0.0] * 3, first)
    assert chain.start.tolist() == expected
    changes = some(*SINGLE, "u[i]", "u")
    assert chain.with_(initial=changes).start.tolist() == laid_over(expected, changes)
    atol = some(*SINGLE, "u")
    run = uh.integrate(chain, "heun-2", atol=atol, rtol=1e-2)
    usual = uh.integrate(chain, "heun-2", rtol=1e-2).options["atol"]
    assert list(run.options["atol"].values()) == laid_over([usual] * 3, atol)


def test_a_copy_that_leaves_parameters_unused_is_written_and_read(tmp_path: Path) -> None:
    pond = uh.Problem.from_text(
        "level' = -leak*level", initial={"level": "base + twice"}, interval=(0, 1),
        parameters={"leak": "0.1 1/h", "base": "1 m", "twice": "2*base"}, units={"t": "h"},
    )  # fmt: skip
    for changes, left in (
        ({"level": "2*base"}, {"leak", "base"}),
        ({"level": 3.0}, {"leak"}),
        ({}, {*pond.parameters}),
    ):
        copy = pond.with_(initial=changes)
        copy.to_file(tmp_path / "copy.toml")
        again = uh.Problem.from_file(tmp_path / "copy.toml")
        assert again.parameters.keys() == left
        assert again.start.tolist() == copy.start.tolist()
        assert again.units.items() <= copy.units.items()


def test_a_value_given_again_without_a_unit_changes_nothing() -> None:
    swing = uh.Problem.from_text("x'' = -k*x", initial={"x": "1 m", "x'": 2}, parameters={"k": "1 1/h^2"},
                                 interval=("0 h", "1 h"))  # fmt: skip
    assert swing.units["x'"] == "m/h"
    assert swing.with_(initial={"x'": 2}) == swing


def test_what_cannot_be_exchanged_is_read_anew() -> None:
    row = uh.Problem.from_text(
        "u[i]' = -k*u[i] for i in 1..n", parameters={"n": 3, "k": "rate/2", "rate": 1.0}, initial={"u[i]": "rate*i"},
        interval=(0, 1),
    )  # fmt: skip
    faster = row.with_(parameters={"rate": 3.0})
    assert (faster.parameters["k"], faster.start.tolist()) == (1.5, [3.0, 6.0, 9.0])
    assert row.with_(parameters={"n": 2}).states == ("u[1]", "u[2]")
    assert formulas_that_follow(row.assembled.definitions, {"rate"}, row.model) is None
    with pytest.raises(uh.FormulationError, match="not finite"):
        formulated({"a": 1.0, "b": "1/(a - 2)", "c": 1.0, "d": 1.0}, {}).with_(parameters={"a": 2.0})
    turning = uh.Problem.from_text("z' = i*w*z", parameters={"w": "2*pi/period", "period": 1.0},
                                   initial={"z": "exp(i*w)"}, interval=(0, 1))  # fmt: skip
    found = turning.with_(parameters={"period": 4.0})
    assert complex(*found.start) == pytest.approx(1j)
    assert found.parameters["w"] == math.pi / 2


def test_equal_values_are_found_once() -> None:
    """Narrow windows and known times of curves follow from the values in their formulas alone."""
    pulse = uh.Problem.from_text(
        "x' = exp(-((t - at)/0.01)^2) - leak*x\ny' = where(sin(t) > share, 1, 0)",
        parameters={"at": 3.0, "leak": 1.0, "share": 0.5}, initial={"x": 0, "y": 0}, interval=(0, 10),
    )  # fmt: skip
    first = pulse.narrow
    assert pulse.with_(parameters={"leak": 2.0}).narrow is first
    moved = pulse.with_(parameters={"at": 7.0}).narrow
    assert moved[0].start > first[-1].end
    assert pulse.narrow is first
    runs = [uh.integrate(pulse, rtol=1e-9, parameters={"at": at}).final for at in (3.0, 7.0, 3.0)]
    assert runs[0] == runs[2]
    area = 0.01 * math.sqrt(math.pi)
    assert [run["x"] for run in runs[:2]] == pytest.approx([area * math.exp(-7), area * math.exp(-3)], rel=1e-3)
