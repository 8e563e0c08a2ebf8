"""A few hundred texts that nobody means, of every kind; ``python -m tests.fuzz 10000`` tries
more.
"""

from __future__ import annotations

import unittest

from tests.fuzz import (
    WHOLE,
    attempt,
    faults,
    read_constraint,
    read_file,
    read_network,
    read_notation,
)


class Fuzz(unittest.TestCase):
    def test_no_text_gives_a_traceback_or_takes_long(self) -> None:
        for kind in ("notation", "network", "constraint", "file", "command"):
            with self.subTest(kind=kind):
                self.assertEqual(faults(300, 7, (kind,)), [])

    def test_every_text_that_was_a_fault_once_is_refused_or_read(self) -> None:
        files = ("seed = " + "9" * 5000, "[[" * 3000, "x = " + "[" * 3000,
                 "[recipe]\nwidth = 1e999", "[recipe]\nnetwork = { a = 1 }", "[vary]\nwidth = \"\"",
                 "repeats = true")
        found = [attempt("file", given, lambda g=given: read_file(g))
                 for given in files]  # type: ignore[misc]
        for given in WHOLE:
            found += [
                attempt("network", given, lambda g=given: read_network(g)),  # type: ignore[misc]
                attempt("constraint", given, lambda g=given: read_constraint(g))
            ]  # type: ignore[misc]
            for name in ("width", "learning_rate", "network", "optimiser"):
                found.append(
                    attempt("notation", given,
                            lambda n=name, g=given: read_notation(n, g)))  # type: ignore[misc]
        self.assertEqual([fault for fault in found if fault is not None], [])


if __name__ == "__main__":
    unittest.main()
