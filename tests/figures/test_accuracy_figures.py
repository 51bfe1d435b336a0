"""Figures of what was learnt: they show the numbers of their records, on axes of the caller too."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from matplotlib.figure import Figure

import unhurried_heron as uh

SWING = uh.Problem.from_lagrangian(
    "kinetic = z'^2/2\npotential = z^2/2", ["z"], initial={"z": 1, "z'": 0}, interval=(0, 12), units={"t": "s"}
)  # fmt: skip
STIFF = uh.Problem.from_text("x' = -400*(x - cos(t))", initial={"x": 0}, interval=(0, 3), title="Stiff")


def labels(figure: Figure) -> list[str]:
    (ax, *_) = figure.axes
    return [text.get_text() for text in ax.get_legend().get_texts()]


def test_regions_have_their_borders_where_the_textbook_has_them(tmp_path: Path) -> None:
    figure = uh.draw_stability(["classical-rk-4", "adams-bashforth-2"])
    (ax,) = figure.axes
    assert ax.get_aspect() == 1.0
    assert labels(figure) == ["classical-rk-4", "adams-bashforth-2"]
    borders = [path.vertices for drawn in ax.collections for path in drawn.get_paths() if len(path.vertices) > 20]
    lefts = sorted({round(float(each[:, 0].min()), 2) for each in borders})
    assert lefts[0] == pytest.approx(-2.785, abs=0.02)
    assert any(left == pytest.approx(-1.0, abs=0.02) for left in lefts)
    figure.savefig(tmp_path / "regions.png")
    star = uh.draw_stability("heun-2", window=((-3, 3), (-3, 3)), order_star=True)
    assert "Order star" in star.axes[0].get_title(loc="left")
    axes = Figure().subplots()
    assert uh.draw_stability(uh.stability("radau-iia-5"), axes=axes) is axes.figure
    with pytest.raises(uh.OptionError, match="window"):
        uh.draw_stability("euler", window=((1, 1), (0, 2)))


def test_a_run_and_a_largest_step_lie_in_their_region() -> None:
    run = uh.integrate(STIFF, "dormand-prince-54", rtol=1e-4)
    found = uh.stability_limited_steps(run)
    figure = uh.draw_run_in_region(run)
    points = figure.axes[0].collections[-1].get_offsets()
    assert np.asarray(points)[:, 0] == pytest.approx(found.z.real.ravel())
    assert f"{100 * found.share:.3g} % of the steps" in figure.axes[0].get_title(loc="left")
    largest = uh.largest_step(STIFF, "euler")
    assert largest.frame()["step"]["euler"] == largest.step == pytest.approx(2 / 400, rel=0.01)
    assert largest.steps().z.real.min() == pytest.approx(-400 * largest.step)
    assert largest.steps(3 * largest.step).share == 1.0
    assert "largest stable step" in uh.draw_run_in_region(largest).axes[0].get_title(loc="left")
    several = uh.draw_run_in_region(uh.integrate(STIFF, "backward-differentiation-variable", rtol=1e-4))
    assert any("order" in text for text in labels(several))


def test_errors_orders_and_drifts_are_drawn_as_they_were_found() -> None:
    orders = uh.convergence(SWING, ["heun-2", "classical-rk-4"], step=0.5, halvings=5)
    figure = uh.draw_convergence(orders)
    line = next(each for each in figure.axes[0].lines if str(each.get_label()).startswith("heun-2"))
    rows = [row for row in orders.rows if row["method"] == "heun-2"]
    assert line.get_xdata().tolist() == [row["step"] for row in rows]
    assert line.get_ydata().tolist() == [row["largest error"] for row in rows]
    assert "[s]" in figure.axes[0].get_xlabel()
    assert any("promised 2" in text for text in labels(figure))
    comparison = uh.compare(SWING, ["heun-2", "radau-iia-5"], rtol=1e-4, step=0.25)
    drift_figure = uh.draw_drift(comparison)
    largest = [np.nanmax(line.get_ydata()) for line in drift_figure.axes[0].lines]
    assert largest == pytest.approx([row["drift of energy"] for row in comparison.rows], rel=1e-9)
    errors = uh.draw_errors(comparison)
    ends = [line.get_ydata()[-1] for line in errors.axes[0].lines]
    assert ends == pytest.approx([row["error at end"] for row in comparison.rows], rel=1e-3)
    steps = uh.draw_steps([uh.integrate(SWING, name, rtol=1e-6) for name in ("heun-3", "radau-iia-5")])
    assert len(steps.axes[0].lines) == 2
    run = uh.integrate(SWING, "heun-3", rtol=1e-6)
    assert uh.draw_drift(run, "z^2 + z'^2").axes[0].lines[0].get_ydata()[-1] < 1e-3
    with pytest.raises(uh.RunError, match="conserved"):
        uh.draw_drift(uh.integrate(STIFF, "radau-iia-5"))
    certificate = uh.certify(SWING, 7, at=[3])
    bars = uh.draw_digits(certificate).axes[0].patches
    assert sorted(bar.get_height() for bar in bars) == sorted(row["digits"] for row in certificate.rows)
    for draw in (uh.draw_convergence, uh.draw_digits):
        with pytest.raises(uh.OptionError):
            draw(run)
