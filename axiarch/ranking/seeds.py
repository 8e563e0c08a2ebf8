"""What seeds and folds leave uncertain: a two-way mixed model of recipes and replicates.

Axes: K recipes, R replicates (a seed on a fold). The loss of recipe i on replicate r is its level,
plus an effect that all recipes share on r, plus noise of its own. Variances are those of an
analysis of variance of an incomplete table; degrees of freedom follow Satterthwaite (1946). A
recipe's own variance, known from two or three replicates alone, is drawn towards the others'
(Smyth 2004). Levels and their covariances are those of the mixed model's equations (Henderson
1975), so that a recipe with one seed is compared as the others on that seed.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from axiarch.ranking.doubt import Term

Floats = NDArray[np.float64]

#: Variances are estimated from the better quarter of the recipes, so many at the least: those
#: that do not learn have noise of another kind.
FEWEST = 8
#: Steps of Newton's method for the inverse of the trigamma function.
_STEPS = 50
#: Times that replicates' effects are estimated again by the weights that noise of several sizes
#: asks for.
_REWEIGHTED = 3
#: Share of its freedom that every recipe keeps whatever its weight.
_LEFT = 0.25
#: Variances are not taken to be smaller than this share of the mean square of the losses.
_TINY = 1e-18


@dataclass(frozen=True)
class Components:
    """The variances of one table of losses.

    Attributes
    ----------
    levels : (K,) array
        The level of each recipe, replicates allowed for.
    own : (K,) array
        Variance of one replicate of each recipe, the shared effects taken out.
    own_freedom : (K,) array
    pooled : float
        The same over all of them.
    freedom : int
        Its degrees of freedom.
    between : float
        Variance of the estimated effects of replicates: what all recipes share on one, and the
        error of the estimate.
    between_freedom : int
    estimated : float
        Variance of the estimate of a replicate's effect: a share of `between`.
    counts : (K,) array
        Replicates of each recipe.
    present : (K, R) array
        Whether a recipe was trained on a replicate.
    covariance : (R, R) array
        Of what is not known of the effects.
    """

    levels: Floats
    own: Floats
    own_freedom: Floats
    pooled: float
    freedom: int
    between: float
    between_freedom: int
    estimated: float
    counts: NDArray[np.int64]
    present: NDArray[np.bool_]
    covariance: Floats

    @property
    def shared(self) -> float:
        """Variance of the effect that all recipes share on a replicate."""
        return max(self.between - self.estimated, 0.0)

    def level_terms(self, recipe: int, factor: float = 0.0) -> tuple[Term, ...]:
        """Return the variances of a recipe's level over replicates.

        Parameters
        ----------
        factor : float
            Rows of validation per row of training where replicates are folds, whose training rows
            overlap (Nadeau & Bengio 2003); 0 for seeds.
        """
        scale = 1 / self.counts[recipe] + factor
        own = scale * max(self.own[recipe] - self.estimated, 0.1 * self.own[recipe])
        terms = [(float(own), float(self.own_freedom[recipe]))]
        if self.between_freedom:
            terms.append((float(scale * self.between), float(self.between_freedom)))
        return tuple(terms)

    def difference_terms(self, one: int, other: int, factor: float = 0.0) -> tuple[Term, ...]:
        """Return the variances of the difference of two recipes' levels."""
        terms = [(float((1 / self.counts[i] + factor) * self.own[i]), float(self.own_freedom[i]))
                 for i in (one, other)]
        apart = self._shares[one] - self._shares[other]
        uneven = float(apart @ self.covariance @ apart)
        if uneven > 0:
            terms.append((uneven, float(max(self.between_freedom, 1))))
        return tuple(terms)

    @cached_property
    def _shares(self) -> Floats:
        """The share of each replicate in each recipe's mean (K, R)."""
        found: Floats = self.present / np.maximum(self.counts, 1)[:, None]
        return found


def components(losses: Floats, chose: int = -1) -> Components | None:
    """Return the variances of a table of losses (K, R), best first, NaN where a recipe was not
    trained; None where no recipe has two replicates.

    Parameters
    ----------
    chose : int
        The replicate by whose losses recipes were chosen to be trained on others, so that it looks
        better than it is; -1 where none was.
    """
    present = np.isfinite(losses)
    counts = present.sum(1)
    trusted = _better(counts)
    if not len(trusted):
        return None
    table, there = losses[trusted], present[trusted]
    used = there.sum(0) > 1
    freedoms = there.sum(1) - 1
    fit = _fitted(table, there, used, np.ones(len(trusted)))
    freedom = int(freedoms.sum()) - fit.rank
    if freedom <= 0:  # one recipe alone, or none that share a replicate with another
        return _alone(losses, present, counts, trusted)
    tiny = _TINY * float((table[there]**2).mean()) + 1e-300
    pooled = max(float(fit.squares.sum()) / freedom, tiny)
    degrees = np.asarray(freedoms * (freedom / max(int(freedoms.sum()), 1)), np.float64)
    prior = _prior(fit.squares / degrees, degrees, pooled)
    for _ in range(_REWEIGHTED if math.isfinite(prior[0]) else 0):
        # Noise of several sizes: loud recipes must not be heard in what is left of calm ones.
        own = np.maximum(_moderated(fit.squares, degrees, prior, freedom)[0], tiny)
        fit = _fitted(table, there, used, 1 / own)
        # The calmest recipe sets the effects, but not all by itself: some of its freedom is left.
        degrees = freedoms * np.maximum(1 - (1 / own) / (1 / own).sum(), _LEFT)
        prior = _prior(fit.squares / degrees, degrees, pooled)
    known, known_freedom = _moderated(fit.squares, degrees, prior, freedom)
    known = np.maximum(known, tiny)
    own = np.full(len(losses), max(prior[1], tiny))
    own_freedom = np.full(len(losses), min(prior[0], float(freedom)))
    own[trusted], own_freedom[trusted] = known, known_freedom
    blocks = int(used.sum())
    effects = fit.effects[used]
    between = float(((effects - effects.mean()) ** 2).sum()) / max(blocks - 1, 1)
    weights = there[:, used].T @ (1 / known)
    estimated = float(np.mean(1 / weights))
    levels, covariance = _solved(losses, present, own, max(between - estimated, 0.0),
                                            chose)
    return Components(levels, own, own_freedom, pooled, freedom, between, blocks - 1, estimated,
                      counts, present, covariance)


@dataclass(frozen=True)
class _Fit:
    """Effects (R,) of replicates by weighted least squares, the rank of their equations, and the
    sum of squared residuals of each recipe (K,).
    """

    effects: Floats
    rank: int
    squares: Floats


def _fitted(table: Floats, there: NDArray[np.bool_], used: NDArray[np.bool_], weights: Floats
            ) -> _Fit:
    normal, right = _normal(table, there, weights)
    effects = np.where(used, np.linalg.pinv(normal, hermitian=True) @ right, 0.0)
    left = np.where(there, table - effects, 0.0)
    left = np.where(there, left - left.sum(1, keepdims=True) / there.sum(1)[:, None], 0.0)
    return _Fit(effects, int(np.linalg.matrix_rank(normal, hermitian=True)), (left**2).sum(1))


def _better(counts: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return the recipes that variances are estimated from: those with two replicates or more
    among the better quarter, and the next best until there are enough.
    """
    repeated = np.flatnonzero(counts > 1)
    quarter = int((repeated < max(len(counts) // 4, 1)).sum())
    return repeated[: max(quarter, min(FEWEST, len(repeated)))]


def _normal(table: Floats, there: NDArray[np.bool_], weights: Floats) -> tuple[Floats, Floats]:
    """Return the normal equations of the replicates' effects, recipes eliminated: (R, R), (R,)."""
    counts = np.maximum(there.sum(1), 1)
    filled = np.where(there, table, 0.0)
    means = filled.sum(1) / counts
    weighted = there * weights[:, None]
    normal = np.diag(weighted.sum(0)) - (weighted / counts[:, None]).T @ there
    right = (weighted * np.where(there, table - means[:, None], 0.0)).sum(0)
    return normal, right


def _solved(losses: Floats, present: NDArray[np.bool_], own: Floats, shared: float, chose: int
            ) -> tuple[Floats, Floats]:
    """Return levels (K,) and the covariance (R, R) of the replicates' effects in the mixed model.

    The effect of the replicate that `chose` is no chance of an unbiased draw: it is fixed.
    """
    counts = np.maximum(present.sum(1), 1)
    means = np.where(present, losses, 0.0).sum(1) / counts
    replicates = losses.shape[1]
    free = np.zeros(replicates, np.bool_)
    free[chose] = chose >= 0 and bool((present[:, chose] & (counts > 1)).any())
    covariance, effects = np.zeros((replicates, replicates)), np.zeros(replicates)
    moving = free if shared <= 0 else np.ones(replicates, np.bool_)
    if not moving.any():
        return means, covariance
    normal, right = _normal(losses, present, 1 / np.maximum(own, 1e-300))
    pull = np.where(free, 0.0, 1 / shared if shared > 0 else 0.0)
    inner = np.ix_(moving, moving)
    covariance[inner] = np.linalg.pinv((normal + np.diag(pull))[inner], hermitian=True)
    effects = covariance @ right
    return means - (present * effects).sum(1) / counts, covariance


def _moderated(squares: Floats, degrees: Floats, prior: tuple[float, float], freedom: int
               ) -> tuple[Floats, Floats]:
    """Return the variance of each recipe (K,), drawn towards the others', and its freedom.

    Parameters
    ----------
    squares, degrees : (K,) arrays
        Sums of squared residuals, and the freedom of each.
    prior : (float, float)
        Freedom and scale of the distribution that variances are drawn from.
    freedom : int
        Of all residuals together: no variance is known better.
    """
    strength, scale = prior
    if math.isinf(strength):
        return np.full(len(squares), scale), np.full(len(squares), float(freedom))
    found = (strength * scale + squares) / (strength + degrees)
    return found, np.minimum(strength + degrees, freedom)


def _prior(own: Floats, freedoms: Floats, pooled: float) -> tuple[float, float]:
    """Return freedom and scale of the distribution that variances are drawn from (Smyth 2004).

    The freedom is infinite where they differ no more than chance lets equal ones differ.
    """
    from scipy.special import polygamma, psi

    if len(own) < 3:
        return math.inf, pooled
    logs = np.log(np.maximum(own, 1e-12 * max(pooled, 1e-300)))
    centred = logs - psi(freedoms / 2) + np.log(freedoms / 2)
    spread = float(centred.var(ddof=1) - polygamma(1, freedoms / 2).mean())
    if spread <= 0:
        return math.inf, pooled
    half = _inverse_trigamma(spread)
    return 2 * half, math.exp(float(centred.mean()) + float(psi(half)) - math.log(half))


def _inverse_trigamma(value: float) -> float:
    """Return x with trigamma(x) = `value`, by Newton's method from above."""
    from scipy.special import polygamma

    x = 0.5 + 1 / value
    for _ in range(_STEPS):
        step = float(polygamma(1, x) * (1 - polygamma(1, x) / value) / polygamma(2, x))
        x += step
        if abs(step) < 1e-8 * x:
            break
    return float(x)


def _alone(losses: Floats, present: NDArray[np.bool_], counts: NDArray[np.int64],
           trusted: NDArray[np.int64]) -> Components:
    """Return the components where no replicate is shared: each recipe's own spread, pooled."""
    table, there = losses[trusted], present[trusted]
    means = np.where(there, table, 0.0).sum(1) / there.sum(1)
    squares = np.where(there, (table - means[:, None]) ** 2, 0.0).sum(1)
    freedom = int((there.sum(1) - 1).sum())
    pooled = max(float(squares.sum()) / freedom, 1e-300)
    levels = np.where(present, losses, 0.0).sum(1) / np.maximum(counts, 1)
    replicates = losses.shape[1]
    return Components(levels, np.full(len(losses), pooled), np.full(len(losses), float(freedom)),
                      pooled, freedom, 0.0, 0, 0.0, counts, present,
                      np.zeros((replicates, replicates)))
