"""Racing: many recipes, few epochs first; the best share goes on (Jamieson & Talwalkar 2016; Li et
al. 2018, 2020).

Promotion is asynchronous: whenever a recipe stands among the best share of all that have reached
its round, it may go on, so that no worker waits for a round to be full. Where early losses mislead,
a race is worse than chance. So epochs go to two *accounts*: newcomers enter the race, or they are
trained in full, whatever they show early. The first recipe, the base, is trained in full; then the
race runs alone until its first recipe enters the last round; from then on, each account gets epochs
as the best results so far came from it, per epoch spent. At the end the best are trained on all
seeds and folds, until the best are all known as well.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Literal

from axiarch.recipes.space import Space
from axiarch.search.method import WINDOW, Observation, Option, OptionValue, Step, steady_at
from axiarch.search.random import Drawn
from axiarch.text import count as counted

#: What epochs are spent on: recipes that race, and recipes that are trained in full.
Account = Literal["race", "full"]

#: Every so many newcomers the leader is trained on all seeds and folds, where it has not been.
CONFIRM_EVERY = 10
#: Recipes of the account "full" that must be known before it is said what a round tells.
ENOUGH_PROBES = 4
#: The best results that say where epochs are spent well, at the most; and those that each account
#: is taken to have had before the first, in the epochs of two full trainings.
BEST, PRIOR = 5, 0.5
#: The least and the largest share of the race: what a race finds is what learns fast.
LEAST, MOST = 0.15, 0.5
#: Recipes that come to the end of the first race at the least.
FINALISTS = 3
#: The share of epochs that the race is expected to get beside full trainings.
USUAL = 1 / 3

RACING_OPTIONS = (
    Option("recipes", 200, 1, 1_000_000,
           "recipes at the most, the base recipe included; fewer where full trainings use up the "
           "epochs"),
    Option("keep", 3, 2, 10, "one recipe in this many continues to the next round"),
    Option("rounds", 4, 1, 8, "rounds, the last one being the whole training"),
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
        self._full: list[int] = []  # recipes of the account "full", in their order
        self._spent: dict[Account, float] = {"race": 0.0, "full": 0.0}  # epochs, first replicate
        self._agreements: dict[tuple[int, int], float] = {}
        self.levels = self._levels()

    # -- rounds ----------------------------------------------------------------------------------

    def _levels(self) -> tuple[int, ...]:
        """Return the epoch at which each round ends, rising; the last is the longest training there
        is. A race of few recipes has fewer rounds, so that some come to the last one.
        """
        longest, keep = self.longest, self.values["keep"]
        most = 1 + int(math.log(max(self.expected / FINALISTS, 1), keep) + 1e-9)
        ends = {max(round(longest / keep**i), 1) for i in range(min(self.values["rounds"], most))}
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
        """Return how well the order after a round tells the order at the end, from -1 to 1, by the
        recipes that were trained in full; None if not known yet.
        """
        known = [n for n in self._full if n in self._ended]
        if len(known) < ENOUGH_PROBES:
            return None
        key = (len(known), level)  # what they came to does not change
        if key not in self._agreements:
            self._agreements[key] = agreement_of(
                [(self.value(n, level), self.value(n, len(self.levels) - 1)) for n in known])
        return self._agreements[key]

    # -- accounts --------------------------------------------------------------------------------

    def account(self) -> Account:
        """Return the account that the next newcomer belongs to: the one most in credit."""
        full = set(self._full)
        raced = [n for n, until in self._until.items() if n not in full and until >= self.longest]
        if not raced or len(self.levels) == 1:
            return "race"
        results = sorted((self._means[n], n) for n in self._ended if math.isfinite(self._means[n]))
        best: dict[Account, int] = {"race": 0, "full": 0}
        for _, n in results[: max(min(BEST, len(results) // 3), 1)]:
            best["full" if n in full else "race"] += 1
        yields = {each: (best[each] + PRIOR) / (self._spent[each] + self.longest / PRIOR)
                  for each in best}
        share = yields["race"] / (yields["race"] + yields["full"])
        share = min(max(share, LEAST), MOST)
        total = self._spent["race"] + self._spent["full"]
        return "race" if share * total >= self._spent["race"] else "full"

    # -- steps -----------------------------------------------------------------------------------

    def next(self) -> Step | None:
        step = self._confirmation() or self._promotion() or self._new()
        if step is not None or len(self._curves) < len(self.recipes) or self._in_training():
            return step
        return self._promotion(hurried=True) or self._final()

    def _in_training(self) -> bool:
        """Say whether the outcome of any step is still to be observed."""
        return any(n not in self._ended and len(self._curves.get(n, ())) < (until or self.longest)
                   for n, until in self._until.items() if n not in self._barred)

    def _promotion(self, hurried: bool = False) -> Step | None:
        """Return the step of the recipe that goes on next, the highest rounds first; `hurried`,
        the best of a round from which none has gone on goes on however few it has met.
        """
        for level in range(len(self.levels) - 2, -1, -1):
            here = self._reached(level)
            resting = {
                n for n in here
                if self._until[n] == self.levels[level] and n not in self._ended | self._barred
            }
            if not resting:
                continue
            order = [n for _, n in sorted(zip(self.standings(here, level), here, strict=True))]
            share = max(len(here) // self.values["keep"], int(hurried))
            gone = sum(self._until[n] > self.levels[level] and n not in self._full for n in here)
            if gone >= share and not hurried:
                # the best of all goes on even so: where newcomers get better, it is one of them
                share = min(share, 1)
            for place, n in enumerate(order[:share]):
                if n in resting and math.isfinite(self.value(n, level)):
                    return self._on(n, level + 1,
                                    f"place {place + 1} of {len(here)} after "
                                    f"{counted(self.levels[level], 'epoch')}")
        return None

    def _on(self, number: int, level: int, why: str) -> Step:
        last = level == len(self.levels) - 1
        return Step(self.recipes[number], number, 0 if last else self.levels[level], 1, why=why)

    def _new(self) -> Step | None:
        if self._overdrawn:
            return None
        recipe = self.newcomer()
        if recipe is None:
            return None
        if not self.recipes:
            return Step(recipe, until=0, replicates=1,
                        why="trained in full, for others to be compared with")
        if self.account() == "full":
            return Step(recipe, until=0, replicates=1,
                        why="trained in full, whatever its first epochs show")
        last = len(self.levels) == 1
        return Step(recipe, until=0 if last else self.levels[0], replicates=1)

    @property
    def _overdrawn(self) -> bool:
        """Whether as much was spent as recipes of both accounts were expected to take."""
        return sum(self._spent.values()) >= self._expected_race

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
        if step.number == 0 and step.until == 0 and not by_hand and len(self.levels) > 1:
            self._full.append(number)
        super().take(step, number)
        until = min(step.until or self.longest, self.longest)
        account: Account = "full" if number in self._full else "race"
        self._spent[account] += max(until - self._until.get(number, 0), 0)
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
        """Those of the first replicate, and of the finalists on all others."""
        return self._expected_race + self._wide_expected * (self.replicates - 1) * self.longest

    @property
    def _expected_race(self) -> float:
        """The epochs of the first replicate: of the race alone until a first recipe enters the
        last round, then a third in the race and the rest in full.
        """
        count, keep = self.expected, self.values["keep"]
        raced, before = 0.0, 0  # epochs of the race for each recipe in it
        for i, until in enumerate(self.levels):
            raced += (until - before) / keep**i
            before = until
        alone = min(count, int(keep ** (len(self.levels) - 1)))
        each = 1 / (USUAL / raced + (1 - USUAL) / self.longest)
        return alone * raced + (count - alone) * each + self.longest

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
            return f"diverged within {counted(self.levels[level], 'epoch')}"
        place = 1 + sum(self.value(n, level) < self.value(number, level) for n in here)
        return (f"place {place} of {len(here)} after {counted(self.levels[level], 'epoch')}, where "
                f"one in {self.values['keep']} went on")


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
