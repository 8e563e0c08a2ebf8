"""A run gives the same bits at once, in slices, next to others and after any pause: the product
stands on this law.
"""

from __future__ import annotations

import itertools
import tempfile
import unittest
from collections.abc import Callable, Sequence
from dataclasses import asdict, replace
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from axiarch.engine.ahead import Ahead
from axiarch.engine.checkpoint import load_checkpoint
from axiarch.engine.kernels import words
from axiarch.engine.losses import LOSSES
from axiarch.engine.network import NetworkShape
from axiarch.engine.rows import Source, TrainingData
from axiarch.engine.run import RunSpec
from axiarch.engine.state import TrainingState
from axiarch.engine.streams import Streams
from axiarch.engine.training import Training
from axiarch.errors import TrainingError
from axiarch.recipes.members import OPTIMISERS
from axiarch.recipes.recipe import Recipe
from tests.support import Runs, recipe, save_checkpoint, small_data

#: Three folds: other rows, as many.
FOLDS = [small_data(seed=seed) for seed in range(3)]


@st.composite
def shapes(draw: st.DrawFn) -> dict[str, object]:
    """Draw a network and its batches."""
    return {
        "width": draw(st.integers(1, 19)), "depth": draw(st.integers(0, 3)), "activation": draw(
            st.sampled_from(["relu", "tanh", "gelu", "identity"])),
        "normalisation": draw(st.sampled_from(["none", "batch", "layer"])), "residual": draw(
            st.sampled_from(["no", "yes"])), "batch_size": draw(st.sampled_from([1, 7, 16, 100]))
    }


@st.composite
def private(draw: st.DrawFn) -> dict[str, object]:
    """Draw what else a recipe says."""
    return {
        "optimiser": draw(st.sampled_from(sorted(OPTIMISERS))), "precision": draw(
            st.sampled_from(["float32"] * 3 + ["float64"])), "learning_rate": draw(
                st.sampled_from([1e-4, 1e-2, 0.5, 50.0])), "schedule": draw(
                    st.sampled_from(["constant", "exponential"])), "dropout": draw(
                        st.sampled_from([0.0, 0.2, 0.7])), "l2": draw(st.sampled_from([0.0, 1e-2])),
        "weight_decay": draw(st.sampled_from([0.0, 0.1])), "mixup": draw(st.sampled_from([0.0,
                                                                                          0.4])),
        "gradient_accumulation": draw(st.sampled_from([1, 1, 2, 3])), "weight_averaging": draw(
            st.sampled_from([0.0,
                             0.9])), "initialisation": draw(st.sampled_from(["auto", "orthogonal"]))
    }


def train(recipes: Sequence[Recipe],
          epochs: int,
          first: int = 0,
          states: Sequence[TrainingState] | None = None,
          ahead: bool = False,
          slices: Callable[[], int] | None = None) -> tuple[list[list[float]], list[TrainingState]]:
    """Train recipes in turn, epoch by epoch, on folds in turn; return the losses of each and
    where each stands.
    """
    runs = Runs(NetworkShape.of(recipes[0], 5, 3), FOLDS.__getitem__, recipes[0].word("precision"),
                ahead)
    for k, each in enumerate(recipes):
        runs.add(RunSpec(k, each, Streams(9, first + k, (first + k) % 3)),
                 states[k] if states else None)
        if slices is not None:
            runs.trainings[-1]._slice = slices  # type: ignore[method-assign]
    losses: list[list[float]] = [[] for _ in recipes]
    for _ in range(epochs):
        for k, progress in enumerate(runs.train_epoch()):
            n = progress.numbers
            losses[k] += [n.train_loss, n.train_loss_eval, n.validation_loss, n.gradient_norm]
    return losses, [runs.state(k) for k in range(len(recipes))]


class SameBits(unittest.TestCase):
    def same(self, a: TrainingState, b: TrainingState) -> None:
        for name in ("parameters", "best_parameters", "optimiser", "kept"):
            self.assertEqual(getattr(a, name) is None, getattr(b, name) is None)
            np.testing.assert_array_equal(getattr(a, name), getattr(b, name), name)
        np.testing.assert_equal({**asdict(a.watch), "seconds": 0},
                                {**asdict(b.watch), "seconds": 0})

    @settings(max_examples=25, deadline=None)
    @given(shapes(), st.lists(private(), min_size=2, max_size=5))
    def test_next_to_others_and_in_slices_of_any_length(self, shape: dict[str, object],
                                                        own: list[dict[str, object]]) -> None:
        recipes = [recipe(**shape, **{**each, "precision": own[0]["precision"]}) for each in own]
        rng = np.random.default_rng(1)
        losses, states = train(recipes, 2, slices=lambda: int(rng.integers(1, 9)))
        for k, each in enumerate(recipes):
            alone, state = train([each], 2, first=k)
            np.testing.assert_array_equal(alone[0], losses[k])
            self.same(state[0], states[k])

    @settings(max_examples=15, deadline=None)
    @given(shapes(), st.lists(private(), min_size=1, max_size=3), st.integers(1, 3))
    def test_after_a_pause_from_a_file(self, shape: dict[str, object], own: list[dict[str, object]],
                                       pause: int) -> None:
        for k, each in enumerate(recipe(**shape, **one) for one in own):
            _, (whole,) = train([each], 4, first=k)
            _, (half,) = train([each], pause, first=k)
            with tempfile.TemporaryDirectory() as place:
                path = Path(place) / "run.safetensors"
                run = RunSpec(k, each, Streams(9, k, k % 3))
                save_checkpoint(path, run, half, "data")
                loaded = load_checkpoint(path, run, NetworkShape.of(each, 5, 3), "data")
            _, (rest,) = train([each], 4 - pause, first=k, states=[loaded])
            self.same(rest, whole)

    def test_back_to_the_best_epoch_gives_the_epochs_after_it_again(self) -> None:
        each = recipe(learning_rate=0.3,
                      optimiser="momentum",
                      weight_averaging=0.5,
                      gradient_accumulation=2,
                      epochs=9)
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
        runs = Runs(NetworkShape.of(recipe(), 5, 3), FOLDS[0])
        runs.add(RunSpec(0, recipe(), Streams(9)))
        with self.assertRaises(TrainingError):
            runs.state(0).at_best(recipe())

    def test_convolutions_next_to_others_and_in_slices(self) -> None:
        rng = np.random.default_rng(0)
        x, y = rng.normal(size=(50, 72)).astype(np.float32), rng.integers(0, 3, 50).astype(np.int32)
        data = TrainingData(x[:33], y[:33], x[33:], y[33:])
        line = "conv 3 batch norm, pool 2, conv 3 residual gelu, mean pool 2, 5"
        recipes = [
            recipe(network=line, dropout=d, optimiser=o, **own)
            for d, o, own in ((0.0, "adam", {}), (0.4, "sgd",
                                                  {"shift": 2, "flip": "yes", "crop": 0.3}),
                              (0.2, "adam",
                               {"contrast": 0.3, "weight_averaging": 0.9, "cutout": 0.3}))
        ]
        shape = NetworkShape.of(recipes[0], (6, 6, 2), 3)

        def trained(chosen: list[int],
                    slices: Callable[[], int] | None = None) -> list[TrainingState]:
            runs = Runs(shape, data)
            for k in chosen:
                training = runs.add(RunSpec(k, recipes[k], Streams(4, k)))
                if slices is not None:
                    training._slice = slices  # type: ignore[method-assign]
            for _ in range(3):
                runs.train_epoch()
            return [runs.state(i) for i in range(len(chosen))]

        together = trained([0, 1, 2])
        for k in range(3):
            self.same(trained([k], lambda: 1)[0], together[k])

    def test_rows_read_ahead_by_a_thread_are_the_same_rows(self) -> None:
        for size in (1, 7, 100):
            recipes = [recipe(batch_size=size, mixing=m, input_noise=0.1) for m in (0.0, 0.4)]
            for a, b in zip(train(recipes, 3)[1], train(recipes, 3, ahead=True)[1], strict=True):
                self.same(a, b)

    def test_mapped_rows_are_asked_for_where_they_lie_in_their_file(self) -> None:
        data = small_data()
        plain = Runs(NetworkShape.of(recipe(), 5, 3), data).source()
        with tempfile.TemporaryDirectory() as place:
            np.save(Path(place) / "x.npy", data.train_inputs)
            mapped = np.load(Path(place) / "x.npy", mmap_mode="r")
            source = Source(replace(data, train_inputs=mapped), LOSSES["softmax"], 3)
            reader = Ahead(source.train.flat, 5)
            self.assertIsNotNone(reader._file)
            self.assertEqual(reader._start, mapped.offset)
            self.assertIsNone(Ahead(plain.train.flat, 5)._file)
            shape = NetworkShape.of(recipe(), 5, 3)
            one, two = (Training(shape, RunSpec(0, recipe(), Streams(1)), each, ahead=True)
                        for each in (plain, source))
            one.train_epoch()
            two.train_epoch()
            self.assertEqual(one.parameters.tobytes(), two.parameters.tobytes())
            del two, source, mapped, reader

    def test_an_epoch_left_half_way_leaves_no_rows_behind(self) -> None:
        def leave() -> None:
            raise KeyboardInterrupt

        each = recipe(batch_size=1, dropout=0.2, mixup=0.3)
        run, shape = RunSpec(0, each, Streams(9)), NetworkShape.of(each, 5, 3)
        ends = []
        for left in (False, True):
            source = Runs(shape, FOLDS[0]).source()
            if left:
                other = Training(shape, run, source, ahead=True)
                other._slice = lambda: 3  # type: ignore[method-assign]
                with self.assertRaises(KeyboardInterrupt):
                    other.train_epoch(leave)
            training = Training(shape, run, source, ahead=True)
            training.train_epoch()
            ends.append(training.state())
        self.same(*ends)

    def test_another_repeat_is_another_training(self) -> None:
        _, a = train([recipe()], 1, first=0)
        _, b = train([recipe()], 1, first=1)
        self.assertFalse(np.array_equal(a[0].parameters, b[0].parameters))

    def test_recipes_of_one_repeat_meet_the_same_rows_in_the_same_order(self) -> None:
        orders = []
        for epoch in (2, 2, 3):
            orders.append(np.zeros(50, np.int64))
            words.shuffle(orders[-1], Streams(3, 1).order_key(epoch))
        np.testing.assert_array_equal(orders[0], orders[1])
        self.assertFalse(np.array_equal(orders[0], orders[2]))
        self.assertEqual(sorted(orders[0]), list(range(50)))

    def test_every_order_is_as_likely_as_any_other(self) -> None:
        order, counts = np.zeros(4, np.int64), dict.fromkeys(itertools.permutations(range(4)), 0)
        for epoch in range(2400):
            words.shuffle(order, Streams(1).order_key(epoch))
            counts[tuple(order.tolist())] += 1
        chi_square = sum((n - 100) ** 2 / 100 for n in counts.values())
        self.assertLess(chi_square, 49.7, "beyond the 99.9 % point with 23 degrees of freedom")
