"""Run the tests: ``python -m tests [NAME ...]``. Warnings are errors; the last line says how many ran."""

from __future__ import annotations

import logging
import os
import sys
import unittest
import warnings
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent


def main(names: list[str]) -> int:
    """Run all tests, or those named, and return the exit code."""
    os.chdir(ROOT)
    for name in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS"):
        os.environ.setdefault(name, "1")  # many small products: threads would only get in each other's way
    os.environ.setdefault("HYPOTHESIS_STORAGE_DIRECTORY", str(ROOT / ".hypothesis"))
    warnings.simplefilter("error")
    logging.getLogger("asyncio").setLevel(logging.ERROR)  # its debug mode times every callback aloud
    import hypothesis

    # The same examples every time where a red run stops others; new ones where a person can look into them.
    hypothesis.settings.register_profile("ci", derandomize=True, deadline=None)
    hypothesis.settings.register_profile("here", deadline=None)
    hypothesis.settings.load_profile("ci" if os.environ.get("CI") else "here")
    loader = unittest.TestLoader()
    suite = loader.loadTestsFromNames(names) if names else loader.discover("tests", top_level_dir=str(ROOT))
    result = unittest.TextTestRunner(verbosity=1, warnings="error").run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = len(result.skipped)
    sys.stderr.flush()
    print(f"{result.testsRun - failed - skipped} passed, {failed} failed, {skipped} skipped", flush=True)
    return 1 if failed or result.testsRun == 0 else 0


if __name__ == "__main__":
    os._exit(main(sys.argv[1:]))  # at once: runners that tests have left to end by themselves need no farewell
