"""Results are values: equal after pickles and copies, unequal where anything differs; none is large."""

from __future__ import annotations

import copy
import pickle
from collections.abc import Callable
from dataclasses import fields, replace
from functools import cache
from typing import Any

import numpy as np
import pytest
from representatives import general

import unhurried_heron as uh
from unhurried_heron.equality import ByValue
from unhurried_heron.methods.catalogue import CATALOGUE

POND = uh.Problem.from_text(
    "level' = 0.3 - level*where(level > 0.5, 1, 0.5)\nspill = level^2",
    initial={"level": 0.1}, interval=(0, 8), events=[uh.Event("level = 0.4", name="mark")],
)  # fmt: skip
QUICK = {"rtol": 1e-4}
RESULTS: dict[str, Callable[[uh.Problem], Any]] = {
    "run": lambda p: uh.integrate(p, trace=True, **QUICK),
    "run of few values": lambda p: uh.integrate(p, "radau-iia-5", record=5, **QUICK),
    "run with steps": lambda p: uh.integrate(p, "classical-rk-4", count=5),
    "ending": lambda p: uh.integrate(p, **QUICK).ending,
    "tally": lambda p: uh.integrate(p, "heun-2", **QUICK).tally,
    "trace": lambda p: uh.integrate(p, trace=True, **QUICK).data.trace,
    "period": lambda p: uh.integrate(
        uh.Problem.from_text("x' = v\nv' = -x", initial={"x": p.initial["level"], "v": 1}, interval=(0, 20)),
    ).period("x = 0"),
    "comparison": lambda p: uh.compare(p, ["heun-2", "radau-iia-5"], **QUICK),
    "convergence": lambda p: uh.convergence(p, "heun-2", halvings=3),
    "certificate": lambda p: uh.certify(p, 3),
    "explanation": lambda p: uh.explain(uh.integrate(p, "heun-2", **QUICK)),
    "report": uh.check,
    "largest step": lambda p: uh.largest_step(p, "heun-2"),
    "stability-limited steps": lambda p: uh.stability_limited_steps(uh.integrate(p, "heun-2", **QUICK)),
    "measured": lambda p: uh.Measured([0, p.initial["level"], 2], [0, 1, 2]),
}
# A run of five rows takes no more than this many bytes.
MAX_BYTES = 9_000


@cache
def result(name: str, start: float = 0.1) -> Any:
    return RESULTS[name](POND.with_(initial={"level": start}))


@pytest.mark.parametrize("name", RESULTS)
def test_a_result_equals_its_copies_alone(name: str) -> None:
    one = result(name)
    for again in (pickle.loads(pickle.dumps(one)), copy.deepcopy(one), copy.copy(one)):
        assert again == one
        assert hash(again) == hash(one)
        assert len({again, one}) == 1
    assert one != name
    assert one != None  # noqa: E711  # the operator is what is tested
    other = result(name, 0.2)
    # a check, and why a run ended, say nothing of the start
    assert (other != one) is (name not in ("report", "ending"))
    assert len(pickle.dumps(one)) < 1_000_000


@pytest.mark.parametrize("name", [method.name for method in general()])
def test_a_pickled_run_is_small_and_its_method_the_same(name: str) -> None:
    """A method of the package is pickled by its name; another by its data, without what was computed from them."""
    method = CATALOGUE[name]
    run = uh.integrate(POND, method, record=5, **({"rtol": 1e-2} if method.adaptive else {"count": 9}))
    kept = pickle.dumps(run)
    assert len(kept) < MAX_BYTES
    assert pickle.loads(kept) == run
    assert pickle.loads(pickle.dumps(method)) is copy.deepcopy(method) is method


def test_a_method_in_the_place_of_another_is_pickled_by_its_data(monkeypatch: pytest.MonkeyPatch) -> None:
    heun = CATALOGUE["heun-2"]
    other = uh.RungeKutta("heun-2", a=[[], [1]], b=["1/2", "1/2"])
    assert other.order == heun.order
    monkeypatch.setitem(CATALOGUE, "heun-2", other)
    again = pickle.loads(pickle.dumps(other))
    assert again is not other
    assert (again.name, again.order, again.stages) == (other.name, other.order, other.stages)
    runs = [uh.integrate(POND, each, count=9, record=2) for each in (other, again)]
    assert np.array_equal(runs[0].states, runs[1].states)


@pytest.mark.parametrize("name", [name for name in RESULTS if name not in ("report", "measured", "ending", "tally")])
def test_every_field_counts(name: str) -> None:
    one = result(name)
    assert isinstance(one, ByValue)
    for each in fields(one):
        if not each.compare or each.name == "data":
            continue
        value = getattr(one, each.name)
        changed: Any = value + 1 if isinstance(value, np.ndarray | float | int) and value is not True else "other"
        if isinstance(changed, float) and np.isnan(changed):
            changed = 0.0
        assert replace(one, **{each.name: changed}) != one, each.name


def test_a_recorded_value_counts() -> None:
    run = result("run with steps")
    trajectory = copy.deepcopy(run.data.trajectory)
    trajectory.states[-1, 0] = np.nextafter(trajectory.states[-1, 0], 9.0)
    assert run.with_data(trajectory=trajectory) != run
    assert run.with_data(ledger=run.data.ledger[:-1]) != run
    assert run.with_data(ledger=run.data.ledger.copy()) == run
