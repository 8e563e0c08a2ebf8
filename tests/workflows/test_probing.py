"""Probes with real trainings, kept in the journal, cancelled without a trace."""

from __future__ import annotations

import json
import math
import sqlite3
import unittest
from dataclasses import replace

from axiarch.data.plan import SplitPlan
from axiarch.errors import InputError, RecipeError, WorkspaceLocked
from axiarch.insight.probes import DEVICES, BatchProbe, DepthProbe, NoiseProbe, RateProbe
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import MethodChoice, SearchFile
from axiarch.recipes.space import Space
from axiarch.workflows.adding import redecide
from axiarch.workflows.devices import device_lines, keep_device, known_devices
from axiarch.workflows.joining import together
from axiarch.workflows.opening import data_set
from axiarch.workflows.probing import kept_probes, probe
from axiarch.workflows.starting import start_search
from axiarch.workflows.waiting import wait
from tests.support import FolderCase, commanded, ring_workspace

BASE = Recipe({"width": 8, "epochs": 8, "batch_size": 16, "learning_rate": 0.01})


class Enough(Exception):
    """The user gives up."""


class Probing(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.workspace = ring_workspace(self.folder / "w")
        self.data = data_set(self.workspace, "ring")

    def test_every_kind_finds_something_and_is_kept(self) -> None:
        rate = probe(self.workspace, self.data, BASE, "rate")
        assert isinstance(rate, RateProbe)
        self.assertTrue(rate.learns)
        low, high = rate.band
        self.assertTrue(1e-4 < low < 0.05 < high * 10)
        batch = probe(self.workspace, self.data, BASE, "batch", "small device")
        assert isinstance(batch, BatchProbe)
        self.assertEqual(batch.points[-1].size, self.data.rows["train"])
        self.assertEqual(batch.room, 2 * 2**30)
        depth = probe(self.workspace, self.data, BASE, "depth")
        assert isinstance(depth, DepthProbe)
        self.assertGreaterEqual(depth.deepest("plain"), 2)
        for point in depth.points:  # the output layer comes last
            self.assertEqual([len(point.at_start), len(point.at_end)], 2 * [point.depth + 1])
        self.assertNotEqual(depth.points[0].at_start, depth.points[0].at_end)
        for size in batch.points:
            self.assertAlmostEqual(size.measured / size.bytes, 1.0, delta=0.5)
        noise = probe(self.workspace, self.data, BASE, "noise")
        assert isinstance(noise, NoiseProbe)
        self.assertTrue(noise.spread > 0 and noise.row_error > 0)
        kept = kept_probes(self.workspace)
        self.assertEqual([record.kind for record, _ in kept], ["rate", "batch", "depth", "noise"])
        self.assertEqual([found for _, found in kept], [rate, batch, depth, noise])
        self.assertEqual(kept[0][0].recipe, BASE)
        self.assertEqual(len(kept_probes(self.workspace, self.data.fingerprint)), 4)
        self.assertEqual(kept_probes(self.workspace, "other data"), [])
        self.check_commands()

    def check_commands(self) -> None:
        """What was found is printed again."""
        place = str(self.workspace.folder)
        lines = commanded(self.folder, "probes", "-w", place).stdout.splitlines()
        self.assertEqual(len(lines), 4)
        self.assertRegex(lines[2], r"^ +3  \d{4}-.*  depth  ring: .*learning rate 0.01")
        again = commanded(self.folder, "probes", "3", "-w", place).stdout
        self.assertIn("Before the first step of 24 layers", again)
        self.assertIn("activation last/first", again)
        listed = json.loads(commanded(self.folder, "probes", "--json", "-w", place).stdout)
        one = json.loads(commanded(self.folder, "probes", "2", "--json", "-w", place).stdout)
        self.assertEqual(listed[1]["points"], one["points"])
        none = commanded(self.folder, "probes", "9", "-w", place)
        self.assertIn("there is no probe 9", none.stderr)
        with sqlite3.connect(self.workspace.journal) as db:
            db.execute("UPDATE probe SET found = '{\"points\": 3}' WHERE number = 1")
        db.close()
        self.assertEqual(len(kept_probes(self.workspace)), 3)

    def test_a_sigmoid_network_stops_learning_at_some_depth(self) -> None:
        found = probe(self.workspace, self.data, BASE.changed({"activation": "sigmoid"}), "depth")
        assert isinstance(found, DepthProbe)
        self.assertLess(found.deepest("plain"), 16)

    def test_noise_is_measured_on_every_fold(self) -> None:
        plan = replace(self.data.plan, split=SplitPlan(folds=3))
        data = redecide(self.workspace, self.data, plan)
        found = probe(self.workspace, data, BASE, "noise")
        assert isinstance(found, NoiseProbe)
        self.assertEqual((found.folds, len(found.losses)), (3, 2))
        self.assertEqual(found.rows, sum(fold.rows["validation"] for fold in data.folds))
        self.assertAlmostEqual(found.overlap, 0.5, delta=0.05)
        self.assertIn("2 seeds on each of 3 folds", found.verdict())
        lost = probe(self.workspace, data, BASE.changed({"optimiser": "sgd", "learning_rate": 900.0,
                                                         "depth": 4, "width": 64}), "noise")
        self.assertIn("Probe the learning rate first", lost.verdict())

    def test_a_difference_is_as_uncertain_as_the_ranking_finds_it(self) -> None:
        found = probe(self.workspace, self.data, BASE, "noise")
        assert isinstance(found, NoiseProbe)
        self.assertIn("half the learning rate and twice the width", found.verdict())
        alone = probe(self.workspace, self.data, BASE.changed({"network": "8, 8"}), "noise")
        assert isinstance(alone, NoiseProbe)
        self.assertIn("with half the learning rate is", alone.verdict())
        space = Space(BASE.changed({"patience": 0}))
        rival = {"learning_rate": 0.005, "width": 16}
        search = SearchFile("both", "ring", space, MethodChoice("random", {"recipes": 1}), 1, 8)
        other = replace(search, space=Space(space.base.changed(rival)))
        numbers = []
        for file in (search, other):
            numbers.append(start_search(self.workspace, file, 2))
            wait(self.workspace, numbers[-1])
        both = together(self.workspace, numbers).ranking
        pair = both.difference(both.rows[0].recipe, both.rows[1].recipe)
        assert pair is not None
        expected = found.visible(8) * 1.96 / 2.80
        self.assertLess(abs(math.log(pair.half_width / expected)), math.log(2))

    def test_memory_is_that_of_a_device_or_any_amount(self) -> None:
        tight = probe(self.workspace, self.data, BASE, "batch", "100 KiB")
        assert isinstance(tight, BatchProbe)
        self.assertEqual((tight.room, tight.device), (102400, "as given"))
        self.assertLess(len(tight.fits), len(tight.points))
        keep_device(self.workspace, "office card = 300 KiB")
        own = probe(self.workspace, self.data, BASE, "batch", "office card")
        assert isinstance(own, BatchProbe)
        self.assertEqual((own.room, own.device), (300 * 1024, "office card"))
        for wrong in ("", "large", "0", "-2 GiB", "1e400", "nan GiB", "2 GiB 2", "9 EiB"):
            with self.subTest(wrong), self.assertRaisesRegex(InputError, "6 GiB, or one of"):
                probe(self.workspace, self.data, BASE, "batch", wrong)

    def test_it_is_cancelled_without_a_trace(self) -> None:
        def give_up(step: str, done: float) -> None:
            raise Enough

        with self.assertRaises(Enough):
            probe(self.workspace, self.data, BASE, "rate", on_progress=give_up)
        self.assertEqual(kept_probes(self.workspace), [])
        with self.workspace.locked("again"):
            pass

    def test_bad_requests_are_refused(self) -> None:
        for words in (("heat", "this machine"), ("rate", "toaster")):
            with self.assertRaises(InputError):
                probe(self.workspace, self.data, BASE, *words)
        with self.assertRaises(RecipeError):
            probe(self.workspace, self.data, BASE.changed({"network": "conv 4"}), "rate")
        with self.workspace.locked("search 1"), self.assertRaises(WorkspaceLocked):
            probe(self.workspace, self.data, BASE, "rate")


class Devices(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.workspace = ring_workspace(self.folder / "w")

    def test_the_list_is_edited_by_typing(self) -> None:
        self.assertEqual(known_devices(self.workspace), DEVICES)
        self.assertEqual(keep_device(self.workspace, " office card = 12 GiB "), "office card")
        self.assertEqual(keep_device(self.workspace, "large device ="), "")
        self.assertEqual(known_devices(self.workspace), {
            "small device": "2 GiB", "medium device": "8 GiB", "office card": "12 GiB"})
        self.assertIn("office card", device_lines(self.workspace)[-1])
        for wrong in ("= 2 GiB", "x = a lot", "this machine = 2 GiB", "nothing =", "a\x1bb = 2 GiB",
                      "n" * 61 + " = 2 GiB", "x = 2 GiB = 3 GiB"):
            with self.subTest(wrong), self.assertRaises(InputError):
                keep_device(self.workspace, wrong)
        self.assertEqual(len(known_devices(self.workspace)), 3)

    def test_a_file_that_cannot_be_used_says_where_and_what_to_do(self) -> None:
        path = self.workspace.folder / "devices.toml"
        for text in ("x = 3", 'x = "a lot"', "x = [", "\xff", '"a\\u001bb" = "2 GiB"',
                     "\n".join(f'd{i} = "2 GiB"' for i in range(51))):
            path.write_bytes(text.encode("latin-1"))
            with self.subTest(text[:20]), self.assertRaises(InputError) as caught:
                known_devices(self.workspace)
            self.assertIn("devices.toml", caught.exception.where)
            path.write_text('"office card" = "12 GiB"')  # as the remedy says
            self.assertEqual(list(known_devices(self.workspace)), ["office card"])

    def test_commands(self) -> None:
        place = str(self.workspace.folder)
        ran = commanded(self.folder, "devices", "office card = 12 GiB", "-w", place)
        self.assertIn("12 GiB", ran.stdout)
        ran = commanded(self.folder, "devices", "--json", "-w", place)
        self.assertEqual(json.loads(ran.stdout)["office card"], "12 GiB")
        ran = commanded(self.folder, "devices", "office card", "-w", place)
        self.assertEqual(ran.returncode, 2)
        self.assertIn("type its name and =", ran.stderr)
        ran = commanded(self.folder, "devices", "office card =", "-w", place)
        self.assertEqual(ran.returncode, 0)
        self.assertNotIn("office card", ran.stdout)


if __name__ == "__main__":
    unittest.main()
