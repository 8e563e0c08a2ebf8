"""Zoom: a finer space around one recipe, the base."""

from __future__ import annotations

import numpy as np

from axiarch.search.method import Option
from axiarch.search.points import is_words, position
from axiarch.search.random import Random


class Zoom(Random):
    """Propose the base recipe, then recipes near it: words stay as they are, numbers within a
    share of their range.
    """

    name = "zoom"
    summary = "a closer look around a recipe that is good already, made the base first"
    options = (Option("recipes", 40, 1, 1_000_000, "recipes in all, the base recipe included"),
               Option("percent", 25, 1, 100,
                      "how much of each range is looked at, the base in its middle"))

    def _point(self, rng: np.random.Generator) -> list[float]:
        share, point = self.values["percent"] / 100, []
        for knob, u in zip(self.space.knobs,
                           rng.random(len(self.space.knobs)).tolist(),
                           strict=True):
            middle = position(knob.range, self.space.base[knob.name])
            if is_words(knob.range):
                point.append(middle)
                continue
            size = knob.range.size
            reach = share if size is None else max(share, min(3 /
                                                              size, 1.0))  # its neighbours at least
            low = min(max(middle - reach / 2, 0.0), 1.0 - reach)
            point.append(min(low + u * reach, 1.0 - 1e-12))
        return point
