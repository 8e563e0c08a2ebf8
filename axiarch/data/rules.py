"""The rules behind the generated data, by name: what a predictor that knew them would predict.

Each takes columns of raw values and returns class probabilities (N, C) with the classes' names, or
expected amounts (N, 1) without.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from axiarch.data import demo, demo_nectar

Floats = NDArray[np.float64]
Rule = Callable[[Mapping[str, Sequence[Any]]], tuple[Floats, tuple[str, ...]]]


def _hive_states(columns: Mapping[str, Sequence[Any]]) -> tuple[Floats, tuple[str, ...]]:
    bands = np.stack([_numbers(columns[f"band_{hertz}_hz_db"]) for hertz in demo.BANDS], axis=1)
    return demo.true_probabilities(
        _places(columns["season"], demo.SEASONS), _places(columns["hive_type"], demo.HIVE_TYPES),
        _numbers(columns["outside_temp_c"]), _numbers(columns["brood_temp_c"]),
        _numbers(columns["weight_change_kg"]), bands), demo.STATES


def _nectar_flow(columns: Mapping[str, Sequence[Any]]) -> tuple[Floats, tuple[str, ...]]:
    names = ("warmth_c", "rain_mm", "wind_m_s", "sun_hours", "bloom_index", "colony_thousands",
             "days_since_inspection")
    warmth, rain, wind, sun, bloom, colony, inspected = (_numbers(columns[name]) for name in names)
    meadow = _places(columns["meadow"], demo_nectar.MEADOWS)
    return demo_nectar.true_gain(warmth, rain, wind, sun, bloom, colony, inspected,
                                 meadow)[:, None], ()


def _numbers(values: Sequence[Any]) -> Floats:
    return np.array([np.nan if v is None else float(v) for v in values])


def _places(values: Sequence[Any], names: Sequence[str]) -> NDArray[np.int64]:
    return np.array([names.index(v) for v in values], np.int64)


#: By the name of the data set that each made; none of them can take a gap in a column that it uses.
RULES: dict[str, Rule] = {"hive states": _hive_states, "nectar flow": _nectar_flow}
