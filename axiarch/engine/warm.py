"""Compile the drivers and their kernels once, for both precisions; later processes load them
from the cache.
"""

from __future__ import annotations

import contextlib
import platform
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import numpy as np

#: Precisions, the usual one first.
PRECISIONS = ("float32", "float64")
#: Files that every kernel is made with.
_COMMON = ("codes.py", "options.py")


def warm() -> None:
    """Compile what is not compiled yet, by training a tiny network: most of a minute a
    precision.
    """
    for precision in missing():
        _train(precision)
        with contextlib.suppress(
                OSError):  # where it cannot be written, it is compiled at every start
            _mark(precision).write_text(_stamp(), encoding="utf-8")


def missing() -> list[str]:
    """Return the precisions that are to be compiled, having removed what is older than its
    sources.
    """
    found = [precision for precision in PRECISIONS if not _is_compiled(precision)]
    if found:
        _forget_drivers()
    return found


def compile_only(precision: str) -> None:
    """Compile a precision beside a process that compiles another; :func:`warm` must follow, and
    finds it done.

    Two processes that compile at once may each miss a part in the index of the other.
    """
    _train(precision)


def load(precision: str) -> None:
    """Load the compiled code of a precision and what writes checkpoints, so that processes forked
    from this one have both.
    """
    import safetensors.numpy  # noqa: F401

    _train(precision)


@contextlib.contextmanager
def alone() -> Iterator[None]:
    """Wait until no other process compiles, and let none begin meanwhile."""
    import fcntl

    with contextlib.ExitStack() as stack:
        with contextlib.suppress(OSError):  # where nothing can be written, each compiles for itself
            _folder().mkdir(parents=True, exist_ok=True)
            lock = stack.enter_context((_folder() / "compiling.lock").open("w"))
            fcntl.flock(lock, fcntl.LOCK_EX)
        yield


def parts() -> tuple[int, int]:
    """Return how many parts are compiled, of how many in both precisions."""
    from importlib import import_module
    from pkgutil import iter_modules

    from numba.core.dispatcher import Dispatcher

    from axiarch.engine import kernels

    modules = [
        import_module(f"{kernels.__name__}.{each.name}") for each in iter_modules(kernels.__path__)
    ]
    own = [one for module in modules for one in vars(module).values()
           if isinstance(one, Dispatcher) and one.__module__ == module.__name__
           and one.targetoptions.get("inline") != "always"]
    return len(list(_folder().glob("*.nbc"))), len(PRECISIONS) * len(own)


def compiled() -> bool:
    """Say whether all is compiled, and from the sources as they are.

    What trains must have loaded compiled code, not made it: beside code that was compiled in the
    same process a driver may call another copy of a kernel, whose sums are made in another order.
    So :func:`warm` is for a process of its own.
    """
    return all(map(_is_compiled, PRECISIONS))


def _is_compiled(precision: str) -> bool:
    try:
        return _mark(precision).read_text(encoding="utf-8") == _stamp()
    except OSError:
        return False


def _folder() -> Path:
    from axiarch.engine.kernels import driver

    return Path(str(driver.train.stats.cache_path))


def _mark(precision: str) -> Path:
    """Return the file that says what the cache of compiled code beside it was made from."""
    return _folder() / f"compiled-{precision}"


def _sources() -> list[Path]:
    from axiarch.engine import codes
    from axiarch.engine.kernels import driver

    return [*sorted(Path(str(driver.__file__)).parent.glob("*.py")), Path(str(codes.__file__))]


def _stamp() -> str:
    """Return what compiled code depends on."""
    import numba
    import numpy as np

    written = " ".join(
        f"{source.stat().st_mtime_ns} {source.stat().st_size}" for source in _sources())
    return f"{written} {numba.__version__} {np.__version__} {platform.processor()}"


def _forget_drivers() -> None:
    """Remove what calls a kernel that has changed since it was compiled: numba looks at a
    function's own file alone.

    Kernels in files that have not changed stay compiled.
    """
    times = {source.name: source.stat().st_mtime for source in _sources()}
    newest, common = max(times.values()), max(times[name] for name in _COMMON)
    for path in _folder().glob("*.nb[ic]"):
        with contextlib.suppress(OSError):
            if path.stat().st_mtime < (newest if _calls_others(path.name) else common):
                path.unlink()


def _calls_others(name: str) -> bool:
    return not name.startswith(("products.", "windows."))


def _train(precision: str) -> None:
    import numpy as np

    from axiarch.engine.losses import LOSSES
    from axiarch.engine.network import NetworkShape
    from axiarch.engine.predictor import Predictor
    from axiarch.engine.rows import Source, TrainingData
    from axiarch.engine.run import RunSpec
    from axiarch.engine.streams import Streams
    from axiarch.engine.training import Training
    from axiarch.recipes.recipe import Recipe

    x, y = np.zeros((4, 2), np.float32), np.array([0, 1, 0, 1], np.int32)
    recipe = Recipe({"width": 2, "epochs": 1, "precision": precision})
    shape = NetworkShape.of(recipe, 2, 2)
    source = Source(TrainingData(x, y, x, y), LOSSES["softmax"], 2, precision)
    training = Training(shape, RunSpec(0, recipe, Streams(0)), source)
    training.train_epoch()
    Predictor(shape, training.parameters).mean_loss(x, y)
    _touch(x)


def _touch(x: np.ndarray) -> None:
    import numpy as np

    from axiarch.engine.kernels import rows
    from axiarch.engine.rows import flat

    rows.touch(flat(x), 2, np.arange(4), 0, 2)
