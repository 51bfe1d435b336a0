"""Observed orders, references that can be trusted, and certified digits."""

from __future__ import annotations

import math

import mpmath
import numpy as np
import pytest
from data.literature import REFERENCES, literature_problem
from representatives import general

import unhurried_heron as uh
from unhurried_heron.study.reference import References
from unhurried_heron.study.taylor import taylor_states
from unhurried_heron.text.certificate_document import certain_decimal

SWING = uh.Problem.from_text("x' = v\nv' = -x + 0.1*sin(t)*x*v", initial={"x": 1, "v": 0}, interval=(0, 6))


@pytest.mark.long
def test_every_method_shows_its_order() -> None:
    names = [each.name for each in general() if getattr(each, "fixed_steps", True) and each.name != "auto"]
    found = uh.convergence(SWING, names)
    report = {orders.method: orders for orders in found.orders}
    assert set(report) == set(names)
    # so high an order that two steps tell it, or stable for too few: no straight part, and it says so
    short = {"radau-iia-9", "radau-iia-13", "adams-bashforth-7", "adams-bashforth-8", "verner-98", "dormand-prince-853"}
    for name, orders in report.items():
        if math.isnan(orders.observed):
            assert name in short
            assert "no straight part" in str(orders)
        else:
            # its error constant is so small that the next term shows
            assert orders.observed == pytest.approx(orders.promised, abs=1.0 if orders.promised >= 6 else 0.35)
    table = found.frame()
    assert (table[table["straight"]].groupby("method").size() >= 3).all()
    assert "takes over" in str(report["gauss-6"])
    assert np.isnan(report["euler"].rounding_from)


def test_orders_are_those_of_the_errors() -> None:
    decay = uh.Problem.from_text("x' = -x", initial={"x": 1}, interval=(0, 1), exact={"x": "exp(-t)"}, units={"t": "h"})
    found = uh.convergence(decay, "heun-2", steps=["6 min", 0.05, 0.025])
    assert found.reference == "closed form of x"
    factor = 1 - 0.1 + 0.005
    assert found.rows[0]["error at end"] == pytest.approx(factor**10 - math.exp(-1), rel=1e-9)
    ratio = found.rows[0]["error at end"] / found.rows[1]["error at end"]
    assert found.rows[1]["order at end"] == pytest.approx(math.log2(ratio), rel=1e-12)
    # a step that is unstable has a row, and no order
    stiff = uh.convergence(uh.Problem.from_text("x' = -900*x", initial={"x": 1}, interval=(0, 5)), "euler", step=1)
    assert "not finite" in str(stiff)
    assert "no straight part" in str(stiff)
    for bad in ({"steps": [0.1]}, {"steps": [0.1, 0.2], "step": 1}, {"halvings": 0}, {"step": -1}):
        with pytest.raises(uh.OptionError):
            uh.convergence(decay, "heun-2", **bad)
    with pytest.raises(uh.MethodError, match="steps of its own"):
        uh.convergence(decay, "adams-variable")


def digits(value: object, truth: str) -> float:
    """How many digits of a value are right."""
    with mpmath.workdps(50):
        miss = abs(mpmath.mpf(value) - mpmath.mpf(truth)) / abs(mpmath.mpf(truth))
        return 40.0 if miss == 0 else float(-mpmath.log10(miss))


@pytest.mark.parametrize("name", ["logistic", "y_cos_t", "hull_a2", "sine_level"])
def test_taylor_series_have_thirty_digits(name: str) -> None:
    problem, known = literature_problem(name), REFERENCES[name]["reference"]
    times = sorted((t for t in known if 0 < float(t) <= problem.interval[1]), key=float)
    for time, row in zip(times, taylor_states(problem, [float(t) for t in times]), strict=True):
        for state, truth in known[time].items():
            assert digits(row[problem.states.index(state)], truth) > min(29.0, len(truth.strip("-0.")) - 2)


@pytest.mark.long
def test_taylor_series_of_every_function() -> None:
    formulas = (
        "exp(t/4)", "sin(t)*cos(t)", "tan(t/4)", "log(2 + t)", "sqrt(1 + t)", "tanh(t)", "asin(t/4)", "acos(t/4)",
        "atan(t)", "sinh(t)/4", "cosh(t)", "(1 + t)^2.5", "log10(3 + t)", "t^3 + 3*t", "2^t", "exp(sin(t))",
        "erf(t)", "erfc(t/2)", "expm1(t)/3", "log1p(t)", "cbrt(1 + t)",
        "1/(1 + t^2)^2", "(1 + t)^(-1.5)", "atan(sin(t) + t^2)", "tanh(exp(t/4))/(2 + t)", "(2 + sin(t))^t",
    )  # fmt: skip
    names = {name: getattr(mpmath, name) for name in dir(mpmath)}
    for formula in formulas:
        # what it comes to over the interval, by quadrature that shares nothing with the series
        problem = uh.Problem.from_text(f"x' = {formula} + 0*x", initial={"x": 0}, interval=(0, 1.5))
        (row,) = taylor_states(problem, [1.5])
        with mpmath.workdps(45):
            here = {**names}
            truth = mpmath.quad(lambda t, f=formula, n=here: eval(f.replace("^", "**"), {**n, "t": t}), [0, 0.75, 1.5])
            assert abs(row[0] - truth) < mpmath.mpf(10) ** -28 * (1 + abs(truth)), formula
    family = "u[i]' = sum(u[j]/(i + j) for j in 1..n) - u[i]*t for i in 1..n"
    many = uh.Problem.from_text(family, initial={"u": 1}, parameters={"n": 3}, interval=(0, 1))
    assert np.allclose(
        [float(x) for x in taylor_states(many, [1.0])[0]], [*uh.integrate(many, rtol=1e-12).final.values()]
    )
    for text, why in (("x' = abs(sin(t)) - x", "switch"), ("x' = atan2(x, 1 + t)", "atan2")):
        with pytest.raises(uh.OptionError, match=r"no Taylor series(.|\n)*" + why):
            taylor_states(uh.Problem.from_text(text, initial={"x": 1}, interval=(0, 9)), [9.0])


@pytest.mark.long
def test_errors_are_measured_as_far_as_references_agree() -> None:
    lorenz = uh.Problem.from_text(
        "x' = 10*(y - x)\ny' = x*(28 - z) - y\nz' = x*y - 8/3*z", initial={"x": 1, "y": 1, "z": 1}, interval=(0, 60)
    )
    found = uh.compare(lorenz, ["classical-rk-4", "dormand-prince-54"], rtol=1e-8)
    assert 20.0 < found.trusted_until < 45.0
    assert any("part beyond" in note for note in found.notes)
    # within, the errors are those of a far better solution
    times = References(lorenz, 1e-8).grid
    times = times[times <= min(found.trusted_until, 12.0)]
    truth = np.array([[float(x) for x in row] for row in taylor_states(lorenz, times[-1:], digits=20)])
    assert np.abs(uh.integrate(lorenz, "verner-98", rtol=1e-13).at(times[-1]) - truth[0]).max() < 1e-6
    assert (found.frame()["accepted"] > 1000).all()


@pytest.mark.long
def test_the_taylor_series_as_reference() -> None:
    found = uh.compare(SWING, ["heun-2", "verner-98"], rtol=1e-6, step=0.05, reference="taylor")
    assert found.certain
    assert found.disagreement is None
    assert set(found.frame()["reference"]) == {"Taylor series in 30 digits"}
    other = uh.compare(SWING, ["heun-2", "verner-98"], rtol=1e-6, step=0.05)
    assert found.frame()["largest error"].to_numpy() == pytest.approx(
        other.frame()["largest error"].to_numpy(), rel=1e-2
    )
    derivatives = [uh.convergence(SWING, "heun-2", step=0.1, halvings=3, reference=kind) for kind in ("taylor", None)]
    assert derivatives[0].reference == "Taylor series in 30 digits"
    assert derivatives[0].orders[0].observed == pytest.approx(derivatives[1].orders[0].observed, rel=1e-6)
    # where no reference can be had in the time given, the work is told all the same, and why no error is
    called = uh.Problem.from_rates(lambda t, x: [-x], initial={"x": 1}, interval=(0, 1))
    table = uh.compare(called, ["heun-2", "heun-3"], rtol=1e-3, reference="taylor", budget={"seconds": 5})
    assert table.frame()["largest error"].isna().all()
    assert (table.frame()["accepted"] > 0).all()
    assert "no reference solution could be had" in str(table).replace("\n", " ")
    with pytest.raises(uh.OptionError):
        uh.compare(called, "heun-2", rtol=1e-3, reference="taylor")
    with pytest.raises(uh.OptionError, match="no such reference"):
        uh.compare(SWING, "heun-2", reference="exact")


@pytest.mark.parametrize("name", REFERENCES)
def test_certified_digits_are_right(name: str) -> None:
    problem, known = literature_problem(name), REFERENCES[name]["reference"]
    times = {float(t): values for t, values in known.items()}
    inside = [t for t in times if min(problem.interval) <= t <= max(problem.interval)]
    for wanted in (5, 9):
        found = uh.certify(problem, wanted, at=inside)
        for row in found.rows:
            truth = times.get(row["time"], {}).get(row["state"])
            if truth is not None:
                miss = abs(mpmath.mpf(row["value"]) - mpmath.mpf(truth))
                assert miss <= row["error"], (wanted, row)
                # the digits of what is zero are those of its state's size
                allowed = 0.5 * mpmath.mpf(10) ** -row["digits"] * abs(mpmath.mpf(truth))
                assert row["digits"] == 0 or row["value"] == 0 or miss <= allowed, (wanted, row)
        # restricted three bodies lose seven digits on their way, and one state comes back to zero
        assert found.certified or (name, wanted) in {("arenstorf", 9), ("double_crossing", 9), ("e5", 9)}


def narrow(t: float, x: float, y: float) -> list[float]:
    return [1.0, math.exp(-(((x - 500.3) / 2e-4) ** 2))]


SEEN = {
    # a peak along a product of states, 2e-7 of the way wide
    "product": ("x' = v\nv' = 0\ny' = exp(-((x*v - 500.3)/0.0002)^2)", {"x": 0, "v": 1, "y": 0}, (0, 1000),
                2e-4 * math.sqrt(math.pi)),
    "at rest": ("x' = -x\ny' = -y*x", {"x": 1, "y": 0}, (0, 2), 0.0),
    "beside the path": ("x' = 1\ny' = exp(-((x + 1)/0.002)^2)", {"x": 0, "y": 0}, (0, 1000), 0.0),
    "members at rest": ("u[i]' = -u[i]*sum(u[k] for k in 1..3) for i in 1..3\ny' = u[2] + 2*u[1]",
                        {"u": [0, 0, 0], "y": 0}, (0, 1), 0.0),
    "falls to zero": ("y' = -2*t", {"y": 1}, (0, 1), 0.0),
    "comes round": ("y' = cos(t)", {"y": 0}, (0, 2*math.pi), 0.0),
}  # fmt: skip


@pytest.mark.parametrize("name", SEEN)
def test_what_is_certified_was_seen(name: str) -> None:
    text, initial, interval, truth = SEEN[name]
    found = uh.certify(uh.Problem.from_text(text, initial=initial, interval=interval), 6)
    assert found.certified, found
    [row] = [each for each in found.rows if each["state"] == "y"]
    assert abs(row["value"] - truth) <= row["error"]
    # nothing certified stands above a row without digits
    assert min(each["digits"] for each in found.rows) >= 6


@pytest.mark.parametrize(("argument", "zero"), [("y", True), ("y + t", True), ("y + 1 - t", False)])
def test_a_root_that_is_zero_at_the_start_has_more_than_one_solution(argument: str, zero: bool) -> None:
    found = uh.certify(uh.Problem.from_text(f"y' = 1 + sqrt({argument})", initial={"y": 0}, interval=(0, 1)), 6)
    assert ("is zero at the start" in found.reason, found.certified) == (zero, not zero)


@pytest.mark.parametrize("scale", [1e-6, 1.0, 1e6])
def test_an_end_by_an_event_is_certified_in_every_unit_of_time(scale: float) -> None:
    problem = uh.Problem.from_text(
        "x' = -x/scale", initial={"x": 1}, parameters={"scale": scale}, interval=(0, 9 * scale),
        events=[uh.Event("x = 0.5", stop=True)],
    )  # fmt: skip
    certificate = uh.certify(problem, 8)
    assert certificate.certified
    (row,) = certificate.rows
    assert row["time"] == pytest.approx(math.log(2) * scale, rel=1e-9)


def test_what_no_run_has_seen_is_not_certified() -> None:
    hidden = uh.Problem.from_text(
        "x' = 1\ny' = exp(-((sin(x)*x - 500.3)/2e-9)^2)*step(x - 600)", initial={"x": 0, "y": 0}, interval=(0, 1000)
    )
    of_two = uh.Problem.from_text(
        "x' = 1\ny[k]' = where(k < 2, 1, exp(-((sin(x)*x - 500.3)/2e-9)^2)*step(x - 600)) for k in 1..2",
        initial={"x": 0, "y[k]": 0}, interval=(0, 1000),
    )  # fmt: skip
    assert "'y[2]' was zero wherever" in uh.certify(of_two, 6).reason
    for problem in (hidden, uh.Problem.from_rates(narrow, initial={"x": 0, "y": 0}, interval=(0, 1000))):
        found = uh.certify(problem, 6)
        assert not found.certified
        assert "The rate of 'y' was zero wherever it was asked for" in found.reason
        assert [each["digits"] for each in found.rows if each["state"] == "y"] == [0]


@pytest.mark.long
def test_a_family_that_cannot_leaves_time_to_others() -> None:
    # a Jacobian by 300 differences, each for one state: the implicit pilot would take all of the time
    matrix = np.random.default_rng(0).normal(size=(300, 300)) / 20 - 2 * np.eye(300)
    dense = uh.Problem.from_rates(lambda t, y: matrix @ y, initial={f"y{k}": 1 for k in range(300)}, interval=(0, 4))
    assert uh.certify(dense, 5, seconds=30).certified


@pytest.mark.long
def test_what_cannot_be_certified_is_refused_with_its_reason() -> None:
    lorenz = uh.Problem.from_text(
        "x' = 10*(y - x)\ny' = x*(28 - z) - y\nz' = x*y - 8/3*z", initial={"x": 1, "y": 1, "z": 1}, interval=(0, 50)
    )
    chaos = uh.certify(lorenz, 6)
    assert not chaos.certified
    assert "grow" in chaos.reason
    assert "factor e" in chaos.reason
    assert uh.certify(lorenz, 6, at=[5]).frame().query("time == 5")["digits"].min() >= 6

    def kinked(t: float, x: float) -> list[float]:
        return [1.0 if math.sin(37.0 * t) > 0.3 else -x]

    jumps = uh.certify(uh.Problem.from_rates(kinked, initial={"x": 0.5}, interval=(0, 3)), 11, seconds=20)
    assert not jumps.certified
    assert "Not certified to 11 digits" in str(jumps)

    # a pulse that ten steps of either family would step over
    def pulse(t: float, x: float) -> list[float]:
        return [40.0 * math.exp(-((t - 6.18) ** 2) / 8e-4) - 1e-3 * x]

    found = uh.certify(uh.Problem.from_rates(pulse, initial={"x": 1}, interval=(0, 10)), 5)
    truth = math.exp(-0.01) + 40 * math.sqrt(math.pi * 8e-4) * math.exp(-3.82e-3)
    assert found.certified
    assert found.rows[-1]["value"] == pytest.approx(truth, rel=1e-5)
    assert "less than 0.0143 at a time could have been missed" in str(found).replace("\n", " ")
    rest = uh.Problem.from_text("x' = 0*x\ny' = 0*y", initial={"x": 1, "y": 0}, interval=(0, 1))
    rows = [line.split() for line in str(uh.certify(rest, 6)).splitlines()]
    assert [row[2] for row in rows if row[1:2] in (["x"], ["y"])] == ["1", "0"]
    assert [certain_decimal(0.3, 1), certain_decimal(0.3, 0)] == ["0.3", "–"]
    ends = uh.Problem.from_text("x' = x^2", initial={"x": 1}, interval=(0, 2))
    assert not uh.certify(ends, 6).certified
    assert "reached the end" in uh.certify(ends, 6).reason
    stop = ends.with_(events=[uh.Event("x = 4", stop=True)])
    assert uh.certify(stop, 8).certified
    assert uh.certify(stop, 8).rows[0]["time"] == pytest.approx(0.75, abs=1e-7)
    for bad in ({"digits": 0}, {"digits": 14}, {"at": [3]}):
        with pytest.raises(uh.OptionError):
            uh.certify(ends, **bad)
