"""Bundles as kernels see them: pointers and whole numbers out of the address table."""

from __future__ import annotations

from unhurried_heron.kernels.bundles import OUTPUT, OWN, SYSTEM, WATCH, DenseWork, Output, System, Tableau, Watch
from unhurried_heron.kernels.call import as_doubles, as_longs, offset_by
from unhurried_heron.kernels.compiling import inner


@inner
def system_in(table):
    """Return the `System` of a march's table."""
    t = offset_by(table, SYSTEM)
    return System(t[0], t[1], t[2], t[3], t[4], as_doubles(t[5]), as_doubles(t[6]), as_doubles(t[7]))


@inner
def watch_in(table):
    """Return the `Watch` of a march's table."""
    t = offset_by(table, WATCH)
    return Watch(
        t[0],
        t[1],
        as_longs(t[2]),
        as_longs(t[3]),
        as_longs(t[4]),
        as_doubles(t[5]),
        as_doubles(t[6]),
        as_longs(t[7]),
        as_doubles(t[8]),
        as_doubles(t[9]),
    )


@inner
def output_in(table):
    """Return the `Output` of a march's table."""
    t = offset_by(table, OUTPUT)
    return Output(t[0], t[1], t[2], as_doubles(t[3]), as_doubles(t[4]), as_doubles(t[5]), as_doubles(t[6]))


@inner
def tableau_in(table):
    """Return the `Tableau` of an explicit march's table."""
    t = offset_by(table, OWN)
    return Tableau(t[0], t[1], t[2], t[3], t[4], t[5], as_doubles(t[6]), as_doubles(t[7]), as_longs(t[8]))


@inner
def dense_work_in(table):
    """Return the `DenseWork` of an implicit march's table."""
    t = offset_by(table, OWN)
    return DenseWork(
        as_doubles(t[0]),
        as_doubles(t[1]),
        as_doubles(t[2]),
        as_doubles(t[3]),
        as_doubles(t[4]),
        as_longs(t[5]),
        as_longs(t[6]),
        as_doubles(t[7]),
        as_doubles(t[8]),
        as_doubles(t[9]),
        as_doubles(t[10]),
        as_doubles(t[11]),
        as_doubles(t[12]),
        as_doubles(t[13]),
        as_doubles(t[14]),
        as_doubles(t[15]),
        as_doubles(t[16]),
        as_doubles(t[17]),
        as_doubles(t[18]),
        as_doubles(t[19]),
        as_doubles(t[20]),
        as_doubles(t[21]),
    )
