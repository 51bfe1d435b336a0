"""States that are never negative are kept so by adaptive steps, at the steps and between them."""

import numpy as np
import pytest
from representatives import representatives

import unhurried_heron as uh

ADAPTIVE = representatives()


@pytest.mark.parametrize("method", ADAPTIVE)
def test_states_are_kept_from_falling_below_zero(method: str) -> None:
    """A substance that another uses up at once, which errors of the steps would take below zero."""
    text, start = "a' = -1e4*a*b\nb' = -1e4*a*b + c\nc' = -c", {"a": 1, "b": 1.0, "c": 0.5}
    kept = uh.Problem.from_text(text, initial=start, interval=(0, 10), never_negative=["a", "b", "c"])
    run, free = (uh.integrate(each, method, rtol=1e-3) for each in (kept, kept.with_(never_negative=[])))
    times = np.linspace(0, 10, 2001)
    assert run.ending.reason == "end"
    assert run.states.min() >= 0.0
    assert run.at(times).min() >= 0.0
    assert uh.integrate(kept, method, rtol=1e-3, record=times.tolist()).states.min() >= 0.0
    assert run.states[-1] == pytest.approx(free.states[-1], abs=2e-2)
    assert run.tally.accepted < 1.5 * free.tally.accepted + 20


@pytest.mark.parametrize("method", ADAPTIVE)
def test_rates_that_lead_below_zero_end_the_run(method: str) -> None:
    tank = uh.Problem.from_text(
        "fill[i]' = -i for i in 1..2", initial={"fill": 1}, interval=(0, 3), never_negative=["fill"]
    )
    with pytest.warns(uh.IncompleteRunWarning, match=r"'fill\[2\]' below zero"):
        run = uh.integrate(tank, method)
    assert run.ending.reason == "below zero"
    assert run.ending.time == pytest.approx(0.5, abs=1e-5)
    assert run.states.min() >= 0.0


def test_members_are_named_one_by_one() -> None:
    tank = uh.Problem.from_text("fill[i]' = -i for i in 1..2", initial={"fill": 1}, interval=(0, 3))
    assert uh.integrate(tank.with_(never_negative=["fill[1]"], interval=(0, 0.9))).final["fill[2]"] < -0.7
    with pytest.raises(uh.FormulationError, match=r"'fill\[3\]' is no state"):
        tank.with_(never_negative=["fill[3]"])
