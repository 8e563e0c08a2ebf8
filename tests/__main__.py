"""Run the tests: ``python -m tests [NAME ...]``. Warnings are errors; the last line says how many
ran.

Without names, all modules are run in three processes, the long ones first, as most of them wait for
processes of their own.
"""

from __future__ import annotations

import logging
import os
import re
import subprocess
import sys
import unittest
import warnings
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor, as_completed
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
#: Modules that take longest, the longest first; each is a job of its own, all others of a room
#: together are one.
LONG = ("tests.tui.test_app", "tests.runner.test_cluster", "tests.runner.test_survival",
        "tests.journeys.test_first_look", "tests.journeys.test_take_home",
        "tests.workflows.test_workflows", "tests.runner.test_executors",
        "tests.runner.test_processes", "tests.cli.test_cli", "tests.cli.test_hostile",
        "tests.test_adding", "tests.search.test_methods", "tests.tui.test_predictions",
        "tests.export.test_report", "tests.journal.test_damage", "tests.engine.test_batches",
        "tests.journeys.test_messy_table")
JOBS = 3
_SUMMARY = re.compile(r"(\d+) passed, (\d+) failed, (\d+) skipped")


def main(names: Sequence[str]) -> int:
    """Run all tests, or those named, and return the exit code."""
    os.chdir(ROOT)
    for name in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS"):
        os.environ.setdefault(
            name, "1")  # many small products: threads would only get in each other's way
    return run_here(names) if names else run_all()


def run_here(names: Sequence[str]) -> int:
    """Run the tests of some names in this process."""
    os.environ.setdefault("HYPOTHESIS_STORAGE_DIRECTORY", str(ROOT / ".hypothesis"))
    warnings.simplefilter("error")
    logging.getLogger("asyncio").setLevel(
        logging.ERROR)  # its debug mode times every callback aloud
    import hypothesis

    # The same examples every time where a red run stops others; new ones where a person can look
    # into them.
    hypothesis.settings.register_profile("ci", derandomize=True, deadline=None)
    hypothesis.settings.register_profile("here", deadline=None)
    hypothesis.settings.load_profile("ci" if os.environ.get("CI") else "here")
    from axiarch.runner.launched import keep

    keep()  # the program's own helpers start at once; those of commands start from nothing
    suite = unittest.TestLoader().loadTestsFromNames(names)
    result = unittest.TextTestRunner(verbosity=1, warnings="error").run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = len(result.skipped)
    sys.stderr.flush()
    print(f"{result.testsRun - failed - skipped} passed, {failed} failed, {skipped} skipped",
          flush=True)
    return 1 if failed or result.testsRun == 0 else 0


def run_all() -> int:
    """Run every module there is in processes of their own; say what each printed, and the sum."""
    found = [
        ".".join(path.relative_to(ROOT).with_suffix("").parts)
        for path in sorted(ROOT.glob("tests/**/test_*.py"))
    ]
    rooms: dict[str, list[str]] = {}
    for name in found:
        if name not in LONG:
            rooms.setdefault(name.split(".")[1] if name.count(".") > 1 else "", []).append(name)
    jobs = [*([name] for name in LONG if name in found), *rooms.values()]
    totals, broken = [0, 0, 0], 0
    with ThreadPoolExecutor(JOBS) as pool:
        for done in as_completed([pool.submit(_run, job) for job in jobs]):
            code, text = done.result()
            print(text, flush=True)
            counts = _SUMMARY.findall(text)
            totals = [
                a + int(b) for a, b in zip(totals, counts[-1] if counts else (0, 0, 0), strict=True)
            ]
            broken += code != 0
    # A process that ended without a sum, or badly for another reason than a test, counts as a
    # failure.
    passed, failed, skipped = totals[0], max(totals[1], broken), totals[2]
    print(f"{passed} passed, {failed} failed, {skipped} skipped", flush=True)
    return 1 if failed or not passed else 0


def _run(names: Sequence[str]) -> tuple[int, str]:
    """Run some modules in a process; return its exit code and what it printed."""
    ended = subprocess.run([sys.executable, "-m", "tests", *names],
                           stdin=subprocess.DEVNULL,
                           stdout=subprocess.PIPE,
                           stderr=subprocess.STDOUT,
                           text=True,
                           errors="replace",
                           cwd=ROOT)
    head = names[0] if len(names) == 1 else f"{len(names)} other modules"
    return ended.returncode, f"{head}\n{ended.stdout.rstrip()}"


if __name__ == "__main__":
    os._exit(main(sys.argv[1:])
             )  # at once: runners that tests have left to end by themselves need no farewell
