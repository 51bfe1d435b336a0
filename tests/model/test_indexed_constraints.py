"""Constraints over an index whose unknowns stand in the rates alone: ropes, nets and trains against closed forms."""

import numpy as np
import pytest

import unhurried_heron as uh
from unhurried_heron.errors import ConstraintError

ROPE = """
x[0] = 0
y[0] = 0
x[i]'' = -pull[i]*(x[i] - x[i-1]) + pull[i+1]*(x[i+1] - x[i]) for i in 1..n-1
y[i]'' = -pull[i]*(y[i] - y[i-1]) + pull[i+1]*(y[i+1] - y[i]) - g for i in 1..n-1
x[n]'' = -pull[n]*(x[n] - x[n-1])
y[n]'' = -pull[n]*(y[n] - y[n-1]) - g
(x[i] - x[i-1])^2 + (y[i] - y[i-1])^2 = 1 for i in 1..n
energy = sum((x[i]'^2 + y[i]'^2)/2 + g*y[i] for i in 1..n)
"""
# the same motion, its unknowns and equations counted otherwise
SHIFTED = ROPE.replace("pull[i]", "pull[i-1]").replace("pull[i+1]", "pull[i]").replace("pull[n]", "pull[n-1]")
SINGLE = ROPE.replace("1..n\nenergy", "2..n\nx[1]^2 + y[1]^2 = 1\nenergy")
BY_GAPS = ROPE.replace(
    "(x[i] - x[i-1])^2 + (y[i] - y[i-1])^2 = 1 for i in 1..n",
    "across[i] = x[i] - x[i-1] for i in 1..n\nup[i] = y[i] - y[i-1] for i in 1..n\n"
    "across[k]^2 + up[k]^2 - 1 = 0 for k in 1..n",
)
TRAIN = """
v[i]' = force[i] - force[i+1] - i*drag for i in 1..n
force[1] = power
force[n+1] = 0
0 = v[i] - v[i-1] for i in 2..n
"""
# a net that two rods turn, and what pulls along its threads: p along the first index, q along the second
RODS = """
x[0,j] = -j*sin(w*t) for j in 0..m
y[0,j] = j*cos(w*t) for j in 0..m
x[i,0] = i*cos(w*t) for i in 1..n
y[i,0] = i*sin(w*t) for i in 1..n
(x[i,j] - x[i-1,j])^2 + (y[i,j] - y[i-1,j])^2 = 1 for i in 1..n, j in 1..m
(x[i,j] - x[i,j-1])^2 + (y[i,j] - y[i,j-1])^2 = 1 for i in 1..n, j in 1..m
"""


def net():
    """Return the net: its nodes inside, at two edges and at the corner have four, three and two threads."""
    lines = [RODS]
    for z in "xy":
        for i, along in (("i", " + p[i+1,j]*(z[i+1,j] - z[i,j])"), ("n", "")):
            for j, across in (("j", " + q[i,j+1]*(z[i,j+1] - z[i,j])"), ("m", "")):
                ranges = [f"{index} in 1..{end}-1" for index, end in (("i", "n"), ("j", "m")) if index in (i, j)]
                pulls = "p[i,j]*(z[i-1,j] - z[i,j]) + q[i,j]*(z[i,j-1] - z[i,j])" + along + across
                line = f"z[i,j]'' = {pulls}".replace("z", z).replace("i,", f"{i},").replace(",j", f",{j}")
                line = line.replace("i-1", f"{i}-1").replace("j-1", f"{j}-1")
                lines.append(line + (" for " + ", ".join(ranges) if ranges else ""))
    return "\n".join(lines)


def turning(n, **more):
    """Return a straight rope that turns about its end: pull[i] is the sum of k from i to n."""
    start = {"x[i]": "i", "y[i]": 0, "x'[i]": 0, "y'[i]": "i"}
    return uh.Problem.from_text(ROPE, parameters={"n": n, "g": 0}, initial=start, interval=(0, 1.5), **more)


METHODS = ["auto", "verner-98", "adams-variable", "radau-iia-5", "backward-differentiation-variable"]
# at the tightest, corrections of stages are rounding
ROPES = [*((method, n, 1e-7) for method in METHODS for n in (2, 7, 40)), ("auto", 3, 1e-13), ("verner-98", 3, 1e-13)]


@pytest.mark.parametrize(("method", "n", "tolerance"), ROPES)
def test_a_rope_turns_as_its_closed_form(method, n, tolerance):
    problem = turning(n)
    run = uh.integrate(problem, method, rtol=tolerance, record=4)
    i, end = np.arange(1, n + 1), run.times[-1]
    assert run.times[-1] == 1.5
    pull = np.cumsum(i[::-1])[::-1]
    for label, wanted in (("x", i * np.cos(end)), ("y", i * np.sin(end)), ("pull", pull)):
        assert np.allclose(run[label][-1], wanted, rtol=0, atol=2e3 * tolerance * np.abs(wanted).max())
    missed = run.constraints["missed by"]
    assert len(missed) == 3
    assert (method != "auto") or "stability did not limit them" in run.method_selection
    assert missed[1:].max() < 1e-11 * n
    assert missed[0] < 1e4 * tolerance * n


@pytest.mark.parametrize("record", ["steps", 5, "on disk"])
def test_where_it_is_stiff_an_implicit_method_goes_on(record, tmp_path):
    """Friction against what turns with the rope limits an explicit method, and changes nothing."""
    text = ROPE.replace("(x[n] - x[n-1])\n", "(x[n] - x[n-1]) - drag*(x[n]' + y[n])\n")
    start = {"x[i]": "i", "y[i]": 0, "x'[i]": 0, "y'[i]": "i"}
    events = [uh.Event("x[5] = 0", "up"), uh.Event(every=1, name="often", then="g = g + 0")]
    problem = uh.Problem.from_text(
        text, parameters={"n": 5, "g": 0, "drag": 3e4}, initial=start, interval=(0, 3), events=events
    )
    if record == "on disk":
        # what is there is of one march
        assert uh.integrate(problem, rtol=1e-5, record=9, into=tmp_path / "rows.nc").method == "radau-iia-9"
        return
    run = uh.integrate(problem, rtol=1e-5, record=record, ledger=True)
    assert run.tally.changes == 1
    assert set(run.ledger["method"]) == {"verner-76", "radau-iia-9"}
    assert len(run.ledger) == run.tally.accepted + run.tally.refused
    assert run.events["name"].tolist() == ["often", "up", "often", "often"]
    assert run.events["time"][1] == pytest.approx(np.pi / 2, abs=1e-4)
    for each, end in ((run, 3), *([(run.extend(4), 4)] if record == "steps" else [])):
        assert np.allclose(each["x"][-1], np.arange(1, 6) * np.cos(end), atol=1e-3)
        assert np.allclose(each["pull"][-1], np.cumsum(np.arange(5, 0, -1))[::-1], atol=1e-2)
    if record == "steps":
        # steps of both methods, between their ends
        at = np.linspace(0, 3, 50)
        assert np.allclose(run.at(at, ["x[5]"])[:, 0], 5 * np.cos(at), atol=1e-3)
    short = uh.integrate(problem, rtol=1e-5, budget={"steps": run.tally.accepted + run.tally.refused - 5})
    assert short.ending.reason == "budget"
    assert short.tally.changes == 1


@pytest.mark.parametrize("text", [SHIFTED, SINGLE, BY_GAPS])
def test_however_it_is_counted_the_motion_is_the_same(text):
    given = {"parameters": {"n": 3, "g": 9.81}, "interval": (0, 2)}
    start = {"x[i]": "i", "y[i]": 0, "x'[i]": 0, "y'[i]": 0}
    runs = [uh.integrate(uh.Problem.from_text(each, initial=start, **given), "verner-98", rtol=1e-10, record=3)
            for each in (ROPE, text)]  # fmt: skip
    assert np.allclose(runs[0]["x"], runs[1]["x"], atol=1e-7)
    assert np.ptp(runs[1]["energy"]) < 1e-8


def test_a_train_is_pulled_by_its_couplings():
    train = uh.Problem.from_text(
        TRAIN, parameters={"n": 5, "power": 20, "drag": 0.4}, initial={"v[i]": 2}, interval=(0, 3)
    )
    assert "index 2, 1 degree of freedom" in str(uh.check(train))
    run = uh.integrate(train)
    speed_up = (20 - 0.4 * 15) / 5
    assert np.allclose(run["v"][-1], 2 + 3 * speed_up)
    behind = [sum(speed_up + 0.4 * k for k in range(i, 6)) for i in range(2, 6)]
    assert np.allclose(run["force"][-1], behind)


@pytest.mark.parametrize("method", ["auto", "dormand-prince-54"])
@pytest.mark.long
def test_a_net_turns_with_its_rods(method):
    start = {"x[i,j]": "i", "y[i,j]": "j", "x'[i,j]": "-w*j", "y'[i,j]": "w*i"}
    values = {"n": 4, "m": 3, "w": 0.7}
    run = uh.integrate(
        uh.Problem.from_text(net(), parameters=values, initial=start, interval=(0, 2)), method, rtol=1e-8
    )
    i, j = np.meshgrid(np.arange(1, 5), np.arange(1, 4), indexing="ij")
    assert np.allclose(run["x"][-1], i * np.cos(1.4) - j * np.sin(1.4), atol=1e-5)
    assert np.allclose(run["p"][-1], 0.49 * np.cumsum(i[::-1], axis=0)[::-1], atol=1e-4)
    assert np.allclose(run["q"][-1], 0.49 * np.cumsum(j[:, ::-1], axis=1)[:, ::-1], atol=1e-4)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (("= 1 for i in 1..n", "= 1 for i in 2..n"), "none is left for 1 members of 'pull'"),
        (("energy =", "x[n] + 0*x[1] = 2\nenergy ="), "none of 'pull' is left for this one"),
        (("(x[i] - x[i-1])^2 + (y[i] - y[i-1])^2", "0*x[i] + cos(t)"), "tells no unknown, however often"),
        (("= 1 for", "= 1 + 0.1*gust for"), "'gust' would have to be differentiated"),
    ],
)
def test_what_does_not_tell_its_unknowns_is_refused(change, words):
    given = {"parameters": {"n": 3, "g": 1}, "initial": {"x[i]": "i", "y[i]": 0, "x'[i]": 0, "y'[i]": 0}}
    wind = {"inputs": {"gust": uh.Measured([0, 1], [0, 1])}} if "gust" in words else {}
    with pytest.raises(ConstraintError, match=words):
        uh.Problem.from_text(ROPE.replace(*change), interval=(0, 1), **given, **wind)


GUSTS = ROPE.replace(" - g for i", " - g + where(t > 0.4, 3*sin(5*t), 0) - max(-y[i] - 1, 0) for i")
JUMPS = "x' = 1 - q\nq + q^3 = x + where(t > 0.4, 3, 0) + where(x > 1.05, -0.3, 0)"
MEASURED = "x' = 1 - q\nq + q^3 = x + gust"


@pytest.mark.parametrize("text", [GUSTS, JUMPS])
def test_beyond_a_jump_of_a_constraint_its_unknowns_are_those_of_the_other_side(text):
    start = {"x[i]": "i", "y[i]": 0, "x'[i]": 0, "y'[i]": 0} if text is GUSTS else {"x": 1}
    given = {"parameters": {"n": 3, "g": 9.81} if text is GUSTS else {}, "initial": start, "interval": (0, 1.2)}
    ends = [uh.integrate(uh.Problem.from_text(text, **given), method, rtol=1e-9).final
            for method in ("radau-iia-5", "verner-98", "dormand-prince-54", "adams-variable")]  # fmt: skip
    numbers = np.array([[*end.values()] for end in ends])
    assert np.allclose(numbers[0], numbers[1:], rtol=1e-5, atol=1e-6)


@pytest.mark.parametrize("interval", [(0, 1), (1, 0)], ids=["forward", "backward"])
@pytest.mark.parametrize("kind", ["previous", "linear", "cubic"])
def test_what_is_measured_in_a_constraint_is_followed(kind, interval):
    """Also from a row, and to one, beyond which there is another value."""
    gust = uh.Measured([0, 0.4, 0.7, 1], [1, 3, 0, 1], kind)
    text = MEASURED + " + where(x > 1, 0.1, 0)"
    problem = uh.Problem.from_text(text, initial={"x": 1}, interval=interval, inputs={"gust": gust})
    methods = ("lobatto-iiic-4", "auto", "verner-98", "adams-variable", "sdirk-43", "steinebach-54")
    runs = [uh.integrate(problem, method, rtol=1e-9, record=record) for method in methods for record in ("steps", 11)]
    ends = [run.final["x"] for run in runs]
    assert ends == pytest.approx([ends[0]] * len(ends), rel=1e-7)
    assert [run.constraints["missed by"].max() for run in runs] == pytest.approx([0.0] * len(runs), abs=1e-7)
