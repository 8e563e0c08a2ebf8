"""Nothing is trained twice, and a method learns from what earlier searches know."""

from __future__ import annotations

import sqlite3
import unittest
from contextlib import closing
from dataclasses import replace

from axiarch.journal import inbox
from axiarch.journal.read import JournalReader
from axiarch.journal.write import JournalWriter
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import IGNORE, USE, MethodChoice, SearchFile
from axiarch.recipes.space import space
from axiarch.runner.earlier import belongs
from axiarch.runs.states import RunState
from axiarch.search.method import Observation
from axiarch.search.methods import make_method
from axiarch.workflows.models import keep_model
from tests.runner.test_processes import losses
from tests.runner.test_runner import RunnerCase
from tests.runner.test_survival import raced, rows
from tests.support import ring_search


class NothingTwice(RunnerCase):
    def run_as(self, number: int, file: SearchFile) -> None:
        self.make(replace(file, name=f"search {number}"), number=number).run()

    def trained(self, number: int) -> int:
        return self.look(number).epochs

    def test_the_same_search_again_trains_nothing_and_says_so(self) -> None:
        file = replace(ring_search(epochs=6, recipes=4, repeats=2), earlier=USE)
        self.run_as(1, file)
        self.run_as(2, file)
        self.assertEqual(rows(self.look(1)), rows(self.look(2)))
        self.assertEqual((self.trained(2), self.look(2).taken_over), (0, self.trained(1)))
        with closing(JournalReader(self.workspace.journal)) as reader:
            known, again = (sorted(each.content for each in reader.row_losses(number).values())
                            for number in (1, 2))
        self.assertEqual(known, again)

    def test_it_can_be_refused(self) -> None:
        file = ring_search(epochs=4, recipes=3, repeats=1)
        self.run_as(1, file)
        self.run_as(2, replace(file, earlier=IGNORE))
        self.assertEqual((self.trained(2), self.look(2).taken_over), (self.trained(1), 0))

    def test_a_race_that_was_cut_is_continued_from_where_the_earlier_one_stood(self) -> None:
        """With bits that are those of a search which knew nothing."""
        for number, recipes, earlier in ((1, 10, USE), (2, 20, USE), (3, 20, IGNORE)):
            file = raced(recipes, 30)
            self.run_as(number, replace(file, earlier=earlier,
                                        method=replace(file.method, name="racing")))
        self.assertEqual(rows(self.look(2)), rows(self.look(3)))
        s = self.look(2)
        self.assertGreater(s.taken_over, 0)
        self.assertEqual(s.epochs + s.taken_over, self.trained(3))

    def test_other_seeds_and_values_are_trained(self) -> None:
        file = replace(ring_search(epochs=4, recipes=3, repeats=1), earlier=USE)
        self.run_as(1, file)
        self.run_as(2, replace(file, seed=file.seed + 1))
        self.assertEqual(self.look(2).taken_over, 0)

    def test_a_value_without_effect_makes_no_other_run(self) -> None:
        """Momentum has none with adam, nor a funnel of one layer."""
        base = {"epochs": 5, "width": 4, "depth": 1, "optimiser": "adam"}
        for number, more in ((1, {}), (2, {"momentum": 0.5, "shape": "funnel"})):
            self.run_as(number, SearchFile("x", "ring", space({**base, **more}),
                                           MethodChoice("grid"), repeats=1))
        self.assertEqual(self.trained(2), 0)
        self.assertEqual([*losses(self.look(1)).values()], [*losses(self.look(2)).values()])
        keep_model(self.workspace, self.look(2), 1, "kept")

    def test_a_run_stopped_in_the_middle_is_taken_as_far_as_it_came(self) -> None:
        file = replace(ring_search(epochs=30, recipes=1, repeats=1, patience=0), earlier=USE)
        runner = self.make(replace(file, name="1"), number=1)
        while self.look(1).epochs < 5:
            runner.turn(0.0)
        inbox.send(self.workspace.search(1), inbox.Stop())
        runner.run()
        stood = self.look(1).epochs
        self.run_as(2, file)
        self.assertEqual((self.look(2).taken_over, self.trained(2)), (stood, 30 - stood))
        self.run_as(3, replace(file, earlier=IGNORE))
        self.assertEqual(rows(self.look(2)), rows(self.look(3)))

    def test_what_another_engine_trained_is_trained_again(self) -> None:
        file = replace(ring_search(epochs=4, recipes=2, repeats=1), earlier=USE)
        self.run_as(1, file)
        journal = JournalWriter(self.workspace.journal)
        self.addCleanup(journal.close)
        with journal.transaction():
            journal.mix_engines(1, "another")
        self.run_as(2, file)
        self.assertEqual(self.look(2).taken_over, 0)

    def test_a_run_without_its_checkpoint_is_trained_again(self) -> None:
        """Else its network could not be kept as a model."""
        file = replace(ring_search(epochs=4, recipes=1, repeats=1), earlier=USE)
        self.run_as(1, file)
        for path in (self.workspace.search(1) / "checkpoints").iterdir():
            path.unlink()
        self.run_as(2, file)
        self.assertEqual((self.look(2).taken_over, self.trained(2)), (0, 4))

    def test_a_diverged_run_is_taken_too(self) -> None:
        file = replace(ring_search(epochs=6, recipes=1, repeats=1, learning_rate=900.0,
                                   optimiser="sgd", depth=6), earlier=USE)
        self.run_as(1, file)
        self.run_as(2, file)
        self.assertEqual(self.trained(2), 0)
        states = [[(r.state, r.reason) for r in self.look(n).runs.values()] for n in (1, 2)]
        self.assertEqual(states[0], states[1])
        self.assertEqual(states[0][0][0], RunState.ENDED)


class StartsFromWhatIsKnown(RunnerCase):
    def test_the_method_is_given_what_fits_and_replays_without_the_others(self) -> None:
        file = replace(raced(10, 30), earlier=USE)
        self.make(replace(file, name="1"), number=1).run()
        wanted = replace(file, seed=9, name="2")
        runner = self.make(wanted, number=2)
        with closing(JournalReader(self.workspace.journal)) as reader:
            known = reader.known_to(2)
        self.assertEqual(len(known), len(self.look(1).recipes))
        said = [e.text for e in self.look(2).events if e.kind == "earlier"]
        self.assertEqual(said, [f"the method starts from {len(known)} recipes of search 1"])
        for _ in range(4):
            runner.turn(0.0)
        with closing(sqlite3.connect(self.workspace.journal)) as db, db:
            # as if the earlier search had been lost
            db.execute("UPDATE search SET data_fingerprint = 'x' WHERE number = 1")
        self.make(wanted, number=2).run()
        self.assertEqual(self.look(2).search.state, "done")
        steps = self.make(replace(wanted, name="3"), number=3)  # which knows of search 2 alone
        steps.run()
        proposed = [{str(r.recipe.essence) for r in self.look(n).recipes.values()}
                    for n in (2, 3)]
        self.assertNotEqual(*proposed)

    def test_a_model_that_knows_proposes_better_at_once(self) -> None:
        made = space({"epochs": 9}, {"learning_rate": "1e-4 .. 1e0 log", "dropout": "0 .. 0.7"})

        def loss(recipe: Recipe) -> float:
            return 0.3 + (recipe.real("dropout") - 0.2) ** 2 + 0.1 * abs(
                recipe.real("learning_rate") ** 0.5 - 0.1)

        known = [made.at([(i * 0.37) % 1, (i * 0.61) % 1]) for i in range(30)]
        told = [Observation(0, r, ((loss(r),) * 9,), True) for r in known if r is not None]
        for name in ("guided", "guided_racing"):
            proposed = []
            for given in ([], told):
                method = make_method(MethodChoice(name), made, 3)
                method.learn_from(given)
                found = []
                for number in range(1, 6):
                    step = method.next()
                    assert step is not None
                    method.take(step, number)
                    found.append(loss(step.recipe))
                proposed.append(sum(found[1:]) - 4 * 0.3)
            self.assertLess(proposed[1], 0.4 * proposed[0], name)

    def test_what_belongs_to_a_space(self) -> None:
        made = space({"epochs": 9, "optimiser": "adam"}, {"dropout": "0 .. 0.5", "width": "8 | 16"})
        self.assertTrue(belongs(made, made.base.changed({"dropout": 0.3, "width": 8})))
        self.assertTrue(belongs(made, made.base.changed({"momentum": 0.5, "width": 16})))
        for other in ({"dropout": 0.6}, {"width": 12}, {"epochs": 10}, {"optimiser": "sgd"}):
            self.assertFalse(belongs(made, made.base.changed({"width": 8, **other})), other)


if __name__ == "__main__":
    unittest.main()
