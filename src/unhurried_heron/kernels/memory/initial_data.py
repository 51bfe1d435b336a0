"""What a march begins with, as `bundles` are: what is copied, and what follows from parameters, state and interval."""

from __future__ import annotations

from typing import Final, NamedTuple

from unhurried_heron.kernels.memory.bundles import Array, LongArray

# columns of ``records``: where a record of a march is, where its copy is, how many whole numbers they are
RECORD, COPY, LENGTH = range(3)
# and how many columns there are
RECORD_SIZE: Final = 3
# columns of ``sources``: how its times follow, the item that happens then, where its times begin and end among those
# listed, and how many switches are one within another in it
SOURCE_KIND, SOURCE_ITEM, SOURCE_FIRST, SOURCE_END, SOURCE_DEPTH = range(5)
# and how many columns there are
SOURCE_SIZE: Final = 5
# kinds of sources: times that are listed, the zero of a line, and where a line passes whole numbers
LISTED, LINE, STEPS = range(3)
# Known times of one switch, above which it is located during the run.
MAX_STEPS: Final = 100_000
# Known times are one time if they differ by no more than this number of spacings of floating-point numbers of their
# size.
TOGETHER: Final = 4.0


class InitialData(NamedTuple):
    """What a march begins with; of a table of its own.

    ``march``: address of the march's table; ``put_in_order``: that of the kernel for known times, 0 without any.
    ``records`` int64 (n_records, RECORD_SIZE): what is copied. ``parameters`` (n_parameters,), ``initial`` (n,),
    ``interval`` (3,): start, end, and the first known time beyond the start. ``following``, ``following_context``: a
    function of ``n_following`` values that follow from parameters, to ``following_values`` (n_following,) and from
    there to int64 ``following_targets`` (n_following,): indices of states, or n and a parameter.

    Of the ``n_roots`` roots ``widths`` int64: the slot of the width; ``arguments`` int64 (n_roots, 2): function and
    context of the argument, which depends on the states ``reaching`` int64 from ``reach_begins`` int64 (n_roots + 1,)
    on.

    Known times come from ``n_sources`` sources, those of switches within others last: int64 ``sources``
    (n_sources, SOURCE_SIZE), with ``gaps``, ``growths`` (n_sources, 2): function and context of the line and of its
    derivative; ``listed``: times in the order of the run, with the ``bounds`` on the steps from there on (NaN: as
    before). ``upcoming`` (n_sources,): the next time of each; ``begun``, ``held`` (n_sources,): what its switch holds
    at first, and now; int64 ``position``: how far it is among those listed. ``room``: landings, and items, that fit
    into `Crossing`. ``scratch`` (1,).
    """

    march: int
    put_in_order: int
    n_records: int
    records: LongArray
    n_parameters: int
    parameters: Array
    initial: Array
    interval: Array
    n_following: int
    following: int
    following_context: int
    following_values: Array
    following_targets: LongArray
    n_roots: int
    widths: LongArray
    arguments: LongArray
    reach_begins: LongArray
    reaching: LongArray
    n_sources: int
    sources: LongArray
    gaps: LongArray
    growths: LongArray
    listed: Array
    bounds: Array
    upcoming: Array
    begun: Array
    held: Array
    position: LongArray
    room: int
    scratch: Array


# Where the table of an `InitialData` tells the parameters, and the starting state.
PARAMETERS: Final = InitialData._fields.index("parameters")
INITIAL: Final = InitialData._fields.index("initial")
