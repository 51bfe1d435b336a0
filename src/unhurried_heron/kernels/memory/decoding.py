"""Bundles as kernels see them: the address of their part of the table, whose fields are read where they are named.

So a bundle is passed between functions as one pointer, however many fields it has.
"""

from __future__ import annotations

from typing import get_type_hints

from llvmlite import ir
from numba import types
from numba.core.typing.templates import AttributeTemplate
from numba.extending import infer_getattr, lower_getattr_generic, models, register_model

from unhurried_heron.kernels.memory.bundles import (
    CROSSING,
    OUTPUT,
    OWN,
    PARTS,
    SYSTEM,
    WATCH,
    Array,
    Crossing,
    LongArray,
    Output,
    Parts,
    System,
    Watch,
)
from unhurried_heron.kernels.memory.call import as_record, typed_intrinsic
from unhurried_heron.kernels.memory.enclosures import Cells, Enclosing, WindowSearch
from unhurried_heron.kernels.memory.implicit_records import IMPLICIT_MEMORY, NEWTON
from unhurried_heron.kernels.memory.initial_data import InitialData
from unhurried_heron.kernels.memory.sweep import StepMeasures, Sweep

_KINDS = {Array: types.CPointer(types.float64), LongArray: types.CPointer(types.int64)}
_LONG = ir.IntType(64)


class BundleType(types.Type):
    """The type of a bundle in kernels."""

    def __init__(self, bundle):
        super().__init__(name=f"Bundle({bundle.__module__}.{bundle.__qualname__})")
        # whole numbers, addresses, and records by their addresses
        kinds = get_type_hints(bundle, include_extras=True)
        self.offsets = {
            field: (index, _KINDS.get(kinds[field], types.int64)) for index, field in enumerate(bundle._fields)
        }


@register_model(BundleType)
class _BundleModel(models.PrimitiveModel):
    def __init__(self, manager, kind):
        super().__init__(manager, kind, _LONG.as_pointer())


@infer_getattr
class _BundleAttribute(AttributeTemplate):
    key = BundleType

    def generic_resolve(self, bundle, name):  # type: ignore[override]  # Numba asks for this one
        return bundle.offsets[name][1] if name in bundle.offsets else None


@lower_getattr_generic(BundleType)
def _read_field(context, builder, bundle, value, name):
    """Write the load of a field of a bundle; return its value.

    Parameters
    ----------
    context : Numba's code generation context
    builder : LLVM's builder
    bundle : BundleType
    value : LLVM value
        The address of the table.
    name : str
        Of the field.

    Returns
    -------
    LLVM value
    """
    offset, kind = bundle.offsets[name]
    found = builder.load(builder.gep(value, [ir.Constant(_LONG, offset)]))
    # a table does not change while a kernel runs, so that loops need not read it again and again
    found.set_metadata("invariant.load", builder.module.add_metadata([]))
    return found if kind is types.int64 else builder.inttoptr(found, context.get_value_type(kind))


def decoder(bundle, base=OWN):
    """Return an intrinsic that takes a march's table for the bundle which begins at ``base``."""
    kind = BundleType(bundle)

    @typed_intrinsic
    def decode(typing_context, table):
        def generate(codegen_context, builder, _, arguments):
            return builder.gep(arguments[0], [ir.Constant(_LONG, base)])

        return kind(types.CPointer(types.int64)), generate

    return decode


system_in = decoder(System, SYSTEM)
parts_in = decoder(Parts, PARTS)
watch_in = decoder(Watch, WATCH)
output_in = decoder(Output, OUTPUT)
crossing_in = decoder(Crossing, CROSSING)
initial_data_in = decoder(InitialData, 0)
sweep_in = decoder(Sweep, 0)
step_measures_in = decoder(StepMeasures, 0)
enclosing_in = decoder(Enclosing, 0)
cells_in = decoder(Cells, len(Enclosing._fields))
window_search_in = decoder(WindowSearch, len(Enclosing._fields))
# records are no values in a kernel: a bundle holds their addresses
implicit_memory = as_record(IMPLICIT_MEMORY)
newton_in = as_record(NEWTON)
