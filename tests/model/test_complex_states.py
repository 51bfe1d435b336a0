"""Complex states: written, as functions and compiled, on every method, and back as complex numbers everywhere."""

from __future__ import annotations

import cmath
import pickle
from pathlib import Path
from typing import Any

import numba
import numpy as np
import pytest
from representatives import general, representatives

import unhurried_heron as uh
from unhurried_heron import errors
from unhurried_heron.figures.overlay import phase_record
from unhurried_heron.figures.records import states_record
from unhurried_heron.formulas.complex_parts import IMAGINARY_UNIT, parts_of
from unhurried_heron.formulas.evaluate import evaluate
from unhurried_heron.formulas.expression import Node, name
from unhurried_heron.formulas.operations import COMPLEX_FUNCTIONS, OPERATIONS
from unhurried_heron.formulas.parser import read
from unhurried_heron.formulas.source import Source
from unhurried_heron.methods.catalogue import find_method

OMEGA, K = 1.5, 2.0
START = 0.8 - 0.6j


def rate(t: float, z: complex, u: Any, k: float) -> tuple[Any, Any]:
    return 1j * OMEGA * z, 1j * k * u


def flat(t: float, y: Any, k: float) -> Any:
    return np.array([1j * OMEGA * y[0], 1j * k * y[1], 1j * k * y[2]])


TEXT = "z' = i*omega*z\nu[j]' = i*k*u[j] for j in 1..2"
GIVEN: dict[str, Any] = {"initial": {"z": START, "u": np.array([1.0, 2.0j])}, "interval": (0, 2)}
PROBLEMS = {
    "written": uh.Problem.from_text(TEXT, parameters={"omega": OMEGA, "k": K}, **GIVEN),
    "parts": uh.Problem.from_rates(rate, parameters={"k": K}, **GIVEN),
    "flat": uh.Problem.from_rates(flat, parameters={"k": K}, **GIVEN),
    "compiled": uh.Problem.from_rates(numba.njit(rate), parameters={"k": K}, **GIVEN),
    "compiled, flat": uh.Problem.from_rates(numba.njit(flat), parameters={"k": K}, **GIVEN),
}


EACH = [("written", method) for method in representatives(lambda method: method in general())]
EACH += [(problem, ("radau-iia-5", "dormand-prince-54")[k % 2]) for k, problem in enumerate(PROBLEMS)]


@pytest.mark.parametrize(("problem", "method"), EACH)
@pytest.mark.long
def test_every_method_turns_in_the_plane(problem: str, method: str) -> None:
    chosen = find_method(method)
    setting = {"rtol": 1e-6 if chosen.order > 2 else 1e-3} if chosen.adaptive else {"step": 0.01}
    run = uh.integrate(PROBLEMS[problem], method, **setting)
    allowed = 1e-3 if chosen.order > 2 else 0.2
    assert run.final["z"] == pytest.approx(START * cmath.exp(2j * OMEGA), rel=allowed)
    wanted = np.array([1.0, 2.0j]) * np.exp(1j * K * run.times)[:, None]
    assert run["u"] == pytest.approx(wanted, abs=2 * allowed)


ARGUMENTS = [(0.3 - 0.7j, 1.2 + 0.4j), (-0.8 + 0.1j, 0.5 - 1.1j)]
NAMED = {"asin": None, "atan": np.arctan, "abs": np.abs, "where": lambda c, x, y: x if c.real else y, "arg": np.angle,
         "re": np.real, "im": np.imag, "conj": np.conj, "neg": np.negative, "add": np.add, "mul": np.multiply,
         "div": np.divide, "pow": np.power, "implicit": np.positive}  # fmt: skip


@pytest.mark.parametrize("operation", [*(n for n, o in OPERATIONS.items() if o.parts != "none"), *COMPLEX_FUNCTIONS])
def test_parts_are_those_of_the_complex_value(operation: str) -> None:
    for a, b in ARGUMENTS:
        known = {"a": (name("a1"), name("b1")), "b": (name("a2"), name("b2"))}
        count = 1 if operation in COMPLEX_FUNCTIONS else OPERATIONS[operation].arguments[1] or 2
        operands = [name("a"), name("b")][:count]
        if operation == "where":
            operands = [Node("gt", name("c"), name("d")), *operands]
        real, imaginary = parts_of(Node(operation, *operands), lambda node, known=known: known.get(str(node.args[0])))  # type: ignore[misc]  # of now
        values = {"a1": a.real, "b1": a.imag, "a2": b.real, "b2": b.imag, "c": 1.0, "d": 0.0}
        exact = NAMED.get(operation) or getattr(np, operation, None)
        given = [1.0 + 0j, a, b] if operation == "where" else [a, b][:count]
        assert evaluate(real, values) + 1j * evaluate(imaginary, values) == pytest.approx(exact(*given), rel=1e-13)


@pytest.mark.parametrize(
    "text", ["z^3", "z^-2", "z^0.5", "2^z", "e^(i*z)", "abs(z)^4", "z*conj(z)", "sum(z^k for k in 1..3)"]
)
def test_what_is_written_is_what_is_meant(text: str) -> None:
    z = ARGUMENTS[0][0]
    known = {"z": (name("a"), name("b")), "i": IMAGINARY_UNIT}
    real, imaginary = parts_of(read(Source(text, "x")).node, lambda node: known.get(str(node.args[0])))
    found = evaluate(real, {"a": z.real, "b": z.imag}) + 1j * evaluate(imaginary, {"a": z.real, "b": z.imag})
    python = {"sum(z^k for k in 1..3)": "z + z**2 + z**3"}.get(text, text.replace("^", "**"))
    inside = {"z": z, "i": 1j, "e": np.e, "abs": abs, "conj": np.conj}
    assert found == pytest.approx(eval(python, inside), rel=1e-13)
    assert (imaginary.value == 0.0) == (text in ("abs(z)^4", "z*conj(z)"))


LATTICE = """
i*w' = -v
v' = w + re(b)
b' = -0.5*b
psi[j]' = i*(psi[j-1] - 2*psi[j] + psi[j+1])/h^2 for j in 1..n
psi[0] = 0
psi[n+1] = 0
norm = sum(abs(psi[j])^2 for j in 1..n)*h
q = b*psi[3]
"""


def lattice(**more: Any) -> uh.Problem:
    start = {"w": 0.5, "v": "1 + 0.5*i", "b": 2.0, "psi[j]": "sin(pi*j*h)*exp(3*i*j*h)"}
    return uh.Problem.from_text(LATTICE, initial=start, parameters={"n": 24, "h": 0.04}, interval=(0, 0.1), **more)


def test_what_is_complex_is_found_and_comes_back(tmp_path: Path) -> None:
    events = [uh.Event("re(v) = 1.1", name="turns", then="v = conj(v)*2")]
    problem = lattice(events=events, exact={"b": "b_0*exp(-t/2)"})
    # w turns complex by v, b stays real
    assert problem.model.complex_states.names == {"w", "v", "psi", "q"}
    run = uh.integrate(problem, "radau-iia-5", rtol=1e-8)
    assert run["norm"] == pytest.approx(run["norm"][0], rel=1e-6)
    assert run["psi"].shape == (run.times.size, 24)
    assert np.array_equal(run["q"], run["b"] * run["psi"][:, 2])
    assert run.at(0.05, ["b", "q"])[1] == pytest.approx(run.at(0.05, "b") * run.at(0.05, "psi[3]"), rel=1e-12)
    assert run.final["v"] == run["v"][-1] == run["re(v)"][-1] + 1j * run["im(v)"][-1]
    jump = run.events.iloc[0]
    assert jump["v after"] == pytest.approx(2 * np.conj(jump["v"]), rel=1e-14)
    # tables are of complex numbers, files of their parts
    frame = run.frame(exact=True)
    assert frame["psi[3]"].dtype == complex
    assert frame["b error"].abs().max() < 1e-7
    uh.write_csv(run, tmp_path / "run.csv")
    header = (tmp_path / "run.csv").read_text().partition("\n")[0]
    assert "re(v),im(v),b,re(psi[1]),im(psi[1])" in header
    assert "v            " in str(run)
    assert f"{run.final['v'].real:.8g} {'-' if run.final['v'].imag < 0 else '+'} " in str(run)
    assert pickle.loads(pickle.dumps(run)) == run


def test_a_file_keeps_complex_numbers(tmp_path: Path) -> None:
    problem = lattice().with_(initial={"w": 1.5 - 2j, "psi": np.linspace(0, 1, 24) * (1 + 1j), "psi[2]": 3j})
    problem.to_file(tmp_path / "p.toml")
    again = uh.Problem.from_file(tmp_path / "p.toml")
    assert again == problem
    assert again.initial["w"] == 1.5 - 2j
    assert again.initial["psi[2]"] == 3j
    assert problem.with_(initial={"re(w)": 4.0}).initial["w"] == 4 - 2j
    assert problem.with_(initial=problem.initial).start.tolist() == problem.start.tolist()


def test_what_is_computed_of_complex_states_is_known_elsewhere() -> None:
    """Real quantities of complex states are conserved, compared and measured in units; values go in and out."""
    problem = lattice(conserved=["norm", "re(psi[2])*0"], events=[uh.Event("norm = 9")])
    assert problem.conserved[0] == "norm"
    comparison = uh.compare(problem, ["radau-iia-5", "dormand-prince-54"], rtol=1e-6).frame()
    assert comparison["drift of norm"].max() < 1e-5
    by_value = problem.rates_at(0.0, problem.initial)
    flat, at = problem.rates_at(0.0, problem.start), problem.model.layout.pair("psi[4]")
    assert by_value["psi[4]"] == flat[at] + 1j * flat[at + 1]
    assert by_value.keys() == problem.initial.keys()
    assert "w, v, psi are complex" in str(uh.check(problem))
    wave = uh.Problem.from_text("w' = i*w", initial={"w": "1 + i"}, interval=(0, 1))
    assert "w is complex" in str(uh.check(wave))
    assert problem.rates_at(0.0, dict(zip(problem.states, problem.start, strict=True)))["re(w)"] == by_value["w"].real
    plane = phase_record([uh.integrate(problem, "radau-iia-5")], ["q"], [""])
    assert plane.labels == ("re(q)", "im(q)")
    with pytest.raises(uh.OptionError, match="no curves"):
        uh.draw_difference(*[uh.integrate(problem, "radau-iia-5", rtol=rtol) for rtol in (1e-4, 1e-5)], ["psi"])
    swing = {
        "initial": {"z": 1j},
        "parameters": {"k": 2},
        "interval": (0, 1),
        "units": {"t": "s", "z": "m", "k": "1/s"},
    }
    run = uh.integrate(uh.Problem.from_text("z' = i*k*z + k*conj(z)*re(z)/abs(z)", **swing))
    assert [run.unit_of(each) for each in ("abs(z)", "im(z)", "arg(z)", "re(z)*im(z)")] == ["m", "m", "", "m^2"]
    with pytest.raises(errors.UnitError, match="disagree"):
        uh.Problem.from_text("z' = i*k*arg(z)", **swing)


def test_figures_show_both_parts() -> None:
    run = uh.integrate(lattice(), "radau-iia-5")
    record = states_record(run, ["v", "psi"])
    assert [curve.label for _, curves in record.panels for curve in curves] == ["re(v)", "im(v)"]
    assert [each.label for each in record.maps] == ["re(psi)", "im(psi)"]
    assert record.maps[1].values[:, -1] == pytest.approx(run["psi"][-1].imag)
    plane = phase_record([run], ["v"], [""])
    assert plane.labels == ("re(v)", "im(v)")


REFUSED: dict[str, tuple[Any, str]] = {
    "no state": (lambda: uh.Problem.from_text("x' = i*x", initial={"x": 1}, interval=(0, 1)), "imaginary unit where"),
    "index": (lambda: uh.Problem.from_text("u[i]' = -u[i] for i in 1..3", initial={"u": "0.1*i"}, interval=(0, 1)),
              "not defined, but used in initial values: 'i'"),
    "function": (lambda: lattice().with_(equations=LATTICE + "m = max(v, 1)"), "'max' has no complex arguments"),
    "event": (lambda: lattice(events=[uh.Event("v = 1")]), "complex where a real number"),
    "sign": (lambda: lattice(never_negative=["v"]), "'v' is complex"),
    "finite": (lambda: lattice().with_(initial={"v": complex("nan")}), "not finite"),
    "shape": (lambda: lattice().with_(initial={"psi": np.ones(5) * 1j}), "another shape"),
    "condition": (lambda: lattice().with_(equations=LATTICE + "m = where(v, 1, 2)"), "a condition is complex"),
    "real rate": (lambda: uh.Problem.from_rates(lambda x, z: [1j, z], initial={"x": 1.0, "z": 1j}, interval=(0, 1)),
                  "for 'x' that does not fit"),
    "count": (lambda: uh.Problem.from_rates(lambda z: [z, z], initial={"z": 1j}, interval=(0, 1)), "not 1 number"),
    "energies": (lambda: uh.Problem.from_lagrangian("kinetic = x'^2/2\npotential = x^2", coordinates=["x"],
                                                    initial={"x": 1j, "x'": 0}, interval=(0, 1)), "real coordinates"),
}  # fmt: skip


@pytest.mark.parametrize("case", REFUSED)
def test_what_cannot_be_is_told(case: str) -> None:
    make, words = REFUSED[case]
    with pytest.raises(uh.HeronError, match=words):
        make()
