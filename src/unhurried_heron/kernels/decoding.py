"""Bundles as kernels see them: pointers and whole numbers out of the address table, decoded as the bundle says."""

from __future__ import annotations

from typing import get_type_hints

from unhurried_heron.kernels.bundles import (
    COLLOCATION_MEMORY,
    EXPLICIT_MEMORY,
    OUTPUT,
    OWN,
    PARTS,
    SYSTEM,
    WATCH,
    Array,
    DenseWork,
    LongArray,
    Output,
    Parts,
    System,
    Tableau,
    Watch,
)
from unhurried_heron.kernels.call import as_doubles, as_longs, as_record, offset_by
from unhurried_heron.kernels.compiling import inner

_READ = {Array: "as_doubles(t[{}])", LongArray: "as_longs(t[{}])", int: "t[{}]"}


def decoder(bundle, base=OWN):
    """Return a compiled function of a march's table that gives the bundle which begins at ``base``."""
    kinds = get_type_hints(bundle, include_extras=True)
    fields = [_READ.get(kinds[name], "t[{}]").format(place) for place, name in enumerate(bundle._fields)]
    known = {"as_doubles": as_doubles, "as_longs": as_longs, "offset_by": offset_by, "Bundle": bundle}
    exec(f"def decode(table):\n    t = offset_by(table, {base})\n    return Bundle({', '.join(fields)})", known)
    return inner(known["decode"])


system_in = decoder(System, SYSTEM)
parts_in = decoder(Parts, PARTS)
watch_in = decoder(Watch, WATCH)
output_in = decoder(Output, OUTPUT)
tableau_in = decoder(Tableau)
dense_work_in = decoder(DenseWork)
# records cannot be part of a bundle inside a kernel: there it holds their addresses
explicit_memory = as_record(EXPLICIT_MEMORY)
collocation_memory = as_record(COLLOCATION_MEMORY)
