"""What every member of a family must do: activations, optimisers, schedules, initialisations."""

from __future__ import annotations

import itertools
import unittest

import numpy as np
from scipy import special

from axiarch.engine import codes
from axiarch.engine.initialisation import INITIALISATIONS, drawn, first_weights
from axiarch.engine.kernels import curves, steps, words
from axiarch.engine.network import NetworkShape
from axiarch.engine.optimisers import OPTIMISERS
from axiarch.engine.program import ACTIVATION_NUMBERS, OPTIMISER_NUMBERS
from axiarch.engine.schedules import SCHEDULES, rates
from axiarch.recipes import members
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.members import ACTIVATIONS
from axiarch.recipes.recipe import Recipe


def step(name: str, w: np.ndarray, g: np.ndarray, state: np.ndarray, numbers: np.ndarray,
         weights: int) -> None:
    """Make one step of an optimiser on the parameters `w` (P,), of which the first are weights,
    one layer of them.
    """
    steps.optimise(OPTIMISER_NUMBERS[name], 0, w, g, state.reshape(-1), numbers, len(w), weights,
                   len(w), np.array([0, weights]))


def steps_of(name: str, gradients: list[float], start: float, **values: object) -> list[float]:
    """Return where one weight goes under an optimiser, worked in float64; a bias beside it goes
    along.
    """
    recipe = Recipe({"optimiser": name, **values})
    count = len(gradients)
    numbers = np.arange(1, count + 1, dtype=np.float64)
    table = OPTIMISERS[name].coefficients(recipe, rates(recipe, 0, count, 10), numbers)
    w, g, state = np.full(2, start), np.zeros(2), np.zeros((codes.STATES, 2))
    path = []
    for i, slope in enumerate(gradients):
        g[:] = slope
        step(name, w, g, state, table[i], 1)
        path.append(float(w[0]))
    return path


class OptimisersConform(unittest.TestCase):
    """Laws that hold for every optimiser."""

    def test_each_goes_downhill_on_a_parabola(self) -> None:
        for name in OPTIMISERS:
            with self.subTest(name=name):
                w = 1.0
                for _ in range(3):
                    new = steps_of(name, [w], w, learning_rate=0.01)[0]
                    self.assertLess(abs(new), abs(w))
                    w = new

    def test_no_gradient_is_no_step(self) -> None:
        for name in OPTIMISERS:
            self.assertEqual(steps_of(name, [0.0, 0.0], 0.5), [0.5, 0.5])

    def test_decoupled_decay_shrinks_by_rate_times_strength(self) -> None:
        for name in (n for n, o in OPTIMISERS.items() if o.known.decay == "decay"):
            with self.subTest(name=name):
                found = steps_of(name, [0.0], 2.0, learning_rate=0.1, weight_decay=0.5)
                self.assertAlmostEqual(found[0], 2.0 * (1 - 0.05))

    def test_biases_are_neither_pulled_nor_shrunk(self) -> None:
        for name, optimiser in OPTIMISERS.items():
            recipe = Recipe({"optimiser": name, "l2": 0.3, "weight_decay": 0.3})
            table = optimiser.coefficients(recipe, np.array([0.1]), np.array([1.0]))
            w = np.ones(2)
            step(name, w, np.zeros(2), np.zeros((codes.STATES, 2)), table[0], 1)
            with self.subTest(name=name):
                self.assertLess(w[0], 1.0)
                self.assertEqual(w[1], 1.0)

    def test_what_is_not_trained_stays(self) -> None:
        for name, number in OPTIMISER_NUMBERS.items():
            w, g, s = np.ones(6), np.ones(6), np.zeros(codes.STATES * 6)
            steps.optimise(number, 0, w, g, s, np.full(12, 0.1), 6, 3, 5, np.array([0, 3]))
            self.assertTrue((w[:5] != 1).all() and w[5] == 1, name)

    def test_each_can_be_chosen_in_a_recipe(self) -> None:
        self.assertEqual(set(OPTIMISERS), set(FIELDS["optimiser"].choices))

    def test_what_a_member_uses_has_an_effect_with_it_and_nothing_else_has(self) -> None:
        every = {value for known in members.OPTIMISERS.values() for value in known.uses}
        for name, known in members.OPTIMISERS.items():
            self.assertEqual(
                {value for value in every if Recipe({"optimiser": name}).applies(value)},
                set(known.uses))
            self.assertLess(known.states, codes.STATES,
                            "the last buffer is that of the running mean")
        every = {value for uses in members.SCHEDULES.values() for value in uses}
        for name, uses in members.SCHEDULES.items():
            self.assertEqual(
                {value for value in every if Recipe({"schedule": name}).applies(value)}, set(uses))


class OptimisersByHand(unittest.TestCase):
    """Steps worked out from the papers."""

    def test_sgd(self) -> None:
        self.assertAlmostEqual(steps_of("sgd", [2.0], 1.0, learning_rate=0.1)[0], 0.8)

    def test_momentum(self) -> None:
        found = steps_of("momentum", [1.0, 1.0], 0.0, learning_rate=0.1, momentum=0.9)
        np.testing.assert_allclose(found, [-0.1, -0.1 - 0.1 * 1.9])

    def test_adam_first_step_is_the_rate_whatever_the_gradient(self) -> None:
        for slope in (1e-3, 1.0, 1e3):
            self.assertAlmostEqual(steps_of("adam", [slope], 0.0, learning_rate=0.1)[0],
                                   -0.1,
                                   places=4)

    def test_adam_against_the_algorithm_as_printed(self) -> None:
        beta1, beta2, epsilon, rate = 0.9, 0.999, 1e-8, 0.01
        w, m, v, path = 0.3, 0.0, 0.0, []
        slopes = [0.5, -1.0, 0.2, 0.0, 3.0]
        for t, g in enumerate(slopes, 1):
            m = beta1 * m + (1 - beta1) * g
            v = beta2 * v + (1 - beta2) * g * g
            w -= rate * (m / (1 - beta1**t)) / (np.sqrt(v / (1 - beta2**t)) + epsilon)
            path.append(w)
        np.testing.assert_allclose(steps_of("adam", slopes, 0.3, learning_rate=rate),
                                   path,
                                   rtol=1e-12)

    def test_nesterov(self) -> None:
        found = steps_of("nesterov", [1.0, 1.0], 0.0, learning_rate=0.1, momentum=0.9)
        np.testing.assert_allclose(found, [-0.19, -0.19 - 0.1 * (1 + 0.9 * 1.9)])

    def test_adagrad(self) -> None:
        found = steps_of("adagrad", [2.0, 1.0], 1.0, learning_rate=0.1)
        np.testing.assert_allclose(found, [0.9, 0.9 - 0.1 / np.sqrt(5)], rtol=1e-7)

    def test_rmsprop(self) -> None:
        found = steps_of("rmsprop", [2.0, 1.0], 1.0, learning_rate=0.1, rho=0.9)
        squares = 0.4, 0.9 * 0.4 + 0.1
        np.testing.assert_allclose(found, [
            1 - 0.2 / np.sqrt(squares[0]), 1 - 0.2 / np.sqrt(squares[0]) - 0.1 / np.sqrt(squares[1])
        ],
                                   rtol=1e-7)

    def test_adadelta_against_the_algorithm_as_printed(self) -> None:
        rho, epsilon, w, s, d, path = 0.95, 1e-6, 1.0, 0.0, 0.0, []
        slopes = [0.5, -2.0, 1.0]
        for g in slopes:
            s = rho * s + (1 - rho) * g * g
            u = np.sqrt(d + epsilon) / np.sqrt(s + epsilon) * g
            d = rho * d + (1 - rho) * u * u
            w -= u
            path.append(w)
        found = steps_of("adadelta", slopes, 1.0, learning_rate=1.0, rho=rho, epsilon=epsilon)
        np.testing.assert_allclose(found, path, rtol=1e-12)

    def test_nadam_and_amsgrad_against_their_algorithms(self) -> None:
        b1, b2, e, rate = 0.9, 0.999, 1e-8, 0.01
        slopes = [0.5, -1.0, 0.2, 0.0, 3.0, 0.1]
        ahead, most = [], []
        m = v = top = 0.0
        w = [0.3, 0.3]
        for t, g in enumerate(slopes, 1):
            m, v = b1 * m + (1 - b1) * g, b2 * v + (1 - b2) * g * g
            top = max(top, v)
            look = b1 * m / (1 - b1 ** (t + 1)) + (1 - b1) * g / (1 - b1**t)
            w[0] -= rate * look / (np.sqrt(v / (1 - b2**t)) + e)
            w[1] -= rate * m / (1 - b1**t) / (np.sqrt(top / (1 - b2**t)) + e)
            ahead.append(w[0])
            most.append(w[1])
        np.testing.assert_allclose(steps_of("nadam", slopes, 0.3, learning_rate=rate),
                                   ahead,
                                   rtol=1e-12)
        np.testing.assert_allclose(steps_of("amsgrad", slopes, 0.3, learning_rate=rate),
                                   most,
                                   rtol=1e-12)

    def test_lion_steps_by_the_sign(self) -> None:
        found = steps_of("lion", [1.0, -0.05, -9.0], 0.0, learning_rate=0.1, beta1=0.9, beta2=0.99)
        # m is 0.01 after the first slope; 0.9 * 0.01 - 0.1 * 0.05 is still above zero
        np.testing.assert_allclose(found, [-0.1, -0.2, -0.1])

    def test_lamb_steps_in_proportion_to_the_weights(self) -> None:
        for start in (0.5, 8.0):
            found = steps_of("lamb", [3.0], start, learning_rate=0.1)
            self.assertAlmostEqual(found[0], start * 0.9, places=6)

    def test_tiny_moments_are_flushed(self) -> None:
        state = np.full((codes.STATES, 1), 1e-37, np.float32)
        table = np.zeros(9, np.float32)
        table[[3, 5]] = 0.9, 0.9
        step("adam", np.ones(1, np.float32), np.zeros(1, np.float32), state, table, 1)
        self.assertEqual(state[:2].tolist(), [[0.0], [0.0]])


class SchedulesConform(unittest.TestCase):
    """Laws that hold for every schedule."""

    def recipe(self, name: str, **values: object) -> Recipe:
        return Recipe({"schedule": name, "learning_rate": 0.5, "epochs": 30, **values})

    def test_each_reaches_the_learning_rate_never_more_and_stays_positive(self) -> None:
        for name in SCHEDULES:
            found = rates(self.recipe(name), 0, 300, 10)
            with self.subTest(name=name):
                self.assertAlmostEqual(found.max(), 0.5, places=3)
                self.assertLessEqual(found.max(), 0.5 + 1e-12)
                self.assertTrue((found > 0).all())

    def test_a_stretch_is_the_same_as_the_whole(self) -> None:
        for name in SCHEDULES:
            made = self.recipe(name, warm_up=1.5, hold=2.0)
            np.testing.assert_array_equal(rates(made, 0, 50, 7)[20:30], rates(made, 20, 10, 7))

    def test_each_can_be_chosen_in_a_recipe(self) -> None:
        self.assertEqual(set(SCHEDULES), set(FIELDS["schedule"].choices))

    def test_each_may_move_once_an_epoch(self) -> None:
        for name in SCHEDULES:
            found = rates(self.recipe(name, rate_moves="epoch"), 0, 300, 10).reshape(30, 10)
            self.assertTrue((found == found[:, :1]).all(), name)

    def test_warm_up_rises_in_a_straight_line_and_hold_stays(self) -> None:
        found = rates(self.recipe("cosine", warm_up=2, hold=3), 0, 300, 10)
        np.testing.assert_allclose(found[:20], 0.5 * np.arange(1, 21) / 20)
        np.testing.assert_allclose(found[20:51], 0.5)
        self.assertLess(found[52], 0.5)
        self.assertAlmostEqual(found[-1], 0.005, delta=1e-3)

    def test_known_values(self) -> None:
        found = rates(self.recipe("exponential", rate_decay=0.5), 0, 21, 10)
        np.testing.assert_allclose(found[[0, 10, 20]], [0.5, 0.25, 0.125])
        found = rates(self.recipe("step", rate_decay=0.1, step_epochs=2), 0, 60, 10)
        np.testing.assert_allclose(found[[0, 19, 20, 59]], [0.5, 0.5, 0.05, 0.005])
        found = rates(self.recipe("inverse_time", decay=0.5), 0, 41, 10)
        np.testing.assert_allclose(found[[0, 20, 40]], [0.5, 0.25, 0.5 / 3])
        found = rates(self.recipe("polynomial", power=2.0, final_fraction=0.0), 0, 300, 10)
        np.testing.assert_allclose(found[[0, 150]], [0.5, 0.125])
        found = rates(self.recipe("cosine", final_fraction=0.2), 0, 301, 10)
        np.testing.assert_allclose(found[[0, 150, 300]], [0.5, 0.3, 0.1])
        found = rates(self.recipe("restarts", period=2, period_growth=2.0, final_fraction=0.0), 0,
                      300, 10)
        np.testing.assert_allclose(found[[0, 10, 20, 40, 60, 140]],
                                   [0.5, 0.25, 0.5, 0.25, 0.5, 0.5],
                                   atol=1e-12)
        found = rates(self.recipe("one_cycle", peak_fraction=0.5, final_fraction=0.0), 0, 301, 10)
        np.testing.assert_allclose(found[[0, 150, 300]], [0.02, 0.5, 0.0], atol=1e-12)
        self.assertEqual(
            rates(self.recipe("plateau", rate_decay=0.5), 40, 1, 10, cuts=3)[0], 0.0625)


def bent(name: str,
         values: object,
         dtype: type = np.float64,
         biases: object = (0.0, )) -> np.ndarray:
    """Return what an activation makes of some sums (H, N) or (N,), as training works it out."""
    z, p, number = np.array(values, dtype), np.array(biases, dtype), ACTIVATION_NUMBERS[name]
    units, columns = len(p), z.size // len(p)
    a = np.concatenate([z.reshape(-1), np.zeros(z.size, dtype)])
    out = 0
    if name == "relu":
        curves.relu(a, 0, p, 0, units, columns)
    elif name == "tanh":
        curves.tanh(a, 0, p, 0, units, columns)
    elif name == "identity":
        curves.add_bias(a, 0, p, 0, units, columns)
    else:
        curves.bend(number, 0, a, 0, z.size, p, 0, units, columns)
        out = z.size
    return a[out : out + z.size].reshape(z.shape)


class ActivationsConform(unittest.TestCase):
    """Laws that hold for every activation; their gradients are checked in test_gradients."""

    def test_each_adds_a_unit_its_bias(self) -> None:
        for name in ACTIVATIONS:
            found = bent(name, np.zeros((2, 3)), biases=(1.5, 0.5))
            np.testing.assert_array_equal(
                found, np.stack([bent(name, np.full(3, bias)) for bias in (1.5, 0.5)]), name)

    def test_each_keeps_what_is_not_a_number(self) -> None:
        for name, dtype in itertools.product(ACTIVATIONS, (np.float32, np.float64)):
            self.assertTrue(np.isnan(bent(name, [np.nan, 1.0], dtype)[0]), name)

    def test_known_values(self) -> None:
        x = np.array([-30.0, -1.0, 0.0, 0.5, 2.0, 30.0])
        sigmoid = special.expit(x)
        wanted = {
            "relu": np.maximum(x, 0), "tanh": np.tanh(x), "identity": x, "leaky_relu": np.where(
                x > 0, x, 0.01 * x), "elu": np.where(x > 0, x,
                                                     np.expm1(x)), "gelu": x * special.ndtr(x),
            "silu": x * sigmoid, "sigmoid": sigmoid, "softplus": np.logaddexp(0, x)
        }
        self.assertEqual(set(wanted), set(ACTIVATIONS))
        for name in ACTIVATIONS:
            np.testing.assert_allclose(bent(name, x),
                                       wanted[name],
                                       rtol=1e-12,
                                       atol=1e-12,
                                       err_msg=name)
            np.testing.assert_allclose(bent(name, x, np.float32),
                                       wanted[name],
                                       rtol=3e-6,
                                       atol=3e-7,
                                       err_msg=name)

    def test_huge_sums_stay_finite(self) -> None:
        for name in ACTIVATIONS:
            self.assertTrue(np.isfinite(bent(name, [-1e5, 1e5], np.float32)).all(), name)

    def test_each_can_be_chosen_in_a_recipe(self) -> None:
        self.assertEqual(set(ACTIVATIONS), set(FIELDS["activation"].choices))


class InitialisationsConform(unittest.TestCase):
    """Laws that hold for every initialisation."""

    def test_each_has_no_mean_and_the_variance_of_its_paper(self) -> None:
        wanted = {
            "he": 2 / 400, "glorot": 2 / 700, "lecun": 1 / 400, "orthogonal": 1 / 400, "small": 1e-4
        }
        for name, distribution in itertools.product(wanted, FIELDS["distribution"].choices):
            w = drawn(name, distribution, np.random.default_rng(0), 400, 300)
            with self.subTest(name=name, distribution=distribution):
                self.assertAlmostEqual(w.mean(), 0, places=3)
                self.assertAlmostEqual(w.var() / wanted[name], 1, places=1)
                if distribution != "usual" and name != "orthogonal":
                    # The fourth moment tells them apart: 3 for normal, 9 / 5 for uniform.
                    kurtosis = ((w - w.mean()) ** 4).mean() / w.var() ** 2
                    self.assertAlmostEqual(kurtosis,
                                           3.0 if distribution == "normal" else 1.8,
                                           places=1)

    def test_biases_start_at_zero(self) -> None:
        shape = NetworkShape.of(Recipe({"network": "5, 6"}), 4, 3)
        flat = first_weights(shape, "auto", np.random.default_rng(0))
        self.assertTrue((flat[shape.weights :] == 0).all())
        self.assertTrue((flat[: shape.weights] != 0).all())

    def test_orthogonal_keeps_lengths(self) -> None:
        for before, after in ((9, 4), (4, 9)):
            w = drawn("orthogonal", "usual", np.random.default_rng(0), before, after)
            small = w.T @ w if before > after else w @ w.T
            np.testing.assert_allclose(small, np.eye(4), atol=1e-12)

    def test_norm_scales_and_running_variances_start_at_one(self) -> None:
        shape = NetworkShape.of(Recipe({"network": "5 batch norm"}), 4, 3)
        flat = first_weights(shape, "auto", np.random.default_rng(0))
        p = shape.placed[0]
        self.assertEqual(flat[p.norm_scales : p.norm_scales + 5].tolist(), [1.0] * 5)
        self.assertEqual(flat[p.kept : p.kept + 10].tolist(), [0.0] * 5 + [1.0] * 5)

    def test_each_can_be_chosen_in_a_recipe(self) -> None:
        self.assertEqual({*INITIALISATIONS, "orthogonal", "auto"},
                         set(FIELDS["initialisation"].choices))


class DropoutLaws(unittest.TestCase):
    def apply(self, rate: float, units: int = 97, rows: int = 300, step: int = 0) -> np.ndarray:
        """Return ones after dropout."""
        room = np.zeros(rows // 4 + 2, np.uint64)
        a, threshold = np.ones(units * rows), round(rate * codes.DROPOUT_STEPS)
        first = step * units * ((rows + 3) // 4)
        words.drop(a, 0, units, rows, np.uint64(12345), first, threshold,
                   1 / (1 - threshold / codes.DROPOUT_STEPS), room, room.view(np.uint16))
        return a.reshape(units, rows).T

    def test_the_expected_activation_is_kept(self) -> None:
        for rate in (0.1, 0.5, 0.9):
            a = self.apply(rate)
            self.assertAlmostEqual((a == 0).mean(), rate, places=1)
            self.assertAlmostEqual(a.mean(), 1.0, delta=0.06)

    def test_a_mask_belongs_to_its_step(self) -> None:
        np.testing.assert_array_equal(self.apply(0.5), self.apply(0.5))
        self.assertFalse(np.array_equal(self.apply(0.5), self.apply(0.5, step=1)))

    def test_rows_and_units_are_silenced_independently(self) -> None:
        dropped = self.apply(0.5, units=64, rows=2000) == 0
        for wise in (dropped.mean(0), dropped.mean(1)):
            self.assertLess(abs(wise.mean() - 0.5), 0.01)
        correlation = np.corrcoef(dropped.T.astype(float))
        np.fill_diagonal(correlation, 0)
        self.assertLess(np.abs(correlation).max(), 0.12)

    def test_no_dropout_changes_nothing(self) -> None:
        self.assertTrue((self.apply(0.0) == 1).all())

    def test_words_are_those_of_the_published_generator(self) -> None:
        # First outputs for the seed 1234567, as its authors' reference code prints them.
        known = [6457827717110365317, 3203168211198807973, 9817491932198370423]
        self.assertEqual(
            [int(words.random_word(np.uint64(1234567), np.uint64(i))) for i in range(3)], known)
