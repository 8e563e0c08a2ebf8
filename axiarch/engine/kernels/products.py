"""Matrix products of flat buffers at offsets, by the BLAS that SciPy brings, called from compiled
code.

A product is called by the name of numba's own helper, so that its callers can be cached on disk: an
address would be another one in another process.
"""

from __future__ import annotations

from typing import Any

import scipy.linalg.cython_blas  # noqa: F401  (the library must be there before its threads are limited)
from llvmlite import ir
from numba import types
from numba import uint64 as _u
from numba.core import cgutils
from numba.extending import intrinsic

from axiarch.engine.kernels.options import kernel

#: Multiplications up to which a product counts as small: larger ones are packed by the library,
#: which turns as it does.
SMALL = 1_000_000


@intrinsic
def _gemm(typing, turn_a, turn_b, m, n, k, a, at, lda, b, bt, ldb, c, ct, ldc):
    """``C = op(A) op(B)``, all column-major: C is (m, n); the matrices begin at offsets of flat
    arrays of one type.
    """
    whole = types.intp
    signature = types.void(types.boolean, types.boolean, whole, whole, whole, a, whole, whole, b,
                           whole, whole, c, whole, whole)
    letter = {types.float32: "s", types.float64: "d"}[a.dtype]
    number = {types.float32: ir.FloatType(), types.float64: ir.DoubleType()}[a.dtype]

    def generate(context: Any, builder: Any, sig: Any, args: Any) -> Any:
        byte, size, pointer = ir.IntType(8), cgutils.intp_t, cgutils.voidptr_t
        kind = ir.FunctionType(ir.IntType(32), [
            byte, byte, byte, size, size, size, pointer, pointer, size, pointer, size, pointer,
            pointer, size
        ])
        helper = cgutils.get_or_insert_function(builder.module, kind, "numba_xxgemm")

        def turned(flag: Any) -> Any:
            return builder.select(flag, ir.Constant(byte, ord("t")), ir.Constant(byte, ord("n")))

        def place(position: int, offset: Any) -> Any:
            data = context.make_array(sig.args[position])(context, builder, args[position]).data
            return builder.bitcast(builder.gep(data, [offset]), pointer)

        one = cgutils.alloca_once_value(builder, ir.Constant(number, 1.0))
        zero = cgutils.alloca_once_value(builder, ir.Constant(number, 0.0))
        flags = [
            cgutils.is_true(builder, flag) if flag.type != ir.IntType(1) else flag
            for flag in args[:2]
        ]
        builder.call(helper, [
            ir.Constant(byte, ord(letter)),
            turned(flags[0]),
            turned(flags[1]), args[2], args[3], args[4],
            builder.bitcast(one, pointer),
            place(5, args[6]), args[7],
            place(8, args[9]), args[10],
            builder.bitcast(zero, pointer),
            place(11, args[12]), args[13]
        ])
        return context.get_dummy_value()

    return signature, generate


# A block (H, N) of features outside is (N, H) to BLAS, which counts columns first; weights (I, H)
# are (H, I).


@kernel
def weigh(a, x, z, p, w, fan, units, columns):
    """Put the sums (H, N) of a block (I, N) at `x`, by the weights (I, H) at `w`, at `z`."""
    _gemm(False, True, columns, units, fan, a, x, columns, p, w, units, a, z, columns)


@kernel
def _turn(d, dz, a, to, units, columns):
    """Put the block (H, N) at `dz` as (N, H) at `to` of `a`, in tiles of eight by eight."""
    side = _u(8)
    for h0 in range(_u(0), _u(units), side):
        for n0 in range(_u(0), _u(columns), side):
            for n in range(n0, min(n0 + side, _u(columns))):
                row, place = _u(to) + n * _u(units) + h0, _u(dz) + h0 * _u(columns) + n
                for h in range(side):
                    a[row + h] = d[place + h * _u(columns)]


@kernel
def weigh_gradient(a, x, d, dz, used, g, w, fan, units, columns):
    """Put the gradient (I, H) of the weights at `w` of `g`, from a block (I, N) and the gradient
    (H, N) of its sums.

    Small products of which the inner side is that of the sum are slow: the gradient is turned for
    them, into the block `used` (H, N) of `a`, which nothing needs any more.
    """
    if units % 8 == 0 and units > 8 and units * fan * columns <= SMALL:
        _turn(d, dz, a, used, units, columns)
        _gemm(False, False, units, fan, columns, a, used, units, a, x, columns, g, w, units)
    else:
        _gemm(True, False, units, fan, columns, d, dz, columns, a, x, columns, g, w, units)


@kernel
def weigh_back(d, dz, dx, p, w, fan, units, columns):
    """Put the gradient (I, N) of a block at `dx`, from that of its sums (H, N) at `dz`."""
    _gemm(False, False, columns, fan, units, d, dz, columns, p, w, units, d, dx, columns)
