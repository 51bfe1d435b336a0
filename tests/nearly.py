"""Texts that are the same but for numbers that are nearly so: they differ a little from machine to machine."""

from __future__ import annotations

import re

NUMBER = re.compile(r"(?<![\w.])-?\d[\d,]*(?:\.\d+)?(?:e[-+]?\d+)?")
SECONDS = re.compile(r"\d[\d.]*(e-\d+)? (s|ms|us|ns)\b")
# counts and errors differ a little, the smallest errors by much
NEARLY, SMALL, CERTAIN = 0.05, 1e-3, 1e-11


def _near(one: str, other: str) -> bool:
    a, b = sorted(abs(float(each.replace(",", ""))) for each in (one, other))
    if one.isdigit() and other.isdigit() and a > 1.0:
        # steps, digits, iterations
        return b - a <= max(1.0, NEARLY * b)
    return b <= CERTAIN or b - a <= (2.0 * a if b < SMALL else NEARLY * b)


def near(one: str, other: str) -> bool:
    """Whether two lines are equal but for numbers that are nearly so."""
    if NUMBER.split(one) != NUMBER.split(other):
        return False
    return all(map(_near, NUMBER.findall(one), NUMBER.findall(other)))


def differences(now: str, then: str) -> list[tuple[str, str]]:
    """Return the lines that are not near, or the last where one text is longer."""
    pairs = list(zip(now.splitlines(), then.splitlines(), strict=False))
    far = [pair for pair in pairs if not near(*pair)]
    return far or [("lines", f"{now.count(chr(10))}, not {then.count(chr(10))}")] * (
        now.count("\n") != then.count("\n")
    )
