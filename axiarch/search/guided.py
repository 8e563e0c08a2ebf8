"""Guided: a model of all results so far proposes what to try next; alone, or as what brings
newcomers to a race.

Bayesian optimisation by expected improvement (Jones, Schonlau & Welch 1998; Snoek, Larochelle &
Adams 2012); in a race after Falkner, Klein & Hutter 2018, with some newcomers drawn at random, so
that no wrong belief lasts.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from axiarch.recipes.recipe import Recipe
from axiarch.search.method import WINDOW, Observation, Option, Step, steady_at
from axiarch.search.points import position
from axiarch.search.racing import ENOUGH_PROBES, RACING_OPTIONS, Racing, agreement_of
from axiarch.search.random import Drawn

if TYPE_CHECKING:
    from axiarch.search.model import Features, Floats, Model, Observed

#: A recipe, how early it was looked at, from 0 (the end) to 1 (the first round), its loss then, and
#: how fast it fell.
Point = tuple[Recipe, float, float, float]

#: Every so many newcomers one is drawn at random, and one proposed by a model that trusts what it
#: has seen less far.
RANDOM_EVERY = 7
#: How much shorter that model's lengths are.
SHORTER = 0.5
#: Full results from which a model of them alone proposes.
FEW_RESULTS = 5
#: Points nearer than this along each knob, as a share of its range, are as good as tried.
CROWDED = 0.02
#: Points looked at for one proposal: over the whole space, and near the best.
_ANYWHERE, _NEAR = 200, 40
_CENTRES = 4
#: Then, ever nearer to the best of those points: how near, and how many about each.
_REFINED, _NEARER = (0.06, 0.02), 16
#: Points of the model at the most: more tell little more, and cost the cube of their number; and by
#: how many they may have grown past it before some give way.
MOST_POINTS, _SLACK = 150, 30
#: Recipes in training that are taken into account at the most, the latest: with a thousand workers,
#: all of them would cost a fifth of a second a decision.
MOST_PENDING = 80
#: Which shares of them are the best at the end of the training, and at the end of earlier rounds;
#: the others are as far from each other as can be. (Of what was tried on made-up losses these kept
#: newcomers best.)
_BEST, _BEST_EARLY = 0.3, 0.15
#: The lengths of the model are fitted again when so much more is known.
_GROWTH = 1.25


class ModelDriven(Drawn):
    """Draws newcomers where a model expects the most improvement."""

    #: Points to be known before the model is asked.
    first = 8

    @cached_property
    def log(self) -> list[Point]:
        """What is known, in the order in which it was observed; only ever added to."""
        return []

    @cached_property
    def _features(self) -> Features:
        from axiarch.search.model import Features

        return Features(self.space)

    @cached_property
    def _kept(self) -> dict[str, tuple[int, Any]]:
        """What was worked out last, each with the number of points it was worked out from."""
        return {}

    @cached_property
    def _rows(self) -> dict[Recipe, Floats]:
        return {}

    def pending(self) -> Sequence[Recipe]:
        """Return the recipes in training of which nothing is known yet."""
        raise NotImplementedError

    def _draw(self, number: int) -> Recipe | None:
        if not self.space.knobs or number % RANDOM_EVERY == RANDOM_EVERY - 1 or len(
                self.log) < self.first:
            return super()._draw(number)
        return self._proposed(number) or super()._draw(number)

    def _proposed(self, number: int) -> Recipe | None:
        """Return the recipe of most expected improvement among some drawn over the space and
        some near the best.
        """
        from axiarch.search.model import expected_improvement

        model, recipes, at_end = self._asked()
        if model is None:
            return None
        pending = np.array([self._row(recipe) for recipe in self.pending()[-MOST_PENDING:]]
                           ).reshape(-1, len(self._features))
        rng = np.random.default_rng(np.random.SeedSequence(self.seed, spawn_key=(number, 1)))
        model_now = model.with_pending(pending, SHORTER if number % RANDOM_EVERY == 1 else 1.0)

        def gain_of(points: Floats) -> Floats:
            rows = self._features.at(points)
            found = expected_improvement(*model_now.predict(rows), float(at_end.min()), model.noise)
            found[self._crowded(rows)] *= 1e-6
            return found

        points = self._candidates(
            rng, [recipes[i] for i in np.argsort(at_end, kind="stable")[:_CENTRES]])
        gain = gain_of(points)
        for reach in _REFINED:
            best = np.repeat(points[np.argsort(-gain, kind="stable")[:_CENTRES]], _NEARER, axis=0)
            nearer = _inside(best + reach * rng.normal(size=best.shape))
            points, gain = np.vstack((points, nearer)), np.concatenate((gain, gain_of(nearer)))
        for i in np.argsort(-gain, kind="stable")[:50]:
            recipe = self.space.at(points[i].tolist())
            if recipe is not None and self.is_new(recipe):
                return recipe
        return None

    def _asked(self) -> tuple[Model | None, list[Recipe], Floats]:
        """Return the model that proposes, as :meth:`_model` does; None where it knows too little.
        """
        return self._model()

    def _model(self) -> tuple[Model, list[Recipe], Floats]:
        """Return the model of all that is known, the recipes it knows, and what it takes them to
        come to.
        """
        from axiarch.search.model import Model

        kept = self._kept.get("model")
        if kept is None or kept[0] != len(self.log):
            places = self._remembered(len(self.log))
            observed, near = self._observed(places), self._near(len(self.log))[1]
            model = Model(observed, self._features.owner, self._parameters(len(self.log)),
                          near.copy())
            whose = {who: i for i, who in reversed(list(enumerate(observed.who.tolist())))
                     }  # each recipe's first place
            first = sorted(whose.values())
            recipes = [self.log[places[i]][0] for i in first]
            kept = self._kept["model"] = (len(self.log), (model, recipes, model.means(near[:,
                                                                                           first])))
        found: tuple[Model, list[Recipe], Floats] = kept[1]
        return found

    def _near(self, length: int) -> tuple[list[int], Floats]:
        """Return what the model remembers of the first `length` points of the log, and how near
        those are (N, N).
        """
        from axiarch.search.model import nearness

        kept = self._kept.get("near")
        if kept is None or kept[0] != length:
            places, p, owner = self._remembered(length), self._parameters(length), self._owner
            x = self._observed(places).x
            known: list[int] = kept[1][0] if kept is not None and kept[1][2] is p else []
            old = len(known) if places[: len(known)] == known else 0
            found = np.empty((len(places), len(places)))
            found[:, old:] = nearness(x, x[old:], owner, p)
            if kept is not None and old:
                found[:old, :old], found[old:, :old] = kept[1][1], found[:old, old:].T
            kept = self._kept["near"] = (length, (places, found, p))
        return kept[1][0], kept[1][1]

    @cached_property
    def _owner(self) -> NDArray[np.int64]:
        return np.array(self._features.owner, np.int64)

    def _observed(self, places: Sequence[int]) -> Observed:
        """Return some places of the log as the model takes them."""
        from axiarch.search.model import Observed

        nothing = (0, (np.zeros((0, len(self._features))), np.zeros((0, 4))))
        length, (x, rest) = self._kept.get("columns", nothing)
        if length < len(self.log):
            new = self.log[length:]
            x = np.vstack((x, [self._row(point[0]) for point in new]))
            rest = np.vstack((rest, [(*point[1:], self._who.setdefault(point[0], len(self._who)))
                                     for point in new]))
            self._kept["columns"] = (len(self.log), (x, rest))
        at = np.array(places, np.int64)
        early, losses, falls, who = rest[at].T
        return Observed(x[at], early, losses, falls, who.astype(np.int64))

    @cached_property
    def _who(self) -> dict[Recipe, int]:
        """The recipes of the log, numbered."""
        return {}

    def _row(self, recipe: Recipe) -> Floats:
        if recipe not in self._rows:
            self._rows[recipe] = self._features.of(recipe)
        return self._rows[recipe]

    def _parameters(self, length: int) -> Floats:
        """Return the model's parameters for the first `length` points.

        They are fitted to as many of them as there were when their number had last grown by a
        quarter, so that they are the same whenever they are asked for.
        """
        from axiarch.search.model import Model

        size = self.first
        while math.ceil(size * _GROWTH) <= length:
            size = math.ceil(size * _GROWTH)
        if size not in self._fitted:
            self._fitted[size] = Model(self._observed(self._remembered(size)),
                                       self._features.owner).parameters
        return self._fitted[size]

    def _remembered(self, length: int) -> list[int]:
        """Return which of the first `length` points of the log the model takes, in their order.

        Whenever there are too many, the best stay, and others as far from each other as can be:
        what is known to be bad is no news, wherever it lies, and must not look untried because it
        was forgotten.
        """
        known: tuple[int, list[int]] = self._kept.get("remembered", (0, []))
        before, kept = known if known[0] <= length else (0, [])
        kept = [*kept]
        for i in range(before, length):
            kept.append(i)
            if len(kept) > MOST_POINTS + _SLACK:
                kept = self._thinned(kept)
        if length > known[0]:
            self._kept["remembered"] = (length, kept)
        return kept

    def _thinned(self, places: Sequence[int]) -> list[int]:
        """Return :data:`MOST_POINTS` of some places of the log."""
        early = np.array([self.log[i][1] for i in places])
        losses = np.array([self.log[i][2] for i in places])
        at = np.column_stack((np.array([self._row(self.log[i][0]) for i in places]), early))
        kept = np.zeros(len(places), np.bool_)
        rounds = np.unique(early[early > 0])
        shares = [(0.0, _BEST), *((moment, _BEST_EARLY / len(rounds)) for moment in rounds)]
        for moment, share in shares:
            here = np.flatnonzero(early == moment)
            kept[here[np.argsort(losses[here], kind="stable")][: int(MOST_POINTS * share)]] = True
        square = (at**2).sum(1)
        apart = (square[:, None] + square[kept][None] - 2 * at @ at[kept].T).min(1)
        for _ in range(MOST_POINTS - int(kept.sum())):
            farthest = int(np.argmax(np.where(kept, -1.0, apart)))
            kept[farthest] = True
            apart = np.minimum(apart, square + square[farthest] - 2 * at @ at[farthest])
        return [place for place, stays in zip(places, kept.tolist(), strict=True) if stays]

    @cached_property
    def _fitted(self) -> dict[int, Floats]:
        return {}

    def _crowded(self, rows: Floats) -> NDArray[np.bool_]:
        """Say which points (M, F) stand so near to a recipe tried before that they would tell
        little new.
        """
        from scipy.spatial.distance import cdist

        known = np.array([self._row(recipe) for recipe in self.recipes.values()])
        square = cdist(rows, known, "sqeuclidean")
        crowded: NDArray[np.bool_] = square.min(1) < CROWDED**2 * len(self.space.knobs)
        return crowded

    def _candidates(self, rng: np.random.Generator, best: Sequence[Recipe]) -> Floats:
        count = len(self.space.knobs)
        points = [rng.random((_ANYWHERE, count))]
        for recipe in best:
            centre = np.array([position(k.range, recipe[k.name]) for k in self.space.knobs])
            reach = np.exp(rng.uniform(math.log(0.02), math.log(0.3), (_NEAR, 1)))
            moved = centre + reach * rng.normal(size=(_NEAR, count))
            still = rng.random((_NEAR, count)) < 0.3
            anywhere = rng.random((_NEAR, count))
            jump = rng.random((_NEAR, count)) < 0.1
            near = np.where(still, centre, np.where(jump, anywhere, moved))
            points.append(_inside(near))
        return np.vstack(points)


def _inside(points: Floats) -> Floats:
    """Return points with what falls out of the cube reflected, so that its walls are not
    likelier than the rest.
    """
    near = np.abs(points)
    inside: Floats = np.clip(np.where(near > 1, 2 - near, near), 0.0, 1.0 - 1e-9)
    return inside


def fall_of(curve: Sequence[float], epoch: int) -> float:
    """Return by how much the logarithm of the loss fell over the epochs before `epoch`, two at
    the most.
    """
    last, before = curve[min(epoch, len(curve)) - 1], curve[max(min(epoch, len(curve)) - 3, 0)]
    return math.log(
        before /
        last) if math.isfinite(before) and math.isfinite(last) and before > 0 < last else 0.0


class Guided(ModelDriven):
    """Propose the base recipe, some at random, then what the model expects to improve most;
    train each in full.
    """

    name = "guided"
    learns = True
    summary = ("few recipes, each expensive to train: a model of all results so far chooses the "
               "next one")
    options = (Option("recipes", 40, 1, 1_000_000, "recipes in all, the base recipe included"),
               WINDOW)

    @cached_property
    def _known(self) -> set[int]:
        return set()

    def next(self) -> Step | None:
        recipe = self.newcomer()
        return None if recipe is None else Step(recipe)

    def learn_from(self, known: Sequence[Observation]) -> None:
        """Take in what recipes of earlier searches came to."""
        self.log.extend((each.recipe, 0.0, each.loss, 0.0) for each in known if each.ended)

    def observe(self, observation: Observation) -> None:
        """Take in the mean loss of a recipe; what one that was cut had come to says little of
        its end.
        """
        self._known.add(observation.number)
        if observation.ended:
            self.log.append((observation.recipe, 0.0, observation.loss, 0.0))

    def pending(self) -> Sequence[Recipe]:
        """Return the recipes whose result is not known yet."""
        return [recipe for n, recipe in self.recipes.items() if n not in self._known]


class GuidedRacing(ModelDriven, Racing):
    """A race whose newcomers the model proposes, and in which it says who goes on, from every
    round of every recipe.
    """

    name = "guided_racing"
    summary = ("the default: a race whose newcomers a model proposes from all that was seen, cut "
               "recipes included")
    options = RACING_OPTIONS

    @cached_property
    def _logged(self) -> dict[int, int]:
        """How many rounds of each recipe are in the log."""
        return {}

    def observe(self, observation: Observation) -> None:
        """Take in how far a recipe has come: its steady loss at the end of each round that is
        new.
        """
        super().observe(observation)
        n = observation.number
        rounds = self._rounds(observation.recipe, self._curves[n], n in self._ended)
        for level, point in rounds[self._logged.get(n, 0):]:
            self.log.append(point)
            self._places.setdefault(n, []).append((level, len(self.log) - 1))
        self._logged[n] = max(len(rounds), self._logged.get(n, 0))
        others = observation.losses[1:]
        if observation.ended and others and n not in self._confirmed:
            self._confirmed.add(n)
            self.log.append((observation.recipe, 0.0, math.fsum(others) / len(others), 0.0))

    def learn_from(self, known: Sequence[Observation]) -> None:
        """Take in the rounds that recipes of earlier searches came to."""
        for each in known:
            self.log += [point for _, point in self._rounds(each.recipe, each.curves[0],
                                                            each.ended)]

    def _rounds(self, recipe: Recipe, curve: tuple[float, ...], ended: bool
                ) -> list[tuple[int, Point]]:
        """Return what the model learns from a curve (E,): one point for each round that it came
        to, the last one for its end.
        """
        found: list[tuple[int, Point]] = []
        for level, until in enumerate(self.levels):
            reached = len(curve) >= until
            at_end = until == self.levels[-1] or not reached
            if not reached and not ended:
                break
            early, fall = (0.0, 0.0) if at_end else (self._early(level), fall_of(curve, until))
            found.append((level, (recipe, early, steady_at(curve, until), fall)))
            if at_end:
                break
        return found

    @cached_property
    def _confirmed(self) -> set[int]:
        """Recipes of which the log holds what came of the other replicates."""
        return set()

    @cached_property
    def _places(self) -> dict[int, list[tuple[int, int]]]:
        """Where in the log the rounds of each recipe stand."""
        return {}

    def agreement(self, level: int) -> float | None:
        """Return how well the order after a round, or what the model makes of it, tells the
        order at the end.
        """
        plain = super().agreement(level)
        return plain if plain is None else max(plain, self._foresight(level))

    def _foresight(self, level: int) -> float:
        """Return how well what the model makes of recipes after a round tells what they come to.

        Each probe is expected by a model that knows of it only what was seen up to that round.
        """
        known = [
            n for n in self._full
            if n in self._ended and math.isfinite(self.value(n,
                                                             len(self.levels) - 1))
        ]
        if len(known) < ENOUGH_PROBES or not self.space.knobs:
            return -1.0
        key = (len(known), level)
        if key not in self._foresights:
            length = max(place for n in known for _, place in self._places[n]) + 1
            if length < self.first:
                return -1.0
            self._foresights[key] = agreement_of([(self._expected(
                n, level, length), self.value(n,
                                              len(self.levels) - 1)) for n in known])
        return self._foresights[key]

    @cached_property
    def _foresights(self) -> dict[tuple[int, int], float]:
        return {}

    def _expected(self, number: int, level: int, length: int) -> float:
        """Return what a recipe was to come to, by the first points of the log and what it showed
        up to a round.
        """
        from axiarch.search.model import Model, nearness

        later = {place for at, place in self._places[number] if at > level}
        places, near = self._near(length)
        known = [i for i, place in enumerate(places) if place not in later]
        observed = self._observed([places[i] for i in known])
        model = Model(observed, self._features.owner, self._parameters(length),
                      near[np.ix_(known, known)])
        own = nearness(observed.x,
                       self._row(self.recipes[number])[None], self._owner, model.parameters)
        return float(model.means(own)[0])

    def _early(self, level: int) -> float:
        """Return how early the end of a round is: 1 the first, 0 the last, even in the logarithm
        of epochs.
        """
        levels = self.levels
        return math.log(levels[-1] / levels[level]) / math.log(levels[-1] / levels[0])

    def standings(self, numbers: Sequence[int], level: int) -> list[float]:
        """Return what recipes are taken to come to by all that is known, rather than where they
        stand now.
        """
        here = super().standings(numbers, level)
        if len(self.log) < self.first or not self.space.knobs:
            return here
        plain = super().agreement(level)
        if plain is None or plain >= self._foresight(level):
            return here
        at_end = self._at_end()  # one that gave way in the model is far behind
        return [at_end.get(self.recipes[n], math.inf) if math.isfinite(now) else now
                for n, now in zip(numbers, here, strict=True)]

    def _asked(self) -> tuple[Model | None, list[Recipe], Floats]:
        """Return the model of all that was seen for every other recipe of the race; for the rest
        one of full results alone, which fast starters do not mislead.
        """
        race = self.account() == "race"
        if race and len(self._seen) % 2:
            return self._model()
        results = self._model_of_results()
        return self._model() if race and results[0] is None else results

    def _model_of_results(self) -> tuple[Model | None, list[Recipe], Floats]:
        """Return the model of what recipes came to at their end."""
        from axiarch.search.model import Model

        kept = self._kept.get("results")
        if kept is None or kept[0] != len(self.log):
            places = [i for i in self._remembered(len(self.log)) if self.log[i][1] == 0.0]
            found: tuple[Model | None, list[Recipe], Floats] = (None, [], np.zeros(0))
            if len(places) >= FEW_RESULTS:
                observed, parameters = self._observed(places), self._parameters(len(self.log))
                model = Model(observed, self._features.owner, parameters)
                found = model, [self.log[i][0] for i in places], model.predict(observed.x)[0]
            kept = self._kept["results"] = (len(self.log), found)
        known: tuple[Model | None, list[Recipe], Floats] = kept[1]
        return known

    def _at_end(self) -> dict[Recipe, float]:
        """Return what the model takes the recipes to come to that it knows."""
        _, recipes, at_end = self._model()
        kept = self._kept.get("standing")
        if kept is None or kept[0] != len(self.log):
            kept = self._kept["standing"] = (len(self.log),
                                             dict(zip(recipes, at_end.tolist(), strict=True)))
        found: dict[Recipe, float] = kept[1]
        return found

    def pending(self) -> Sequence[Recipe]:
        """Return the recipes of which nothing is known yet."""
        return [recipe for n, recipe in self.recipes.items() if n not in self._curves]
