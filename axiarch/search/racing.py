"""Racing: many recipes, few epochs first; the best share goes on (Jamieson & Talwalkar 2016; Li et
al. 2018, 2020).

Promotion is asynchronous: whenever a recipe stands among the best share of all that have reached
its round, it may go on, so that no worker waits for a round to be full. Two things are added to it.
Some recipes, chosen before anything is known of them, are trained in full: on these it is measured
whether the order after a round tells the order at the end, and a round that does not tell is not
judged by: everybody goes on from it, and newcomers are trained up to the first round that tells.
And at the end the best are trained on all seeds and folds, until the best are all known as well.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from functools import cached_property

from axiarch.recipes.space import Space
from axiarch.search.method import WINDOW, Observation, Option, OptionValue, Step, steady_at
from axiarch.search.random import Drawn

#: Recipes trained in full before rounds are judged, and one in so many after them.
PROBES, PROBE_EVERY = 4, 20
#: Every so many newcomers the leader is trained on all seeds and folds, where it has not been.
CONFIRM_EVERY = 10
#: Probes that must be known before a round is judged at all.
ENOUGH_PROBES = 4
#: A round is judged by if pairs of probes in the same order then and at the end outweigh the others
#: by so much of the whole, each pair weighed by how far apart it ends: 1 where all agree, 0 where
#: the order tells nothing.
AGREEMENT = 0.3
#: Epochs of the first round at the least: the steady loss is a mean of three.
SHORTEST = 3

RACING_OPTIONS = (
    Option("recipes", 120, 1, 1_000_000, "recipes in all, the base recipe included"),
    Option("keep", 3, 2, 10, "one recipe in this many continues to the next round"),
    Option("rounds", 3, 1, 8, "rounds, the last one being the whole training"),
    Option("finalists", 5, 1, 1000,
           "best recipes that are trained on all seeds and folds in the end"),
    WINDOW,
)


class Racing(Drawn):
    """Recipes drawn at random, raced."""

    name = "racing"
    learns = True
    summary = ("very many recipes at little cost, where a few epochs tell good from bad; it "
               "notices where they do not")
    options = RACING_OPTIONS

    def __init__(self, space: Space, seed: int, options: Mapping[str, OptionValue] | None = None,
                 replicates: int = 1) -> None:
        super().__init__(space, seed, options, replicates)
        self._until: dict[int, int] = {
        }  # epochs that a recipe was let train for, on the first replicate
        self._wide: set[int] = set()  # recipes let train on all replicates
        self._curves: dict[int, tuple[float,
                                      ...]] = {}  # of the first replicate, as far as observed
        self._values: dict[int, tuple[float, ...]] = {}  # its steady loss at the end of each round
        self._means: dict[int, float] = {}  # over replicates, of those observed in full
        self._ended: set[int] = set()
        self._probes: list[int] = []
        self._agreements: dict[tuple[int, int], float] = {}

    # -- rounds ----------------------------------------------------------------------------------

    @cached_property
    def levels(self) -> tuple[int, ...]:
        """The epoch at which each round ends, rising; the last is the longest training there is."""
        longest, keep = self.longest, self.values["keep"]
        ends = {longest} | {
            max(min(SHORTEST, longest), round(longest / keep**i))
            for i in range(self.values["rounds"])
        }
        return tuple(sorted(ends))

    def value(self, number: int, level: int) -> float:
        """Return the steady loss of a recipe at the end of a round (on the first replicate)."""
        return self._values[number][level]

    def standings(self, numbers: Sequence[int], level: int) -> list[float]:
        """Return what recipes are ordered by at the end of a round, the lowest first."""
        return [self.value(n, level) for n in numbers]

    def _reached(self, level: int) -> list[int]:
        """Return the recipes known to the end of a round, or to an end of their own."""
        last = self.levels[level]
        return [n for n, curve in self._curves.items() if n in self._ended or len(curve) >= last]

    def agreement(self, level: int) -> float | None:
        """Return how well the order after a round tells the order at the end, from -1 to 1; None
        if not known yet.
        """
        known = [n for n in self._probes if n in self._ended]
        if len(known) < ENOUGH_PROBES:
            return None
        key = (len(known), level)  # what probes came to does not change
        if key not in self._agreements:
            self._agreements[key] = agreement_of(
                [(self.value(n, level), self.value(n, len(self.levels) - 1)) for n in known])
        return self._agreements[key]

    def judged(self, level: int) -> bool | None:
        """Say whether a round's order is gone by; None if it is not known yet."""
        if level == len(self.levels) - 1:
            return True
        found = self.agreement(level)
        return None if found is None else found >= AGREEMENT

    # -- steps -----------------------------------------------------------------------------------

    def next(self) -> Step | None:
        step = self._confirmation() or self._promotion(hurried=False) or self._new()
        if step is not None or len(self._curves) < len(self.recipes) or self._in_training():
            return step
        return self._promotion(hurried=True) or self._final()

    def _in_training(self) -> bool:
        """Say whether the outcome of any step is still to be observed."""
        return any(n not in self._ended and len(self._curves.get(n, ())) < (until or self.longest)
                   for n, until in self._until.items() if n not in self._barred)

    def _promotion(self, hurried: bool) -> Step | None:
        """Return the step of the recipe that goes on next, the highest rounds first; `hurried`,
        unknown means yes.
        """
        for level in range(len(self.levels) - 2, -1, -1):
            judged = self.judged(level)
            if judged is None and not hurried:
                continue
            here = self._reached(level)
            resting = {
                n for n in here
                if self._until[n] == self.levels[level] and n not in self._ended | self._barred
            }
            if not resting:
                continue
            order = [n for _, n in sorted(zip(self.standings(here, level), here, strict=True))]
            share = len(here) if judged is False else len(here) // self.values["keep"]
            gone = sum(self._until[n] > self.levels[level] and n not in self._probes for n in here)
            if gone >= share:
                share = min(
                    share, 1
                )  # the best of all goes on even so: where newcomers get better, it is one of them
            for place, n in enumerate(order[:share]):
                if n in resting and math.isfinite(self.value(n, level)):
                    return self._on(
                        n, level + 1,
                        f"place {place + 1} of {len(here)} after {self.levels[level]} epochs"
                        if judged is not False else
                        f"the order after {self.levels[level]} epochs does not tell the order at "
                        "the end"
                    )
        return None

    def _on(self, number: int, level: int, why: str) -> Step:
        last = level == len(self.levels) - 1
        return Step(self.recipes[number], number, 0 if last else self.levels[level], 1, why=why)

    def _new(self) -> Step | None:
        recipe = self.newcomer()
        if recipe is None:
            return None
        if self._probes_next():
            return Step(recipe,
                        until=0,
                        replicates=1,
                        why="trained in full, to see what early epochs tell")
        for level, until in enumerate(self.levels[:-1]):
            if self.judged(level) is not False:
                return Step(recipe, until=until, replicates=1)
        return Step(recipe, until=0, replicates=1)

    def _probes_next(self) -> bool:
        """Say whether the next newcomer is one of those trained in full before anything is known
        of them.
        """
        return len(self.recipes) < PROBES or len(self.recipes) % PROBE_EVERY == 0

    def _confirmation(self) -> Step | None:
        """Return, every so many newcomers, the step that trains the leader on all replicates, where
        it leads by one alone.

        A leader of one seed is often lucky; to know better early keeps the race from running after
        luck.
        """
        if self.replicates == 1 or not self.recipes or len(
                self.recipes) % CONFIRM_EVERY or not self._means:
            return None
        leader = min(self._means, key=lambda n: (self._means[n], n))
        if leader in self._wide | self._barred or not math.isfinite(self._means[leader]):
            return None
        return Step(self.recipes[leader],
                    leader,
                    0,
                    0,
                    why="the best so far, on all seeds and folds")

    def _final(self) -> Step | None:
        """Return the step that trains one of the best on all replicates; None when the best all
        have been.
        """
        if self.replicates == 1:
            return None
        full = [n for n in self._means if n not in self._barred]
        best = sorted(full, key=lambda n: (self._means[n], n))[: self.values["finalists"]]
        for place, n in enumerate(best):
            if n not in self._wide and math.isfinite(self._means[n]):
                return Step(self.recipes[n],
                            n,
                            0,
                            0,
                            why=f"place {place + 1}: among the best, on all seeds and folds")
        return None

    def take(self, step: Step, number: int) -> None:
        """Take note of a step."""
        # a recipe chosen by somebody is no fair probe
        by_hand = step.replicates != 1 or step.parent
        if step.number == 0 and step.until == 0 and not by_hand and self._probes_next():
            self._probes.append(number)
        super().take(step, number)
        until = min(step.until or self.longest, self.longest)
        self._until[number] = max(self._until.get(number, 0), until)
        if not 0 < step.replicates < self.replicates:
            self._wide.add(number)

    def observe(self, observation: Observation) -> None:
        """Take in how far a recipe has come."""
        n = observation.number
        first = observation.curves[0] if observation.curves else ()
        if len(first) >= len(self._curves.get(n, ())):
            self._curves[n] = first
            self._values[n] = tuple(steady_at(first, until) for until in self.levels)
        if observation.ended:
            self._ended.add(n)
            self._means[n] = observation.loss

    # -- what is expected, and said ----------------------------------------------------------------

    @property
    def expected_runs(self) -> int:
        """One run a recipe, and all replicates of the best."""
        return self.expected + self._wide_expected * (self.replicates - 1)

    @property
    def _wide_expected(self) -> int:
        """How many recipes are trained on all replicates: finalists, and leaders on the way, fewer
        and fewer new ones.
        """
        leaders = round(math.log2(max(self.expected / CONFIRM_EVERY, 1)))
        return min(self.values["finalists"] + leaders, self.expected)

    @property
    def expected_epochs(self) -> float:
        """Probes in full, the rest in ever smaller shares, the finalists on all replicates."""
        count, keep = self.expected, self.values["keep"]
        probes = min(PROBES + count // PROBE_EVERY, count)
        epochs = float(probes * self.longest)
        before = 0
        for i, until in enumerate(self.levels):
            epochs += (count - probes) / keep**i * (until - before)
            before = until
        return epochs + self._wide_expected * (self.replicates - 1) * self.longest

    def cut_reason(self, number: int) -> str:
        """Say why a recipe was not trained further."""
        if number in self._barred:
            return "cut by hand"
        level = next((i for i, until in enumerate(self.levels) if until == self._until.get(number)),
                     None)
        if level is None or number not in self._curves:
            return super().cut_reason(number)
        here = self._reached(level)
        if not math.isfinite(self.value(number, level)):
            return f"diverged within {self.levels[level]} epochs"
        place = 1 + sum(self.value(n, level) < self.value(number, level) for n in here)
        return (f"place {place} of {len(here)} after {self.levels[level]} epochs, where one in "
                f"{self.values['keep']} went on")


def agreement_of(pairs: Sequence[tuple[float, float]]) -> float:
    """Return how well the first numbers of `pairs` tell the order of the second, from -1 to 1.

    Each two pairs are weighed by how far apart the second numbers are; what is not finite counts as
    the worst.
    """
    worst = [
        max((pair[i] for pair in pairs if math.isfinite(pair[i])), default=1.0) for i in (0, 1)
    ]
    tamed = [(min(a, worst[0]), min(b, worst[1])) for a, b in pairs]
    agree = whole = 0.0
    for i, (a, b) in enumerate(tamed):
        for c, d in tamed[:i]:
            whole += abs(b - d)
            agree += abs(b - d) * _sign((a - c) * (b - d))
    return agree / whole if whole > 0 else 1.0


def _sign(x: float) -> float:
    return (x > 0) - (x < 0)
