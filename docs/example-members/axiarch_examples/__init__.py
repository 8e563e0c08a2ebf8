"""One member of each kind, as a package of your own may bring them."""

import math

import numpy as np

from axiarch.members import Activation, Loss, Optimiser, Schedule


def _mish(x):
    # Written out: a compiled function can call only compiled functions and those of `math`.
    return x * math.tanh(max(x, 0.0) + math.log1p(math.exp(-abs(x))))


def _mish_slope(x):
    small = math.exp(-abs(x))
    flat = math.tanh(max(x, 0.0) + math.log1p(small))
    share = 1.0 / (1.0 + small) if x >= 0 else small / (1.0 + small)
    return flat + x * (1.0 - flat * flat) * share


mish = Activation("mish", "x tanh(log(1 + e^x))", "Misra, arXiv 1908.08681, 2019", _mish,
                  _mish_slope)


def _log_cosh(away):
    return abs(away) + math.log1p(math.exp(-2.0 * abs(away))) - math.log(2.0)


log_cosh = Loss("log_cosh", "log cosh(predicted - true)", "Green, Annals of Statistics 18, 1990",
                _log_cosh, math.tanh)


def _signed(w, g, s, t, rate, momentum):
    mean = momentum * s[0] + (1.0 - momentum) * g
    corrected = mean / (1.0 - momentum**t)
    return w - rate * corrected / (abs(corrected) + 1e-3), (mean, 0.0, 0.0)


signed = Optimiser("signed",
                   "w -= rate m / (|m| + 0.001), m the corrected running mean of gradients",
                   "made up for this example", _signed, ("momentum",), 0.05)


def _halving(epochs, last):
    return 0.5 ** np.floor(4.0 * epochs / last)


halving = Schedule("halving", "half the rate after every quarter of the training",
                   "made up for this example", _halving)
