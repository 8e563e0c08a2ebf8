"""The plain loop: a straightforward NumPy training script, one network at a time, with the same
mathematics.

It is what a practitioner would write: layers as lists, Adam over a list of arrays, dropout from
uniform numbers. The engine is held against it.
"""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float32]


def train(x: Floats,
          y: NDArray[np.int32],
          sizes: tuple[int, ...],
          batch: int,
          epochs: int,
          rate: float = 1e-3,
          dropout: float = 0.2,
          l2: float = 1e-4,
          seed: int = 0,
          validation: tuple[Floats, NDArray[np.int32]] | None = None) -> float:
    """Train one network with ReLU, dropout, L2 and Adam; return the last mean loss, of
    `validation` if given.
    """
    rng = np.random.default_rng(seed)
    weights = [rng.normal(0, np.sqrt(2 / a), (a, b)).astype(np.float32)
               for a, b in pairwise(sizes)]
    shifts = [np.zeros(b, np.float32) for b in sizes[1:]]
    parameters = weights + shifts
    means = [np.zeros_like(p) for p in parameters]
    squares = [np.zeros_like(p) for p in parameters]
    step, keep, loss = 0, 1 - dropout, 0.0
    for _ in range(epochs):
        order = rng.permutation(len(y))
        losses = []
        for start in range(0, len(y), batch):
            rows = order[start : start + batch]
            outputs, masks = [x[rows]], []
            for w, b in zip(weights[:-1], shifts[:-1], strict=True):
                z = np.maximum(outputs[-1] @ w + b, 0)
                masks.append((rng.random(z.shape, dtype=np.float32) < keep) / np.float32(keep))
                outputs.append(z * masks[-1])
            logits = outputs[-1] @ weights[-1] + shifts[-1]
            logits -= logits.max(1, keepdims=True)
            p = np.exp(logits)
            p /= p.sum(1, keepdims=True)
            losses.append(-np.log(p[np.arange(len(rows)), y[rows]] + 1e-30).mean())
            p[np.arange(len(rows)), y[rows]] -= 1
            d = p / len(rows)
            slopes_w, slopes_b = [], []
            for i in range(len(weights) - 1, -1, -1):
                slopes_w.insert(0, outputs[i].T @ d + np.float32(l2) * weights[i])
                slopes_b.insert(0, d.sum(0))
                if i:
                    d = (d @ weights[i].T) * masks[i - 1] * (outputs[i] > 0)
            step += 1
            for q, g, m, v in zip(parameters, slopes_w + slopes_b, means, squares, strict=True):
                m *= 0.9
                m += 0.1 * g
                v *= 0.999
                v += 0.001 * g * g
                q -= rate * (m / (1 - 0.9**step)) / (np.sqrt(v / (1 - 0.999**step)) + 1e-8)
        loss = float(np.mean(losses))
        if validation is not None:
            rows, labels = validation
            for w, b in zip(weights[:-1], shifts[:-1], strict=True):
                rows = np.maximum(rows @ w + b, 0)
            logits = rows @ weights[-1] + shifts[-1]
            logits -= logits.max(1, keepdims=True)
            loss = float(
                (np.log(np.exp(logits).sum(1)) - logits[np.arange(len(labels)), labels]).mean())
    return loss
