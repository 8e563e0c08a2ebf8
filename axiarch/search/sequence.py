"""The sequence of a search: its steps in their order, when the next may be decided, and when an
outcome is observed.

A search has a clock of its own, which says when the method observes an outcome. Decisions therefore
do not depend on the number of workers, their speed, or interruptions. On this clock, a step takes
as long as its training is expected to take. The method's window limits how many steps are under way
at once; before another is decided, the method observes the outcome of the step that ends first. A
long training delays nothing: other steps begin and end beside it.
"""

from __future__ import annotations

import heapq
from collections.abc import Callable
from dataclasses import dataclass

from axiarch.recipes.recipe import Recipe
from axiarch.search.method import Method, Observation, Override, Step

#: From a recipe and a number of its epochs to how long they take, in any unit.
Effort = Callable[[Recipe, int], float]


def by_epochs(recipe: Recipe, epochs: int) -> float:
    """Return what epochs take where all take alike."""
    return float(epochs)


@dataclass(frozen=True)
class TakenStep:
    """A step that was taken: its recipe's number, how many outcomes had been observed before, and
    when it begins and ends by the clock of the search.
    """

    step: Step
    number: int
    observed: int
    begins: float = 0.0
    ends: float = 0.0


class StepSequence:
    """Drives a method.

    Parameters
    ----------
    method : Method
        Fresh.
    outcome : callable
        Gives what came of a step, or None while that is not known.
    effort : callable
        Says how long a training takes by the clock; the same for a search whenever it is asked.
    """

    def __init__(self, method: Method, outcome: Callable[[TakenStep], Observation | None],
                 effort: Effort = by_epochs) -> None:
        self.method = method
        self.steps: list[TakenStep] = []
        self.observed = 0
        self._outcome, self._effort = outcome, effort
        self._now = 0.0
        self._under_way: list[tuple[float,
                                    int]] = []  # when each ends, and its place among the steps
        self._until: dict[tuple[int, int],
                          int] = {}  # epochs that a recipe was let train for on a replicate
        self._nothing: tuple[int, int, int] | None = None
        self._overrides = 0

    def decide(self) -> Step | None:
        """Return the next step, or None if none can be decided now: ever, where all outcomes
        have been observed.
        """
        while True:
            if len(self._under_way) < self.method.window:
                asked = (self.observed, len(self.steps), self._overrides)
                step = None if asked == self._nothing else self.method.next()
                if step is not None:
                    return step
                self._nothing = asked
                if not self._under_way or not self.method.learns:
                    return None
            if not self._observe():
                return None

    def override(self, what: Override, value: int) -> None:
        """Let the method obey a user."""
        self.method.override(what, value)
        self._overrides += 1

    def _observe(self) -> bool:
        """Tell the outcome of the step that ends first; say whether it was known."""
        ends, place = self._under_way[0]
        found = self._outcome(self.steps[place])
        if found is None:
            return False
        heapq.heappop(self._under_way)
        self._now = ends
        self.method.observe(found)
        self.observed += 1
        return True

    def take(self, step: Step, number: int, observed: int | None = None) -> TakenStep:
        """Take a step: the one decided, one by hand, or (with `observed`) one of an earlier
        sitting.
        """
        while observed is not None and self.observed < observed:
            if not self._under_way or not self._observe():
                raise ValueError("a step was taken on outcomes that are not known")
        taken = TakenStep(step, number, self.observed, self._now,
                          self._now + self._takes(step, number))
        heapq.heappush(self._under_way, (taken.ends, len(self.steps)))
        self.steps.append(taken)
        self.method.take(step, number)
        return taken

    def _takes(self, step: Step, number: int) -> float:
        """Return how long a step takes, one replicate after the other, from where its recipe stood
        or its parent did.
        """
        until = step.until or step.recipe.whole("epochs")
        takes = 0.0
        for replicate in range(step.replicates or self.method.replicates):
            begun = self._until.get((number, replicate), self._until.get((step.parent, replicate),
                                                                         0))
            if until > begun:
                takes += self._effort(step.recipe, until - begun)
                self._until[number, replicate] = until
        return takes
