"""Calls of compiled code by its address: of members that installed packages bring (see
``engine/called.py``).
"""

from __future__ import annotations

from typing import Any

from llvmlite import ir
from numba import types
from numba.extending import intrinsic

_WHOLE = types.intp


def _call(arrays: int, offsets: bool) -> Any:
    """Return what calls an address with some arrays, each an offset behind it if `offsets`, then
    whole numbers.
    """

    def generate(context: Any, builder: Any, sig: Any, args: Any) -> Any:
        step = 2 if offsets else 1
        given = []
        for i in range(1, 1 + arrays * step, step):
            data = context.make_array(sig.args[i])(context, builder, args[i]).data
            given.append(builder.gep(data, [args[i + 1]]) if offsets else data)
        given += args[1 + arrays * step :]
        kind = ir.FunctionType(ir.VoidType(), [each.type for each in given])
        builder.call(builder.inttoptr(args[0], kind.as_pointer()), given)
        return context.get_dummy_value()

    return generate


@intrinsic
def _call_block(typing, address, out, to, source, at, count):
    """Call ``f(out, source, count)`` on two flat arrays from offsets on."""
    return types.void(_WHOLE, out, _WHOLE, source, _WHOLE, _WHOLE), _call(2, True)


@intrinsic
def _call_step(typing, address, w, g, s, c, size, weights, trained):
    """Call ``f(w, g, s, c, size, weights, trained)`` on flat arrays."""
    return types.void(_WHOLE, w, g, s, c, _WHOLE, _WHOLE, _WHOLE), _call(4, False)


#: As compiled code calls them.
call_block: Any = _call_block
call_step: Any = _call_step
