"""A model of the loss over the space: a Gaussian process over mixed and conditional knobs and over
epochs.

The logarithm of the steady loss after a share of the training is taken to be ``g(x) + s (h(x) + c +
w f) + noise``, where s is 0 at the end of the training and 1 at the end of the first round, and f
is how fast the loss was falling: so what a recipe shows early says something of what it comes to,
and how much is learnt from the runs that went on (after Swersky, Snoek & Adams, "Multi-task
Bayesian optimization", 2013, and "Freeze-thaw Bayesian optimization", 2014). g and h have Matern
5/2 covariances with one length a knob (Snoek, Larochelle & Adams 2012). A word stands at a corner
of a simplex; a knob without effect in a recipe stands in the middle of its range, with a coordinate
of its own that says so.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from axiarch.recipes.conditions import Condition, Value
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.space import Space
from axiarch.search.points import is_words, position

Floats = NDArray[np.float64]

#: Points the lengths are fitted to at the most: enough to know them, few enough to fit in a blink.
_FITTED = 120
#: Steps of the logarithm of a parameter in the three sweeps of the fit.
_SWEEPS = (1.2, 0.6, 0.3)
#: Of the parameters: what their logarithms are taken to be before anything is known, and how
#: surely.
_LENGTH, _SURE = math.log(0.5), 1.0
#: How far apart a recipe that feels a knob and one that does not are, at the least.
_UNFELT = 0.7
_EARLY, _TREND, _FALL, _NOISE = math.log(0.5), math.log(0.5), math.log(0.5), math.log(0.1)
#: Parameters beside the lengths, one a knob.
_OTHERS = 4
#: Losses at one time of looking that are enough to know their spread by.
_ENOUGH = 4


class Features:
    """Turns points of the unit cube, or recipes, into coordinates, and says which knob each
    belongs to.
    """

    def __init__(self, space: Space) -> None:
        self._space = space
        self.owner: list[int] = []
        for i, knob in enumerate(space.knobs):
            width = len(knob.range.grid(0)) if is_words(knob.range) else 1
            self.owner += [i] * (width + 1)

    def __len__(self) -> int:
        return len(self.owner)

    def of(self, recipe: Mapping[str, Value]) -> Floats:
        """Return the coordinates (F,) of a recipe."""
        point = np.array([[position(k.range, recipe[k.name]) for k in self._space.knobs]])
        felt = [k.when is None or k.when.holds(recipe) for k in self._space.knobs]
        needed = [
            needs is None or needs.holds(recipe)
            for needs in (FIELDS[k.name].needs for k in self._space.knobs)
        ]
        found: Floats = self._coordinates(
            point, [np.array([a and b]) for a, b in zip(felt, needed, strict=True)])[0]
        return found

    def at(self, points: Floats) -> Floats:
        """Return the coordinates (M, F) of points (M, D) of the unit cube, one column a knob."""
        return self._coordinates(points, [
            self._holds(k.when, points) & self._holds(FIELDS[k.name].needs, points)
            for k in self._space.knobs
        ])

    def _coordinates(self, points: Floats, felt: Sequence[NDArray[np.bool_]]) -> Floats:
        columns: list[Floats] = []
        for i, knob in enumerate(self._space.knobs):
            u, size = points[:, i], knob.range.size
            if is_words(knob.range):
                assert size is not None
                which = np.minimum((u * size).astype(np.int64), size - 1)
                columns += [math.sqrt(0.5) * (felt[i] & (which == w)) for w in range(size)]
            else:
                steps = size is not None and not getattr(knob.range, "log", False)
                standing = (np.floor(u * size) + 0.5) / size if steps and size is not None else u
                columns.append(np.where(felt[i], standing, 0.5))
            columns.append(np.where(felt[i], 0.0, _UNFELT))
        return np.array(columns).T if columns else np.zeros((len(points), 0))

    def _holds(self, condition: Condition | None, points: Floats) -> NDArray[np.bool_]:
        """Say of each point whether a condition holds there."""
        if condition is None:
            return np.ones(len(points), np.bool_)
        names = [k.name for k in self._space.knobs]
        if condition.name not in names:
            return np.full(len(points), condition.holds(self._space.base))
        i = names.index(condition.name)
        values = self._space.knobs[i].range
        size = values.size
        if size is not None and size <= len(points) and not getattr(
                values, "log", False):  # each value is asked once
            held = np.array([
                condition.holds({condition.name: values.at((v + 0.5) / size)}) for v in range(size)
            ])
            found: NDArray[np.bool_] = held[np.minimum((points[:, i] * size).astype(np.int64),
                                                       size - 1)]
            return found
        return np.array(
            [condition.holds({condition.name: values.at(u)}) for u in points[:, i].tolist()],
            np.bool_)


@dataclass(frozen=True)
class Observed:
    """What is known of the loss: coordinates (N, F), how early (N,) from 0 to 1, losses (N,), and
    how fast they fell.

    `fall` (N,) is by how much the logarithm of the loss had fallen over the last epochs before it
    was looked at, and `who` (N,) numbers the recipes.
    """

    x: Floats
    early: Floats
    y: Floats
    fall: Floats
    who: NDArray[np.int64]


class Model:
    """A fitted model.

    Parameters
    ----------
    observed : Observed
        At least two points; losses need not be finite.
    owner : sequence of int
        The knob of each coordinate.
    parameters : (D + 4,) array, optional
        Parameters of an earlier fit; fitted anew if not given.
    near : (N, N) array, optional
        What :func:`nearness` says of the points and these parameters, where that is known already.
    """

    def __init__(self, observed: Observed, owner: Sequence[int], parameters: Floats | None = None,
                 near: Floats | None = None) -> None:
        self._owner = np.array(owner, np.int64)
        self._observed = observed
        self._y, self.units = _tamed(observed)
        self._fall = _standard(observed.fall, observed.early)
        self.parameters = self._fitted() if parameters is None else parameters
        self._settle(self.parameters, near)

    def left_out(self) -> Floats:
        """Return by how many standard deviations each point (N,) lies from what the others predict
        of it (Dubrule 1983).
        """
        assert self._lower is not None
        inverse = _solve(self._lower, np.eye(len(self._lower)))
        inverse = inverse.T @ inverse
        found: Floats = (inverse @ self._y) / np.sqrt(np.diag(inverse))
        return found

    def _fitted(self) -> Floats:
        """Return the parameters of highest posterior density, found by sweeps over one after the
        other.
        """
        knobs = int(self._owner.max()) + 1 if len(self._owner) else 0
        at = np.concatenate((np.full(knobs, _LENGTH), [_EARLY, _TREND, _FALL, _NOISE]))
        prior = at.copy()
        some = slice(None) if len(self._y) <= _FITTED else np.linspace(
            0,
            len(self._y) - 1, _FITTED).astype(np.int64)
        x, early, y, fall = self._observed.x[some], self._observed.early[some], self._y[
            some], self._fall[some]

        def cost(p: Floats) -> float:
            lower = _cholesky(self._covariance(x, early, fall, x, early, fall, p), p)
            if lower is None:
                return math.inf
            half = _solve(lower, y)
            spread = np.append(np.full(knobs, _SURE), (1.0, 1.0, 1.0, 2.0))
            return float(0.5 * half @ half + np.log(np.diag(lower)).sum() + 0.5 *
                         (((p - prior) / spread)**2).sum())

        best = cost(at)
        for step in _SWEEPS:
            for i in range(len(at)):
                for side in (step, -step):
                    moved = at.copy()
                    moved[i] += side
                    found = cost(moved)
                    if found < best - 1e-9:
                        best, at = found, moved
                        break
        return at

    def _covariance(self,
                    x: Floats,
                    s: Floats,
                    fall: Floats,
                    other: Floats,
                    t: Floats,
                    fell: Floats,
                    p: Floats,
                    near: Floats | None = None) -> Floats:
        knobs = len(p) - _OTHERS
        found = nearness(x, other, self._owner, p) if near is None else near
        if s.any() and t.any():
            both = s[:, None] * t[None]
            trend = (math.exp(2 * p[knobs + 2]) * fall)[:, None] * fell[None]
            trend += math.exp(2 * p[knobs + 1])
            found *= 1 + math.exp(2 * p[knobs]) * both
            trend *= both
            found += trend
        return found

    def _settle(self, p: Floats, near: Floats | None = None) -> None:
        own = (self._observed.x, self._observed.early, self._fall)
        self._lower = _cholesky(self._covariance(*own, *own, p, near), p)
        assert self._lower is not None
        self._half = _solve(self._lower, self._y)

    def means(self, near: Floats) -> Floats:
        """Return the means (M,) of :meth:`predict`, from how near (N, M) its points are to those
        of the model.
        """
        assert self._lower is not None
        found: Floats = _solve(self._lower, self._half, turned=True) @ near
        return found

    def predict(self, x: Floats) -> tuple[Floats, Floats]:
        """Return mean and standard deviation (M,) of the tamed loss at the end of the training,
        at points (M, F).
        """
        assert self._lower is not None
        zero = np.zeros(len(x))
        across = self._covariance(self._observed.x, self._observed.early, self._fall, x, zero, zero,
                                  self.parameters)
        half = _solve(self._lower, across)
        return half.T @ self._half, np.sqrt(np.maximum(1.0 - (half**2).sum(0), 1e-12))

    @property
    def noise(self) -> float:
        """The standard deviation of a result by chance."""
        return math.exp(float(self.parameters[-1]))

    def with_pending(self, x: Floats, shorter: float = 1.0) -> Model:
        """Return the model as if the points (M, F) had come out as it predicts: no second look at
        the same place.

        Its lengths are `shorter` times as long.
        """
        if not len(x) and shorter == 1.0:
            return self
        mean, _ = self.predict(x)
        zero = np.zeros(len(x))
        observed = Observed(np.vstack((self._observed.x, x)), np.append(self._observed.early, zero),
                            self._observed.y, self._observed.fall, self._observed.who)
        other = object.__new__(Model)
        parameters = self.parameters.copy()
        parameters[:-_OTHERS] += math.log(shorter)
        other._owner, other._observed, other.parameters = self._owner, observed, parameters
        other.units = self.units
        other._fall = np.append(self._fall, zero)
        other._y = np.append(self._y, mean)
        if shorter == 1.0:
            other._lower = self._grown(x, parameters)
            other._half = _solve(other._lower, other._y)
        else:
            other._settle(parameters)
        return other

    def _grown(self, x: Floats, p: Floats) -> Floats:
        """Return the factor with points (M, F) at the end of the training added, by what they
        add alone.
        """
        assert self._lower is not None
        zero, size = np.zeros(len(x)), len(self._lower)
        across = self._covariance(self._observed.x, self._observed.early, self._fall, x, zero, zero,
                                  p)
        half = _solve(self._lower, across)
        corner = _cholesky(self._covariance(x, zero, zero, x, zero, zero, p) - half.T @ half, p)
        assert corner is not None
        grown = np.zeros((size + len(x), size + len(x)))
        grown[:size, :size], grown[size:, :size], grown[size:, size:] = self._lower, half.T, corner
        return grown


def nearness(x: Floats, other: Floats, owner: NDArray[np.int64], p: Floats) -> Floats:
    """Return the Matern 5/2 covariances (N, M) of points (N, F) and (M, F); `owner` (F,) and `p` as
    in a model.

    That of two points has the same bits whichever others are asked for beside them.
    """
    from scipy.spatial.distance import cdist

    inverse = np.exp(-p[owner]) if len(owner) else np.zeros(0)
    far: Floats = cdist(x * inverse, other * inverse, "sqeuclidean")
    far *= 5
    np.sqrt(far, out=far)
    found = far / 3
    found += 1
    found *= far
    found += 1
    np.exp(np.negative(far, out=far), out=far)
    found *= far  # (1 + d + d^2 / 3) exp(-d), in two arrays of its size
    return found


def expected_improvement(mean: Floats,
                         deviation: Floats,
                         best: float,
                         noise: float = 0.0) -> Floats:
    """Return by how much less than `best` each point is expected to come out (Jones, Schonlau &
    Welch 1998).

    Less where one more result says little, as it is mostly `noise` (Huang, Allen, Notz & Zeng
    2006).
    """
    from scipy.special import ndtr

    z = (best - mean) / deviation
    found: Floats = deviation * (z * ndtr(z) + np.exp(-0.5 * z**2) / math.sqrt(2 * math.pi))
    return found * (1.0 - noise / np.sqrt(deviation**2 + noise**2))


def _tamed(observed: Observed) -> tuple[Floats, tuple[float, float]]:
    """Return losses (N,) as logarithms, centred at each time of looking, scaled alike, the worst
    drawn in; and centre and scale at the end of the training.

    Only the better half is of interest: far above the median everything is alike, and so is what is
    not finite. The centre is the median at the first time of looking, and later what it had moved
    on by since in those that were looked at both times: the median of those alone would be that of
    a selection.
    """
    losses, early = observed.y, observed.early
    known = np.isfinite(losses) & (losses > 0)
    logs = np.log(losses, where=known, out=np.full(len(losses), np.inf))
    y = np.zeros(len(losses))
    centre, spread = 0.0, 0.0
    before = np.full(int(observed.who.max(initial=-1)) + 1, np.nan)
    for moment in np.unique(early)[::-1]:
        here = early == moment
        some = here & known
        if not some.any():
            y[here] = 1.0
            continue
        now = np.full(len(before), np.nan)
        now[observed.who[some]] = logs[some]
        moved = now - before
        both = np.isfinite(moved)
        centre = centre + float(np.median(moved[both])) if both.any() else float(
            np.median(logs[some]))
        top = 2 * max(centre - float(logs[some].min()), 1e-6)
        y[here] = np.minimum(logs[here] - centre, top)
        if np.isfinite(now).sum() >= _ENOUGH or spread == 0.0:
            spread = max(float(y[here].std()), 1e-9)
        before = np.where(np.isfinite(now), now, before)
    scaled: Floats = y / (spread or 1.0)
    return scaled, (centre, spread or 1.0)


def _standard(fall: Floats, early: Floats) -> Floats:
    """Return how fast losses (N,) fell, centred and scaled among those looked at as early."""
    found = np.zeros(len(fall))
    for moment in np.unique(early[early > 0]):
        here = early == moment
        own = np.clip(np.nan_to_num(fall[here]), -5, 5)
        found[here] = np.clip((own - np.median(own)) / (own.std() or 1.0), -3, 3)
    return found


def _cholesky(covariance: Floats, p: Floats) -> Floats | None:
    covariance[np.diag_indices_from(covariance)] += math.exp(2 * p[-1]) + 1e-8
    try:
        return np.asarray(np.linalg.cholesky(covariance), np.float64)
    except np.linalg.LinAlgError:
        return None


def _solve(lower: Floats, right: Floats, turned: bool = False) -> Floats:
    """Return ``L^-1 right``, or `turned` ``L^-T right``."""
    from scipy.linalg.lapack import dtrtrs

    found: Floats = dtrtrs(lower.T, right, lower=0, trans=int(not turned))[0]
    return found
