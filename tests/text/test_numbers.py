"""Numbers in sentences: as many digits as they say, one and several, sizes by the thousand."""

from __future__ import annotations

import math

import pytest

from unhurried_heron.text.numbers import (
    at_time,
    counted,
    in_seconds,
    in_tolerances,
    intervals_in_words,
    number,
    rounded,
    share_of,
)


@pytest.mark.parametrize(
    ("found", "words"),
    [
        (number(None), "–"), (number(math.nan), "–"), (number(12345), "12,345"), (number(math.pi), "3.14"),
        (number(math.pi, 5), "3.1416"), (number(math.inf), "inf"),
        (counted(0, "step"), "0 steps"), (counted(1, "step"), "1 step"), (counted(2000, "step"), "2,000 steps"),
        (share_of(0.0), "0 %"), (share_of(0.0004), "less than 0.1 %"), (share_of(0.0123), "1.2 %"),
        (share_of(0.123), "12 %"), (share_of(0.5), "50 %"), (share_of(0.994), "99 %"), (share_of(0.996), "nearly all"),
        (share_of(1.0), "all"), (share_of(1.2), "all"),
        (rounded(1234.5), "1,230"), (rounded(0.0012345), "0.00123"), (rounded(-123456.0, 2), "-120,000"),
        (rounded(2.345e9), "2.34e+09"), (rounded(999.6), "1,000"),
        (in_tolerances(1.0), "1 tolerance"), (in_tolerances(1.26), "1.3 tolerances"),
        (in_tolerances(54321.0), "54,000 tolerances"),
        (in_seconds(12.345), "12.3 s"), (in_seconds(0.0012), "1.2 ms"), (in_seconds(3.2e-6), "3.2 us"),
        (in_seconds(5e-9), "5 ns"), (in_seconds(0.0), "0 ns"),
        (at_time(1 / 3, ""), "t = 0.333333"), (at_time(3.0, "h"), "t = 3 h"),
        (intervals_in_words([], "h"), "nowhere"), (intervals_in_words([(0, 1 / 3)], "h"), "t = 0 to 0.3333 h"),
    ],
)  # fmt: skip
def test_numbers_in_words(found: str, words: str) -> None:
    assert found == words


@pytest.mark.parametrize(("count", "more"), [(3, ""), (4, " and 1 more interval"), (5, " and 2 more intervals")])
def test_the_first_intervals_are_told(count: int, more: str) -> None:
    words = intervals_in_words([(2.0 * k, 2.0 * k + 1) for k in range(count)], "")
    assert words == "t = 0 to 1, 2 to 3, 4 to 5" + more
