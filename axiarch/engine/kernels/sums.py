"""Sums along a row of a block, in an order that is written down: the same bits wherever and beside
whatever it is made.

A sum is made in sixteen lanes, number i going to lane i modulo 16; then the lanes are added in
halves, 8 and 8, 4 and 4; then what is left over of the row, one after the other. Left to the
compiler, the order that is fast for one caller need not be that of another.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.extending import intrinsic

_LANES = 16
#: What is done to one number, or to sixteen: fused where the processor can.
_FUSED = ("contract",)
_Term = Callable[[Any, Any, Any, Any], Any]


def _reduction(term: _Term, wide: bool = False) -> Any:
    """Return what sums ``term(builder, x, y, shift)`` over `count` numbers of two flat arrays of
    one type.

    With `wide` in float64, whatever the arrays hold.
    """

    @intrinsic
    def reduce(typing, x, at, y, to, shift, count):
        whole = types.intp
        kind = types.float64 if wide else x.dtype
        return kind(x, whole, y, whole, kind, whole), generate

    def generate(context: Any, builder: Any, sig: Any, args: Any) -> Any:
        stored, number = context.get_value_type(sig.args[0].dtype), context.get_value_type(
            sig.return_type)
        x, y = (builder.gep(
            context.make_array(sig.args[i])(context, builder, args[i]).data, [args[i + 1]])
                for i in (0, 2))
        lanes, wanted = ir.VectorType(stored, _LANES), ir.VectorType(number, _LANES)

        def widened(value: Any, to: Any) -> Any:
            return value if value.type == to else builder.fpext(value, to)

        def several(pointer: Any, first: Any) -> Any:
            place = builder.bitcast(builder.gep(pointer, [first]), lanes.as_pointer())
            return widened(builder.load(place, align=stored.get_abi_size(context.target_data)),
                           wanted)

        def alike(value: Any) -> Any:
            one = builder.insert_element(ir.Constant(wanted, ir.Undefined), value,
                                         ir.Constant(ir.IntType(32), 0))
            return builder.shuffle_vector(
                one, one, ir.Constant(ir.VectorType(ir.IntType(32), _LANES), [0] * _LANES))

        step = ir.Constant(args[5].type, _LANES)
        turns = builder.sdiv(args[5], step)
        total = cgutils.alloca_once_value(builder, ir.Constant(wanted, [0.0] * _LANES))
        shifts = alike(args[4])
        with cgutils.for_range(builder, turns) as loop:
            first = builder.mul(loop.index, step)
            value = term(builder, several(x, first), several(y, first), shifts)
            builder.store(builder.fadd(builder.load(total), value, flags=_FUSED), total)
        sums, width = builder.load(total), _LANES
        while width > 1:
            width //= 2
            low, high = (builder.shuffle_vector(
                sums, sums,
                ir.Constant(ir.VectorType(ir.IntType(32), width),
                            list(range(start, start + width)))) for start in (0, width))
            sums = builder.fadd(low, high)
        result = cgutils.alloca_once_value(
            builder, builder.extract_element(sums, ir.Constant(ir.IntType(32), 0)))
        with cgutils.for_range_slice(builder,
                                     builder.mul(turns, step),
                                     args[5],
                                     ir.Constant(args[5].type, 1),
                                     inc=True) as (place, _):
            value = term(
                builder,
                *(widened(builder.load(builder.gep(each, [place])), number) for each in (x, y)),
                args[4])
            builder.store(builder.fadd(builder.load(result), value, flags=_FUSED), result)
        return builder.load(result)

    return reduce


def _itself(builder: Any, x: Any, y: Any, shift: Any) -> Any:
    return x


def _square(builder: Any, x: Any, y: Any, shift: Any) -> Any:
    away = builder.fsub(x, shift)
    return builder.fmul(away, away, flags=_FUSED)


def _product(builder: Any, x: Any, y: Any, shift: Any) -> Any:
    return builder.fmul(x, y, flags=_FUSED)


def _square_between(builder: Any, x: Any, y: Any, shift: Any) -> Any:
    away = builder.fsub(x, y)
    return builder.fmul(away, away, flags=_FUSED)


#: Each takes ``(x, at, y, to, shift, count)``: the sum of x; of the squares of x less the shift; of
#: x times y; of the squares of x, and of those of x less y, in float64.
total, squares_about, along = _reduction(_itself), _reduction(_square), _reduction(_product)
squares, squares_between = _reduction(_square, wide=True), _reduction(_square_between, wide=True)
