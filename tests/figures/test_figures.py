"""Figures: what they show is right, and nothing global changes."""

from __future__ import annotations

import wave
from pathlib import Path

import matplotlib
import numpy as np
import pytest
from matplotlib.figure import Figure

import unhurried_heron as uh
from unhurried_heron.figures.field import field_record
from unhurried_heron.figures.records import states_record, steps_record


@pytest.fixture
def chain() -> uh.Problem:
    return uh.Problem.from_text(
        "algae' = growth*algae*(1 - algae/8)\nlight' = -light\nshade = 2*algae",
        initial={"algae": 1, "light": 3},
        parameters={"growth": 1.5},
        interval=(0, 6),
        units={"t": "d", "algae": "mmol/m^3", "light": "W/m^2", "shade": "W/m^2"},
        check_units=False,
        events=[uh.Event("algae = 4", name="half")],
        title="Chain",
    )


def test_states_by_unit(chain: uh.Problem) -> None:
    run = uh.integrate(chain)
    record = states_record(run, ["algae", "light", "shade"])
    assert [[curve.label for curve in curves] for _, curves in record.panels] == [
        ["algae"],
        ["light", "shade"],
    ]
    algae = record.panels[0][1][0]
    assert algae.x.size >= 600
    assert np.allclose(algae.y, 8 / (1 + 7 * np.exp(-1.5 * algae.x)), atol=1e-5)
    before = dict(matplotlib.rcParams)
    figure = uh.draw_states(run, ["algae", "light", "shade"])
    assert [ax.get_ylabel() for ax in figure.axes] == ["algae [mmol/m^3]", "[W/m^2]"]
    assert figure.axes[-1].get_xlabel() == "time [d]"
    assert "half" in [text.get_text() for text in figure.axes[0].get_legend().get_texts()]
    assert dict(matplotlib.rcParams) == before


def test_small_curves_are_seen_beside_large_ones() -> None:
    problem = uh.Problem.from_text(
        "a' = 0\nb' = 0\nc' = cos(t)\nd' = 0*d",
        initial={"a": 1000, "b": 90, "c": 1e-3, "d": 0},
        interval=(0, 1),
    )
    run = uh.integrate(problem)
    split = states_record(run, split_sizes=True)
    assert [[curve.label for curve in curves] for _, curves in split.panels] == [["a", "b"], ["c"], ["d"]]
    assert len(states_record(run).panels) == 1
    assert len(uh.draw_states(run).axes) == 3


def test_axes_of_the_caller(chain: uh.Problem) -> None:
    run = uh.integrate(chain)
    mine = Figure()
    axes = mine.subplots(2, 1)
    assert uh.draw_states(run, axes=axes) is mine
    assert axes[0].lines
    with pytest.raises(uh.OptionError, match="do not fit"):
        uh.draw_states(run, axes=axes[0])
    for wrong in (("run",), (run, 5)):
        with pytest.raises(uh.OptionError, match="cannot be drawn"):
            uh.draw_states(*wrong)
    with pytest.raises(uh.RunError, match="did you mean 'algae'"):
        uh.draw_states(run, ["alga"])


def test_steps_and_work(chain: uh.Problem) -> None:
    run = uh.integrate(chain, starting_step=3.0)
    record = steps_record(run)
    assert (record.accepted.x.size, record.refused.x.size) == (run.tally.accepted, run.tally.refused)
    assert run.tally.refused > 0
    assert uh.draw_steps(run).axes[0].get_yscale() == "log"
    comparison = uh.compare(chain, ["heun-2", "adams-pece-2", "radau-iia-5"], rtol=[1e-3, 1e-5])
    (work,) = comparison.document().pictures
    assert [series.label for series in work.series] == ["heun-2", "radau-iia-5"]
    assert len(work.missing) == 2
    assert "adams-pece-2" in work.missing[0]
    assert (np.diff(work.series[0].y) < 0).all()
    orders = uh.convergence(chain, ["heun-2", "radau-iia-5"], halvings=3)
    for picture, figure in (
        (work, uh.draw_work(comparison)),
        (orders.document().pictures[0], uh.draw_convergence(orders)),
    ):
        drawn = {line.get_label(): line for line in figure.axes[0].lines}
        assert all(drawn[each.label].get_xdata().tolist() == list(each.x) for each in picture.series)
        assert all(drawn[each.label].get_ydata().tolist() == list(each.y) for each in picture.series)
        assert (figure.axes[0].get_title(loc="left"), figure.axes[0].get_xlabel()) == (picture.title, picture.x_label)
    assert len(uh.draw_work(comparison, work="seconds").axes[0].lines) == 3
    with pytest.raises(uh.RunError):
        uh.draw_work(comparison, work="money")
    # two references tell how far down errors mean something, a closed form needs no such line
    assert len(uh.draw_work(comparison).axes[0].lines) == 3
    exact = uh.Problem.from_text("x' = -x", initial={"x": 1}, interval=(0, 3), exact={"x": "exp(-t)"})
    assert len(uh.draw_work(uh.compare(exact, ["heun-2", "radau-iia-5"], rtol=[1e-3, 1e-5])).axes[0].lines) == 2


def test_figures_show_what_was_computed() -> None:
    swing = uh.Problem.from_text("x' = v\nv' = -x", initial={"x": 1, "v": 0}, interval=(0, 12))
    coarse = uh.integrate(swing, "heun-2", step=1.2)
    (_, (curve, _)), *_ = states_record(coarse).panels
    assert curve.dots
    assert np.array_equal(curve.x, coarse.times)
    assert np.array_equal(curve.y, coarse["x"])
    line = uh.draw_states(coarse).axes[0].lines[0]
    assert line.get_marker() == "o"
    # polynomials that go where the points go are drawn, and those of an adaptive run always
    for run in (uh.integrate(swing, "classical-rk-4", step=0.1), uh.integrate(swing, rtol=1e-3)):
        (_, (curve, _)), *_ = states_record(run).panels
        assert not curve.dots
        assert curve.x.size >= 600
        assert np.abs(curve.y - np.cos(curve.x)).max() < 0.02


def test_colours_follow_the_order_said() -> None:
    def colours(small: float) -> dict[str, str]:
        problem = uh.Problem.from_text(
            "a' = -a\nb' = -b\nc' = -c", initial={"a": small, "b": 1, "c": 9}, interval=(0, 1)
        )
        figure = uh.draw_states(uh.integrate(problem))
        return {line.get_label(): line.get_color() for ax in figure.axes for line in ax.lines}

    assert colours(1e-4) == colours(100.0)
    assert list(colours(1e-4)) == ["a", "b", "c"]


def test_two_runs_on_one_pair_of_axes(chain: uh.Problem) -> None:
    figure = Figure()
    axes = figure.subplots()
    for method in ("dormand-prince-54", "radau-iia-5", "radau-iia-5"):
        uh.draw_states(uh.integrate(chain, method), ["algae"], axes=axes)
    lines = [line for line in axes.lines if line.get_label().startswith("algae")]
    assert len({line.get_label() for line in lines}) == len({line.get_color() for line in lines}) == 3
    assert lines[2].get_label() == "algae, radau-iia-5 (2)"
    pair = Figure().subplots()
    plain = uh.Problem.from_text("a' = -a\nb' = -b", initial={"a": 1, "b": 2}, interval=(0, 1))
    for _ in range(2):
        uh.draw_states(uh.integrate(plain), axes=pair)
    curves = [line for line in pair.lines if not line.get_label().startswith("_")]
    assert len({line.get_color() for line in curves}) == len(curves) == 4
    # inside the axes: beside them, on a figure of the caller's, it would be cut off
    figure.canvas.draw()
    assert axes.bbox.contains(*axes.get_legend().get_window_extent().get_points().mean(axis=0))


@pytest.mark.parametrize("ends", [(0, 4), (4, 0), (1000, 1004)])
@pytest.mark.parametrize("time", [2, 0.001, 3.9999])
def test_a_jump_is_drawn_as_a_jump(time: float, ends: tuple[float, float]) -> None:
    text = f"x' = flow\nflow = where(t - {min(ends)} < {time}, 1, -3)"
    problem = uh.Problem.from_text(text, initial={"x": 0}, interval=ends)
    _, (_, (curve,)) = (None, states_record(uh.integrate(problem), ["flow"]).panels[0])
    between = np.flatnonzero(np.diff(curve.y))
    assert between.size == 1
    assert curve.x[between[0] + 1] - curve.x[between[0]] < 1e-8


def test_what_cannot_be_drawn_is_refused(chain: uh.Problem) -> None:
    run = uh.integrate(chain)
    later = uh.integrate(chain, interval=(7, 9))
    flat = Figure().subplots()
    refused = {
        "this has no direction field": lambda: uh.draw_field(run, window=((0, 1), (0, 1))),
        "'algea'; did you mean 'algae'": lambda: uh.draw_field(chain, ["algea", "light"], window=((0, 1), (0, 1))),
        "two axes": lambda: uh.draw_field(chain, ["light", "t"], window=((0, 1), (0, 1))),
        "no window": lambda: uh.draw_field(chain, window=((0, 1), (3, 2))),
        "this is no number": lambda: uh.draw_field(chain, window=((0, 1), (0, 1)), at="noon"),
        "a Run, or a list of them": lambda: uh.draw_field(chain, window=((0, 1), (0, 1)), runs=[3]),
        "there is no state '5'": lambda: uh.draw_field(chain, 5, window=((0, 1), (0, 1))),
        "these are no levels": lambda: uh.draw_states(run, levels=0.8),
        "each run needs one label": lambda: uh.draw_states(run, labels=5),
        "this makes no sound": lambda: uh.write_sound(run, 5, "five.wav"),
        "this number of arrows": lambda: uh.draw_field(chain, window=((0, 1), (0, 1)), arrows=1),
        "makes no sound": lambda: uh.write_sound(uh.integrate(chain, initial={"algae": 8}), "algae", "still.wav"),
        "needs a length": lambda: uh.write_sound(run, "algae", "none.wav", seconds=0),
        "a Run, or a list": lambda: uh.draw_states([run, 3]),
        "1 texts": lambda: uh.draw_states(run, labels=["a", "b"]),
        "no panel": lambda: uh.draw_states(run, ["algae"], levels={"deep": "3 m"}),
        "no time in common": lambda: uh.draw_difference(run, later),
        "two or three": lambda: uh.draw_phase(run, "algae"),
        "beside a curve of three": lambda: uh.draw_phase(run, "algae", "light", projections=True),
        "three dimensions": lambda: uh.draw_phase(run, "algae", "light", "shade", axes=flat),
        "do not fit": lambda: uh.draw_phase(run, "algae", "light", axes=[flat, flat]),
    }
    for words, draws in refused.items():
        with pytest.raises(uh.OptionError, match=words):
            draws()
    with pytest.raises(uh.RunError, match="'algea'; did you mean 'algae'"):
        uh.draw_phase(run, "algea", "light")


def test_a_field_shows_the_rates() -> None:
    spiral = uh.Problem.from_text(
        "x' = y - x/4\ny' = sqrt(1 - x^2) - 1 - x\nz' = -z", initial={"x": 0, "y": 1, "z": 2}, interval=(0, 9)
    )
    plain = uh.Problem.from_rates(
        lambda x, y, z: [y - x / 4, np.sqrt(1 - x**2) - 1 - x, -z],
        initial={"x": 0, "y": 1, "z": 2}, interval=(0, 9),
    )  # fmt: skip
    window = ((-2, 1), (-1, 1))
    with np.errstate(all="ignore"):
        for problem in (spiral, plain):
            record = field_record(
                problem, ["x", "y"], window, [uh.integrate(spiral, initial={"y": 0.5})], 7, nullclines=True, at=0.0
            )
            x, y = np.meshgrid(record.x, record.y)
            assert record.along_x == pytest.approx(np.where(np.abs(x) > 1, record.along_x, y - x / 4), nan_ok=True)
            assert record.along_y == pytest.approx(np.sqrt(1 - x**2) - 1 - x, nan_ok=True)
            assert record.speed == pytest.approx(np.hypot(record.along_x / 3, record.along_y / 2), nan_ok=True)
            label, curve = record.curves[0]
            assert label == "x from 0, y from 0.5"
            assert curve[0].tolist() == [0, 0.5]
    tide = uh.Problem.from_text("h' = cos(t) - h", initial={"h": 0}, interval=(0, 9), units={"t": "h", "h": "m"},
                                check_units=False)  # fmt: skip
    record = field_record(tide, ["t", "h"], ((0, "2 h"), ("-50 cm", 1)), [], 5, nullclines=False, at=0.0)
    assert record.labels == ("time [h]", "h [m]")
    assert record.along_y == pytest.approx(np.cos(record.x) - record.y[:, None])
    assert (record.along_x == 1).all()
    figure = uh.draw_field(spiral, window=window, nullclines=True, runs=[uh.integrate(spiral, initial={"y": 0.5})])
    shown = figure.axes[0].get_legend_handles_labels()[1]
    assert shown == ["x stands still", "y stands still", "x from 0, y from 0.5"]
    arrows = figure.axes[0].collections[0]
    # all of one length on the page, where there are any
    lengths = np.hypot(arrows.U / 3, arrows.V / 2)
    assert lengths == pytest.approx(0.7 / 20)
    assert 0 < lengths.size < 21 * 21


def test_a_state_is_heard(tmp_path: Path) -> None:
    swing = uh.Problem.from_text("x' = 3000*v\nv' = -3000*x", initial={"x": 1, "v": 0}, interval=(2, 2.1))
    slowness = uh.write_sound(uh.integrate(swing, rtol=1e-8), "x", tmp_path / "x.wav", seconds=0.5)
    assert slowness == pytest.approx(0.2)
    with wave.open(str(tmp_path / "x.wav")) as sound:
        assert (sound.getnchannels(), sound.getsampwidth(), sound.getframerate()) == (1, 2, 44100)
        samples = np.frombuffer(sound.readframes(sound.getnframes()), "<i2") / 32767
    times = np.linspace(0, 0.1, 22050)
    assert samples == pytest.approx(0.9 * np.cos(3000 * times), abs=2e-2)
