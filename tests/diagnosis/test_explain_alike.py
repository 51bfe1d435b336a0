"""What an explanation says follows from sizes as shares, errors as they are, and counts: nothing from a scale."""

from __future__ import annotations

import re
from typing import Any

import numpy as np
import pytest

import unhurried_heron as uh

# oscillation with decay, and a state of another size that follows; x has a closed form
TEXT = "x' = -0.2*x - 3*y\ny' = 3*x - 0.2*y\nz' = 1e-4*x - z"
START = {"x": 1.0, "y": 0.0, "z": 0.0}


def explained(scale: float, **options: Any) -> list[str]:
    """Return what is said of a run whose states are so many times as large."""
    problem = uh.Problem.from_text(
        TEXT, initial={name: scale * value for name, value in START.items()}, interval=(0, 9)
    )
    if "step" not in options:
        given = options.get("atol", 1e-8)
        scaled = {state: scale * each for state, each in given.items()} if isinstance(given, dict) else scale * given
        options = {"rtol": 1e-5, **options, "atol": scaled}
    return [each.text for each in uh.explain(uh.integrate(problem, **options)).statements]


@pytest.mark.long
@pytest.mark.parametrize(
    "options",
    [
        {"method": "heun-2", "step": 0.0625},
        {"method": "adams-bashforth-4", "step": 0.5},
        {"method": "dormand-prince-54"},
        {"method": "bogacki-shampine-32", "atol": 1e-13},
        {"method": "radau-iia-5", "atol": {"x": 1e-7, "y": 1e-7, "z": 1e-12}},
        {"method": "backward-differentiation-variable", "atol": 1e-6},
    ],
    ids=lambda options: options["method"],
)
def test_states_twice_a_thousand_times_as_large_change_no_word(options: dict) -> None:
    # powers of two leave every digit as it is; sizes that are told are the only numbers that may differ
    plain = explained(1.0, **options)
    for scale in (2.0**12, 2.0**-12):
        for one, other in zip(plain, explained(scale, **options), strict=True):
            if "absolute tolerance is too coarse" in one:
                one, other = (re.sub(r": \S+, where|exceeds \S+", "", text) for text in (one, other))
            assert re.sub(r"\d[\d.]* (s|ms|us)\b", "", one) == re.sub(r"\d[\d.]* (s|ms|us)\b", "", other)


@pytest.mark.parametrize("way", [1, -1])
@pytest.mark.parametrize(
    ("method", "options"),
    [
        ("euler", {"step": 1 / 256}), ("heun-2", {"step": 1 / 32}), ("classical-rk-4", {"step": 0.25}),
        ("bogacki-shampine-32", {"rtol": 1e-5, "atol": 1e-6}), ("dormand-prince-54", {"rtol": 1e-3, "atol": 1e-3}),
        ("verner-76", {"rtol": 1e-6, "atol": {"x": 1e-3, "y": 1e-6}}),
    ],
)  # fmt: skip
def test_the_error_of_the_hardest_state_is_its_error(method: str, options: dict, way: int) -> None:
    text = "x' = way*(-0.2*x - 3*y)\ny' = way*(3*x - 0.2*y)"
    problem = uh.Problem.from_text(text, initial={"x": 5.0, "y": 0.0}, interval=(0, 6 * way), parameters={"way": way})
    run = uh.integrate(problem, method, **options)
    (statement,) = uh.explain(run).about("states")
    times = np.linspace(0, 6 * way, 400)
    spent = np.abs(times)
    truth = 5 * np.exp(-0.2 * spent)[:, None] * np.column_stack([np.cos(3 * spent), np.sin(3 * spent)])
    sizes = np.abs(truth).max(axis=0)
    if "step" in options:
        allowed = sizes
    else:
        atol = options["atol"]
        allowed = options["rtol"] * sizes + (np.array(list(atol.values())) if isinstance(atol, dict) else atol)
    missed = np.abs(run.at(times) - truth) / allowed
    row, column = np.unravel_index(missed.argmax(), missed.shape)
    assert statement.figures["error"] == pytest.approx(missed.max(), rel=0.1)
    assert statement.figures["state"] == "xy"[column]
    assert abs(statement.figures["time"]) == pytest.approx(spent[row], abs=0.1)


@pytest.mark.parametrize("count", [1, 2, 4, 5])
def test_states_whose_tolerances_are_coarse_are_named(count: int) -> None:
    small = [f"s{k}" for k in range(count)]
    lines = ["a' = -a", *(f"{name}' = -{name}" for name in small)]
    starts = {"a": 1.0, **{name: 1e-8 * 2.0**-k for k, name in enumerate(small)}}
    problem = uh.Problem.from_text("\n".join(lines), initial=starts, interval=(0, 1))
    run = uh.integrate(problem, "heun-3", rtol=1e-6, atol=1e-9)
    (statement,) = uh.explain(run).about("tolerance")
    names = ", ".join(f"'{name}'" for name in small[:4]) + " …" * (count > 4)
    which = "it" if count == 1 else "the smallest"
    assert statement.text == (
        f"The absolute tolerance is too coarse for {names}: 1e-09, where {which} never exceeds "
        f"{starts[small[-1]]:.2g}. Give a smaller atol, by name."
    )
    # an absolute tolerance that rules, of states that are not small beside it
    rules = uh.integrate(problem, "heun-3", rtol=1e-6, atol={"a": 1e-3, **dict.fromkeys(small, 1e-16)})
    text = "The tolerances suit the size of every state (for 'a' the absolute one rules all of the time)."
    assert [each.text for each in uh.explain(rules).about("tolerance")] == [text]
