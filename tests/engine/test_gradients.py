"""Every gradient against finite differences, in float64."""

from __future__ import annotations

import itertools
import math
import unittest

import numpy as np

from axiarch.engine import kernels
from axiarch.engine.activations import ACTIVATIONS
from axiarch.engine.network import StackShape
from axiarch.engine.run import RunSpec
from axiarch.engine.stack import Stack
from axiarch.engine.streams import Streams
from tests.support import plain, recipe, small_data

#: Size of the step; the error of a central difference is about its square.
STEP = 1e-5


def batch(stack: Stack) -> tuple[np.ndarray, np.ndarray]:
    """Return the first batch of the epoch: inputs (2, B, D) and labels (2, B)."""
    stack._feed.start_epoch([stack._source(0).train] * 2, stack.shape.batch_size)
    return stack._feed.take(0)


def loss_of(stack: Stack, rows: int) -> np.ndarray:
    """Return the mean training loss (K,) of the batch that lies in the stack, with its present dropout masks."""
    active = stack.active
    losses, hits = np.zeros(stack.capacity), np.zeros((stack.capacity, 4))
    x, y = batch(stack)
    outputs = stack._pass.forward(x, stack.parameters.copy(), active, rows)
    kernels.softmax_loss(outputs, y, losses, hits, False, *plain(stack.capacity, 3), active, rows)
    return losses[:active] / rows


def filled(rows: int, inputs: tuple[int, ...] = (4,), **values: object) -> Stack:
    """Return a stack of two runs in float64 with a batch of `rows` in it and its gradients computed."""
    data = small_data(inputs=math.prod(inputs), classes=3)
    spec = recipe(**values)
    stack = Stack(StackShape.of(spec, inputs, 3), 2, data, np.float64)
    for k in range(2):
        stack.add(RunSpec(k, spec, Streams(1, k)))
    trained = stack.shape.trained
    stack.parameters[:, :trained] += np.random.default_rng(0).normal(0, 0.1, (2, trained))
    stack._start_epoch()
    x, y = batch(stack)
    stack._dropout.start_step(1, 2)
    outputs = stack._pass.forward(x, stack.parameters.copy(), 2, rows)
    kernels.softmax_loss(outputs, y, np.zeros(2), np.zeros((2, 4)), True, *plain(2, 3), 2, rows)
    stack._pass.backward(outputs, stack.parameters, stack.gradients, 2, rows)
    return stack


class Gradients(unittest.TestCase):
    def check(self, rows: int = 16, inputs: tuple[int, ...] = (4,), **values: object) -> None:
        stack = filled(rows, inputs, **values)
        analytic = stack.gradients.copy()
        self.assertTrue((analytic[:, stack.shape.trained :] == 0).all())
        for p in np.random.default_rng(1).choice(stack.shape.trained, min(40, stack.shape.trained), False):
            kept = stack.parameters[:, p].copy()
            stack.parameters[:, p] = kept + STEP
            above = loss_of(stack, rows)
            stack.parameters[:, p] = kept - STEP
            below = loss_of(stack, rows)
            stack.parameters[:, p] = kept
            np.testing.assert_allclose(analytic[:, p], (above - below) / (2 * STEP), rtol=2e-5, atol=2e-7)

    def test_every_activation_and_depth(self) -> None:
        for activation in ACTIVATIONS:
            for depth in (0, 1, 3):
                with self.subTest(activation=activation, depth=depth):
                    self.check(depth=depth, activation=activation)

    def test_with_dropout(self) -> None:
        for activation in ACTIVATIONS:
            with self.subTest(activation=activation):
                self.check(depth=2, activation=activation, dropout=0.4)

    def test_on_a_short_batch(self) -> None:
        self.check(7, depth=2, dropout=0.3)

    def test_normalised_and_with_skips(self) -> None:
        for norm, residual, activation in itertools.product(("none", "batch", "layer"), ("no", "yes"),
                                                            ("relu", "gelu", "tanh")):
            with self.subTest(norm=norm, residual=residual, activation=activation):
                self.check(depth=3, normalisation=norm, residual=residual, activation=activation, dropout=0.3)

    def test_pictures(self) -> None:
        lines = ("conv 3, pool 2, hidden", "conv 2 stride 2, conv 3 valid, 5", "conv 3 size 2, mean pool 2, hidden",
                 "conv 3 batch norm tanh, conv 3 layer norm residual, pool 3",
                 "conv 4 size 5 drop 0.3, 2 of 6 residual",
                 "pool 2, conv 2, conv 2 residual, mean pool 2")
        for line in lines:
            with self.subTest(line=line):
                self.check(inputs=(7, 6, 2), network=line, activation="gelu", depth=1, width=4)
                self.check(5, inputs=(7, 6, 2), network=line, depth=1, width=4)

    def test_every_layer_of_a_line_by_itself(self) -> None:
        for line in ("6 tanh, 5 sigmoid layer norm, 5 residual elu", "3 narrowing from 9 silu",
                     "2 of 7 drop 0.5 residual"):
            with self.subTest(line=line):
                self.check(network=line, dropout=0.2)


class SoftmaxLoss(unittest.TestCase):
    def test_known_values(self) -> None:
        z = np.zeros((1, 2, 4))
        losses, hits = np.zeros(1), np.zeros((1, 5))
        kernels.softmax_loss(z, np.zeros((1, 2), np.int32), losses, hits, False, *plain(1, 4), 1, 2)
        self.assertAlmostEqual(losses[0] / 2, np.log(4))

    def test_huge_logits_do_not_overflow(self) -> None:
        for dtype in (np.float32, np.float64):
            z = np.array([[[1e4, -1e4, 0.0]]], dtype)
            losses, hits = np.zeros(1), np.zeros((1, 5))
            kernels.softmax_loss(z, np.array([[1]], np.int32), losses, hits, True, *plain(1, 3, dtype), 1, 1)
            self.assertAlmostEqual(losses[0], 2e4)
            np.testing.assert_allclose(z[0, 0], [1, -1, 0], atol=1e-6)

    def test_the_gradient_of_each_row_sums_to_zero(self) -> None:
        z = np.random.default_rng(0).normal(size=(3, 5, 4))
        kernels.softmax_loss(z, np.ones((3, 5), np.int32), np.zeros(3), np.zeros((3, 5)), True, *plain(3, 4), 3, 5)
        np.testing.assert_allclose(z.sum(2), 0, atol=1e-12)

    def test_hits_count_the_largest_logit(self) -> None:
        z = np.array([[[3.0, 1.0], [0.0, 2.0], [5.0, 4.0]]])
        hits = np.zeros((1, 5))
        kernels.softmax_loss(z, np.array([[0, 1, 1]], np.int32), np.zeros(1), hits, False, *plain(1, 2), 1, 3)
        self.assertEqual(hits[0, 0], 2)

    def test_what_is_not_a_number_is_no_hit(self) -> None:
        z = np.full((1, 1, 2), np.nan)
        hits, losses = np.zeros((1, 5)), np.zeros(1)
        kernels.softmax_loss(z, np.zeros((1, 1), np.int32), losses, hits, False, *plain(1, 2), 1, 1)
        self.assertEqual(hits[0, 0], 0)
        self.assertTrue(np.isnan(losses[0]))
