"""Whether smaller trainings show the order of the best recipes, trained for the question."""

from __future__ import annotations

import unittest
from dataclasses import replace

from axiarch import workflows
from axiarch.data.demo_hum import hum
from axiarch.errors import InputError, TrainingError
from axiarch.recipes.searchfile import USE, MethodChoice, SearchFile
from axiarch.recipes.space import space
from axiarch.workflows.branching import lineage
from axiarch.workflows.proxying import (
    KINDS,
    compared,
    proxy_agreements,
    proxy_lines,
    proxy_verdict,
    smaller_trainings,
    train_proxy,
)
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.watching import snapshot_of
from tests.runner.test_runner import RunnerCase
from tests.support import ring_search

RATES = " | ".join(f"{1e-4 * 2 ** i:g}" for i in range(9))


def spread_search(repeats: int = 1) -> SearchFile:
    """Return a search whose recipes differ by far: rates from far too low to good."""
    made = space({"epochs": 6, "width": 32, "batch_size": 16, "learning_rate": 1e-4},
                 {"learning_rate": RATES})
    return SearchFile("spread", "ring", made, MethodChoice("grid"), 5, repeats, earlier=USE)


class Proxies(RunnerCase):
    def full(self, repeats: int = 1) -> Snapshot:
        self.make(spread_search(repeats), number=1).run()
        return self.look(1)

    def test_fewer_rows_and_narrower_layers_are_trained_and_compared(self) -> None:
        s = self.full(2)
        for kind, words in (("rows", "training rows"), ("width", "as wide")):
            with self.subTest(kind=kind):
                smaller = smaller_trainings(self.workspace, s, kind)
                self.assertEqual([set(each.recipes) for each in smaller],
                                 [set(compared(s))] * len(smaller))
                last = smaller[-1:]
                started: list[int] = []
                self.assertTrue(train_proxy(self.workspace, s, last[0], 1, started.append))
                found = proxy_agreements(self.workspace, s, last)
                self.assertEqual([each.share for each in found], [0.5, 1.0])
                self.assertIn(words, found[0].what)
                self.assertGreater(found[0].correlation, 0.6)  # rates 250 times apart show anywhere
                self.assertIn("one seed in full", proxy_lines(found)[-1])
                self.assertIn("For comparison", proxy_verdict(s, found, kind))
                trained = snapshot_of(self.workspace, started[0])
                self.assertEqual({r.recipe.essence for r in trained.recipes.values()},
                                 {r.essence for r in last[0].recipes.values()})
        self.assertEqual(snapshot_of(self.workspace).search.number, 1)  # the others stand aside
        self.assertEqual({each.gain for each in lineage(self.workspace) if each.depth}, {""})

    def test_what_was_not_trained_or_cannot_be_smaller_is_said(self) -> None:
        s = self.full()
        with self.assertRaisesRegex(InputError, "no proxy is called 'speed'"):
            smaller_trainings(self.workspace, s, "speed")
        with self.assertRaisesRegex(TrainingError, "no proxy by pictures"):
            smaller_trainings(self.workspace, s, "pictures")
        with self.assertRaisesRegex(TrainingError, "no proxy has been trained"):
            proxy_agreements(self.workspace, s, smaller_trainings(self.workspace, s, "rows"))
        self.make(ring_search(epochs=2, recipes=3, repeats=1), number=2).run()
        for kind in KINDS[1:]:
            with self.assertRaisesRegex(TrainingError, "3 recipes trained to their end"):
                smaller_trainings(self.workspace, self.look(2), kind)

    def test_a_network_without_hidden_layers_of_a_width_cannot_be_narrower(self) -> None:
        made = space({"epochs": 2, "network": "8", "learning_rate": 1e-4},
                     {"learning_rate": RATES})
        self.make(replace(spread_search(), space=made), number=1).run()
        with self.assertRaisesRegex(TrainingError, "network has hidden layers"):
            smaller_trainings(self.workspace, self.look(1), "width")


class Pictures(RunnerCase):
    def test_pictures_are_shrunk(self) -> None:
        data = workflows.add_table(self.workspace, hum(120).to_npz(self.folder / "h.npz"),
                                   name="hum")
        file = replace(spread_search(), data=data.name, space=space(
            {"epochs": 1, "width": 4, "learning_rate": 1e-4}, {"learning_rate": RATES}))
        number = workflows.start_search(self.workspace, file, 1)
        s = workflows.wait(self.workspace, number)
        smaller = smaller_trainings(self.workspace, s, "pictures")
        side = (data.encoding.picture or (0, 0))[0]
        self.assertEqual([(each.data.encoding.picture or (0,))[0] for each in smaller],
                         [side // 4, side // 2])
        self.assertEqual([each.share for each in smaller], [1 / 16, 1 / 4])


if __name__ == "__main__":
    unittest.main()
