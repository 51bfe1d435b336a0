"""Sweeps: every member is what a run by itself is, bit for bit, whatever varies and however it marches."""

from __future__ import annotations

import pickle
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from representatives import representatives
from scipy import stats

import unhurried_heron as uh
from unhurried_heron.driver import members
from unhurried_heron.kernels.memory.sweep import COUNTED
from unhurried_heron.quiet import quietly

POND = """
level'   = (inflow - spill) / area
inflow   = base + swing * sin(2*pi*t/tide)
spill    = width * max(level - crest, 0)^1.5
"""
EVENTS = [uh.Event("level = crest", name="overtops"), uh.Event(every=24, name="drawn", then="level = level - dip")]


def pond(**changes) -> uh.Problem:
    given = {
        "parameters": {"area": "1800 m^2", "base": "90 m^3/h", "swing": "70 m^3/h", "width": "640 m^1.5/h",
                       "crest": "0.8 m", "tide": "12.4 h", "dip": "5 cm"},
        "initial": {"level": "0.4 m"}, "interval": (0, "72 h"), "events": EVENTS,
    }  # fmt: skip
    return uh.Problem.from_text(POND, **{**given, **changes})


def assert_members_are_runs(found: uh.Sweep, problem: uh.Problem, method: str = "auto", **options) -> None:
    rows = found.axes.coordinates()
    kinds = {each.label: (each.name, each.kind) for axis in found.axes.axes for each in axis.variations}
    flat = found.dataset.stack(each=found.axes.dimensions)
    events = found.events
    for k in range(len(found)):
        given: dict = {"parameters": {}, "initial": {}}
        interval, own = [*problem.interval], dict(options)
        for label, values in rows.items():
            name, kind = kinds[label]
            if kind == "option":
                own[name] = str(values[k]) if name == "method" else float(values[k])
            elif kind == "interval":
                interval[name == "end"] = float(values[k])
            else:
                given["parameters" if kind == "parameter" else "initial"][name] = float(values[k])
        own.setdefault("record", [interval[1]])
        with quietly():
            run = uh.integrate(problem, own.pop("method", method), interval=tuple(interval), **given, **own)
        every = {str(name): each for name, each in flat.data_vars.items() if "occurrence" not in each.dims}
        member = {name: each.values[..., k] for name, each in every.items()}
        assert member["ending"] == run.ending.reason.value
        assert member["ending_time"] == run.ending.time
        assert [member[f"tally_{name}"] for name in COUNTED] == [getattr(run.tally, name) for name in COUNTED]
        failed = not run.ending.as_requested
        assert (member["failure"] == run.ending.message) if failed else member["failure"] == ""
        for name in problem.states:
            assert np.isnan(member[f"final_{name}"]) if failed else member[f"final_{name}"] == run.final[name]
        for name in (*problem.states, *problem.derived) if options.get("record") else ():
            count = getattr(run.data.trajectory, "wanted", -1)
            kept = run[name] if count < 0 else run[name][:count]
            assert np.array_equal(member[name][: kept.size], kept), name
            assert np.isnan(member[name][kept.size :]).all()
        ours = events[events["member"] == k] if len(events) else events
        assert ours["time"].tolist() == run.events["time"].tolist()
        assert ours["name"].tolist() == run.events["name"].tolist()


@pytest.mark.parametrize("method", representatives(lambda each: each.order > 2))
def test_members_are_runs_by_every_method(method: str) -> None:
    over = {"base": ["60 m^3/h", 80, 100], "crest": ["70 cm", 0.9]}
    assert_members_are_runs(uh.sweep(pond(), over, method, record=9, rtol=1e-5), pond(), method, record=9, rtol=1e-5)


WAYS: dict = {
    "starts": {"over": {"level": [0.1, 0.5, "90 cm"], "swing": [0, 70]}},
    "rows": {"rows": pd.DataFrame({"level": [0.1, 0.2, 0.3], "tide": [12, 13, 24.0]})},
    "draws": {"draws": uh.Draws({"base": stats.norm(90, 9)}, 3, seed=1), "methods": ["auto", "rang-angermann-32"]},
    "tolerances": {"over": {"base": [90.0, 70.0]}, "rtol": [1e-4, 1e-8]},
    "intervals": {"over": {"end": ["1 d", 50.0], "start": [0, 3]}, "record": [3.0, 20.0, 40.0]},
}  # fmt: skip


@pytest.mark.parametrize("way", WAYS)
def test_members_are_runs_whatever_varies(way: str) -> None:
    given = {"record": 5, **WAYS[way]}
    found = uh.sweep(pond(), **given)
    if way == "intervals":
        with_end = found.dataset.sel(end=24.0, start=3.0)
        run = uh.integrate(pond(), interval=(3, 24), record=[3.0, 20.0])
        assert with_end["level"].values[:2].tolist() == run["level"].tolist()
        assert np.isnan(with_end["level"].values[2])
        assert_members_are_runs(uh.sweep(pond(), given["over"]), pond())
    else:
        options = {"record": 5} | {name: each for name, each in given.items() if name == "rtol" and way != "tolerances"}
        assert_members_are_runs(found, pond(), **options)


def test_members_that_fail_or_need_python_are_told_of() -> None:
    one = {"initial": {"x": 1.0}, "interval": (0, 2)}
    blows = uh.Problem.from_text("x' = k*x^2\nroot = sqrt(3 - x)", parameters={"k": 1.0}, **one)
    found = uh.sweep(blows, {"k": [0.1, 3.0, 0.2]}, record=5)
    assert found.dataset["ending"].values.tolist() == ["end", "step too small", "end"]
    assert "k" in found.frame().columns
    assert_members_are_runs(found, blows, record=5)
    assert "1 member failed" in " ".join(str(found).split())

    def rates(t: float, x: float, k: float) -> float:
        if k > 2:
            raise ValueError("too much")
        return -k * x

    function = uh.Problem.from_rates(rates, parameters={"k": 1.0}, **one)
    found = uh.sweep(function, {"k": [1.0, 3.0]}, measures="final(x)")
    assert found.dataset["ending"].values.tolist() == ["end", "error"]
    assert found.dataset["failure"].values.tolist() == ["", "ValueError: too much"]
    assert found.dataset["final_x"].values[0] == pytest.approx(np.exp(-2), rel=1e-5)
    assert np.isnan(found.dataset["final_x"].values[1])
    assert "marched one by one: the rates are a Python function" in " ".join(str(found).split())
    # what leads back to a switch slides, which a run by itself does
    slides = uh.Problem.from_text("x' = where(x > 0, -pull, 1)", parameters={"pull": 1.0}, **one)
    found = uh.sweep(slides, {"pull": [1.0, -1.0]}, record=4)
    assert [bool(each) for each in found.dataset["alone"].values] == [True, False]
    assert_members_are_runs(found, slides, record=4)


def test_measures_are_what_runs_answer() -> None:
    questions = {
        "peak": "largest(level) - crest", "low": "smallest(spill)", "mean_spill": "mean(spill)",
        "volume": "integral(spill)", "first": "time_of(overtops)", "many": "count(drawn)", "gap": "period(drawn)",
        "end": "final(level)*2", "steps": lambda run: run.tally.accepted,
    }  # fmt: skip
    quick = {name: each for name, each in questions.items() if isinstance(each, str)}
    over = {"base": [20.0, 80.0, 100.0]}
    slow, fast = uh.sweep(pond(), over, measures=questions), uh.sweep(pond(), over, measures=quick)
    assert set(slow.dataset["alone"].values) == {"a measure is a Python function"}
    assert set(fast.dataset["alone"].values) == {""}
    for name in quick:
        assert np.array_equal(slow.dataset[name], fast.dataset[name], equal_nan=True), name
    for k, base in enumerate(over["base"]):
        run = uh.integrate(pond(), parameters={"base": base})
        fine = run.at(np.linspace(0, 72, 20_001), ["level", "spill"])
        row = {name: float(slow.dataset[name][k]) for name in questions}
        assert row["peak"] == pytest.approx(fine[:, 0].max() - 0.8, abs=1e-6)
        assert row["low"] == pytest.approx(fine[:, 1].min(), abs=1e-6)
        assert row["volume"] == pytest.approx(72 * row["mean_spill"])
        assert (row["many"], row["gap"]) == (3, 24)
        overtops = run.events[run.events["name"] == "overtops"]["time"]
        assert row["first"] == overtops.iloc[0] if len(overtops) else np.isnan(row["first"])
        assert row["steps"] == run.tally.accepted
        assert row["end"] == 2 * run.final["level"]
    for bad in ("largest(lvl)", "level", "time_of(nothing)", "largest(level", "final(level) + unknown", 3):
        with pytest.raises(uh.HeronError):
            uh.sweep(pond(), over, measures=bad)


def test_one_member_is_a_run_with_its_steps() -> None:
    found = uh.sweep(pond(), {"base": [80, 100], "level": [0.2, 0.3]}, rtol=1e-6)
    run = found.run(base=80, level=0.3)
    assert run.final["level"] == found.dataset["final_level"].sel(base=80, initial_level=0.3).item()
    assert run.options["record"] == "steps"
    assert found.run(member=1).final == run.final
    for bad in ({"base": 80}, {"base": 81, "level": 0.2}, {"bas": 80}, {"member": 4}):
        with pytest.raises(uh.OptionError):
            found.run(**bad)
    units = {name: found.dataset[name].attrs.get("units") for name in ("base", "initial_level", "final_level")}
    assert units == {"base": "m^3/h", "initial_level": "m", "final_level": "m"}
    assert pond().fingerprint in found.dataset.attrs["history"]
    again = pickle.loads(pickle.dumps(found))
    assert again.dataset.identical(found.dataset)
    assert again.run(member=1).final == run.final


@pytest.mark.parametrize("kind", [".nc", ".zarr"])
def test_a_sweep_is_read_as_it_was_written(kind: str, tmp_path: Path) -> None:
    over = {"base": [80, 100], "level": ["20 cm", 0.3]}
    found = uh.sweep(pond(), over, record=4, rtol=1e-6, measures=["final(level)*2"], methods=["auto", "heun-3"])
    path = tmp_path / f"pond{kind}"
    for _ in range(2):
        # in the place of the first
        uh.write_sweep(found, path)
    again = uh.read_sweep(path)
    for name, each in found.dataset.variables.items():
        own = again.dataset[name]
        assert own.dims == each.dims
        assert own.attrs == each.attrs
        assert np.array_equal(own.values.astype(each.dtype), each.values, equal_nan=each.dtype.kind == "f"), name
    assert again.dataset.attrs == found.dataset.attrs
    assert (again.problem, again.axes.dimensions, again.method) == (found.problem, found.axes.dimensions, found.method)
    assert again.run(base=80, level=0.3, method="heun-3").final == found.run(base=80, level=0.3, method="heun-3").final
    assert str(again) == str(found)
    assert [each.name for each in tmp_path.iterdir()] == [path.name]


def test_tables_of_members_hold_every_digit(tmp_path: Path) -> None:
    found = uh.sweep(pond(), {"base": [80, 100]}, record=3)
    for recorded in (False, True):
        table = found.frame(recorded=recorded)
        uh.write_sweep(found, tmp_path / "pond.csv", recorded=recorded)
        uh.write_sweep(found, tmp_path / "pond.parquet", recorded=recorded)
        read = pd.read_csv(tmp_path / "pond.csv", dtype=str)
        assert [*read] == [*table]
        for name, column in table.select_dtypes("number").items():
            assert read[name].map(float).tolist() == column.tolist()
        assert pd.read_parquet(tmp_path / "pond.parquet").equals(table)
        assert len(table) == (6 if recorded else 2)
    (tmp_path / "other").write_text("x")
    (tmp_path / "full.zarr").mkdir()
    (tmp_path / "bad.nc").write_text("x")
    for bad in ("pond.xls", "none/pond.nc", "none/pond.zarr", "full.zarr", 3):
        with pytest.raises(uh.HeronError):
            uh.write_sweep(found, tmp_path / bad if isinstance(bad, str) else bad)  # type: ignore[arg-type]  # a path
    for bad in ("pond.csv", "bad.nc", "none.nc", "full.zarr"):
        with pytest.raises(uh.HeronError):
            uh.read_sweep(tmp_path / bad)
    function = uh.Problem.from_rates(lambda t, x, k: -k * x, parameters={"k": 1.0}, initial={"x": 1}, interval=(0, 1))
    with pytest.raises(uh.OptionError, match="Python functions"):
        uh.write_sweep(uh.sweep(function, {"k": [1.0]}), tmp_path / "f.nc")


def test_indexed_and_complex_states_have_dimensions_of_their_own() -> None:
    some = {"parameters": {"k": 1.0}, "interval": (0, 1)}
    row = uh.Problem.from_text("u[i]' = -k*i*u[i] for i in 0..2", initial={"u": 1}, **some)
    found = uh.sweep(row, {"k": [0.5, 1.0]}, record=3, rtol=1e-9).dataset
    assert found["u"].dims == ("k", "t", "u_1")
    assert found["u"].sel(k=0.5, t=1, u_1=2).item() == pytest.approx(np.exp(-1), rel=1e-7)
    turning = uh.Problem.from_text("z' = i*k*z", initial={"z": 1 + 0j}, **some)
    found = uh.sweep(turning, {"k": [2.0]}, record=3, rtol=1e-9).dataset
    assert found["re_z"].sel(k=2, t=1).item() == pytest.approx(np.cos(2), rel=1e-7)
    assert found["final_im_z"].sel(k=2).item() == pytest.approx(np.sin(2), rel=1e-7)


@pytest.mark.parametrize("design", ["independent", "latin-hypercube", "sobol"])
def test_draws_have_their_distributions(design: str) -> None:
    given = {"base": stats.norm(90, 5), "tide": stats.uniform(12, 1), "dip": stats.norm(0, 1)}
    draws = uh.Draws(given, 4096, seed=7, design=design, correlation={("base", "dip"): -0.6})
    for name, each in given.items():
        # the distance of a sample from its distribution, which is below this in 999 of 1000 samples
        assert stats.kstest(draws.values[name], each.cdf).statistic < 1.95 / np.sqrt(4096)
    assert np.corrcoef(draws.values["base"], draws.values["dip"])[0, 1] == pytest.approx(-0.6, abs=0.04)
    assert np.corrcoef(draws.values["base"], draws.values["tide"])[0, 1] == pytest.approx(0, abs=0.06)
    assert draws == uh.Draws(given, 4096, seed=7, design=design, correlation={("base", "dip"): -0.6})
    assert draws != uh.Draws(given, 4096, seed=8, design=design)


@pytest.mark.parametrize(
    "bad",
    [
        {"over": {"bas": [1, 2]}}, {"over": {"base": []}}, {"over": {"base": [1, 1]}}, {"over": {"base": "80"}},
        {"over": {"base": [1, None]}}, {"over": {"base": ["3 kg"]}}, {"over": 3}, {}, {"draws": {"base": 3}},
        {"rows": {"base": [1, 2], "level": [1]}}, {"over": {"base": [1]}, "rows": {"base": [1]}},
        {"over": {"base": [1]}, "record": "steps"}, {"over": {"end": [10.0]}, "record": 5},
        {"over": {"base": [1]}, "color": 1},
        {"over": {"base": [1]}, "threads": 0}, {"over": {"base": [1]}, "methods": ["heun-99"]},
        {"over": {"base": [1]}, "rtol": [1e-3, "x"]}, {"over": {"base": [1]}, "trace": True},
        {"rows": {"base": [1]}, "draws": uh.Draws({"base": stats.norm(1, 1)}, 2)},
    ],
)  # fmt: skip
def test_what_cannot_be_swept_is_refused(bad: dict) -> None:
    with pytest.raises(uh.HeronError):
        uh.sweep(pond(), **bad)


def test_figures_show_what_the_dataset_holds(tmp_path: Path) -> None:
    few = uh.sweep(pond(), {"base": [60.0, 90.0], "crest": [0.7, 0.9]}, record=7, measures="final(spill)")
    figure = uh.draw_sweep(few, "level")
    for panel, crest in zip(figure.axes, (0.7, 0.9), strict=True):
        assert panel.get_title(loc="right") == f"crest = {crest} m"
        for line, base in zip(panel.lines, (60.0, 90.0), strict=True):
            assert line.get_label() == f"base = {base:g} m^3/h"
            assert np.array_equal(line.get_ydata(), few.dataset["level"].sel(base=base, crest=crest))
    (mesh,) = [each for each in uh.draw_sweep(few).axes[0].collections if hasattr(each, "get_array")][:1]
    assert np.array_equal(
        np.asarray(mesh.get_array()).reshape(2, 2), few.dataset["final_spill"].transpose("crest", "base")
    )
    many = uh.sweep(pond(), {"base": np.linspace(60, 120, 12)}, record=7, measures="final(spill)")
    assert [len(ax.lines) for ax in uh.draw_sweep(many, "level").axes] == [12, 0]
    (line,) = uh.draw_sweep(many, "final(spill)").axes[0].lines
    assert np.array_equal(line.get_ydata(), many.dataset["final_spill"])
    draws = uh.sweep(pond(), draws=uh.Draws({"base": stats.norm(90, 9)}, 40, seed=2), record=7)
    (line,) = uh.draw_sweep(draws, "level").axes[0].lines
    assert line.get_ydata() == pytest.approx(np.median(draws.dataset["level"], axis=0))
    for bad in ({"quantity": "depth"}, {"by": "tide"}):
        with pytest.raises(uh.OptionError):
            uh.draw_sweep(few, **bad)


def test_indices_are_those_of_closed_forms() -> None:
    """Ishigami's function (1990), whose indices are known; and a sum, in which nothing acts together."""
    a, b = 7.0, 0.1
    wave = uh.Problem.from_text(
        "y' = sin(p) + a*sin(q)^2 + b*r^4*sin(p)", initial={"y": 0}, interval=(0, 1),
        parameters={"a": a, "b": b, "p": 0.0, "q": 0.0, "r": 0.0},
    )  # fmt: skip
    uniform = stats.uniform(-np.pi, 2 * np.pi)
    draws = uh.Draws({"p": uniform, "q": uniform, "r": uniform}, 2048, seed=5, design="paired")
    found = uh.sobol_indices(uh.sweep(wave, draws=draws, measures="2*final(y)"), "2*final(y)")
    alone = [0.5 * (1 + b * np.pi**4 / 5) ** 2, a**2 / 8, 0.0]
    both = b**2 * np.pi**8 * (1 / 18 - 1 / 50)
    variance = sum(alone) + both
    assert found.variance == pytest.approx(4 * variance, rel=0.02)
    assert found.mean == pytest.approx(2 * a / 2, rel=0.02)
    assert found.first == pytest.approx(np.array(alone) / variance, abs=0.02)
    assert found.total == pytest.approx((np.array(alone) + [both, 0, both]) / variance, abs=0.02)
    # a mean that is large beside what varies changes no share
    lifted = uh.sobol_indices(uh.sweep(wave, draws=draws, measures="2*final(y) + 1e4"), "2*final(y) + 1e4")
    assert lifted.first == pytest.approx(found.first, abs=1e-3)
    for low_high, exact in zip(found.first_interval, np.array(alone) / variance, strict=True):
        assert low_high[0] - 0.01 < exact < low_high[1] + 0.01
        assert low_high[1] - low_high[0] < 0.15
    assert "2,048 draws" in str(found)
    assert found == pickle.loads(pickle.dumps(found))
    plain = uh.sweep(wave, draws=uh.Draws({"p": uniform, "q": uniform}, 12))
    for sweep, quantity in ((plain, "final_y"), (uh.sweep(wave, draws=draws), "final_x"),
                            (uh.sweep(wave, {"p": [1, 2]}), "final_y")):  # fmt: skip
        with pytest.raises(uh.OptionError):
            uh.sobol_indices(sweep, quantity)


def test_what_needs_a_run_by_itself_has_one() -> None:
    """Quantities of steps that follow from parameters which events change, and budgets of seconds."""
    siphon = uh.Problem.from_text(
        "level' = inflow - out\nout = primed*pipe*sqrt(level)", parameters={"inflow": 0.1, "pipe": 0.4, "primed": 0},
        initial={"level": 0.6}, interval=(0, 40),
        events=[uh.Event("level >= 1.1", name="starts", then="primed = 1"),
                uh.Event("level <= 0.35", name="breaks", then="primed = 0")],
    )  # fmt: skip
    found = uh.sweep(siphon, {"inflow": [0.05, 0.1]}, record=30)
    assert_members_are_runs(found, siphon, record=30)
    assert set(found.dataset["alone"].values) == {""}
    steps = uh.sweep(siphon, {"inflow": [0.1]}, measures="mean(out)").dataset["alone"].values
    assert set(steps) == {"a quantity of steps follows from parameters that events change"}
    timed = uh.sweep(pond(), {"base": [90.0]}, budget={"seconds": 60})
    assert timed.dataset["alone"].values.tolist() == ["a budget of seconds is for one run"]
    few = uh.sweep(pond(), {"base": [90.0, 60.0]}, budget={"steps": 9})
    assert set(few.dataset["ending"].values) == {"budget"}


@pytest.mark.parametrize("method", representatives(lambda each: each.order > 2))
def test_measures_in_the_loop_are_those_of_runs(method: str) -> None:
    wanted = [
        "largest(level)",
        "smallest(spill)",
        "mean(spill)",
        "integral(abs(level - crest))",
        "largest(spill*sin(t))",
    ]
    for interval in ((0, 30), (30, 0)):
        problem = pond(interval=interval, initial={"level": "0.7 m"})
        found = uh.sweep(problem, {"base": [60.0, 90.0]}, method, measures=wanted, rtol=1e-5)
        assert set(found.dataset["alone"].values) == {""}
        for k in range(2):
            run = found.run(member=k)
            assert [float(found.dataset[each.name][k]) for each in found.measures] == [
                each.of(run) for each in found.measures
            ]


def test_parameters_that_events_change_reach_all_quantities() -> None:
    for interval in ((0, 20), (20, 0)):
        gate = uh.Problem.from_text(
            "level' = way*(inflow - gate*out*level)\nflow = gate*out*level\nspare = high - inflow",
            parameters={"inflow": 0.5, "out": 1.0, "gate": 0, "high": 2.0, "way": 1 if interval[1] else -1},
            initial={"level": 0.5}, interval=interval,
            events=[uh.Event("level >= high", name="opens", then="gate = 1"),
                    uh.Event("level <= 1", name="shuts", then="gate = 0"),
                    uh.Event(at=[5, 10], name="rain", then="inflow = 1.1*inflow"),
                    uh.Event("level = 1.5", name="half")],
        )  # fmt: skip
        over = {"out": np.linspace(0.8, 2, 7), "gate": [0, 1], "inflow": [0.3, 0.5]}
        found = uh.sweep(gate, over, record=41, measures=["final(flow)", "final(inflow*spare)"])
        assert set(found.dataset["alone"].values.ravel()) == {""}
        assert_members_are_runs(found, gate, record=41)
        for member in (0, 9, 27):
            final = found.run(member=member).final
            row = {name: each.values.ravel()[member] for name, each in found.dataset[["final_flow"]].items()}
            assert row["final_flow"] == final["flow"]


@pytest.mark.parametrize("method", ["classical-rk-4", "heun-2", "dormand-prince-54", "euler"])
def test_members_in_lockstep_are_those_that_march_by_themselves(method: str, monkeypatch: pytest.MonkeyPatch) -> None:
    marched: list[int] = []
    monkeypatch.setattr("unhurried_heron.driver.lockstep._SLICE", 70)
    together = members.march_in_lockstep

    def counted(*given) -> np.ndarray:
        marched.append(len(given[2]))
        return together(*given)

    monkeypatch.setattr(members, "march_in_lockstep", counted)
    text = "x' = s*(y - x)\ny' = x*(r - z) - y + sin(3*t)\nz' = -(follows*z - x*y) + exp(-x^2/99)"
    fixed: dict = {"count": 300}
    for interval, rs in (((0, 2), (20, 30)), ((2, 1.6), (20, 30)), ((1000, 1001.5), (20, 30)), ((0, 2), (20, 5e4))):
        problem = uh.Problem.from_text(text, parameters={"s": 10, "r": 28, "follows": "r/12"}, interval=interval,
                                       initial={"x": 1, "y": 1, "z": 1})  # fmt: skip
        found = []
        for worth in (0, np.inf):
            monkeypatch.setattr("unhurried_heron.driver.lockstep.WORTH_STEPS", worth)
            # not a whole number of groups, on two threads
            over = {"r": np.linspace(*rs, 75), "x": [1.0, 2.0]}
            found.append(uh.sweep(problem, over, method, record=2, threads=2, **fixed).dataset)
        for name in found[0].data_vars:
            assert np.array_equal(found[0][name], found[1][name], equal_nan=found[0][name].dtype.kind == "f"), name
        # the last step is shorter than the others
        fixed = {"step": 0.0067} if "count" in fixed else {"count": 300}
        # of a group in which one overflows, all march by themselves
        fails = (found[0]["ending"] != "end").any()
        assert bool(fails) is (rs[1] > 100)
    assert len(marched) == 4


def test_measures_hold_against_what_is_known() -> None:
    swing = uh.Problem.from_text("x' = v\nv' = -x", initial={"x": 0, "v": 1}, interval=(0, 5 * np.pi))
    exact = {
        "largest(x)": 1, "smallest(2*x - 1)": -3, "integral(x^2)": 2.5 * np.pi, "mean(abs(x))": 2 / np.pi,
        "largest(exp(-1e4*(x - 0.5)^2))": 1, "smallest(abs(v - 0.3))": 0, "integral(1/(x - x))": np.nan,
        "largest(3)": 3, "integral(where(t < 1, 5, 0))": 5, "largest(where(t < 1, 5, 0)*t)": 5, "largest(log(x))": 0,
    }  # fmt: skip
    data = uh.sweep(swing, {"x": [0.0]}, "dormand-prince-853", measures=list(exact), rtol=1e-12).dataset
    for text, value in exact.items():
        (name,) = [each for each in data.data_vars if data[each].attrs.get("long_name") == text]
        assert float(data[name][0]) == pytest.approx(value, rel=1e-7, abs=1e-7, nan_ok=True), text
    # of two sides of a jump, and of what follows from parameters that events change
    gated = uh.Problem.from_text("x' = rate\nflow = rate*x", initial={"x": 0}, parameters={"rate": 1}, interval=(0, 3),
                                 events=[uh.Event(at=2, then=["rate = -1", "x = 5"])])  # fmt: skip
    for k, text in enumerate(("largest(x)", "largest(flow)", "smallest(flow)", "integral(flow)")):
        found = uh.sweep(gated, {"x": [0.0]}, measures=text).dataset
        assert bool(found["alone"].values[0]) is (k > 0)
        assert float(found[next(n for n in found.data_vars if "flow" in n or "largest" in n)][0]) == pytest.approx(
            (5, 2, -5, -2.5)[k])  # fmt: skip


def test_measures_have_units_where_they_are_known() -> None:
    asks = ["final(level)", "integral(level)", "time_of(overtops)", "count(overtops)", "final(level)*2"]
    data = uh.sweep(pond(), {"base": [90.0]}, measures=asks).dataset
    units = [data[name].attrs.get("units") for name in ("final_level", "integral_level", "time_of_overtops")]
    assert units == ["m", "m*h", "h"]
    assert not {"units"} & {*data["count_overtops"].attrs, *data["final_level_2"].attrs}


def test_indices_leave_out_draws_of_which_a_member_failed() -> None:
    blows = uh.Problem.from_text("x' = k*x^2 + c", parameters={"k": 0.1, "c": 0.0}, initial={"x": 1.0}, interval=(0, 1))
    draws = uh.Draws({"k": stats.uniform(0, 1.05), "c": stats.uniform(0, 0.1)}, 64, design="paired")
    swept = uh.sweep(blows, draws=draws)
    failed = ~np.isfinite(swept.dataset["final_x"].values.reshape(4, 64)).all(axis=0)
    found = uh.sobol_indices(swept, "final_x")
    assert 0 < failed.sum() == found.left_out
    assert found.count == 64 - failed.sum()
    assert np.isfinite(found.total).all()
