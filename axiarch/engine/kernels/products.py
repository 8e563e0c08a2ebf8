"""Matrix products of flat buffers at offsets, by the BLAS that SciPy brings, called from compiled code.

A product is called by the name of numba's own helper, so that its callers can be cached on disk: an address would be
another one in another process.
"""

from __future__ import annotations

from typing import Any

import scipy.linalg.cython_blas  # noqa: F401  (the library must be there before its threads are limited)
from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.extending import intrinsic

from axiarch.engine.kernels.options import kernel


@intrinsic
def _gemm(typing, turn_a, turn_b, m, n, k, a, at, lda, b, bt, ldb, c, ct, ldc):
    """``C = op(A) op(B)``, all column-major: C is (m, n); the matrices begin at offsets of flat arrays of one type."""
    whole = types.intp
    signature = types.void(types.boolean, types.boolean, whole, whole, whole, a, whole, whole, b, whole, whole, c,
                           whole, whole)
    letter = {types.float32: "s", types.float64: "d"}[a.dtype]
    number = {types.float32: ir.FloatType(), types.float64: ir.DoubleType()}[a.dtype]

    def generate(context: Any, builder: Any, sig: Any, args: Any) -> Any:
        byte, size, pointer = ir.IntType(8), cgutils.intp_t, cgutils.voidptr_t
        kind = ir.FunctionType(ir.IntType(32), [byte, byte, byte, size, size, size, pointer, pointer, size, pointer,
                                                size, pointer, pointer, size])
        helper = cgutils.get_or_insert_function(builder.module, kind, "numba_xxgemm")

        def turned(flag: Any) -> Any:
            return builder.select(flag, ir.Constant(byte, ord("t")), ir.Constant(byte, ord("n")))

        def place(position: int, offset: Any) -> Any:
            data = context.make_array(sig.args[position])(context, builder, args[position]).data
            return builder.bitcast(builder.gep(data, [offset]), pointer)

        one = cgutils.alloca_once_value(builder, ir.Constant(number, 1.0))
        zero = cgutils.alloca_once_value(builder, ir.Constant(number, 0.0))
        flags = [cgutils.is_true(builder, flag) if flag.type != ir.IntType(1) else flag for flag in args[:2]]
        builder.call(helper, [
            ir.Constant(byte, ord(letter)), turned(flags[0]), turned(flags[1]), args[2], args[3], args[4],
            builder.bitcast(one, pointer), place(5, args[6]), args[7], place(8, args[9]), args[10],
            builder.bitcast(zero, pointer), place(11, args[12]), args[13]])
        return context.get_dummy_value()

    return signature, generate


# A block (H, N) of features outside is (N, H) to BLAS, which counts columns first; weights (I, H) are (H, I).


@kernel
def weigh(a, x, z, p, w, fan, units, columns):
    """Put the sums (H, N) of a block (I, N) at `x`, by the weights (I, H) at `w`, at `z`."""
    _gemm(False, True, columns, units, fan, a, x, columns, p, w, units, a, z, columns)


@kernel
def weigh_gradient(a, x, d, dz, g, w, fan, units, columns):
    """Put the gradient (I, H) of the weights at `w` of `g`, from a block (I, N) and the gradient (H, N) of its sums."""
    _gemm(True, False, units, fan, columns, d, dz, columns, a, x, columns, g, w, units)


@kernel
def weigh_back(d, dz, dx, p, w, fan, units, columns):
    """Put the gradient (I, N) of a block at `dx`, from that of its sums (H, N) at `dz`."""
    _gemm(False, False, columns, fan, units, d, dz, columns, p, w, units, d, dx, columns)
