"""From a bad recipe to a better one: diagnosis, branch, lineage; and notes on the way."""

from __future__ import annotations

import unittest
from contextlib import closing
from dataclasses import replace
from types import SimpleNamespace

import numpy as np

from axiarch.errors import InputError, RecipeError, TrainingError, WorkspaceMissing
from axiarch.insight.proposal import Change, Proposal
from axiarch.journal.inbox import Stop
from axiarch.journal.read import JournalReader
from axiarch.journal.records import RecipeRecord
from axiarch.ranking.rank import rank
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import Branch, MethodChoice, SearchFile, read_search, write_search
from axiarch.recipes.space import space
from axiarch.workflows.branching import (
    branch,
    branch_of,
    leader_of,
    lineage,
    lineage_lines,
)
from axiarch.workflows.comparing import keep_version
from axiarch.workflows.diagnosing import (
    beyond_the_knee,
    changes_of,
    diagnosis,
    diagnosis_json,
    finding_lines,
)
from axiarch.workflows.noting import about_words, find_notes, keep_note
from axiarch.workflows.starting import start_search
from axiarch.workflows.steering import steer_search
from axiarch.workflows.waiting import wait
from tests.ranking.test_capacity import result
from tests.runner.test_runner import RunnerCase
from tests.support import finished_workspace, ring_search

SLOW = {"epochs": 12, "learning_rate": 1e-6, "patience": 0, "width": 16, "batch_size": 16}


class Chain(RunnerCase):
    def bad(self) -> None:
        self.make(SearchFile("slow", "ring", space(SLOW), MethodChoice("grid"), 3, 2)).run()

    def test_the_first_remedy_leads_to_a_better_recipe_beyond_noise(self) -> None:
        self.bad()
        s = self.look()
        found = diagnosis(s, 1)
        self.assertEqual(found[0].name, "rate_low")
        self.assertIn("1  Raise the learning rate", "\n".join(finding_lines(found)))
        file = branch_of(s, 1)
        self.assertEqual((file.space.base, file.data, file.seed),
                         (s.recipes[1].recipe, s.file.data, s.file.seed))
        assert file.branch is not None
        self.assertEqual((file.branch.search, file.branch.recipe), (1, 1))
        self.assertIn("raise the learning rate", file.branch.reason)
        self.assertEqual(read_search(write_search(file)), file)
        self.make(file, number=2).run()
        after = self.look(2)
        base = next(n for n, r in after.recipes.items() if r.recipe == file.space.base)
        self.assertEqual(sum(r.taken for r in after.runs_of(base)), 24)  # trained once, not twice
        better = after.ranking.difference(leader_of(after), base)
        assert better is not None
        self.assertTrue(better.sure and better.better > 0)
        keep_version(self.workspace, after.recipes[leader_of(after)].recipe, "found: it learns")
        lines = "\n".join(lineage_lines(lineage(self.workspace)))
        self.assertRegex(lines, r"version 1, found: recipe \d+, place 1, 0\.\d+ ± 0\.\d+")
        self.assertIn("└─ 2  recipe 1 of search 1, Raise the learning rate", lines)
        self.assertIn("from recipe 1: the learning rate is too low", lines)
        self.assertRegex(lines, r"brought an improvement of 0\.\d+ ± 0\.\d+ over its base")
        self.assertEqual([(d.number, d.depth) for d in lineage(self.workspace)], [(1, 0), (2, 1)])

    def test_what_cannot_be_branched_is_refused(self) -> None:
        self.bad()
        s = self.look()
        many = len(changes_of(diagnosis(s, 1)))
        with self.assertRaisesRegex(TrainingError, f"from 1 to {many}"):
            branch_of(s, 1, many + 1)
        with self.assertRaisesRegex(TrainingError, "no recipe 9"):
            branch_of(s, 9)
        same = Proposal("x", "y", "Z.", changes=(Change("Do nothing", {"width": 16}),))
        with self.assertRaisesRegex(RecipeError, "nothing would change"):
            branch(s, 1, same, same.changes[0])

    def test_a_branch_of_a_search_that_is_gone_stands_by_itself(self) -> None:
        file = replace(ring_search(epochs=3, recipes=2, repeats=1),
                       branch=Branch(77, 1, "once", True))
        self.make(file).run()
        self.assertEqual([(d.number, d.depth) for d in lineage(self.workspace)], [(1, 0)])

    def test_a_healthy_recipe_has_nothing_to_change(self) -> None:
        self.make(SearchFile("good", "ring", space({
            "epochs": 80, "learning_rate": 0.01, "width": 16, "weight_decay": 0.3,
            "schedule": "cosine"}),
                             MethodChoice("grid"), 3, 2)).run()
        s = self.look()
        found = [p for p in diagnosis(s, 1) if p.changes]
        self.assertEqual(found, [], [p.evidence for p in found])
        with self.assertRaisesRegex(TrainingError, "nothing is wrong"):
            branch_of(s, 1)

    def test_a_much_smaller_network_that_is_tied_is_named(self) -> None:
        rng = np.random.default_rng(0)
        ranking = rank([result(n, seed, 0.5 + 0.01 * float(rng.normal()))
                        for n in (1, 2) for seed in range(5)], {1: 4000, 2: 900})
        recipes = {n: RecipeRecord(n, Recipe({"width": w}), 0) for n, w in ((1, 64), (2, 12))}
        s = SimpleNamespace(ranking=ranking, recipes=recipes)
        found = beyond_the_knee(s, 1)  # type: ignore[arg-type]
        assert found is not None
        self.assertEqual([dict(c.values) for c in found.changes], [{"width": 12}])
        self.assertIsNone(beyond_the_knee(s, 2))  # type: ignore[arg-type]

    def test_json_holds_what_a_program_needs(self) -> None:
        self.bad()
        found = diagnosis_json(diagnosis(self.look(), 1))
        self.assertEqual(found[0]["name"], "rate_low")
        self.assertEqual(found[0]["changes"][0]["number"], 1)


class Notes(RunnerCase):
    def test_they_are_kept_and_found_by_words(self) -> None:
        self.make(ring_search(epochs=2, recipes=2, repeats=1)).run()
        one = keep_note(self.workspace, "  Wide and shallow\x1b[31m works ", 0, 2)
        keep_note(self.workspace, "too slow", 1)
        self.assertEqual((one.search, one.recipe), (1, 2))
        self.assertEqual([n.text for n in find_notes(self.workspace, "SHALLOW wide")], [one.text])
        self.assertEqual(len(find_notes(self.workspace)), 2)
        self.assertEqual(find_notes(self.workspace, "deep"), [])

    def test_a_note_on_one_run(self) -> None:
        self.make(ring_search(epochs=2, recipes=2, repeats=2)).run()
        kept = keep_note(self.workspace, "an odd one", 1, 2, 2)
        run = self.look().runs[kept.run]
        self.assertEqual((run.recipe, run.repeat, run.fold), (2, 1, 0))
        self.assertEqual(about_words(self.workspace, kept), "search 1, recipe 2, seed 2")
        with self.assertRaisesRegex(WorkspaceMissing, "no run of seed 3, fold 1"):
            keep_note(self.workspace, "x", 1, 2, 3)
        with self.assertRaisesRegex(InputError, "name the recipe too"):
            keep_note(self.workspace, "x", 1, 0, 1)

    def test_a_note_is_kept_while_a_search_runs(self) -> None:
        number = start_search(self.workspace, ring_search(epochs=4000, recipes=3, repeats=2), 1)
        try:
            kept = keep_note(self.workspace, "so far so good")
            self.assertEqual((kept.search, kept.recipe), (number, 0))
        finally:
            steer_search(self.workspace, number, Stop())
            wait(self.workspace, number)

    def test_bad_notes_are_refused(self) -> None:
        self.make(ring_search(epochs=2, recipes=2, repeats=1)).run()
        for text in ("", "   ", "x" * 2001):
            with self.assertRaises(InputError):
                keep_note(self.workspace, text)
        for where in ((9, 0), (1, 9)):
            with self.assertRaises(WorkspaceMissing):
                keep_note(self.workspace, "x", *where)

    def test_an_earlier_journal_gets_them(self) -> None:
        with closing(JournalReader(finished_workspace() / "journal.sqlite")) as reader:
            self.assertEqual(reader.notes(), ())


if __name__ == "__main__":
    unittest.main()
