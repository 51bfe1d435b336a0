"""The explicit Runge-Kutta methods of the catalogue, coefficients as printed in their sources."""

from __future__ import annotations

from typing import Final

from unhurried_heron.methods.runge_kutta import RungeKutta

EULER: Final = RungeKutta(
    "euler", a=[[]], b=[1], c=[0], source="L. Euler, Institutionum calculi integralis I (1768), § 650"
)

HEUN_2: Final = RungeKutta(
    "heun-2",
    a=[[], [1]],
    b=["1/2", "1/2"],
    c=[0, 1],
    b_embedded=[1, 0],
    source="K. Heun, Z. Math. Phys. 45 (1900) 23-38; Euler's method embedded",
)

CLASSICAL_RK_4: Final = RungeKutta(
    "classical-rk-4",
    a=[[], ["1/2"], [0, "1/2"], [0, 0, 1]],
    b=["1/6", "1/3", "1/3", "1/6"],
    c=[0, "1/2", "1/2", 1],
    source="W. Kutta, Z. Math. Phys. 46 (1901) 435-453",
)

FEHLBERG_45: Final = RungeKutta(
    "fehlberg-45",
    a=[
        [],
        ["1/4"],
        ["3/32", "9/32"],
        ["1932/2197", "-7200/2197", "7296/2197"],
        ["439/216", -8, "3680/513", "-845/4104"],
        ["-8/27", 2, "-3544/2565", "1859/4104", "-11/40"],
    ],
    b=["25/216", 0, "1408/2565", "2197/4104", "-1/5", 0],
    c=[0, "1/4", "3/8", "12/13", 1, "1/2"],
    b_embedded=["16/135", 0, "6656/12825", "28561/56430", "-9/50", "2/55"],
    source="E. Fehlberg, NASA TR R-315 (1969); order 4 carried on",
)

DORMAND_PRINCE_54: Final = RungeKutta(
    "dormand-prince-54",
    a=[
        [],
        ["1/5"],
        ["3/40", "9/40"],
        ["44/45", "-56/15", "32/9"],
        ["19372/6561", "-25360/2187", "64448/6561", "-212/729"],
        ["9017/3168", "-355/33", "46732/5247", "49/176", "-5103/18656"],
        ["35/384", 0, "500/1113", "125/192", "-2187/6784", "11/84"],
    ],
    b=["35/384", 0, "500/1113", "125/192", "-2187/6784", "11/84", 0],
    c=[0, "1/5", "3/10", "4/5", "8/9", 1, 1],
    b_embedded=["5179/57600", 0, "7571/16695", "393/640", "-92097/339200", "187/2100", "1/40"],
    source="J. R. Dormand and P. J. Prince, J. Comput. Appl. Math. 6 (1980) 19-26",
)
