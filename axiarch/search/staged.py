"""Staged: one group of knobs after the other, each time keeping the best, as people do by hand."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property

import numpy as np

from axiarch.recipes.conditions import Value
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.space import Knob
from axiarch.search.method import Observation, Option, Step
from axiarch.search.random import Drawn

#: Draws tried for one proposal before a stage counts as used up.
_TRIES = 200


class Staged(Drawn):
    """Propose the base recipe, then vary one group of knobs at a time around the best recipe so far.

    Groups are those of the sheet, in the order in which the space names their first knob. After the last one it
    returns to the first, as often as the option says.
    """

    name = "staged"
    learns = True
    summary = "one group of knobs after the other, the best of each kept: easy to follow, and to explain"
    options = (Option("recipes", 60, 1, 1_000_000, "recipes in all, the base recipe included"),
               Option("passes", 2, 1, 20, "times that every group is gone through"))

    @cached_property
    def stages(self) -> list[tuple[str, list[Knob]]]:
        """The groups of knobs, each with its name, as often as they are gone through."""
        groups: dict[str, list[Knob]] = {}
        for knob in self.space.knobs:
            groups.setdefault(FIELDS[knob.name].group, []).append(knob)
        return list(groups.items()) * self.values["passes"]

    @cached_property
    def _results(self) -> dict[int, float]:
        return {}

    def next(self) -> Step | None:
        done = len(self._seen)
        if done >= self.values["recipes"]:
            return None
        if done == 0:
            base = self.space.base if self.space.allows(self.space.base) else self._draw(0)
            return Step(base, why="the base") if base is not None else None
        if not self.stages:
            return None
        stage, first = self._stage(done)
        if len(self._results) < first:
            return None  # the stage before must be known in full
        for later in range(stage, len(self.stages)):
            recipe = self._near(self._best(first), self.stages[later][1], done)
            if recipe is not None:
                return Step(recipe, why=f"stage {later + 1} of {len(self.stages)}: {self.stages[later][0]}")
        return None

    def observe(self, observation: Observation) -> None:
        """Take in the mean loss of a recipe."""
        self._results[observation.number] = observation.loss

    def _stage(self, done: int) -> tuple[int, int]:
        """Return the stage that recipe `done` (from 0) belongs to, and how many recipes came before that stage."""
        each = max((self.values["recipes"] - 1) / len(self.stages), 1.0)
        stage = min(int((done - 1) / each), len(self.stages) - 1)
        return stage, 1 + -int(-(stage * each) // 1)

    def _best(self, first: int) -> Recipe:
        """Return the best of the recipes before the stage."""
        known = {n: loss for n, loss in self._results.items() if n <= first}
        return self.recipes[min(known, key=lambda n: (known[n], n))]

    def _near(self, best: Recipe, knobs: list[Knob], number: int) -> Recipe | None:
        """Return the best recipe with the knobs of one group drawn anew."""
        rng = np.random.default_rng(np.random.SeedSequence(self.seed, spawn_key=(number,)))
        fixed: Mapping[str, Value] = {k.name: best[k.name] for k in self.space.knobs}
        for _ in range(_TRIES):
            drawn = {k.name: k.range.at(u) for k, u in zip(knobs, rng.random(len(knobs)).tolist(), strict=True)}
            recipe = self.space.recipe({**fixed, **drawn})
            if recipe is not None and recipe not in self._seen:
                return recipe
        return None
