"""Staged: one group of knobs after the other, each time keeping the best, as people do by hand."""

from __future__ import annotations

import math
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
    """Propose the base recipe, then vary one group of knobs at a time around the best recipe so
    far.

    Groups are those of the sheet, in the order in which the space names their first knob. After the
    last one it returns to the first, as often as the option says.
    """

    name = "staged"
    learns = True
    summary = ("one group of knobs after the other, the best of each kept: easy to follow, and to "
               "explain")
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

    @cached_property
    def _stage_of(self) -> list[int]:
        """The stage that each recipe was proposed in, in their order; that of the base is 0."""
        return []

    def next(self) -> Step | None:
        return self._proposed()[0]

    def take(self, step: Step, number: int) -> None:
        """Take note of a step, and of the stage it belongs to."""
        own, stage = self._proposed()
        if number not in self.recipes:
            mine = own is not None and own.recipe == step.recipe
            self._stage_of.append(stage if mine else max(self._stage_of, default=0))
        super().take(step, number)

    def observe(self, observation: Observation) -> None:
        """Take in the mean loss of a recipe."""
        self._results[observation.number] = observation.loss

    def _proposed(self) -> tuple[Step | None, int]:
        """Return the next step and its stage; a stage begins when all before it is known."""
        done = len(self._stage_of)
        if done >= self.values["recipes"]:
            return None, 0
        if done == 0:
            base = self.space.base if self.space.allows(self.space.base) else self._draw(0)
            return (Step(base, why="the base") if base is not None else None), 0
        for stage in range(max(self._stage_of), len(self.stages)):
            # The base, recipe 1, comes before all stages.
            own = [i for i, each in enumerate(self._stage_of[1:], 2) if each == stage]
            first = own[0] - 1 if own else done
            if not own and any(number not in self._results for number in self.recipes):
                return None, stage
            quota = math.ceil((self.values["recipes"] - first) / (len(self.stages) - stage))
            recipe = None
            if len(own) < quota:
                recipe = self._near(self._best(first), self.stages[stage][1], done)
            if recipe is not None:
                why = f"stage {stage + 1} of {len(self.stages)}: {self.stages[stage][0]}"
                return Step(recipe, why=why), stage
        return None, len(self.stages)

    def _best(self, first: int) -> Recipe:
        """Return the best of the first `first` recipes."""
        known = {n: loss for n, loss in self._results.items() if n <= first}
        return self.recipes[min(known, key=lambda n: (known[n], n))]

    def _near(self, best: Recipe, knobs: list[Knob], number: int) -> Recipe | None:
        """Return the best recipe with the knobs of one group drawn anew."""
        rng = np.random.default_rng(np.random.SeedSequence(self.seed, spawn_key=(number,)))
        fixed: Mapping[str, Value] = {k.name: best[k.name] for k in self.space.knobs}
        for _ in range(_TRIES):
            drawn = {
                k.name: k.range.at(u)
                for k, u in zip(knobs, rng.random(len(knobs)).tolist(), strict=True)
            }
            recipe = self.space.recipe({**fixed, **drawn})
            if recipe is not None and self.is_new(recipe):
                return recipe
        return None
