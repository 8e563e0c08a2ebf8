"""Population: schedules found while training: now and then the weak copy the strong, and vary
(Jaderberg et al. 2017).

A member that is overtaken ends; its place is taken by a new recipe that starts from the weights of
a strong one, with the knobs that may change within a training moved up or down. A recipe's line of
parents is its schedule.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from axiarch.recipes.recipe import Recipe
from axiarch.recipes.space import Knob, Space
from axiarch.search.method import Observation, Option, OptionValue, Step, steady_at
from axiarch.search.points import is_words, position
from axiarch.search.random import Drawn

#: Values that make another network, another batch or another length: they cannot change within a
#: training.
FIXED = frozenset({
    "network", "depth", "width", "shape", "activation", "normalisation", "residual",
    "initialisation", "batch_size", "last_batch", "gradient_accumulation", "epochs",
    "weight_averaging", "optimiser"
})
#: The share of members that copy, and that are copied.
SHARE = 0.25
#: About how far a knob is moved at a copy, as a share of its range.
_MOVE = 0.12
_TRIES = 100


class Population(Drawn):
    """A population of recipes that train side by side and learn from each other."""

    name = "population"
    learns = True
    summary = ("rates and regularisation that change while training: the weak copy the strong and "
               "vary")
    options = (Option("recipes", 16, 1, 10_000,
                      "members of the population, the base recipe included"),
               Option("generations", 6, 1, 1000, "times that the members are compared"))

    def __init__(self, space: Space, seed: int, options: Mapping[str, OptionValue] | None = None,
                 replicates: int = 1) -> None:
        super().__init__(space, seed, options, replicates)
        self._members: list[int] = []
        self._curves: dict[int, tuple[float, ...]] = {}
        self._ended: set[int] = set()
        self._gone: dict[int, str] = {}
        self._generation = 1
        self._plan: list[tuple[
            Step, int]] | None = None  # of this generation's end: each step, and who gives way
        self._done = 0

    @property
    def moving(self) -> list[Knob]:
        """The knobs that may change within a training."""
        return [k for k in self.space.knobs if k.name not in FIXED]

    def mark(self, generation: int) -> int:
        """Return the epoch at which a generation (from 1) ends; 0 is the end of the training."""
        last = self.values["generations"]
        return 0 if generation >= last else max(1, round(self.longest * generation / last))

    def next(self) -> Step | None:
        if not self._done and self._plan is None and len(self._members) < self.values["recipes"]:
            recipe = self.newcomer()
            if recipe is not None:
                return Step(recipe, until=self.mark(1), replicates=1, why="a first member")
        plan = self._ahead()
        return plan[self._done][0] if plan is not None and self._done < len(plan) else None

    def _living(self) -> list[int]:
        return [n for n in self._members if n not in self._gone and n not in self._barred]

    def _ahead(self) -> list[tuple[Step, int]] | None:
        """Return what follows when all members have come to the end of this generation; None
        before that.
        """
        if self._plan is None:
            until = self.mark(self._generation)
            living = self._living()
            if until and all(n in self._ended or len(self._curves.get(n, ())) >= until
                             for n in living):
                self._plan = self._planned(living)
        return self._plan

    def _planned(self, living: list[int]) -> list[tuple[Step, int]]:
        """Return the copies, then the members that go on."""
        until = self.mark(self._generation + 1)
        order = sorted(living, key=lambda n: (steady_at(self._curves.get(n, ())), n))
        count = int(len(living) * SHARE) if self.moving else 0
        strong = [n for n in order[:count] if n not in self._ended]
        weak = order[len(order) - count :] if strong else []
        plan: list[tuple[Step, int]] = []
        seen = set(self._seen)
        for i, n in enumerate(weak):
            parent = strong[i % len(strong)]
            recipe = self._moved(self.recipes[parent], seen, i)
            if recipe is not None:
                seen.add(recipe.essence)
                plan.append((Step(recipe, until=until, replicates=1, parent=parent,
                                  why=f"continues from recipe {parent} in place of recipe {n}"), n))
        leaving = {n for _, n in plan}
        return plan + [(Step(self.recipes[n], n, until, 1,
                             why=f"generation {self._generation + 1}"), 0)
                       for n in living
                       if n not in leaving and n not in self._ended]

    def _moved(self, recipe: Recipe, seen: set[object], copy: int) -> Recipe | None:
        """Return a recipe with its moving knobs moved, one that is not `seen`."""
        rng = np.random.default_rng(
            np.random.SeedSequence(self.seed, spawn_key=(self._generation, copy, 2)))
        for _ in range(_TRIES):
            values = {k.name: recipe[k.name] for k in self.space.knobs}
            for k in self.moving:
                if is_words(k.range):
                    if rng.random() < _MOVE:
                        values[k.name] = k.range.at(rng.random())
                    continue
                size = k.range.size
                step = _MOVE if size is None else max(_MOVE, 1 / size)
                u = position(k.range, recipe[k.name]) + step * rng.uniform(0.6, 1.4) * rng.choice(
                    (-1, 1))
                values[k.name] = k.range.at(min(max(u, 0.0), 1.0 - 1e-9))
            moved = self.space.recipe(values)
            if moved is not None and moved.essence not in seen:
                return moved
        return None

    def take(self, step: Step, number: int) -> None:
        """Take note of a step; a copy takes the place of a weak member."""
        plan = self._ahead() if self._members and (step.number or step.parent) else None
        if plan is not None and self._done < len(plan) and plan[self._done][0] == step:
            if step.parent:
                self._gone[plan[self._done][1]] = f"gave way to a copy of recipe {step.parent}"
            self._done += 1
            if self._done == len(plan):
                self._generation, self._plan, self._done = self._generation + 1, None, 0
        super().take(step, number)
        if step.number == 0:
            self._members.append(number)

    def observe(self, observation: Observation) -> None:
        """Take in how far a member has come."""
        self._curves[observation.number] = observation.curves[0] if observation.curves else ()
        if observation.ended:
            self._ended.add(observation.number)

    @property
    def expected(self) -> int:
        copies = int(self.values["recipes"] * SHARE) * (self.values["generations"] -
                                                        1) if self.moving else 0
        return super().expected + copies

    @property
    def expected_runs(self) -> int:
        """One run a member."""
        return self.expected

    @property
    def expected_epochs(self) -> float:
        """Every member to the end."""
        return float(super().expected * self.longest)

    def cut_reason(self, number: int) -> str:
        """Say why a member was not trained further."""
        return self._gone.get(number, super().cut_reason(number))
