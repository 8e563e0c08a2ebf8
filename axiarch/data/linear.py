"""The linear baseline: a linear or logistic model with a ridge, fitted to its end.

The columns are standardised by the training rows, so that the result does not depend on how the
inputs were scaled. The ridge is the best of :data:`RIDGES`, chosen on folds of the training rows.

Loss of N rows with inputs x (D), weights W (D, C), bias b (C):

    classes   mean cross-entropy of softmax(x W + b)  + ridge / 2 * sum(W ** 2)
    amounts   mean of (y - x W - b) ** 2 / 2          + ridge / 2 * sum(W ** 2)

Both are convex. Amounts have a closed form (Hoerl & Kennard 1970); classes are solved by
Newton's method with a line search, or where the Hessian is large by L-BFGS (Liu & Nocedal 1989) in
coordinates in which the Hessian at even shares is about the identity.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from axiarch.data.baseline import Baseline
from axiarch.data.target import Answers, Target
from axiarch.runs.lowered import scored

Floats = NDArray[np.float64]

#: Ridges tried, the strongest first.
RIDGES = (1.0, 1e-1, 1e-2, 1e-3, 1e-4, 1e-6)
#: Folds of the training rows that the ridge is chosen on.
FOLDS = 3
#: Numbers of the inputs that are worked with at the most: of very many rows, so many spread evenly.
#: Some five times as many are held in double precision.
MOST = 3_000_000
#: The same for rows where there are more inputs than this: they are turned by an N x N product.
WIDE, MOST_WIDE = 2000, 1500
#: Steps of L-BFGS and of Newton's method at the most, and multiplications of a Hessian that is
#: small.
ITERATIONS, NEWTON_STEPS, SMALL = 500, 60, 2e7
#: A fit with hardly any ridge that is so much worse than the chosen one has learnt noise.
OVERFITS = 1.1


@dataclass(frozen=True)
class LinearBaseline(Baseline):
    """What a linear model scores on the validation rows.

    Attributes
    ----------
    ridge : float
        Of the path, chosen on folds of the training rows.
    weakest : float
        The validation loss with the weakest ridge of the path: far above `loss` where a plain
        linear model overfits.
    """

    ridge: float = 0.0
    weakest: float = 0.0

    @property
    def overfits(self) -> bool:
        """Whether a linear model with hardly any ridge does worse than the one shown."""
        return self.weakest > OVERFITS * self.loss


def fit_linear(target: Target, train: tuple[NDArray[np.float32], Answers],
               validation: tuple[NDArray[np.float32], Answers]) -> tuple[LinearBaseline, Floats]:
    """Fit a linear model on inputs (N, D) and targets of the training part; return how it scores
    on the validation part, and what it predicts there: shares (N, C) or scaled amounts (N, T).

    The same numbers come out however the columns of the inputs are scaled and shifted.
    """
    inputs, answers = _sample(*train)
    model = _Model.of(target, inputs, answers)
    ridge = _best_ridge(target, inputs, answers)
    predicted = model.fitted(ridge)(validation[0])

    def judged(told: Floats) -> tuple[float, tuple[float, ...]]:
        return scored(target.measure, *_scores(target, told, validation[1]),
                      target.apart(told, validation[1]))

    level, metrics = judged(predicted)
    weakest = level if ridge == RIDGES[-1] else judged(
        model.fitted(RIDGES[-1])(validation[0]))[0]
    return LinearBaseline(level, metrics, ridge, weakest), predicted


def _sample(inputs: NDArray[np.float32], answers: Answers) -> tuple[Floats, Answers]:
    """Return the rows that are worked with: all, or as many as fit, spread evenly."""
    rows, width = inputs.shape
    most = MOST_WIDE if width > WIDE else max(MOST // max(width, 1), 1)
    kept = np.arange(rows) if rows <= most else np.linspace(0, rows - 1, most).astype(np.int64)
    return inputs[kept].astype(np.float64), np.asarray(answers)[kept]


def _best_ridge(target: Target, inputs: Floats, answers: Answers) -> float:
    """Return the ridge whose mean loss over folds of the training rows is lowest."""
    if len(inputs) < 4 * FOLDS:
        return RIDGES[1]
    fold = np.random.default_rng(FOLDS).permutation(len(inputs)) % FOLDS
    total = np.zeros(len(RIDGES))
    for i in range(FOLDS):
        own, other = fold != i, fold == i
        model = _Model.of(target, inputs[own], answers[own])
        for j, ridge in enumerate(RIDGES):
            total[j] += _scores(target, model.fitted(ridge)(inputs[other]), answers[other])[0]
    return RIDGES[int(np.nanargmin(np.where(np.isfinite(total), total, np.inf)))]


@dataclass
class _Model:
    """Training rows, standardised and turned into their principal axes.

    Attributes
    ----------
    centre, scale : (D,) arrays
    axes : (D, R) array
        Orthonormal; a ridge is the same in them as in the columns.
    turned : (N, R) array
    spread : (R,) array
        The mean square along each axis.
    shares : (N, C) array
        One 1 a row; or the scaled amounts (N, T).
    """

    classes: bool
    centre: Floats
    scale: Floats
    axes: Floats
    turned: Floats
    spread: Floats
    shares: Floats
    start: Floats | None = None

    @classmethod
    def of(cls, target: Target, inputs: Floats, answers: Answers) -> _Model:
        """Return the model of some training rows."""
        centre, scale = inputs.mean(0), inputs.std(0)
        flat = scale <= 1e-12 * (np.abs(centre) + 1e-300)
        scale = np.where(flat, 1.0, scale)
        x = np.where(flat, 0.0, (inputs - centre) / scale)
        rows, width = x.shape
        if width <= rows:
            squares, axes = np.linalg.eigh(x.T @ x / rows)
        else:
            squares, rotated = np.linalg.eigh(x @ x.T / rows)
            found = squares > 1e-12 * squares[-1] if squares[-1] > 0 else squares > 0
            squares, rotated = squares[found], rotated[:, found]
            axes = x.T @ (rotated / np.sqrt(squares * rows))
        if target.task == "regression":
            shares = answers.astype(np.float64)
        else:
            shares = np.eye(len(target.classes))[answers.astype(np.int64)]
        return cls(target.task != "regression", centre, np.where(flat, np.inf, scale), axes,
                   x @ axes, np.maximum(squares, 0.0), shares)

    def fitted(self, ridge: float) -> Callable[[NDArray[np.floating]], Floats]:
        """Return what turns inputs (M, D) into shares (M, C) or scaled amounts (M, T)."""
        weights, bias = self._classes(ridge) if self.classes else self._amounts(ridge)
        across = self.axes @ weights

        def predict(inputs: NDArray[np.floating]) -> Floats:
            out = np.empty((len(inputs), across.shape[1]))
            step = max(MOST // max(inputs.shape[1], 1), 1)
            for low in range(0, len(inputs), step):
                piece = (inputs[low : low + step].astype(np.float64) - self.centre) / self.scale
                out[low : low + step] = piece @ across + bias
            return _softmax(out)[0] if self.classes else out

        return predict

    def _amounts(self, ridge: float) -> tuple[Floats, Floats]:
        bias = self.shares.mean(0)
        products = self.turned.T @ (self.shares - bias) / len(self.turned)
        return products / (self.spread + ridge)[:, None], bias

    def _classes(self, ridge: float) -> tuple[Floats, Floats]:
        rows, classes = self.shares.shape
        stretch = 1 / np.sqrt(self.spread / classes + ridge)
        x = self.turned * stretch
        pull = ridge * stretch**2

        def value_and_slope(flat: Floats) -> tuple[float, Floats]:
            u = flat.reshape(-1, classes)
            shares, logs = _softmax(x @ u[1:] + u[0])
            loss = float(-(self.shares * logs).sum() / rows + 0.5 *
                         (pull[:, None] * u[1:]**2).sum())
            off = (shares - self.shares) / rows
            slope = np.vstack([off.sum(0), x.T @ off + pull[:, None] * u[1:]])
            return loss, slope.ravel()

        if self.start is None or self.start.shape != ((x.shape[1] + 1), classes):
            self.start = np.zeros((x.shape[1] + 1, classes))
            self.start[0] = np.log(np.maximum(self.shares.mean(0), 0.5 / rows))
        first = self.start.copy()
        first[1:] /= stretch[:, None]
        if (x.shape[1] + 1) ** 2 * rows * classes**2 / 2 < SMALL:
            with_bias = np.hstack([np.ones((rows, 1)), x])
            found = _newton(value_and_slope, first.ravel(), with_bias, np.append(0.0, pull),
                            classes)
        else:
            from scipy.optimize import minimize

            found = minimize(value_and_slope, first.ravel(), jac=True, method="L-BFGS-B",
                             options={"maxiter": ITERATIONS, "ftol": 1e-13, "gtol": 1e-7}).x
        weights = found.reshape(-1, classes).copy()
        weights[1:] *= stretch[:, None]
        self.start = weights  # the next ridge of the path begins here
        return weights[1:], weights[0]


def _newton(value_and_slope: Callable[[Floats], tuple[float, Floats]], flat: Floats, x: Floats,
            pull: Floats, classes: int) -> Floats:
    """Return the minimum near `flat`, by Newton steps halved until the loss falls."""
    rows, width = x.shape
    value, slope = value_and_slope(flat)
    for _ in range(NEWTON_STEPS):
        shares, _ = _softmax(x @ flat.reshape(-1, classes))
        bend = np.zeros((width, classes, width, classes))
        for c in range(classes):
            for d in range(c, classes):
                weight = shares[:, c] * ((c == d) - shares[:, d]) / rows
                bend[:, c, :, d] = bend[:, d, :, c] = x.T @ (x * weight[:, None])
        square = bend.reshape(width * classes, -1)
        # One constant added to all shares changes nothing: a touch of ridge settles it.
        square[np.diag_indices_from(square)] += np.repeat(pull, classes) + 1e-12
        step = np.linalg.solve(square, slope)
        fall = float(slope @ step)
        size = 1.0
        while size > 1e-6:
            new_value, new_slope = value_and_slope(flat - size * step)
            if new_value <= value - 1e-4 * size * fall:
                break
            size /= 2
        else:
            return flat
        flat, value, slope = flat - size * step, new_value, new_slope
        if fall < 1e-14:
            return flat
    return flat


def _softmax(outputs: Floats) -> tuple[Floats, Floats]:
    """Return shares (N, C) and their logarithms."""
    moved = outputs - outputs.max(axis=1, keepdims=True)
    logs = moved - np.log(np.exp(moved).sum(axis=1, keepdims=True))
    return np.exp(logs), logs


def _scores(target: Target, told: Floats, answers: Answers) -> tuple[float, tuple[float, ...]]:
    """Return loss and metrics, in the order of the target's, of shares (N, C) or amounts (N, T)."""
    if target.task == "regression":
        return _amount_scores(target, target.in_units(told), target.in_units(np.asarray(answers)))
    labels = np.asarray(answers, np.int64)
    own = told[np.arange(len(labels)), labels]
    right = told.argmax(axis=1) == labels
    counts = np.bincount(labels, minlength=told.shape[1])
    hits = np.bincount(labels[right], minlength=told.shape[1])
    there = counts > 0
    balanced = float((hits[there] / counts[there]).mean())
    loss = float(-np.log(np.maximum(own, np.finfo(np.float64).tiny)).mean())
    return loss, (float(right.mean()), balanced)


def _amount_scores(target: Target, told: Floats, true: Floats) -> tuple[float, tuple[float, ...]]:
    units = np.array(target.units)
    squares = ((true - told) ** 2).mean(0)
    if len(units) > 1:
        return float(np.sqrt(squares.mean())), tuple(float(v) for v in np.sqrt(squares) * units)
    spread = float(true.var())
    error = float(np.abs(true - told).mean() * units[0])
    return float(np.sqrt(squares[0]) * units[0]), (
        error, 1 - float(squares[0]) / spread if spread else 0.0)
