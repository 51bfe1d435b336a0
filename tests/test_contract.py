"""Every method keeps the contract, a user's own included; and the contract can fail."""

from __future__ import annotations

import pytest

import unhurried_heron as uh
from unhurried_heron.errors import UnfitProblemError
from unhurried_heron.methods.catalogue import all_methods
from unhurried_heron.testing import ContractError, check_method
from unhurried_heron.testing.contract import events_act, order_is_observed, stability_function_is_true, tally_is_true
from unhurried_heron.testing.problems import shape_of

RALSTON = uh.RungeKutta("ralston-3", a=[[], ["1/2"], [0, "3/4"]], b=["2/9", "1/3", "4/9"], c=[0, "1/2", "3/4"])
BOGACKI = uh.RungeKutta(
    "four-stage-pair",
    a=[[], ["1/2"], [0, "3/4"], ["2/9", "1/3", "4/9"]],
    b=["2/9", "1/3", "4/9", 0],
    c=[0, "1/2", "3/4", 1],
    b_embedded=["7/24", "1/4", "1/3", "1/8"],
)
# its stages allow less between the steps
BUTCHER = uh.RungeKutta(
    "butcher-6",
    a=[[], ["1/3"], [0, "2/3"], ["1/12", "1/3", "-1/12"], ["-1/16", "9/8", "-3/16", "-3/8"],
       [0, "9/8", "-3/8", "-3/4", "1/2"], ["9/44", "-9/11", "63/44", "18/11", 0, "-16/11"]],
    b=["11/120", 0, "27/40", "27/40", "-4/15", "-4/15", "11/120"],
    c=[0, "1/3", "2/3", "1/3", "1/2", "1/2", 1],
)  # fmt: skip


@pytest.mark.parametrize("method", [*all_methods(), RALSTON, BOGACKI, BUTCHER], ids=lambda method: method.name)
def test_contract(method: uh.RungeKutta) -> None:
    check_method(method)
    # events that turn a motion round, and functions, are said for a state and its twin alone
    for check in (events_act, tally_is_true) if shape_of(method) == "second order" else ():
        with pytest.raises(UnfitProblemError):
            check(method)


class Boastful(uh.RungeKutta):
    """Claims one order more than it has."""

    order = 4  # type: ignore[assignment]  # the lie the check must see
    stability = ((1.0, 1.0), (1.0,))  # type: ignore[assignment]  # another one


def test_contract_catches_a_false_claim() -> None:
    liar = Boastful("liar", a=RALSTON.a, b=RALSTON.b, c=RALSTON.c)
    with pytest.raises(ContractError, match="stated 4"):
        order_is_observed(liar)
    with pytest.raises(ContractError):
        stability_function_is_true(liar)
