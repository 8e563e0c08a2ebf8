"""Members of installed packages as compiled code with an address, which the drivers call.

Their functions are on single numbers; the loops around them are made here, so that a package cannot
write where it should not. The code is compiled when a recipe first uses it, in every process.
"""

from __future__ import annotations

from functools import cache
from types import FunctionType
from typing import Any

from axiarch.recipes.installed import MOST_STATES, Activation, Loss, Optimiser, of_kind

#: States smaller than this are set to zero, as in ``kernels/steps.py``.
_TINY = 1e-30
#: Compiled code, kept as long as the process: the drivers hold its address alone.
_KEPT: list[Any] = []


@cache
def curve(name: str, precision: str) -> tuple[int, int]:
    """Return the addresses of an activation's curve, and of what multiplies gradients by its
    slope.
    """
    own = of_kind(Activation)[name]
    return _block(own.curve, precision, False), _block(own.slope, precision, True)


@cache
def loss_slope(name: str, precision: str) -> int:
    """Return the address of what turns differences into the slopes of a loss."""
    return _block(of_kind(Loss)[name].slope, precision, False)


def compiled(function: Any) -> Any:
    """Return a function of a package as compiled code; one of Python's ``math`` will do."""
    from numba import njit

    if not isinstance(function, FunctionType):
        bare = function

        def function(x: Any) -> Any:
            return bare(x)

    return njit(error_model="numpy")(function)


def _block(function: Any, precision: str, multiplied: bool) -> int:
    """Return the address of ``f(out, source, count)`` for a function of one number."""
    from numba import carray, cfunc, types  # type: ignore[attr-defined]
    from numba.core.types import CPointer

    inner = compiled(function)
    pointer: Any = CPointer(getattr(types, precision))  # type: ignore[no-untyped-call]

    def block(out: Any, source: Any, count: Any) -> None:
        a, x = carray(out, (count,)), carray(source, (count,))
        for i in range(count):
            a[i] = a[i] * inner(x[i]) if multiplied else inner(x[i])

    return _address(cfunc(types.void(pointer, pointer, types.intp), error_model="numpy")(block))


@cache
def step(name: str, precision: str) -> int:
    """Return the address of an optimiser's step on the flat buffers, as those in
    ``kernels/steps.py`` take them.
    """
    from numba import carray, cfunc, types  # type: ignore[attr-defined]
    from numba.core.types import CPointer
    from numba.np.unsafe import ndarray

    own = of_kind(Optimiser)[name]
    inner, used, states, tiny = compiled(own.step), len(own.uses), MOST_STATES, _TINY
    pointer: Any = CPointer(getattr(types, precision))  # type: ignore[no-untyped-call]
    fixed: Any = ndarray.to_fixed_tuple

    def steps(weights: Any, gradients: Any, state: Any, coefficients: Any, size: Any, decayed: Any,
              trained: Any) -> None:
        w, g = carray(weights, (size,)), carray(gradients, (size,))
        s, c = carray(state, (states, size)), carray(coefficients, (4 + used,))
        values = fixed(c[4:], used)
        for i in range(trained):
            before = w[i]
            slope = g[i] + c[1] * before if i < decayed else g[i]
            new, (s0, s1, s2) = inner(before, slope, (s[0, i], s[1, i], s[2, i]), c[3], c[0],
                                      *values)
            s[0, i] = 0.0 if abs(s0) <= tiny else s0
            s[1, i] = 0.0 if abs(s1) <= tiny else s1
            s[2, i] = 0.0 if abs(s2) <= tiny else s2
            w[i] = new - c[2] * before if i < decayed else new

    return _address(
        cfunc(types.void(*[pointer] * 4, *[types.intp] * 3), error_model="numpy")(steps))


def _address(compiled: Any) -> int:
    _KEPT.append(compiled)
    return int(compiled.address)
