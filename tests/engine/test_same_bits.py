"""A run gives the same bits alone, in any stack, and after any pause: the law the whole product stands on."""

from __future__ import annotations

import itertools
import tempfile
import unittest
from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from axiarch.engine import kernels
from axiarch.engine.checkpoint import load_checkpoint, save_checkpoint
from axiarch.engine.network import NetworkShape
from axiarch.engine.rows import TrainingData
from axiarch.engine.run import RunSpec
from axiarch.engine.streams import Streams
from axiarch.engine.training import RunState
from axiarch.errors import TrainingError
from axiarch.recipes.recipe import Recipe
from tests.support import Runs, recipe, small_data

#: Three folds: other rows, as many.
FOLDS = [small_data(seed=seed) for seed in range(3)]


@st.composite
def shapes(draw: st.DrawFn) -> dict[str, object]:
    """Draw what all runs of a stack have in common."""
    return {"width": draw(st.integers(1, 19)), "depth": draw(st.integers(0, 3)),
            "activation": draw(st.sampled_from(["relu", "tanh", "gelu", "identity"])),
            "normalisation": draw(st.sampled_from(["none", "batch", "layer"])),
            "residual": draw(st.sampled_from(["no", "yes"])), "batch_size": draw(st.sampled_from([1, 7, 16, 100]))}


@st.composite
def private(draw: st.DrawFn) -> dict[str, object]:
    """Draw what may differ freely inside a stack."""
    return {"optimiser": draw(st.sampled_from(["sgd", "momentum", "adam"])),
            "learning_rate": draw(st.sampled_from([1e-4, 1e-2, 0.5, 50.0])),
            "schedule": draw(st.sampled_from(["constant", "exponential"])),
            "dropout": draw(st.sampled_from([0.0, 0.2, 0.7])), "l2": draw(st.sampled_from([0.0, 1e-2])),
            "weight_decay": draw(st.sampled_from([0.0, 0.1])), "mixing": draw(st.sampled_from([0.0, 0.4])),
            "accumulation": draw(st.sampled_from([1, 1, 2, 3])), "averaging": draw(st.sampled_from([0.0, 0.9])),
            "initialisation": draw(st.sampled_from(["auto", "orthogonal"]))}


def train(recipes: Sequence[Recipe], epochs: int, first: int = 0,
          states: Sequence[RunState] | None = None, ahead: bool = False) -> tuple[list[list[float]], list[RunState]]:
    """Train recipes side by side, on folds in turn; return the losses of each and where each stands."""
    stack = Runs(NetworkShape.of(recipes[0], 5, 3), FOLDS.__getitem__, ahead=ahead)
    for k, each in enumerate(recipes):
        stack.add(RunSpec(k, each, Streams(9, first + k, (first + k) % 3)), states[k] if states else None)
    losses: list[list[float]] = [[] for _ in recipes]
    for _ in range(epochs):
        for k, progress in enumerate(stack.train_epoch()):
            n = progress.numbers
            losses[k] += [n.train_loss, n.train_loss_still, n.validation_loss, n.gradient_norm]
    return losses, [stack.state(k) for k in range(len(recipes))]


class SameBits(unittest.TestCase):
    def same(self, a: RunState, b: RunState) -> None:
        for name in ("parameters", "best_parameters", "optimiser", "kept"):
            self.assertEqual(getattr(a, name) is None, getattr(b, name) is None)
            np.testing.assert_array_equal(getattr(a, name), getattr(b, name), name)
        np.testing.assert_equal({**asdict(a.watch), "seconds": 0}, {**asdict(b.watch), "seconds": 0})

    @settings(max_examples=25, deadline=None)
    @given(shapes(), st.lists(private(), min_size=2, max_size=5))
    def test_alone_or_stacked(self, shape: dict[str, object], own: list[dict[str, object]]) -> None:
        recipes = [recipe(**shape, **each) for each in own]
        losses, states = train(recipes, 2)
        for k, each in enumerate(recipes):
            alone, state = train([each], 2, first=k)
            np.testing.assert_array_equal(alone[0], losses[k])
            self.same(state[0], states[k])

    @settings(max_examples=15, deadline=None)
    @given(shapes(), st.lists(private(), min_size=1, max_size=3), st.integers(1, 3))
    def test_after_a_pause_and_in_another_stack(self, shape: dict[str, object], own: list[dict[str, object]],
                                                pause: int) -> None:
        recipes = [recipe(**shape, **each) for each in own]
        _, whole = train(recipes, 4)
        _, half = train(recipes, pause)
        for k, each in enumerate(recipes):
            with tempfile.TemporaryDirectory() as place:
                path = Path(place) / "run.safetensors"
                run = RunSpec(k, each, Streams(9, k, k % 3))
                save_checkpoint(path, run, half[k], "data")
                loaded = load_checkpoint(path, run, NetworkShape.of(each, 5, 3), "data")
            _, rest = train([each], 4 - pause, first=k, states=[loaded])
            self.same(rest[0], whole[k])

    def test_back_to_the_best_epoch_gives_the_epochs_after_it_again(self) -> None:
        each = recipe(learning_rate=0.3, optimiser="momentum", averaging=0.5, accumulation=2, epochs=9)
        _, (whole,) = train([each], 9)
        best = whole.watch.best_epoch
        self.assertLess(best, 9)
        back = whole.at_best(each)
        self.assertEqual((back.epoch, len(back.watch.losses)), (best, best))
        _, (first,) = train([each], best)
        self.same(first, back)
        _, (again,) = train([each], 9 - best, states=[back])
        self.same(again, whole)

    def test_without_a_kept_epoch_there_is_no_way_back(self) -> None:
        stack = Runs(NetworkShape.of(recipe(), 5, 3), FOLDS[0])
        stack.add(RunSpec(0, recipe(), Streams(9)))
        with self.assertRaises(TrainingError):
            stack.state(0).at_best(recipe())

    def test_convolutions_alone_or_stacked(self) -> None:
        rng = np.random.default_rng(0)
        x, y = rng.normal(size=(50, 72)).astype(np.float32), rng.integers(0, 3, 50).astype(np.int32)
        data = TrainingData(x[:33], y[:33], x[33:], y[33:])
        line = "conv 3 batch norm, pool 2, conv 3 residual gelu, mean pool 2, 5"
        recipes = [recipe(network=line, dropout=d, optimiser=o)
                   for d, o in ((0.0, "adam"), (0.4, "sgd"), (0.2, "adam"))]
        shape = NetworkShape.of(recipes[0], (6, 6, 2), 3)

        def trained(chosen: list[int]) -> list[RunState]:
            stack = Runs(shape, data)
            for k in chosen:
                stack.add(RunSpec(k, recipes[k], Streams(4, k)))
            for _ in range(3):
                stack.train_epoch()
            return [stack.state(i) for i in range(len(chosen))]

        together = trained([0, 1, 2])
        for k in range(3):
            self.same(trained([k])[0], together[k])

    def test_joining_and_leaving_change_nothing_for_the_others(self) -> None:
        recipes = [recipe(optimiser=o, dropout=d) for o, d in (("adam", 0.3), ("sgd", 0.0), ("momentum", 0.5))]
        _, alone = train([recipes[2]], 4, first=2)
        stack = Runs(NetworkShape.of(recipes[0], 5, 3), FOLDS.__getitem__)
        for k, each in enumerate(recipes):
            stack.add(RunSpec(k, each, Streams(9, k, k)))
        stack.train_epoch()
        stack.remove(0)  # the last run moves into the first slot
        stack.train_epoch()
        stack.add(RunSpec(7, recipes[0], Streams(9, 7)))
        stack.train_epoch()
        stack.train_epoch()
        self.same(stack.state(0), alone[0])
        self.assertEqual([run.id for run in stack.runs], [2, 1, 7])

    def test_rows_read_ahead_by_a_thread_are_the_same_rows(self) -> None:
        for size in (1, 7, 100):
            recipes = [recipe(batch_size=size, mixing=m, input_noise=0.1) for m in (0.0, 0.4)]
            for a, b in zip(train(recipes, 3)[1], train(recipes, 3, ahead=True)[1], strict=True):
                self.same(a, b)

    def test_an_epoch_left_half_way_leaves_no_rows_behind(self) -> None:
        def leave() -> None:
            raise KeyboardInterrupt

        shape, run = NetworkShape.of(recipe(batch_size=1), 5, 3), RunSpec(0, recipe(batch_size=1), Streams(9))
        ends = []
        for left in (False, True):
            stack = Runs(shape, FOLDS[0], ahead=True)
            stack.add(RunSpec(5, recipe(batch_size=1), Streams(8)))
            if left:
                with self.assertRaises(KeyboardInterrupt):
                    stack.train_epoch(leave)
            stack.remove(0)
            stack.add(run)
            stack.train_epoch()
            ends.append(stack.state(0))
        self.same(*ends)

    def test_folds_of_other_sizes_are_refused(self) -> None:
        stack = Runs(NetworkShape.of(recipe(), 5, 3), [FOLDS[0], small_data(rows=60)].__getitem__)
        stack.add(RunSpec(0, recipe(), Streams(9)))
        with self.assertRaisesRegex(TrainingError, "fold 2 has"):
            stack.add(RunSpec(1, recipe(), Streams(9, 0, 1)))

    def test_another_repeat_is_another_training(self) -> None:
        _, a = train([recipe()], 1, first=0)
        _, b = train([recipe()], 1, first=1)
        self.assertFalse(np.array_equal(a[0].parameters, b[0].parameters))

    def test_recipes_of_one_repeat_meet_the_same_rows_in_the_same_order(self) -> None:
        order = np.zeros((4, 50), np.int64)
        for k, epoch in enumerate((2, 2, 3)):
            kernels.shuffle(order, k, Streams(3, 1).order_key(epoch))
        np.testing.assert_array_equal(order[0], order[1])
        self.assertFalse(np.array_equal(order[0], order[2]))
        self.assertEqual(sorted(order[0]), list(range(50)))

    def test_every_order_is_as_likely_as_any_other(self) -> None:
        order, counts = np.zeros((1, 4), np.int64), dict.fromkeys(itertools.permutations(range(4)), 0)
        for epoch in range(2400):
            kernels.shuffle(order, 0, Streams(1).order_key(epoch))
            counts[tuple(order[0].tolist())] += 1
        chi_square = sum((n - 100) ** 2 / 100 for n in counts.values())
        self.assertLess(chi_square, 49.7, "beyond the 99.9 % point with 23 degrees of freedom")
