"""The linear baseline against independent solvers, and what must not change it."""

from __future__ import annotations

import unittest
from unittest import mock

import numpy as np
from scipy.optimize import minimize

from axiarch.data import linear
from axiarch.data.linear import RIDGES, fit_linear
from axiarch.data.target import Target

CLASSES = Target("classification", ("y",), ("a", "b", "c"))
AMOUNTS = Target("regression", ("y",), (), (0.0,), (2.0,))


def rule(rows: int = 400,
         inputs: int = 5,
         noise: float = 1.0,
         seed: int = 0) -> tuple[np.ndarray, np.ndarray]:
    """Return inputs (N, D) and labels (N,) of a linear rule with noise."""
    rng = np.random.default_rng(seed)
    x = rng.normal(size=(rows, inputs))
    told = x @ np.random.default_rng(9).normal(size=(inputs, 3)) + noise * rng.gumbel(size=(rows,
                                                                                            3))
    return x.astype(np.float32), told.argmax(1).astype(np.int32)


def found(x: np.ndarray, y: np.ndarray, target: Target = CLASSES) -> linear.LinearBaseline:
    """Return the baseline with the first two thirds as training part."""
    cut = 2 * len(x) // 3
    return fit_linear(target, (x[:cut], y[:cut]), (x[cut:], y[cut:]))[0]


class Convergence(unittest.TestCase):
    def test_it_does_not_depend_on_how_the_inputs_are_scaled(self) -> None:
        x, y = rule()
        losses = [
            found((x * scale + shift).astype(np.float32), y).loss
            for scale, shift in ((1.0, 0.0), (1e-3, 5e-3), (np.float32([1, 10, 100, 1e3, 1e4]),
                                                            3.0))
        ]
        np.testing.assert_allclose(losses, losses[0], rtol=2e-4)

    def test_both_solvers_reach_the_minimum_that_an_independent_one_finds(self) -> None:
        x, y = rule(300, 4)
        x64 = x.astype(np.float64)
        z = (x64 - x64[:200].mean(0)) / x64[:200].std(0)
        one = np.eye(3)[y[:200]]

        def objective(flat: np.ndarray, ridge: float) -> float:
            out = z[:200] @ flat[3:].reshape(4, 3) + flat[:3]
            logs = out - out.max(1, keepdims=True)
            logs -= np.log(np.exp(logs).sum(1, keepdims=True))
            return float(-(one * logs).sum() / 200 + ridge / 2 * (flat[3:] ** 2).sum())

        for ridge in (RIDGES[0], RIDGES[3]):
            best = minimize(objective, np.zeros(15), args=(ridge,), method="BFGS",
                            options={"gtol": 1e-8}).x
            out = z[200:] @ best[3:].reshape(4, 3) + best[:3]
            logs = out - np.log(np.exp(out).sum(1, keepdims=True))
            wanted = float(-logs[np.arange(100), y[200:]].mean())
            for small in (linear.SMALL, 0):
                with self.subTest(ridge=ridge,
                                  newton=bool(small)), mock.patch.object(linear, "SMALL", small):
                    model = linear._Model.of(CLASSES, x[:200].astype(np.float64), y[:200])
                    loss, _ = linear._scores(CLASSES, model.fitted(ridge)(x[200:]), y[200:])
                    self.assertAlmostEqual(loss, wanted, places=5)

    def test_separable_classes_and_tables_wider_than_long_come_to_an_end(self) -> None:
        x, y = rule(300, 4, noise=0.0)
        self.assertLess(found(x, y).loss, 0.12)
        rng = np.random.default_rng(2)
        wide = rng.normal(size=(90, 400)).astype(np.float32)
        told = found(wide, (wide[:, :3].argmax(1)).astype(np.int32))
        self.assertTrue(np.isfinite(told.loss))
        self.assertTrue(told.overfits)
        self.assertGreaterEqual(told.ridge, 0.1)

    def test_columns_that_never_change_and_columns_that_repeat_do_no_harm(self) -> None:
        x, y = rule()
        more = np.hstack([x, x[:, :1], np.full((len(x), 1), 7.0, np.float32)])
        self.assertAlmostEqual(found(more, y).loss, found(x, y).loss, delta=0.01)

    def test_amounts_are_ridge_regression(self) -> None:
        rng = np.random.default_rng(1)
        x = rng.normal(size=(300, 3)).astype(np.float32)
        y = (x @ np.float32([1, -2, 0.5]) + 0.1 * rng.normal(size=300)).astype(np.float32)[:, None]
        told = found(x, y, AMOUNTS)
        least, *_ = np.linalg.lstsq(np.c_[x[:200], np.ones(200)], y[:200], rcond=None)
        error = np.sqrt(((np.c_[x[200:], np.ones(100)] @ least - y[200:]) ** 2).mean()) * 2
        self.assertAlmostEqual(told.loss, float(error), places=3)
        self.assertGreater(told.metrics[1], 0.99)


if __name__ == "__main__":
    unittest.main()
