"""What a method can do decides which options it takes: nothing else is refused, and a refusal says what to do."""

from __future__ import annotations

import warnings
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from representatives import general, representatives

import unhurried_heron as uh
from unhurried_heron.methods.method import Method, capabilities

SWING = uh.Problem.from_text("x' = v\nv' = -x", initial={"x": 1, "v": 0}, interval=(0, 2))
STEP = {"step": 1 / 128}


def chooses_steps(method: Method) -> bool:
    """Whether its step control can be chosen; methods of variable order choose step and order together."""
    return method.adaptive and not capabilities(method).several_orders


# Each option that not every method takes, what goes with it, and which methods take it.
OPTIONS: dict[str, tuple[dict[str, Any], Callable[[Method], bool]]] = {
    "rtol": ({"rtol": 1e-5}, lambda m: m.adaptive),
    "atol by name": ({"atol": {"x": 1e-9}, "rtol": 1e-5}, lambda m: m.adaptive),
    "step": (STEP, lambda m: capabilities(m).takes_fixed_steps),
    "count": ({"count": 256}, lambda m: capabilities(m).takes_fixed_steps),
    "starting_step": ({"starting_step": 1e-4, "rtol": 1e-5}, lambda m: m.adaptive),
    "largest_step": ({"largest_step": 0.05, "rtol": 1e-5}, lambda m: m.adaptive),
    "local_extrapolation": (
        {"local_extrapolation": True},
        lambda m: capabilities(m).extrapolates and not m.implicit,
    ),
    "starter": ({"starter": "classical-rk-4", **STEP}, lambda m: capabilities(m).fixed_reach),
    "step_control": ({"step_control": "predictive"}, chooses_steps),
    "controller": ({"step_control": uh.Controller(safety=0.7)}, chooses_steps),
    # auto hands it to its stiff method, and has none with fixed steps
    "linear with tolerances": (
        {"linear": "banded", "rtol": 1e-4},
        lambda m: m.implicit and m.adaptive,
    ),
    "linear with steps": (
        {"linear": "sparse", **STEP},
        lambda m: m.implicit and capabilities(m).takes_fixed_steps and not capabilities(m).changes_method,
    ),
    "record": ({"record": [0.5, 2.0]}, lambda m: m.adaptive),
    "trace": ({"trace": True, "interval": (0, 0.125), "rtol": 1e-4}, lambda m: m.adaptive),
}


# two of each family, and all that have no error estimate, which refuse most
EACH = [method for method in general() if not method.adaptive or method.name in representatives()]


@pytest.mark.parametrize("option", OPTIONS)
@pytest.mark.parametrize("method", EACH, ids=lambda method: method.name)
def test_an_option_is_taken_where_the_method_can(method: Method, option: str) -> None:
    options, taken = OPTIONS[option]
    if not taken(method):
        with pytest.raises(uh.HeronError) as refused:
            uh.integrate(SWING, method, **options)
        # auto leaves fixed steps to one of its methods
        known = {method.name, getattr(method, "at_fixed_steps", method).name}
        assert any(name in str(refused.value) for name in known)
        assert refused.value.location in (*options, "method")
        assert refused.value.expected
        return
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", uh.IncompleteRunWarning)
        run = uh.integrate(SWING, method, **options)
    for name, value in options.items():
        if name in ("step", "rtol", "starter"):
            assert run.options[name] == value
    if not run.ending.as_requested:
        # euler and its like may need more steps for 1e-7 than they are given
        assert (method.order, "step" in options) <= (2, False)
        return
    end = options.get("interval", (0, 2))[1]
    # of order 1 and fixed steps the error is as large as the step
    fixed = {"step", "count"} & set(options)
    allowed = 2.0 * (1 / 128) ** min(method.order, 2) if fixed else 0.02 if options.get("rtol") == 1e-4 else 2e-4
    assert run.at(end, "x") == pytest.approx(np.cos(end), abs=allowed)
    if "largest_step" in options:
        assert run.ledger["step"].max() <= 0.05 * (1 + 1e-12)
    if "starting_step" in options:
        assert run.ledger["step"].iloc[0] <= 1e-4 * (1 + 1e-12)
    if "record" in options:
        assert run.times.tolist() == [0.5, 2.0]
    if "trace" in options:
        assert len(run.trace) >= run.tally.rate_evaluations > 0
