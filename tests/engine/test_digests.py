"""Short runs of every family come to what is stored."""

from __future__ import annotations

import json
import subprocess
import unittest

import numpy as np

from axiarch.recipes.fields import FIELDS
from axiarch.runner import launching
from tests.engine.digests import cases, file_of, here, trained

#: How far losses may be off on another processor, as a share.
OFF = {"float32": 1e-3, "float64": 1e-9}


class Digests(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        """Let what is stale be compiled in a process of its own, as workers do."""
        subprocess.run(launching.command("warm"),
                       cwd=launching.HOME,
                       env=launching.environment(),
                       check=True)

    def test_runs_of_every_family_come_to_the_stored_losses_and_bits(self) -> None:
        for precision in FIELDS["precision"].choices:
            stored = json.loads(file_of(precision).read_text(encoding="utf-8"))
            self.assertEqual(set(stored["runs"]), {name for name, _, _ in cases()},
                             "write the digests anew")
            alike = stored["made with"] == here()
            for name, values, kind in cases():
                with self.subTest(precision=precision, name=name):
                    found, wanted = trained(values, kind, precision), stored["runs"][name]
                    np.testing.assert_allclose(found["losses"],
                                               wanted["losses"],
                                               rtol=OFF[precision])
                    if alike:
                        self.assertEqual(found, wanted)


if __name__ == "__main__":
    unittest.main()
