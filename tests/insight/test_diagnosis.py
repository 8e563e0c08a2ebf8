"""Symptoms are found in the trainings that show them, causes first, and nothing in healthy ones.

Thresholds are proved on several hundred trainings by ``python -m benchmarks.diagnosis``.
"""

from __future__ import annotations

import math
import unittest
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import cast

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from axiarch.insight import remedies
from axiarch.insight.diagnosis import FOLLOWS, LOOKS, _outlier, diagnose, diagnose_runs
from axiarch.insight.evidence import Evidence, smoothed, target_share
from axiarch.insight.proposal import Change, Proposal
from axiarch.insight.symptoms import ending, layers, readings, rows
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import SearchFile, read_search, write_search
from axiarch.recipes.space import Space
from axiarch.runs.curve import Curve
from axiarch.runs.epoch import Epoch, Layer

HEALTHY: Layer = (1.0, 0.02, 1e-3, 0.0)


def falling(start: float, end: float, epochs: int, pace: float = 4.0) -> list[float]:
    return [end + (start - end) * math.exp(-e / pace) for e in range(epochs)]


def evidence(validation: Sequence[float], training: Sequence[float] | None = None,
             values: dict[str, object] | None = None, reason: str = "completed",
             layers: Sequence[Layer] = (HEALTHY,) * 3, noisy: Sequence[float] | None = None,
             norms: float | Sequence[float] = 1.0, **more: object) -> Evidence:
    """Return a run with these losses; the baseline is at 1.0."""
    training = training or [0.8 * v for v in validation]
    each = [norms] * len(validation) if isinstance(norms, float) else norms
    epochs = tuple(
        Epoch(0, i + 1, (noisy or training)[i], training[i], v, (0.5,), 1e-3, each[i], 0.01,
              tuple(layers), 0.0, each[i]) for i, v in enumerate(validation))
    recipe = Recipe({"epochs": max(len(epochs), 1), "patience": 0, **(values or {})})
    return replace(Evidence(recipe, Curve(epochs, tuple(range(len(epochs)))), reason, "", 1000,
                            1.0), **more)  # type: ignore[arg-type]


def names(e: Evidence) -> list[str]:
    return [p.name for p in diagnose(e)]


@dataclass
class Came:
    """What a run came to."""

    level: float
    fold: int
    name: str = ""


class Symptoms(unittest.TestCase):
    def test_a_healthy_training_is_not_accused(self) -> None:
        self.assertEqual(names(evidence(falling(1.2, 0.5, 40))), [])
        self.assertEqual(names(evidence([])), [])

    def test_only_what_is_in_use_is_called_the_reason(self) -> None:
        for values, found in ({}, []), ({"mixup": 0.2}, ["noise"]), (
                {"network": "16 drop 0.2"}, ["noise"]):
            each = evidence([0.5] * 20, [0.45] * 20, values, noisy=[0.7] * 20)
            self.assertEqual([n for n in names(each) if n == "noise"], found)

    def test_each_is_found_with_its_place(self) -> None:
        rng = np.random.default_rng(0)
        flat = [1.0] * 12
        good = falling(1.2, 0.5, 40)
        rising = [*falling(1.2, 0.5, 15), *(0.5 + 0.02 * i for i in range(25))]
        bumps = (np.array(falling(1.2, 0.4, 40)) + 0.08 * rng.normal(size=40)).tolist()
        jumps = (np.array(good) * (1 + 0.12 * rng.normal(size=40))).tolist()
        late = np.array(falling(1.0, 0.01, 40, 8))
        late[32::3] += 0.1  # jumps long after the best epoch, where the loss is near 0
        late = late.tolist()
        slow: Layer = (1.0, 0.0, 1e-6, 0.0)
        dead: Layer = (1.0, 0.9, 1e-3, 0.0)
        stiff: Layer = (1.0, 0.0, 1e-3, 0.9)
        deep = [(1e-8, 0.0, 1e-3, 0.0), *[(1e-3, 0.0, 1e-3, 0.0)] * 4, HEALTHY]
        spike = [1.0] * 39 + [1e5]
        cases: list[tuple[str, Evidence]] = [
            ("diverged", evidence([0.9, math.inf], reason="diverged")),
            ("rate_high", evidence(flat, flat, {"learning_rate": 0.5})),
            ("rate_high", evidence(good, bumps)),
            ("rate_low", evidence(falling(1.2, 0.5, 12, 60), None, layers=[slow] * 3)),
            ("clipped", evidence(good, None, {"clip_norm": 0.01, "optimiser": "sgd"}, norms=3.0)),
            ("vanishing", evidence(flat, flat, layers=deep)),
            ("exploding", evidence(good, norms=spike)),
            ("dead", evidence(good, layers=[dead, HEALTHY, HEALTHY])),
            ("saturated", evidence(good, layers=[HEALTHY, stiff, HEALTHY])),
            ("too_regularised", evidence(flat, flat, {"dropout": 0.9})),
            ("too_regularised", evidence([0.9] * 12, [0.9] * 12, {"dropout": 0.9, "l2": 1.0},
                                         linear=0.6)),
            ("underfits", evidence([0.8] * 12, [0.79] * 12, linear=0.6)),
            ("underfits", evidence(good, [0.6] * 40, best_known=0.4)),
            ("stuck", evidence(flat, flat)),
            ("no_skill", evidence(flat, [0.9] * 12)),
            ("improving", evidence(falling(1.2, 0.2, 20, 30))),
            ("improving", evidence([0.9, 0.8, 0.72, 0.66, 0.6])),
            ("improving", evidence([1.19, 1.17, 1.157, 1.147, 1.135])),
            ("overfits", evidence(rising, falling(1.0, 0.01, 40, 8))),
            ("overfits", evidence(rising, late)),
            ("target_scale", evidence(good, bumps, amounts=True, target_share=0.9)),
            ("overfits", evidence(good, falling(1.0, 0.02, 40))),
            ("jumpy", evidence(jumps, falling(1.0, 0.4, 40))),
            ("batch_large", evidence(falling(1.2, 0.4, 12, 20), None, {"batch_size": 500})),
            ("short_patience", evidence(falling(1.2, 0.5, 9), None,
                                        {"patience": 1, "epochs": 100}, "patience")),
            ("long_patience", evidence([*falling(1.2, 0.5, 12, 1.5), *[0.5001] * 60])),
            ("linear", evidence([0.7] * 20, [0.4] * 20, linear=0.69)),
            ("single_unit", evidence(flat, flat, {"width": 1, "normalisation": "layer"})),
            ("easier", evidence([0.5] * 12, [0.7] * 12)),
            ("noise", evidence([0.5] * 20, [0.45] * 20, {"dropout": 0.2}, noisy=[0.7] * 20)),
            ("lucky", evidence([*[0.6] * 15, 0.5, *[0.6] * 15], [0.55] * 31)),
            ("tiny_batches", evidence(good, None, {"batch_size": 2})),
            ("single_row", evidence(good, None, {"batch_size": 37, "normalisation": "batch"})),
        ]
        pooled = {"network": "conv 6, pool 2, hidden", "depth": 1}
        cases.append(("dead", evidence(good, None, pooled, layers=[HEALTHY, dead, HEALTHY])))
        for name, each in cases:
            with self.subTest(name):
                found = names(each)
                self.assertTrue(found and found[0] == name, (name, found))
        for squared in (True, False):
            (ruled,) = diagnose(evidence(good, bumps, amounts=True, target_share=0.9,
                                         squared=squared))
            self.assertEqual("rank by the mean absolute error" in ruled.evidence, squared)
        overfit = diagnose(evidence(rising, falling(1.0, 0.01, 40, 8)))[0]
        self.assertIn(overfit.epoch, range(12, 18))
        self.assertIn("rises by", overfit.evidence)
        self.assertEqual(diagnose(evidence(flat, flat, layers=deep))[0].layer, 1)

    def test_remedies_of_a_last_batch_of_one_row_leave_none(self) -> None:
        for size in (3, 9, 27, 37, 111, 333, 999):  # 1000 rows
            values = {"batch_size": size, "normalisation": "batch"}
            found = layers.single_row(evidence([0.5] * 9, None, values))
            assert found is not None
            self.assertEqual(found.layer, 1)
            for change in found.changes:
                self.assertIsNone(layers.single_row(evidence([0.5] * 9, None, {
                    **values, **change.values})), (size, change.words))
        zero: Layer = (0.0, 0.0, 1e-3, 0.0)  # no gradient passes through a row that is all 0
        found_all = names(evidence(falling(1.2, 0.5, 40), None, {
            "batch_size": 37, "normalisation": "batch"}, layers=[zero] * 4 + [HEALTHY]))
        self.assertEqual(found_all, ["single_row"])
        for values in ({"batch_size": 1}, {"batch_size": 36}, {"batch_size": 1000},
                       {"batch_size": 37, "normalisation": "layer"},
                       {"batch_size": 37, "last_batch": "drop"}):
            self.assertIsNone(layers.single_row(evidence([0.5] * 9, None, {
                "normalisation": "batch", **values})), values)

    def test_waiting_for_rows(self) -> None:
        e = evidence(falling(1.2, 0.5, 40))
        epochs = tuple(replace(epoch, seconds=1.0, waited=0.6) for epoch in e.curve.epochs)
        self.assertIn("waiting", names(replace(e, curve=Curve(epochs, e.curve.spent))))

    def test_rows_tell_of_classes_and_of_far_values(self) -> None:
        good = falling(1.2, 0.5, 40)
        labels = np.repeat(np.arange(4), 30)
        losses = np.where(labels == 2, 3.0, 0.1)
        found = diagnose(evidence(good, row_losses=losses, labels=labels,
                                  classes=("a", "b", "rare\x1b[31m", "d")))
        self.assertEqual([p.name for p in found], ["never_predicted"])
        self.assertNotIn("\x1b", found[0].evidence)
        seen = evidence(good, row_losses=losses, labels=labels, classes=("a", "b", "c", "d"))
        self.assertEqual(names(replace(seen, predicted=labels)), [])
        self.assertEqual(names(replace(seen, predicted=np.where(labels == 1, 0, labels))),
                         ["never_predicted"])
        squares = np.ones(300)
        squares[:3] = 400.0
        self.assertEqual(names(evidence(good, row_losses=squares, amounts=True)), ["target_scale"])
        self.assertEqual(names(evidence(good, row_losses=np.ones(300), amounts=True)), [])

    def test_smoothing_keeps_a_straight_line(self) -> None:
        np.testing.assert_allclose(smoothed(np.arange(9.0))[1:-1], np.arange(1.0, 8.0))

    @given(st.lists(st.floats(1e-6, 1e6), min_size=1, max_size=30),
           st.lists(st.floats(1e-6, 1e6), min_size=1, max_size=30))
    @settings(max_examples=60, deadline=None)
    def test_no_curve_breaks_it(self, validation: list[float], training: list[float]) -> None:
        size = min(len(validation), len(training))
        for proposal in diagnose(evidence(validation[:size], training[:size], linear=0.5,
                                          best_known=0.1)):
            self.assertTrue(proposal.evidence.endswith("."))

    def test_causes_name_known_findings(self) -> None:
        source = {p for look in LOOKS for p in (look.__name__,)}
        self.assertEqual(len(source), len(LOOKS))
        known = set(FOLLOWS) | {n for each in FOLLOWS.values() for n in each}
        made = {"diverged", "single_unit", "vanishing", "target_scale", "rate_high", "clipped",
                "exploding", "saturated", "dead", "rate_low", "too_regularised", "batch_large",
                "short_patience", "improving", "underfits", "stuck", "overfits", "jumpy",
                "never_predicted", "linear", "easier", "waiting", "tiny_batches", "long_patience",
                "noise", "lucky", "single_row", "no_skill"}
        self.assertLessEqual(known, made)


class Shares(unittest.TestCase):
    def test_what_does_not_hold_on_other_rows_is_not_called_a_class_never_recognised(self) -> None:
        e = evidence([1.02, 1.01, 1.0, 1.0, 1.01, 1.0, 1.01, 1.0, 1.01, 1.0],
                     [1.0, 0.99, 0.98, 0.97, 0.96, 0.95, 0.95, 0.94, 0.94, 0.93],
                     classes=("a", "b", "c"), row_losses=np.full(30, 1.0),
                     labels=np.repeat([0, 1, 2], 10), predicted=np.zeros(30, np.int64))
        self.assertEqual(names(e), ["no_skill"])
        (found,) = diagnose(e)
        self.assertIn("that of the baseline is 1.0000", found.evidence)

    def test_a_loss_that_falls_fast_at_a_low_rate_is_still_improving(self) -> None:
        """Of a rare class the baseline is low, and the loss begins far above it."""
        losses = [1.2, 1.0, 0.85, 0.72, 0.61, 0.53, 0.47, 0.42, 0.38, 0.35, 0.33, 0.31, 0.29, 0.28]
        (found,) = diagnose(replace(evidence(losses, losses), baseline=0.13))
        self.assertEqual(found.name, "improving")
        self.assertIn("In the last 7 epochs the validation loss fell from 0.4700 to 0.2800.",
                      found.evidence)

    def test_far_values_of_a_target_are_told_from_normal_ones(self) -> None:
        rng = np.random.default_rng(0)
        normal = rng.normal(size=(4000, 1)).astype(np.float32)
        self.assertLess(target_share(normal), 0.12)
        self.assertGreater(target_share(np.exp(3 * normal)), rows.FAR)
        both = np.hstack([normal, np.exp(3 * normal)])
        self.assertEqual(target_share(both), target_share(np.exp(3 * normal)))

    def test_a_short_run_that_levels_off_is_not_called_improving(self) -> None:
        for losses in ([1.0, 0.9, 0.85, 0.849, 0.8489], [0.9, 0.8, 0.81, 0.8, 0.795],
                       [0.7, 0.699, 0.698, 0.697, 0.696, 0.695]):
            self.assertNotIn("improving", names(evidence(losses)))


    def test_units_saturated_from_the_start_are_normalised(self) -> None:
        stiff: Layer = (1.0, 0.0, 1e-3, 0.9)
        at_once = evidence(falling(1.2, 0.5, 40), layers=[HEALTHY, stiff, HEALTHY])
        later = replace(at_once, curve=replace(at_once.curve, epochs=(
            replace(at_once.curve.epochs[0], layers=(HEALTHY,) * 3), *at_once.curve.epochs[1:])))
        for each, first in ((at_once, "Normalise the layers"), (later, "Lower the learning rate")):
            found = diagnose(each)[0]
            self.assertEqual((found.name, found.changes[0].words), ("saturated", first))

    def test_a_class_that_is_predicted_by_accident_is_not_recognised(self) -> None:
        labels = np.repeat([0, 1, 2], (100, 100, 10))
        told = np.repeat([0, 1], (100, 110))
        few, many, right = told.copy(), told.copy(), told.copy()
        few[:2], many[:3], right[-1] = 2, 2, 2
        for predicted, found in ((told, True), (few, True), (many, False), (right, False)):
            each = evidence(falling(1.2, 0.5, 40), classes=("a", "b", "c"), labels=labels,
                            row_losses=np.ones(210), predicted=predicted)
            self.assertEqual("never_predicted" in names(each), found)

    def test_a_gradient_far_above_the_others_explains_a_loss_that_jumps(self) -> None:
        rng = np.random.default_rng(0)
        bumps = (np.array(falling(1.2, 0.4, 40)) + 0.08 * rng.normal(size=40)).tolist()
        good = falling(1.2, 0.5, 40)
        self.assertEqual(names(evidence(good, bumps))[0], "rate_high")
        spike = [1.0] * 39 + [1e5]
        self.assertEqual(names(evidence(good, bumps, norms=spike))[0], "exploding")
        for values, words in (({}, ["Normalise the layers", "Clip the gradient"]),
                              ({"clip_norm": 1.0}, ["Normalise the layers"]),
                              ({"normalisation": "layer", "clip_norm": 50.0},
                               ["Clip the gradient"])):
            changes = diagnose(evidence(good, None, values, norms=spike))[0].changes
            self.assertEqual([c.words for c in changes], [*words, "Lower the learning rate"])


class Runs(unittest.TestCase):
    def test_what_one_run_of_three_shows_is_not_the_recipes(self) -> None:
        good, bad = evidence(falling(1.2, 0.5, 40)), evidence([1.0] * 12, [1.0] * 12)
        self.assertEqual(diagnose_runs([good, good, bad]), ())
        self.assertEqual([p.name for p in diagnose_runs([bad, bad, good])], ["stuck"])

    def test_what_is_harmless_comes_last(self) -> None:
        easier = evidence([0.5] * 12, [0.7] * 12)
        jumps = [0.5 + 0.1 * (i % 2) for i in range(12)]
        found = diagnose_runs([easier, evidence(jumps, [0.7] * 12)])
        self.assertEqual([p.name for p in found], ["jumpy", "easier", "lucky"])

    def test_a_cause_in_one_run_explains_what_another_shows(self) -> None:
        high = {"learning_rate": 5.0, "optimiser": "adam"}
        far = evidence([2.0], [30.0], high, reason="diverged")
        dead = evidence([1.0] * 12, values=high, layers=[(1e-9, 1e-9, 0.0, 1.0)] * 3)
        self.assertEqual((names(far), names(dead)), (["diverged"], ["saturated"]))
        self.assertEqual([p.name for p in diagnose_runs([far, dead])], ["diverged"])
        noisy = evidence([2.0], [1.5], high, reason="diverged", noisy=[40.0])
        self.assertEqual(names(noisy), ["diverged"])

    def test_a_run_that_differs_is_named(self) -> None:
        runs = [evidence(falling(1.2, 0.5 + 0.005 * i, 40)) for i in range(5)]
        self.assertEqual(diagnose_runs(runs), ())
        found = diagnose_runs([*runs, evidence(falling(1.2, 0.75, 40))])
        self.assertEqual([p.name for p in found], ["outlier"])
        self.assertIn("Run 6 of 6", found[0].evidence)
        named = replace(evidence(falling(1.2, 0.75, 40)), name="seed 6, fold 2")
        self.assertIn("Seed 6, fold 2 of 6 runs came to", diagnose_runs([*runs, named])[0].evidence)

    def test_what_scatters_is_seldom_called_different(self) -> None:
        rng = np.random.default_rng(0)
        for folds, seeds, spread in ((1, 5, 0.1), (5, 1, 0.1), (5, 2, 0.15), (10, 1, 0.06)):
            alarms = 0
            for _ in range(400):
                hard = 1 + spread * rng.normal(size=folds) * (folds > 1)
                runs = [cast(Evidence, Came(0.5 * hard[k] * (1 + 0.1 * rng.normal()), k))
                        for k in range(folds) for _ in range(seeds)]
                alarms += bool(_outlier(runs))
            self.assertLess(alarms / 400, 0.05, (folds, seeds))

    def test_a_fold_that_differs_is_named(self) -> None:
        """Its runs on both seeds; not where folds scatter, nor where one of its runs is usual."""
        def runs(last: Sequence[float]) -> list[Evidence]:
            levels = [0.5, 0.51, 0.49, 0.5, 0.505, 0.495, 0.5, 0.51, *last]
            return [replace(evidence(falling(1.2, level, 40)), fold=i // 2)
                    for i, level in enumerate(levels)]

        found = diagnose_runs(runs([0.7, 0.75]))
        self.assertEqual([p.title for p in found], ["fold 5 differs from the others"])
        self.assertIn("(2 runs), the others to 0.50", found[0].evidence)
        self.assertEqual(diagnose_runs(runs([0.52, 0.53])), ())
        self.assertEqual([p.title for p in diagnose_runs(runs([0.5, 0.75]))],
                         ["one run differs from the others"])


RECIPES = st.fixed_dictionaries({}, optional={
    "learning_rate": st.floats(1e-10, 900), "batch_size": st.integers(1, 100_000),
    "width": st.integers(1, 16384), "depth": st.integers(0, 64),
    "dropout": st.floats(0, 0.95), "weight_decay": st.floats(0, 100),
    "epochs": st.integers(1, 100_000), "patience": st.integers(0, 100_000),
    "clip_norm": st.floats(0, 1e9), "l2": st.floats(0, 100), "max_norm": st.floats(0, 1e6),
    "network": st.sampled_from(["hidden", "32, 16", "64 tanh, hidden"]),
    "optimiser": st.sampled_from(["sgd", "adam", "lion", "momentum"])})


class Remedies(unittest.TestCase):
    def changes(self, recipe: Recipe) -> list[Change]:
        found = [remedies.lower_rate(recipe), remedies.lower_rate(recipe, True),
                 remedies.usual_rate(recipe), remedies.higher_rate(recipe),
                 remedies.more_epochs(recipe), remedies.more_patience(recipe),
                 remedies.less_patience(recipe), remedies.more_capacity(recipe),
                 remedies.less_capacity(recipe), remedies.regularise(recipe),
                 remedies.less_regularisation(recipe), remedies.normalise(recipe),
                 remedies.skips(recipe), remedies.shallower(recipe), remedies.living_units(recipe),
                 remedies.larger_batch(recipe), remedies.smaller_batch(recipe, 1000),
                 remedies.no_clipping(recipe, 3.0), remedies.falling_rate(recipe),
                 remedies.robust_loss(), remedies.balanced(recipe), remedies.two_units(recipe)]
        return [change for change in found if change is not None]

    @given(RECIPES)
    @settings(max_examples=150, deadline=None)
    def test_every_change_of_every_recipe_can_be_made(self, values: dict[str, object]) -> None:
        """On the sheet and as a follow-up search, both of which can be written and read."""
        recipe = Recipe(values)
        search = SearchFile("x", "d", Space(recipe))
        for change in self.changes(recipe):
            after = change.applied(search)
            self.assertEqual(read_search(write_search(after)), after, change)
            branch = search.with_space(Space(recipe, change.branch(recipe)))
            self.assertEqual(read_search(write_search(branch)), branch, change)
            for point in (0.0, 0.5, 0.999):
                self.assertIsNotNone(branch.space.at([point] * len(branch.space.knobs)))

    def test_thresholds_have_an_order(self) -> None:
        self.assertLess(readings.STUCK_TRAINING, readings.STUCK)
        self.assertLess(ending.FALLING_ONCE, ending.FALLING)


class Evidences(unittest.TestCase):
    def test_every_finding_reads_as_a_sentence(self) -> None:
        found: list[Proposal] = []
        for values in ({"learning_rate": 0.5}, {"dropout": 0.9}, {"batch_size": 2}):
            found += diagnose(evidence([1.0] * 12, [1.0] * 12, values))
        for each in found:
            self.assertTrue(each.evidence[0].isupper() and each.evidence.endswith("."), each)
            self.assertFalse(each.title.endswith("."))


if __name__ == "__main__":
    unittest.main()
