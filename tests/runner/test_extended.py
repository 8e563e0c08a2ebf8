"""A search that is over goes on: more seeds, more recipes, one more recipe."""

from __future__ import annotations

import unittest
from dataclasses import replace

from axiarch import workflows
from axiarch.errors import WorkspaceMissing
from axiarch.journal import inbox
from tests.runner.test_processes import ProcessCase, losses
from tests.runner.test_runner import RunnerCase
from tests.runner.test_survival import raced, rows
from tests.support import ring_search


class Seeds(RunnerCase):
    def test_recipes_are_trained_on_fresh_seeds(self) -> None:
        search = ring_search(epochs=6, recipes=4, repeats=2)
        self.make(search).run()
        first = self.look()
        chosen = (first.ranking.rows[0].recipe, first.ranking.rows[1].recipe)
        inbox.send(self.workspace.search(1), inbox.Seeds(chosen, 3))
        self.make(search).run()
        s = self.look()
        self.assertEqual(s.search.state, "done")
        for recipe in s.recipes:
            runs = s.runs_of(recipe)
            seeds = 5 if recipe in chosen else 2
            self.assertEqual([run.repeat for run in runs], list(range(seeds)))
        self.assertEqual(losses(first).items() - losses(s).items(), set())
        confirmed = {row.recipe: row.confirmed for row in s.ranking.rows}
        for recipe in s.recipes:
            self.assertEqual(confirmed[recipe] is not None, recipe in chosen)
        level, half, runs_ = confirmed[chosen[0]] or (0.0, 0.0, 0)
        fresh = [s.curves[run.id].steady for run in s.runs_of(chosen[0])[2:]]
        self.assertAlmostEqual(level, sum(fresh) / 3)
        self.assertEqual(runs_, 3)
        self.assertGreater(half, 0)

    def test_what_cannot_be_is_refused(self) -> None:
        search = ring_search(epochs=3, recipes=2, repeats=1)
        self.make(search).run()
        for request in (inbox.Seeds((99,), 2), inbox.Seeds((1,), 500)):
            inbox.send(self.workspace.search(1), request)
            self.make(search).run()
        refused = [e.text for e in self.look().events if e.kind == "refused"]
        self.assertIn("there is no recipe 99", refused[0])
        self.assertIn("give a number from 1 to 199", refused[1])
        self.assertEqual(len(self.look().runs), 2)


class Confirmed(RunnerCase):
    def test_the_best_are_measured_again_at_the_end_and_only_once(self) -> None:
        search = replace(raced(10, 30), confirm=3)
        self.make(search).run()
        s = self.look()
        confirmed = [row for row in s.ranking.rows if row.confirmed is not None]
        self.assertTrue(1 <= len(confirmed) <= 5)
        self.assertEqual({row.repeats for row in confirmed}, {5})
        self.assertTrue(all(row.confirmed and row.confirmed[2] == 3 for row in confirmed))
        self.assertIn("confirming", {e.kind for e in s.events})
        inbox.send(self.workspace.search(1), inbox.Budget(12))  # it goes on, and is not asked again
        self.make(search).run()
        self.assertEqual(sum(e.kind == "confirming" for e in self.look().events), 1)

    def test_it_replays_from_the_journal(self) -> None:
        search = replace(raced(8, 30), confirm=2)
        for number in (1, 2):
            runner = self.make(replace(search, name=f"{number}"), number=number)
            if number == 2:
                for _ in range(60):
                    runner.turn(0.0)
                runner = self.make(replace(search, name=f"{number}"), number=number)
            runner.run()
        self.assertEqual(rows(self.look(1)), rows(self.look(2)))


class Extended(RunnerCase):
    def test_a_race_with_more_recipes_ends_as_one_that_had_them(self) -> None:
        """Until its end no recipe is cut, so that all may go on with it."""
        short = raced(10, 30)
        self.make(short).run()
        before = losses(self.look())
        inbox.send(self.workspace.search(1), inbox.Budget(20))
        self.make(short).run()
        s = self.look()
        self.assertEqual((s.search.state, len(s.recipes)), ("done", 20))
        for run, curve in before.items():
            self.assertEqual(losses(s)[run][:len(curve)], curve)

    def test_it_goes_on_with_the_same_bits_from_the_journal_alone(self) -> None:
        search = raced(10, 30)
        for number in (1, 2):
            self.make(replace(search, name=f"{number}"), number=number).run()
        for number in (1, 2):
            inbox.send(self.workspace.search(number), inbox.Budget(16))
            runner = self.make(replace(search, name=f"{number}"), number=number)
            if number == 2:  # interrupted on the way
                for _ in range(6):
                    runner.turn(0.0)
                runner = self.make(replace(search, name=f"{number}"), number=number)
            runner.run()
        self.assertEqual(rows(self.look(1)), rows(self.look(2)))

    def test_a_recipe_cut_by_hand_stays_cut(self) -> None:
        search = raced(10, 30)
        self.make(search).run()
        inbox.send(self.workspace.search(1), inbox.Cut(2))
        self.make(search).run()
        inbox.send(self.workspace.search(1), inbox.Budget(14))
        self.make(search).run()
        (run, *_) = self.look().runs_of(2)
        self.assertIn(run.state, ("cut", "ended"))


class Asked(ProcessCase):
    def test_asking_resumes_a_search_that_is_done(self) -> None:
        number = workflows.start_search(self.workspace, ring_search(epochs=4, recipes=3), 2)
        workflows.wait(self.workspace, number)
        remedy = f"extend it: axiarch seeds --search {number}"
        with self.assertRaisesRegex(WorkspaceMissing, remedy):
            workflows.resume_search(self.workspace, number)
        s = workflows.snapshot_of(self.workspace, number)
        chosen, count = workflows.seeds_wanted(s, (1,), 2)
        self.assertEqual((chosen, count), ((1,), 2))
        before = len(s.runs)
        workflows.steer_search(self.workspace, number, inbox.Seeds(chosen, count))
        s = workflows.wait(self.workspace, number)
        self.assertEqual(len(s.runs), before + 2)
        with self.assertRaisesRegex(WorkspaceMissing, "is over"):
            workflows.steer_search(self.workspace, number, inbox.Pause())


if __name__ == "__main__":
    unittest.main()
