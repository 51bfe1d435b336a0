"""A family added from outside, by two files and one line, has everything that others have."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator

import numpy as np
import pytest
import two_stage
from two_stage import FAMILY, TwoStage

import unhurried_heron as uh
from unhurried_heron import errors
from unhurried_heron.families import SetupRequest, WorkSpace, add_family
from unhurried_heron.families.registry import FAMILIES
from unhurried_heron.methods.catalogue import CATALOGUE
from unhurried_heron.testing import ContractError, check_method
from unhurried_heron.testing.contract import arrays_are_respected

METHOD = TwoStage()


@pytest.fixture(scope="module", autouse=True)
def added() -> Iterator[None]:
    add_family(FAMILY, METHOD)
    yield
    del CATALOGUE[METHOD.name], FAMILIES[FAMILY.name]


@pytest.mark.long
def test_it_keeps_the_contract() -> None:
    check_method("two-stage-2")


def test_it_has_what_others_have(pond: uh.Problem) -> None:
    assert uh.methods()["family"]["two-stage-2"] == "two-stage"
    # the symbolic Jacobian is used, an event located, a switch landed on, a far away reference found
    stiff = uh.Problem.from_text(
        "a' = -1e4*(a - where(t < 1, 1, 2))\nb' = a - b", initial={"a": 0, "b": 0}, interval=(0, 3),
        events=[uh.Event("b = 1", name="full", stop=True)],
    )  # fmt: skip
    run = uh.integrate(stiff, "two-stage-2", rtol=1e-6)
    # b follows 1 - exp(-t) up to t = 1, and goes to 2 from there
    assert run.ending.time == pytest.approx(1.0 + np.log(1.0 + np.exp(-1.0)), abs=1e-3)
    assert run.tally.rate_evaluations < run.tally.iterations + 3 * run.tally.accepted
    assert run.tally.jacobians == run.tally.accepted + run.tally.refused > 0
    table = uh.compare(pond, METHOD, rtol=[1e-4, 1e-6]).frame()
    assert table["reference"][0].startswith("radau-iia-5")
    assert table["largest error"][1] < table["largest error"][0] < 0.05


def test_its_limits_hold() -> None:
    large = uh.Problem.from_text("u[i]' = -u[i] for i in 1..101", initial={"u": 1.0}, interval=(0, 1))
    with pytest.raises(errors.MethodError, match="101"):
        uh.integrate(large, METHOD)
    with pytest.raises(errors.MethodError, match="already"):
        add_family(FAMILY)
    with pytest.raises(errors.MethodError, match="there is a 'two-stage-2' already"):
        add_family(dataclasses.replace(FAMILY, name="another"), METHOD)
    with pytest.raises(errors.MethodError, match="no known family"):
        uh.integrate(large, TwoStage(family="unheard-of"))


def careless(method: TwoStage, demand: SetupRequest) -> WorkSpace:
    """Lay out what the method needs for one state less."""
    work = two_stage.lay_out(method, demand)
    return work._replace(bundle=work.bundle._replace(second=np.zeros(demand.n - 1)))


def test_a_family_that_lays_out_too_little_breaks_the_contract() -> None:
    method = TwoStage("careless-2", "careless")
    add_family(dataclasses.replace(FAMILY, name="careless", lay_out=careless), method)
    try:
        with pytest.raises(ContractError, match="beyond 'second' of Work"):
            arrays_are_respected(method)
    finally:
        del CATALOGUE[method.name], FAMILIES["careless"]


def test_problems_that_do_not_fit_are_left_out_and_every_shortfall_is_told() -> None:
    def no_events(method: TwoStage, problem: uh.Problem) -> str:
        return "it knows no events" if problem.events else ""

    def broken(method: TwoStage, demand: SetupRequest) -> WorkSpace:
        assert demand.problem is not None
        raise KeyError("work")

    for changes, words in (
        ({"fits": no_events}, ""),
        ({"fits": lambda method, problem: "it is for nothing"}, "fits none"),
        ({"lay_out": broken}, "start_is_kept: KeyError: 'work'"),
    ):
        FAMILIES[FAMILY.name] = dataclasses.replace(FAMILY, **changes)
        try:
            if words:
                with pytest.raises(ContractError, match=words):
                    check_method(METHOD)
            else:
                check_method(METHOD)
                with pytest.raises(errors.UnfitProblemError, match="it knows no events"):
                    uh.integrate(uh.Problem.from_text("x' = 1", initial={"x": 0}, interval=(0, 1),
                                                      events=[uh.Event("x = 0.5")]), METHOD)  # fmt: skip
        finally:
            FAMILIES[FAMILY.name] = FAMILY
