"""Kernels for pictures: each does what its twin for examples does, and windows are what a plain loop finds."""

from __future__ import annotations

import unittest

import numpy as np

from axiarch.engine import kernels, pictures
from axiarch.engine.activations import ACTIVATIONS
from axiarch.engine.dropout import Dropout
from axiarch.engine.layers import LAYERS
from axiarch.engine.network import NetworkShape, Placed
from axiarch.recipes.layers import Layer
from tests.support import recipe

SLOTS, ACTIVE, CHANNELS = 3, 2, 5
#: Numbers of a channel that there is room for, and that are in use: more than are summed side by side, and no multiple.
ROOM, EACH = 200, 147


def packed(rows: np.ndarray) -> np.ndarray:
    """Return (K, N, C) as the kernels for pictures want it: channels first, without gaps, in an array with room."""
    laid = np.full((SLOTS, CHANNELS * ROOM), np.nan)
    laid[: len(rows), : CHANNELS * EACH] = rows.swapaxes(1, 2).reshape(len(rows), -1)
    return laid.reshape(SLOTS, CHANNELS, ROOM)


def unpacked(laid: np.ndarray) -> np.ndarray:
    """Return what :func:`packed` was given."""
    return pictures.used(laid, ACTIVE, EACH).swapaxes(1, 2)


class Twins(unittest.TestCase):
    def setUp(self) -> None:
        rng = np.random.default_rng(0)
        self.z, self.d = (rng.normal(size=(ACTIVE, EACH, CHANNELS)) for _ in range(2))
        self.params = rng.normal(size=(SLOTS, 8 * CHANNELS))
        self.params[:, 6 * CHANNELS :] = rng.uniform(0.5, 2, (SLOTS, 2 * CHANNELS))
        self.placed = Placed(Layer("dense"), (1,), (CHANNELS,))
        self.grads = [np.zeros_like(self.params) for _ in range(2)]

    def same(self, rows: np.ndarray, laid: np.ndarray) -> None:
        """Check that both hold the same, and that what is not in use was left alone."""
        np.testing.assert_allclose(unpacked(laid), rows[:ACTIVE], rtol=1e-11, atol=1e-13)
        self.assertTrue(np.isnan(laid.reshape(SLOTS, -1)[:, CHANNELS * EACH :]).all())
        self.assertTrue(np.isnan(laid[ACTIVE:]).all())

    def same_grads(self) -> None:
        """Check the gradients of biases or gains."""
        np.testing.assert_allclose(self.grads[1], self.grads[0], rtol=1e-11, atol=1e-13)
        self.assertTrue(self.grads[0].any())

    def test_activations(self) -> None:
        for name, activation in ACTIVATIONS.items():
            with self.subTest(name):
                z, laid = self.z.copy(), packed(self.z)
                out, bent = (np.full_like(a, np.nan) if activation.keeps_sum else a for a in (z, laid))
                activation.forward(kernels, z, out, self.params, 3, ACTIVE, EACH)
                activation.forward(pictures, laid, bent, self.params, 3, ACTIVE, EACH)
                self.same(out, bent)
                d, slopes = self.d.copy(), packed(self.d)
                for on, args, grads in ((kernels, (d, out, z), self.grads[0]), (pictures, (slopes, bent, laid),
                                                                                self.grads[1])):
                    masks = Dropout([self.placed], EACH, SLOTS, np.float64)
                    activation.backward(on, *args, grads, 3, masks, 0, ACTIVE, EACH)
                self.same(d, slopes)
                self.same_grads()

    def test_normalisations(self) -> None:
        for training in (True, False):
            z, laid, params = self.z.copy(), packed(self.z), self.params.copy()
            scaled, even = np.zeros_like(z), packed(self.z)
            spreads = [np.zeros((SLOTS, ROOM)) for _ in range(2)]
            kernels.batch_norm(z, scaled, spreads[0], self.params, 1, 6 * CHANNELS, training, ACTIVE, EACH)
            pictures.batch_norm(laid, even, spreads[1], params, 1, 6 * CHANNELS, training, ACTIVE, EACH)
            self.same(z, laid)
            np.testing.assert_allclose(params, self.params, rtol=1e-11)
        self.backward(kernels.batch_norm_backward, pictures.batch_norm_backward, scaled, even, spreads)
        z, laid = self.z.copy(), packed(self.z)
        kernels.layer_norm(z, scaled, spreads[0], self.params, 1, ACTIVE, EACH)
        pictures.layer_norm(laid, even, spreads[1], self.params, 1, ACTIVE, EACH)
        self.same(z, laid)
        self.backward(kernels.layer_norm_backward, pictures.layer_norm_backward, scaled, even, spreads)

    def backward(self, plain: object, own: object, scaled: np.ndarray, even: np.ndarray,
                 spreads: list[np.ndarray]) -> None:
        """Check the backward pass of a normalisation."""
        d, slopes = self.d.copy(), packed(self.d)
        plain(d, scaled, spreads[0], self.params, self.grads[0], 1, ACTIVE, EACH)  # type: ignore[operator]
        own(slopes, even, spreads[1], self.params, self.grads[1], 1, ACTIVE, EACH)  # type: ignore[operator]
        self.same(d, slopes)
        self.same_grads()

    def test_extremes(self) -> None:
        found = []
        for on, array in ((kernels, self.z), (pictures, packed(self.z))):
            low, high, level = np.full((SLOTS, 9), np.inf), np.full((SLOTS, 9), -np.inf), np.zeros((SLOTS, 9))
            on.extremes(array, low, high, level, 0.5, 0.5, 2, ACTIVE, EACH)
            found.append((low, high, level))
        for one, other in zip(*found, strict=True):
            np.testing.assert_allclose(one, other, rtol=1e-11)

    def test_dropout_silences_a_share_and_keeps_the_mean(self) -> None:
        placed = Placed(Layer("conv"), (7, 21, 1), (7, 21, CHANNELS))
        dropout = Dropout([placed], 1, SLOTS, np.float64)
        for k in range(SLOTS):
            dropout.set_rate(k, 0, 0.4 * (k != 1))
            dropout.keys[k] = np.uint64(k)
        masks = []
        for step in (0, 1, 0):
            dropout.start_step(step, ACTIVE)
            laid = packed(np.ones((ACTIVE, EACH, CHANNELS)))
            dropout.apply(laid, 0, ACTIVE, EACH)
            self.same(unpacked(laid), laid)
            masks.append(unpacked(laid))
        np.testing.assert_array_equal(masks[0], masks[2])
        self.assertFalse(np.array_equal(masks[0][0], masks[1][0]))
        self.assertTrue((masks[0][1] == 1).all())
        self.assertAlmostEqual((masks[0][0] == 0).mean(), 0.4, delta=0.05)
        self.assertAlmostEqual(masks[0][0].mean(), 1.0, delta=0.1)
        self.assertLess(abs(np.corrcoef(masks[0][0].T)[0, 1]), 0.3)


class Windows(unittest.TestCase):
    def test_a_convolution_is_what_a_plain_loop_finds(self) -> None:
        rng = np.random.default_rng(0)
        rows = 3
        for line in ("conv 4", "conv 4 size 2", "conv 4 size 5", "conv 4 stride 2", "conv 4 size 2 stride 3",
                     "conv 4 valid", "conv 4 size 4 stride 2 valid", "conv 4 size 1", "conv 4 size 9 stride 2"):
            shape = NetworkShape.of(recipe(network=f"{line} identity") if "valid" not in line else recipe(
                network=line.replace(" valid", " identity valid")), (9, 10, 2), 3)
            p = shape.placed[0]
            flat = rng.normal(size=(1, shape.parameters))
            layer = LAYERS["conv"](p, 0, 1, 4, np.dtype(np.float64), None)
            x = rng.normal(size=(rows, 9, 10, 2))
            laid = np.zeros((1, 2, 9 * 10 * 4))
            pictures.lay_out_pictures(x.reshape(1, rows, -1), laid, 1, rows)
            out = pictures.used(layer.forward(laid, flat, 1, rows), 1, rows * p.positions)
            found = out[0].reshape(4, *p.after[:2], rows).transpose(3, 1, 2, 0)
            with self.subTest(line):
                np.testing.assert_allclose(found, by_loop(x, flat[0], p), rtol=1e-10, atol=1e-12)


def by_loop(x: np.ndarray, flat: np.ndarray, p: Placed) -> np.ndarray:
    """Return the convolution of `x` (B, H, W, C), a window at a time."""
    size, stride = p.layer.size, p.layer.stride
    weights = flat[p.weights : p.weights + p.fan_in * p.units].reshape(size, size, -1, p.units)
    tall, wide, _ = p.after
    around = [(0, 0)]
    for side, places in zip(x.shape[1:3], (tall, wide), strict=True):
        outside = 0 if p.layer.valid else max((places - 1) * stride + size - side, 0)
        around.append((outside // 2, outside - outside // 2))
    padded = np.pad(x, (*around, (0, 0)))
    out = np.empty((len(x), tall, wide, p.units))
    for i in range(tall):
        for j in range(wide):
            window = padded[:, i * stride : i * stride + size, j * stride : j * stride + size]
            out[:, i, j] = np.tensordot(window, weights, 3) + flat[p.biases : p.biases + p.units]
    return out


if __name__ == "__main__":
    unittest.main()
