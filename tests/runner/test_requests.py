"""Whatever is asked for, the search goes on: what cannot be read or done is refused with its
reason.
"""

from __future__ import annotations

import json
import unittest
from dataclasses import replace

from axiarch.errors import AxiarchError, InputError, RecipeError, WorkspaceError
from axiarch.journal import inbox
from axiarch.journal.inbox import send
from axiarch.recipes.searchfile import MethodChoice, Start
from axiarch.recipes.space import space
from axiarch.runner.requests import carry_out
from axiarch.runner.tasks import Compiling, Failed, Joined
from axiarch.workflows.opening import data_set
from axiarch.workflows.starting import start_search, with_window
from tests.runner.fakes import ScriptedExecutor
from tests.runner.test_runner import RunnerCase
from tests.support import ring_search

#: Recipes that no worker could hold, and values that are none.
TOO_LARGE = {"depth": 64, "width": 16384}


class Hostile(RunnerCase):
    def test_nothing_that_lies_in_the_inbox_ends_the_runner(self) -> None:
        runner = self.make(ring_search(recipes=3))
        inbox = self.workspace.search(1) / "inbox"
        inbox.mkdir()
        requests: list[dict[str, object]] = [
            {"do": "add", "values": {"learning_rate": 10**29}},
            {"do": "add", "values": {"network": "²"}},
            {"do": "add", "values": {"width": [1]}},
            {"do": "add", "values": {"nope": 1}},
            {"do": "budget", "recipes": 10**9},
            {"do": "workers", "count": 10**9},
            {"do": "workers"},
            {"do": "more", "recipe": 1, "epochs": 10**9},
            {"do": "cut", "recipe": 77},
        ]
        texts = [json.dumps(each) for each in requests]
        texts += ['{"do": "add", "values": {"learning_rate": 1' + "0" * 400 + "}}", "[" * 100_000,
                  '{"do": "budget", "recipes": 1e999}']
        for i, text in enumerate(texts):
            (inbox / f"{i:020d}.json").write_text(text)
        self.assertEqual(runner.run(), "done")
        s = self.look()
        refused = [e.text for e in s.events if e.kind == "refused"]
        self.assertGreaterEqual(len(refused), len(texts) - 1)
        self.assertEqual(len(s.ranking.rows), 3)

    def test_a_recipe_too_large_for_a_worker_is_refused_by_every_way_in(self) -> None:
        search = ring_search(recipes=2)
        runner = self.make(search, room=1 << 30)
        folder = self.workspace.search(1)
        send(folder, inbox.Add(TOO_LARGE))
        self.assertEqual(runner.run(), "done")
        (refused,) = [e.text for e in self.look().events if e.kind == "refused"]
        self.assertIn("GiB", refused)
        with self.assertRaises(RecipeError) as caught:
            start_search(self.workspace,
                         replace(search, space=space(TOO_LARGE, {"learning_rate": "1e-3 | 1e-2"})))
        self.assertIn("GiB", caught.exception.what)
        self.assertEqual(self.workspace.search_numbers(), [1])

    def test_one_that_a_method_proposes_fails_without_being_trained(self) -> None:
        search = replace(ring_search(recipes=3, repeats=1), method=MethodChoice("grid"),
                         space=space({"epochs": 2}, {"width": "4 | 8 | 16384", "depth": "1 | 60"}))
        runner = self.make(search, room=1 << 30)
        self.assertEqual(runner.run(), "done")
        s = self.look()
        failed = [r for r in s.runs.values() if r.state == "failed"]
        self.assertTrue(failed)
        self.assertIn("GiB", failed[0].text)
        self.assertIn("failed", s.search.why)


class Workers(RunnerCase):
    def test_a_resumed_search_shows_its_workers_training_again(self) -> None:
        executor = ScriptedExecutor()
        runner = self.make(ring_search(), executor)
        runner.turn(0)
        send(self.workspace.search(1), inbox.Pause())
        runner.turn(0)
        runner.turn(0)
        self.assertEqual({worker.state for worker in self.look().workers}, {"held"})
        send(self.workspace.search(1), inbox.Resume())
        runner.turn(0)
        self.assertEqual({worker.state for worker in self.look().workers}, {"training"})

    def test_a_worker_says_that_it_compiles(self) -> None:
        executor = ScriptedExecutor(workers=1)
        executor.reports.clear()
        executor.reports.append(Compiling(0))
        runner = self.make(ring_search(), executor)
        runner.turn(0)
        self.assertEqual([worker.state for worker in self.look().workers], ["compiling"])
        executor.reports.append(Joined(0))
        runner.turn(0)
        self.assertEqual([worker.state for worker in self.look().workers], ["training"])

    def test_more_workers_have_less_memory_each(self) -> None:
        runner = self.make(ring_search(), ScriptedExecutor())
        search = runner.search
        search.room = 1 << 40
        carry_out(search, inbox.Workers(4))
        four = search.room
        carry_out(search, inbox.Workers(2))
        self.assertGreater(search.room, 1.5 * four)

    def test_a_search_none_of_whose_runs_ended_has_failed(self) -> None:
        executor = ScriptedExecutor()
        runner = self.make(ring_search(recipes=2, repeats=1), executor)
        runner.turn(0)
        for worker, runs in executor.given().items():
            executor.reports += [Failed(worker, run, "the rows are gone") for run in runs]
        runner.turn(0)
        self.assertEqual(runner._verdict()[0], "failed")


class Starting(RunnerCase):
    def test_a_method_has_three_steps_under_way_for_two_workers_unless_the_file_says_how_many(
            self) -> None:
        for name, own, workers, wanted in (("guided_racing", {}, 1, {
                "window": 2
        }), ("racing", {}, 2, {"window": 3}), ("guided_racing", {}, 16, {
                "window": 32
        }), ("guided_racing", {"window": 5}, 16, {"window": 5}), ("guided", {}, 4, {"window": 6}),
                                         ("staged", {}, 4, {}), ("random", {}, 16, {})):
            search = replace(ring_search(), method=MethodChoice(name, own))
            self.assertEqual(with_window(search, workers).method.options, wanted, (name, workers))

    def test_a_start_that_cannot_be_is_bad_input_and_leaves_no_search(self) -> None:
        self.make(ring_search(epochs=3, recipes=2, repeats=1)).run()
        run = next(iter(self.look().runs))
        for start, base, words in ((Start(9, 1), {}, "no such run"), (Start(
                1, run), {"width": 9}, "do not fit")):
            search = replace(ring_search(epochs=9, recipes=1), start=start,
                             space=space({"epochs": 9, "width": 8, **base}, {}))
            with self.subTest(words=words), self.assertRaises(InputError) as caught:
                start_search(self.workspace, search, 1)
            self.assertIn(words, caught.exception.what)
            self.assertIn("[start]", caught.exception.where)
            self.assertEqual(self.workspace.search_numbers(), [1])
            with self.assertRaises(AxiarchError):
                self.look(2)

    def test_a_search_on_data_that_changed_on_disk_is_refused(self) -> None:
        path = self.dataset.folder / "folds" / "0" / "validation.targets.npy"
        path.write_bytes(path.read_bytes()[:-4])
        with self.assertRaises(WorkspaceError) as caught:
            start_search(self.workspace, ring_search(recipes=1), 1)
        self.assertIn("validation.targets.npy", caught.exception.where)
        self.assertEqual(data_set(self.workspace, "ring").name, "ring")


if __name__ == "__main__":
    unittest.main()
