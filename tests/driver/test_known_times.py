"""Switches of time alone, within each other: every jump and kink is known beforehand, exactly, and landed on."""

from __future__ import annotations

import random
from fractions import Fraction

import numpy as np
import pytest

import unhurried_heron as uh

LENGTH = Fraction(12)
VALUES = {"opens": 2.75, "period": 3.5, "share": 0.625}


class Pieces:
    """A function that is linear between rational times, with the text that means it: lists of (begin, end, a, b)."""

    def __init__(self, text, rows):
        self.text, self.rows = text, rows

    def split(self, other):
        """Both functions over their common intervals, cut where they cross."""
        marks = {mark for row in (*self.rows, *other.rows) for mark in row[:2]}
        marks = sorted(marks)
        for begin, end in zip(marks, marks[1:], strict=False):
            (a, b), (c, d) = self.at(begin), other.at(begin)
            cross = (a - c) / (d - b) if b != d else begin
            inner = [cross] if begin < cross < end else []
            for first, last in zip([begin, *inner], [*inner, end], strict=True):
                yield first, last, (a, b), (c, d)

    def at(self, time):
        return next(row[2:] for row in self.rows if row[0] <= time < row[1])

    def floor(self):
        rows = []
        for begin, end, a, b in self.rows:
            low, high = sorted([a + b * begin, a + b * end])
            whole = range(int(low // 1), int(high // 1) + 2)
            cuts = sorted((k - a) / b for k in whole if b and begin < (k - a) / b < end)
            for first, last in zip([begin, *cuts], [*cuts, end], strict=True):
                rows.append((first, last, Fraction((a + b * (first + last) / 2) // 1), Fraction(0)))
        return Pieces(f"floor({self.text})", rows)

    def combined(self, text, other, choose):
        rows = [(x, y, *choose(p, q, (x + y) / 2)) for x, y, p, q in self.split(other)]
        return Pieces(text.format(self.text, other.text), rows)

    def plus(self, other, factor=1):
        return self.combined(
            "({} + " + str(factor) + "*({}))", other, lambda p, q, _: (p[0] + factor * q[0], p[1] + factor * q[1])
        )

    def integral(self):
        return sum(a * (y - x) + b * (y * y - x * x) / 2 for x, y, a, b in self.rows)

    def breaks(self):
        return [x for (_, x, *line), (_, _, *after) in zip(self.rows, self.rows[1:], strict=False) if line != after]


def atom(text, a, b=0):
    return Pieces(text, [(Fraction(0), LENGTH, Fraction(a), Fraction(b))])


def random_function(draw, depth):
    if depth == 0:
        name = draw.choice([*VALUES, "t", "t"])
        return atom("t", 0, 1) if name == "t" else atom(name, VALUES[name])
    one, other = random_function(draw, depth - 1), random_function(draw, draw.randrange(depth))
    kind = draw.choice(["floor", "mod", "abs", "min", "max", "where", "plus"])
    if kind == "floor":
        return one.floor()
    if kind == "mod":
        period = Fraction(VALUES["period"])
        scaled = Pieces(f"({one.text})/period", [(x, y, a / period, b / period) for x, y, a, b in one.rows])
        found = one.plus(scaled.floor(), -VALUES["period"])
        return Pieces(f"mod({one.text}, period)", [(x, y, Fraction(a), Fraction(b)) for x, y, a, b in found.rows])
    if kind == "abs":
        return one.combined("abs({})", atom("0", 0), lambda p, q, m: p if p[0] + p[1] * m > 0 else (-p[0], -p[1]))
    if kind == "where":
        third = random_function(draw, draw.randrange(depth))
        truth = one.combined("({} > {})", other, lambda p, q, m: (Fraction(p[0] + p[1] * m > q[0] + q[1] * m), 0))
        return truth.combined(
            "where({}, {}, -share)", third, lambda p, q, _: q if p[0] else (Fraction(-VALUES["share"]), Fraction(0))
        )
    if kind == "plus":
        return one.plus(other, -0.5)
    larger = {"min": -1, "max": 1}[kind]
    return one.combined(
        kind + "({}, {})", other, lambda p, q, m: p if larger * (p[0] + p[1] * m - q[0] - q[1] * m) > 0 else q
    )


@pytest.mark.parametrize("backwards", [False, True])
@pytest.mark.parametrize("seed", range(36))
def test_nested_switches_of_time_are_landed_on_exactly(seed, backwards):
    draw = random.Random(seed)
    forcing = random_function(draw, 3)
    interval = (float(LENGTH), 0.0) if backwards else (0.0, float(LENGTH))
    used = {name: value for name, value in VALUES.items() if name in forcing.text}
    stock = uh.Problem.from_text(f"stock' = {forcing.text}", parameters=used, initial={"stock": 0}, interval=interval)
    run = uh.integrate(stock, "dormand-prince-54", rtol=1e-10)
    wanted = float(forcing.integral()) * (-1 if backwards else 1)
    size = 1.0 + max(abs(float(a + b * x)) for x, y, a, b in forcing.rows for x in (x, y))
    assert run.final["stock"] == pytest.approx(wanted, abs=1e-13 * size * float(LENGTH))
    assert all(switch.times is not None for switch in stock.switches), [*stock.switches]
    known = np.sort(np.concatenate([[], *(switch.times for switch in stock.switches)]))
    crossed = np.sort(run.switches["time"].to_numpy()) if len(known) else known
    for time in map(float, forcing.breaks()):
        assert np.abs(known - time).min() < 1e-13, "a break is not known"
        assert np.abs(crossed - time).min() < 1e-13, "a break is not crossed"
    assert np.isin(crossed.round(11), known.round(11)).all()
