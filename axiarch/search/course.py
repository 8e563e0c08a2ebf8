"""The course of a search: its steps in their order, when the next may be decided, and when an outcome is told.

Step t is decided when exactly the outcomes of the steps up to t - window have been told, or more where the method
wanted to know more first. So neither the number of workers nor their speed, nor any interruption, changes what is
decided.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from axiarch.search.method import Method, Observation, Ruling, Step


@dataclass(frozen=True)
class Taken:
    """A step that was taken: its recipe's number, and how many outcomes had been told before."""

    step: Step
    number: int
    told: int


class Course:
    """Drives a method.

    Parameters
    ----------
    method : Method
        Fresh.
    outcome : callable
        Gives what came of a step, or None while that is not known.
    """

    def __init__(self, method: Method, outcome: Callable[[Taken], Observation | None]) -> None:
        self.method = method
        self.steps: list[Taken] = []
        self.told = 0
        self._outcome = outcome
        self._nothing: tuple[int, int, int] | None = None
        self._rulings = 0

    def decide(self) -> Step | None:
        """Return the next step, or None if none can be decided now: ever, where all outcomes have been told."""
        wanted = len(self.steps) + 1 - self.method.window
        while True:
            if not self._tell(wanted):
                return None
            asked = (self.told, len(self.steps), self._rulings)
            step = None if asked == self._nothing else self.method.next()
            if step is not None:
                return step
            self._nothing = asked
            if self.told == len(self.steps) or not self.method.learns:
                return None
            wanted = self.told + 1

    def rule(self, what: Ruling, value: int) -> None:
        """Let the method obey a user."""
        self.method.rule(what, value)
        self._rulings += 1

    def _tell(self, wanted: int) -> bool:
        """Tell outcomes until so many have been told; say whether they were known."""
        while self.told < wanted:
            found = self._outcome(self.steps[self.told])
            if found is None:
                return False
            self.method.observe(found)
            self.told += 1
        return True

    def take(self, step: Step, number: int, told: int | None = None) -> Taken:
        """Take a step: the one decided, one by hand, or (with `told`) one of an earlier sitting."""
        if told is not None and not self._tell(told):
            raise ValueError("a step was taken on outcomes that are not known")
        taken = Taken(step, number, self.told)
        self.steps.append(taken)
        self.method.take(step, number)
        return taken
