"""How processes of our own are started: one command, one environment, one place.

They must run this package and nothing else. ``python -m`` would put the working directory first on
the module path, and packages look there for settings, so they are started without it, in the root
folder, with every path that depends on a working directory taken out of their environment.
"""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Mapping

#: Where they run: a folder that only the owner of the machine fills.
HOME = "/"
#: What holds linear algebra to one thread, however it was built.
ONE_THREAD = ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS")
#: Paths in the environment that a process reads code or settings from.
_PATHS = ("PYTHONPATH", "NUMBA_CACHE_DIR", "PYTHONPYCACHEPREFIX", "PYTHONSTARTUP")


def command(*words: str, module: str = "axiarch.runner") -> list[str]:
    """Return the command that runs one of our modules with some words."""
    return [sys.executable, "-P", "-m", module, *words]


def compile_kernels() -> None:
    """Compile the kernels in a process of its own, and wait for it."""
    subprocess.run(command("warm"),
                   cwd=HOME,
                   env=environment(),
                   stdout=subprocess.DEVNULL,
                   check=False)


def environment(given: Mapping[str, str] | None = None) -> dict[str, str]:
    """Return the environment of such a process: one thread, and no path that is not absolute."""
    found = dict(os.environ if given is None else given)
    for name in _PATHS:
        if name in found:
            kept = [part for part in found[name].split(os.pathsep) if os.path.isabs(part)]
            found[name] = os.pathsep.join(kept)
            if not kept:
                del found[name]
    return {**found, "PYTHONSAFEPATH": "1", **dict.fromkeys(ONE_THREAD, "1")}
