"""What every method must do, and what each one does."""

from __future__ import annotations

import math
import statistics
import time
import unittest
from collections import Counter
from collections.abc import Callable
from unittest import mock

import numpy as np

from axiarch.errors import RecipeError
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import MethodChoice
from axiarch.recipes.space import Space, space
from axiarch.search import guided
from axiarch.search.guided import ModelDriven
from axiarch.search.method import Method, Observation, Step
from axiarch.search.methods import METHODS, make_method
from axiarch.search.model import Features, Model, Observed, _tamed, expected_improvement
from axiarch.search.racing import CONFIRM_EVERY, Racing
from axiarch.search.sequence import StepSequence, TakenStep
from benchmarks.simulated import PROBLEMS, Driven, Problem, drive

MIXED = {
    "learning_rate": "1e-4 .. 1e-1 log", "batch_size": "16 | 32", "optimiser": "sgd | momentum",
    "momentum": "0.5 .. 0.9 when optimiser = momentum", "depth": "1 .. 3"
}


def driven(method: Method,
           on_progress: Callable[[Recipe], float] = lambda r: 1.0,
           replicates: int = 1,
           most: int = 3000) -> Driven:
    """Drive a method to its end on losses that do not change from epoch to epoch."""
    return drive(method,
                 lambda r, b: (on_progress(r), ) * r.whole("epochs"),
                 on_progress,
                 replicates,
                 max_steps=most)


def all_of(method: Method, on_progress: Callable[[Recipe], float] = lambda r: 1.0) -> list[Recipe]:
    """Return the recipes that a method proposes until it has no more."""
    return list(driven(method, on_progress).recipes.values())


def uneven(recipe: Recipe) -> float:
    """Return a loss that depends on everything, for methods that look at it."""
    return 0.3 + int(recipe.fingerprint[:6], 16) / 2**24


class MethodsConform(unittest.TestCase):
    """Laws that hold for every method."""

    def make(self, name: str, s: Space, seed: int = 1) -> Method:
        """Return a method, one that works on a model with fewer recipes than it has by default."""
        options = {"recipes": 28} if issubclass(METHODS[name], ModelDriven) else {}
        return make_method(MethodChoice(name, options), s, seed)

    def each(self) -> list[str]:
        """All methods that try recipes of the space: a ladder of capacity has rungs of its own."""
        return [name for name in METHODS if name != "capacity"]

    def test_the_same_seed_proposes_the_same(self) -> None:
        for name in self.each():
            s = space({}, MIXED)
            one, two = (driven(self.make(name, s), uneven) for _ in range(2))
            self.assertEqual(one.steps, two.steps, name)

    def test_nothing_is_proposed_twice(self) -> None:
        for name in self.each():
            found = all_of(self.make(name, space({}, MIXED)), uneven)
            self.assertEqual(len(set(found)), len(found), name)
            self.assertGreater(len(found), 5, name)

    def test_conditions_constraints_and_ranges_are_respected(self) -> None:
        s = space({}, MIXED, ["batch_size * depth <= 64"])
        for name in self.each():
            for recipe in all_of(self.make(name, s), uneven)[1:]:
                with self.subTest(name=name, recipe=recipe):
                    self.assertTrue(s.allows(recipe))
                    for k in s.knobs:
                        if (k.when is None
                                or k.when.holds(recipe)) and recipe[k.name] != s.base[k.name]:
                            self.assertIn(recipe[k.name], k.range)

    def test_the_base_recipe_comes_first_unless_forbidden(self) -> None:
        for name in self.each():
            self.assertEqual(all_of(self.make(name, space({}, MIXED)))[0], Recipe())
            forbidden = space({"depth": 9}, {"depth": "1 .. 3"}, ["depth <= 3"])
            self.assertNotEqual(all_of(self.make(name, forbidden))[0], forbidden.base)

    def test_a_small_space_is_used_up_and_no_more(self) -> None:
        s = space({}, {"width": "8 | 16", "depth": "1 | 2"})
        for name in self.each():
            found = all_of(self.make(name, s))
            self.assertLessEqual(set(found), {*s.grid(5), s.base}, name)
            if name != "zoom":
                self.assertEqual(set(found), {*s.grid(5), s.base}, name)
                self.assertEqual(self.make(name, s).expected, len(found), name)

    def test_no_more_recipes_and_epochs_than_expected(self) -> None:
        for name in self.each():
            for replicates in (1, 6):
                options = {"recipes": 28} if name != "grid" else {}
                made = make_method(MethodChoice(name, options), space({}, MIXED), 2, replicates)
                found = driven(made, uneven, replicates)
                self.assertLessEqual(len(found.recipes), made.expected, name)
                self.assertLessEqual(found.spent[-1], 1.4 * made.expected_epochs, name)

    def test_it_goes_on_after_a_restart_as_if_nothing_had_happened(self) -> None:
        """Steps taken and outcomes observed again bring a fresh method to where the search
        stood.
        """
        s = space({}, MIXED)
        for name in self.each():
            whole = self.sequence(name, s)
            for stop in (1, 7, len(whole.steps) * 2 // 3):
                again = self.sequence(name, s, whole.steps[:stop])
                self.assertEqual(again.steps, whole.steps, (name, stop))

    def sequence(self, name: str, s: Space, before: list[TakenStep] | None = None) -> StepSequence:
        """Return the sequence of a whole search, with steps of an earlier sitting before it."""

        def outcome(taken: TakenStep) -> Observation:
            until = taken.step.until or 40
            return Observation(taken.number, taken.step.recipe,
                               ((uneven(taken.step.recipe), ) * until, ), until == 40)

        sequence = StepSequence(self.make(name, s), outcome)
        for taken in before or []:
            sequence.take(taken.step, taken.number, taken.observed)
        while (step := sequence.decide()) is not None:
            sequence.take(step, step.number or len(sequence.method.recipes) + 1)
        return sequence

    def test_what_diverges_or_fails_is_no_obstacle(self) -> None:
        for name in self.each():
            s = space({}, MIXED)
            for on_progress in (lambda r: math.inf, lambda r: math.inf
                                if uneven(r) < 0.8 else uneven(r)):
                found = driven(self.make(name, s), on_progress)
                self.assertGreater(len(found.recipes), 5, name)

    def test_it_decides_no_more_than_its_window_ahead(self) -> None:
        for name in self.each():
            method = self.make(name, space({}, MIXED))
            sequence = StepSequence(method, lambda taken: None)
            while len(sequence.steps) < 300 and (step := sequence.decide()) is not None:
                sequence.take(step, step.number or len(sequence.steps) + 1)
            self.assertLessEqual(len(sequence.steps), max(method.window, 1))
            self.assertGreater(len(sequence.steps), 0)

    def test_it_works_with_ten_thousand_results(self) -> None:
        s = space({}, MIXED | {"dropout": "0 .. 0.5", "l2": "1e-6 .. 1e-2 log"})
        drawn = np.random.default_rng(0).random((10_000, len(s.knobs))).tolist()
        recipes = [s.at(point) or s.base for point in drawn]
        for name in ("guided_racing", "racing", "guided", "random", "spread"):
            method = make_method(MethodChoice(name, {"recipes": 20_000}), s, 1)
            for n, recipe in enumerate(recipes, 1):
                method.take(Step(recipe, until=4, replicates=1), n)
                method.observe(Observation(n, recipe, ((uneven(recipe),) * 4,), False))
            started = time.process_time()
            self.assertIsNotNone(method.next())
            self.assertLess(time.process_time() - started, 20, name)

    def test_a_recipe_cut_by_hand_is_left_alone_and_a_budget_can_be_raised(self) -> None:
        for name in self.each():
            method = self.make(name, space({}, MIXED))
            sequence = StepSequence(
                method, lambda t: Observation(t.number, t.step.recipe,
                                              ((0.5, ) * (t.step.until or 40), ), not t.step.until))
            step = sequence.decide()
            assert step is not None
            sequence.take(step, 1)
            sequence.override("cut", 1)
            if "recipes" in method.values:
                sequence.override("recipes", method.values["recipes"] + 3)
            while (step := sequence.decide()) is not None:
                self.assertNotEqual(step.number, 1)
                sequence.take(step, step.number or len(method.recipes) + 1)
            if name in ("random", "spread", "guided"):
                self.assertEqual(len(method.recipes), method.values["recipes"], name)
            elif "racing" in name:  # which ends before where full trainings used up the epochs
                self.assertLessEqual(len(method.recipes), method.values["recipes"], name)
                self.assertGreater(len(method.recipes), 0.6 * method.values["recipes"], name)

    def test_a_space_without_knobs_is_the_base_alone(self) -> None:
        for name in self.each():
            self.assertEqual(all_of(self.make(name, Space())), [Recipe()], name)

    def test_each_says_when_to_use_it(self) -> None:
        for method in METHODS.values():
            self.assertTrue(method.summary)
            for option in method.options:
                self.assertTrue(option.summary and option.low <= option.default <= option.high)

    def test_bad_options_are_refused_in_words(self) -> None:
        for name in self.each():
            with self.assertRaises(RecipeError):
                make_method(MethodChoice(name, {"nothing": 1}), Space(), 1)
            for option in METHODS[name].options:
                for value in (option.low - 1, option.high + 1, 1.5, "x", True):
                    with self.assertRaises(RecipeError):
                        make_method(MethodChoice(name, {option.name: value}), Space(), 1)

    def test_an_unknown_method_names_the_known_ones(self) -> None:
        with self.assertRaises(RecipeError) as caught:
            make_method(MethodChoice("magic"), Space(), 1)
        self.assertIn("random", caught.exception.remedy)


class RandomMethod(unittest.TestCase):
    def test_it_spreads_over_the_whole_range(self) -> None:
        s = space({}, {"learning_rate": "1e-4 .. 1e0 log"})
        found = all_of(make_method(MethodChoice("random", {"recipes": 400}), s, 3))
        low = sum(float(r["learning_rate"]) < 1e-2 for r in found)
        self.assertAlmostEqual(low / 400, 0.5, delta=0.08)

    def test_a_budget_is_kept(self) -> None:
        s = space({}, {"learning_rate": "1e-4 .. 1e0 log"})
        self.assertEqual(len(all_of(make_method(MethodChoice("random", {"recipes": 17}), s, 3))),
                         17)


class RacingMethod(unittest.TestCase):
    """Rounds, the promotion of the best share, probes, and finalists."""

    space = space({"epochs": 27, "patience": 0},
                  {"learning_rate": "1e-5 .. 1e0 log", "dropout": "0 .. 0.7"})

    def race(self,
             curve: Callable[[Recipe], list[float]],
             replicates: int = 1,
             **options: int) -> tuple[Racing, Driven]:
        method = make_method(MethodChoice("racing", {"recipes": 81, **options}), self.space, 4,
                             replicates)
        assert isinstance(method, Racing)
        return method, drive(method, lambda r, b: tuple(curve(r)), lambda r: curve(r)[-1],
                             replicates)

    def test_rounds_end_at_thirds_of_the_training(self) -> None:
        method, _ = self.race(lambda r: [uneven(r)] * 27)
        self.assertEqual(method.levels, (1, 3, 9, 27))
        short = make_method(MethodChoice("racing"), space({"epochs": 4}, {"dropout": "0 .. 0.5"}),
                            1)
        assert isinstance(short, Racing)
        self.assertEqual(short.levels, (1, 4))
        few = make_method(MethodChoice("racing", {"recipes": 12}), self.space, 1)
        assert isinstance(few, Racing)
        self.assertEqual(few.levels, (9, 27))

    def test_the_best_share_goes_on_and_the_best_is_found_at_a_fraction_of_the_epochs(self) -> None:
        method, found = self.race(lambda r: [uneven(r) + 1 / (e + 1) for e in range(27)])
        truth = {n: uneven(r) for n, r in found.recipes.items()}
        in_full = [n for n in truth if method._until[n] == 27]
        self.assertIn(min(truth, key=truth.__getitem__), in_full)
        self.assertLess(len(in_full), 28)
        self.assertLess(found.spent[-1], 0.45 * 81 * 27)
        self.assertIn("one in 3 went on", method.cut_reason(max(truth, key=truth.__getitem__)))

    def test_where_early_epochs_mislead_most_epochs_go_to_full_trainings(self) -> None:
        """What leads after three epochs ends last: a race that believed them would keep the
        worst.
        """
        curve = lambda r: [uneven(r) if e >= 12 else 3 - uneven(r) for e in range(27)]  # noqa: E731
        method, found = self.race(curve)
        self.assertLess(method.agreement(0) or 0.0, -0.9)
        self.assertGreater(method._spent["full"], 1.5 * method._spent["race"])
        best = min(method._means, key=lambda n: method._means[n])
        self.assertIn(best, method._full)
        self.assertLess(method._means[best], sorted(map(uneven, found.recipes.values()))[7])

    def test_where_early_epochs_tell_more_go_to_the_race(self) -> None:
        tells, _ = self.race(lambda r: [uneven(r) + 1 / (e + 1) for e in range(27)])
        misleads, _ = self.race(
            lambda r: [uneven(r) if e >= 12 else 3 - uneven(r) for e in range(27)])
        one, other = (m._spent["race"] / m._spent["full"] for m in (tells, misleads))
        self.assertGreater(one, 1.25 * other)

    def test_the_base_recipe_is_trained_in_full(self) -> None:
        method, found = self.race(lambda r: [1.0 if r == self.space.base else uneven(r)] * 27)
        self.assertEqual(found.recipes[1], self.space.base)
        self.assertEqual(method._until[1], 27)

    def test_it_ends_when_it_has_spent_what_was_expected(self) -> None:
        for curve in (lambda r: [uneven(r) if e >= 12 else 3 - uneven(r) for e in range(27)],
                      lambda r: [uneven(r) + 1 / (e + 1) for e in range(27)]):
            for recipes in (4, 30, 150):
                method, found = self.race(curve, recipes=recipes)  # type: ignore[arg-type]
                self.assertLess(found.spent[-1], 1.4 * method.expected_epochs)

    def test_finalists_are_trained_on_every_block_until_the_best_are_all_known(self) -> None:
        method, found = self.race(lambda r: [uneven(r)] * 27, replicates=6, finalists=4)
        wide = [s.number for s in found.steps if s.replicates == 0]
        best = sorted(method._means, key=lambda n: method._means[n])[:4]
        self.assertLessEqual(set(best), set(wide))
        self.assertEqual(len(set(wide)), len(wide))
        self.assertLess(len(wide), 4 + len(found.recipes) // CONFIRM_EVERY)

    def test_a_leader_by_luck_is_found_out_on_the_way(self) -> None:
        """The first recipe has one lucky seed: it does not lead to the end, and the race does
        not run after it.
        """
        base = self.space.base
        method = make_method(MethodChoice("racing", {"recipes": 40, "window": 1}), self.space, 3, 3)
        assert isinstance(method, Racing)
        found = drive(method, lambda r, b: (0.0 if r == base and b == 0 else uneven(r), ) * 27,
                      uneven, 3)
        first = next(i for i, s in enumerate(found.steps) if s.replicates == 0)
        self.assertEqual(found.steps[first].number, 1)
        self.assertEqual(sum(s.number == 0 for s in found.steps[:first]), CONFIRM_EVERY)
        self.assertGreater(method._means[1], 0.0)


class Surrogate(unittest.TestCase):
    """The model of the loss over the space."""

    def observed(self,
             problem: Problem,
             rows: int,
             early: float = 0.0) -> tuple[Model, Features, np.random.Generator]:
        rng, features = np.random.default_rng(0), Features(problem.space)
        recipes = [
            problem.space.at(u) for u in rng.random((rows, len(problem.space.knobs))).tolist()
        ]
        y = np.array([problem.curve(r, i)[-1] for i, r in enumerate(recipes) if r is not None])
        x = np.array([features.of(r) for r in recipes if r is not None])
        return Model(Observed(x, np.full(rows, early), y, np.zeros(rows), np.arange(rows)),
                     features.owner), features, rng

    def test_it_tells_good_recipes_from_bad_ones_it_has_not_seen(self) -> None:
        for name, rows, least in (("network", 60, 0.9), ("hartmann", 60, 0.5), ("branin", 30, 0.8)):
            problem = PROBLEMS[name]
            model, features, rng = self.observed(problem, rows)
            recipes = [r for u in rng.random((200, len(problem.space.knobs))).tolist()
                       if (r := problem.space.at(u)) is not None]
            mean, deviation = model.predict(np.array([features.of(r) for r in recipes]))
            truth = np.log([problem.truth(r) for r in recipes])
            self.assertGreater(np.corrcoef(mean, truth)[0, 1], least, name)
            self.assertTrue((deviation > 0).all())

    def test_points_and_recipes_have_the_same_coordinates(self) -> None:
        s = space({"optimiser": "sgd"}, MIXED | {"rho": "0.5 .. 0.9", "width": "8 .. 64 doubling"})
        features = Features(s)
        points = np.random.default_rng(0).random((60, len(s.knobs)))
        for point, row in zip(points, features.at(points), strict=True):
            recipe = s.at(point.tolist())
            assert recipe is not None
            np.testing.assert_allclose(features.of(recipe), row, atol=2e-3)

    def test_it_is_sure_where_it_has_looked_and_not_elsewhere(self) -> None:
        features = Features(space({}, {"dropout": "0 .. 0.9"}))
        x = np.array([[0.1, 0.0], [0.2, 0.0], [0.3, 0.0]])
        model = Model(
            Observed(x, np.zeros(3), np.array([1.0, 0.9, 0.8]), np.zeros(3), np.arange(3)),
            features.owner)
        _, deviation = model.predict(np.array([[0.2, 0.0], [0.95, 0.0]]))
        self.assertLess(deviation[0], deviation[1])
        pending = model.with_pending(np.array([[0.95, 0.0]]))
        self.assertLess(pending.predict(np.array([[0.95, 0.0]]))[1][0], deviation[1])

    def test_points_taken_in_later_count_as_if_they_had_been_there(self) -> None:
        rng = np.random.default_rng(1)
        owner = [0, 0, 1, 1]
        x, new = rng.random((30, 4)), rng.random((5, 4))
        early = rng.choice([0.0, 0.5, 1.0], 30)
        observed = Observed(x, early, np.exp(rng.normal(size=30)), rng.random(30), np.arange(30))
        model = Model(observed, owner)
        grown, whole = model.with_pending(new), model.with_pending(new)
        whole._settle(whole.parameters)
        at = rng.random((40, 4))
        for part, same in zip(grown.predict(at), whole.predict(at), strict=True):
            np.testing.assert_allclose(part, same, atol=1e-6)

    def test_expected_improvement_against_sampling(self) -> None:
        rng = np.random.default_rng(0)
        drawn = rng.normal(0.3, 0.7, 400_000)
        found = expected_improvement(np.array([0.3]), np.array([0.7]), 0.1)
        self.assertAlmostEqual(found[0], float(np.maximum(0.1 - drawn, 0).mean()), places=2)

    def test_where_one_more_result_says_little_less_is_expected_of_it(self) -> None:
        mean, deviation = np.zeros(2), np.array([0.05, 0.5])
        plain, noisy = (expected_improvement(mean, deviation, 0.0, noise) for noise in (0.0, 0.2))
        self.assertTrue((noisy < plain).all())
        self.assertLess(noisy[0] / plain[0], 0.1 * noisy[1] / plain[1])

    def test_a_selection_that_went_on_does_not_make_the_rest_look_good(self) -> None:
        """Half as large at the end as early, and only the best went on: who did not is no better
        for that.
        """
        early = np.append(np.ones(9), np.zeros(3))
        losses = np.exp(np.append(np.linspace(0, 2, 9), np.linspace(0, 0.5, 3))) * np.where(
            early == 1, 1.0, 0.5)
        observed = Observed(np.zeros((12, 2)), early, losses, np.zeros(12),
                    np.append(np.arange(9), np.arange(3)))
        np.testing.assert_allclose(_tamed(observed)[0][:3], _tamed(observed)[0][9:], atol=1e-9)

    def test_what_is_not_finite_counts_among_the_worst(self) -> None:
        features = Features(space({}, {"dropout": "0 .. 0.9"}))
        x = np.array([[u, 0.0] for u in np.linspace(0, 1, 12)])
        y = np.where(x[:, 0] > 0.6, math.inf, 1 + x[:, 0])
        model = Model(Observed(x, np.zeros(12), y, np.zeros(12), np.arange(12)), features.owner)
        mean, _ = model.predict(np.array([[0.1, 0.0], [0.9, 0.0]]))
        self.assertLess(mean[0], mean[1])


class GuidedMethods(unittest.TestCase):
    """Against random search on losses with a known truth; the whole table is in
    benchmarks/methods.py.
    """
    def best(self,
             problem: Problem,
             name: str,
             recipes: int,
             most_epochs: float = math.inf) -> tuple[float, float]:
        """Return the median over seeds of the true loss that is come to, and of the epochs
        spent.
        """
        found = [
            drive(
                make_method(MethodChoice(name, {"recipes": recipes}), problem.space, seed),
                lambda r, b, s=seed: problem.curve(r, 100 * s + b),
                problem.truth,  # type: ignore[misc]
                most_epochs=most_epochs) for seed in range(5)
        ]
        return (statistics.median(each.best[-1] for each in found),
                statistics.median(each.spent[-1] for each in found))

    def test_random_search_needs_three_times_the_epochs(self) -> None:
        problem = PROBLEMS["hartmann"]
        for name, recipes in (("guided", 30), ("guided_racing", 60)):
            loss, epochs = self.best(problem, name, recipes)
            self.assertLess(loss, self.best(problem, "random", 10_000, 3 * epochs)[0], name)

    def test_a_race_is_no_worse_where_early_leaders_end_worst(self) -> None:
        problem = PROBLEMS["crossing"]
        loss, epochs = self.best(problem, "guided_racing", 30)
        self.assertLess(loss, 1.1 * self.best(problem, "random", 10_000, epochs)[0])


class Memory(unittest.TestCase):
    """Of more results than the model can take, which it takes."""

    @classmethod
    def setUpClass(cls) -> None:
        fewer = mock.patch.object(guided, "MOST_POINTS", 100)
        fewer.start()
        cls.addClassCleanup(fewer.stop)
        problem = PROBLEMS["rate"]
        method = make_method(MethodChoice("guided_racing", {"recipes": 200}), problem.space, 1)
        assert isinstance(method, ModelDriven)
        drive(method, lambda r, b: problem.curve(r, b), problem.truth)
        cls.method = method

    def test_it_depends_on_nothing_but_what_was_told_by_then(self) -> None:
        self.assertGreater(len(self.method.log), 250)
        for length in (90, 140, 160, 240):
            found = self.method._remembered(length)
            fresh = object.__new__(type(self.method))
            fresh.__dict__.update(space=self.method.space, log=self.method.log[:length])
            self.assertEqual(found, fresh._remembered(length))
            self.assertLessEqual(len(found), 130)
            self.assertEqual(found, sorted(set(found)))

    def test_bad_regions_are_not_forgotten_and_the_best_are_kept(self) -> None:
        log = self.method.log
        kept = self.method._remembered(len(log))
        at_end = sorted((log[i][2], i) for i in range(len(log)) if log[i][1] == 0.0)
        self.assertLessEqual({i for _, i in at_end[:10]}, set(kept))
        rates = [math.log10(log[i][0].real("learning_rate")) for i in kept]
        counts = [sum(low <= rate < low + 1 for rate in rates) for low in range(-5, 0)]
        self.assertGreaterEqual(min(counts), 3,
                                f"whole decades of the rate are forgotten: {counts}")


class StagedMethod(unittest.TestCase):
    def test_one_group_changes_at_a_time_around_the_best_so_far(self) -> None:
        s = space({}, {
            "batch_size": "16 .. 64 doubling", "optimiser": "sgd | momentum | adam | rmsprop",
            "dropout": "0 .. 0.5"
        })
        method = make_method(MethodChoice("staged", {"recipes": 31, "passes": 2}), s, 1)
        found = driven(method, uneven)
        groups = {"batch_size": "batches", "optimiser": "optimiser", "dropout": "regularisation"}
        kept = set()
        for i, step in enumerate(found.steps[1:], 1):
            bests = {min((x.recipe for x in found.steps[:n]), key=uneven) for n in range(1, i + 1)}
            near = [
                best for best in bests
                if len({groups[name] for name in step.recipe.difference(best)
                        if name in groups}) == 1
            ]
            self.assertTrue(near, step.why)
            kept |= set(near)
        self.assertGreater(len(kept), 1)


    def test_a_group_ends_when_its_last_recipe_has_its_result(self) -> None:
        """A first group of twelve combinations is used up early; the next one starts from the
        best of them.
        """
        s = space({"batch_size": 64, "epochs": 40}, {
            "batch_size": "16 | 32 | 64 | 128", "epochs": "20 | 40 | 80",
            "optimiser": "sgd | momentum | adam | rmsprop"})

        def loss(recipe: Recipe) -> float:
            return (abs(recipe.whole("batch_size") - 32) / 100 +
                    abs(recipe.whole("epochs") - 80) / 100 +
                    (0.1 if recipe.word("optimiser") != "rmsprop" else 0.0))

        method = make_method(MethodChoice("staged", {"recipes": 37, "passes": 1}), s, 1)
        found = driven(method, loss)
        first = [step.recipe for step in found.steps if "batches" in step.why]
        second = [step.recipe for step in found.steps if "optimiser" in step.why]
        self.assertEqual(len(first), 11, "all combinations but the base")
        self.assertEqual(len(second), 3)
        for recipe in second:
            self.assertEqual((recipe["batch_size"], recipe["epochs"]), (32, 80))
        self.assertEqual(loss(min(found.recipes.values(), key=loss)), 0.0)


class ZoomMethod(unittest.TestCase):
    def test_everything_stays_near_the_base(self) -> None:
        s = space({"learning_rate": 1e-2, "optimiser": "momentum", "width": 64}, {
            "learning_rate": "1e-4 .. 1e0 log", "optimiser": "sgd | momentum",
            "width": "8 .. 512 doubling"
        })
        for recipe in all_of(make_method(MethodChoice("zoom", {"recipes": 30}), s, 1)):
            self.assertLessEqual(abs(math.log10(recipe.real("learning_rate")) + 2), 0.51)
            self.assertEqual(recipe["optimiser"], "momentum")
            self.assertIn(recipe["width"], (32, 64, 128))


class PopulationMethod(unittest.TestCase):
    space = space({"epochs": 24, "patience": 0},
                  {"learning_rate": "1e-4 .. 1e0 log", "width": "8 | 16"})

    def test_the_weak_give_way_to_copies_of_the_strong(self) -> None:
        method = make_method(MethodChoice("population", {"recipes": 8, "generations": 4}),
                             self.space, 1)
        found = driven(method, uneven)
        copies = [step for step in found.steps if step.parent]
        self.assertEqual(len(copies), 2 * 3)
        for step in copies:
            parent = found.recipes[step.parent]
            self.assertEqual(parent["width"], step.recipe["width"])
            self.assertNotEqual(parent["learning_rate"], step.recipe["learning_rate"])
        self.assertEqual(len(found.recipes), 14)
        gone = [n for n in found.recipes if "gave way" in method.cut_reason(n)]
        self.assertEqual(len(gone), 6)


class SpreadMethod(unittest.TestCase):
    def test_points_lie_more_evenly_than_chance(self) -> None:
        s = space({}, {"learning_rate": "1e-4 .. 1e-1 log", "dropout": "0 .. 0.8"})
        worst = {}
        for name in ("random", "spread"):
            found = all_of(make_method(MethodChoice(name, {"recipes": 65}), s, 3))[1:]
            cells = Counter((int((np.log10(r.real("learning_rate")) + 4) / 3 * 3.9999),
                             int(r.real("dropout") / 0.8 * 3.9999)) for r in found)
            worst[name] = max(abs(cells[i, j] - 4) for i in range(4) for j in range(4))
        self.assertLessEqual(worst["spread"], 1)
        self.assertGreater(worst["random"], 2)


class GridMethod(unittest.TestCase):
    def test_a_continuum_takes_as_many_points_as_asked(self) -> None:
        s = space({}, {"learning_rate": "1e-4 .. 1e-1 log"})
        found = all_of(make_method(MethodChoice("grid", {"points": 4}), s, 1))
        self.assertEqual([float(r["learning_rate"]) for r in found], [1e-3, 1e-4, 1e-2, 1e-1])
