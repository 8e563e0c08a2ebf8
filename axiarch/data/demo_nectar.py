"""The demo data of Marrowfen, second set: *nectar flow*, what a colony gains on a day.

The gain is a smooth, non-linear function of the inputs plus normal noise of known size, so that no
predictor can reach a root mean squared error below that noise.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from axiarch.data.demo import write_columns

Floats = NDArray[np.float64]

#: Standard deviation of the noise, in grams a day.
NOISE = 60.0
MEADOWS = ("clover", "heath", "linden", "mixed")
#: What each meadow yields, as a factor.
_YIELD = (1.0, 0.75, 1.35, 0.9)


@dataclass(frozen=True)
class NectarFlow:
    """The generated table and the truth behind it.

    Attributes
    ----------
    columns : dict of str to list
        In the order of the file; a gap is None.
    expected : (N,) array
        The gain without noise, in grams a day.
    best_rmse, best_mae, best_r2 : float
        What a predictor that knew the rule would score on average.
    """

    columns: dict[str, list[object]]
    expected: Floats

    @property
    def best_rmse(self) -> float:
        """The root mean squared error of the rule itself, in grams a day."""
        return NOISE

    @property
    def best_mae(self) -> float:
        """Its mean absolute error: that of normal noise."""
        return NOISE * math.sqrt(2 / math.pi)

    @property
    def best_r2(self) -> float:
        """The share of the variance it explains."""
        return 1 - NOISE**2 / (float(self.expected.var()) + NOISE**2)

    def to_csv(self, path: Path) -> Path:
        """Write the table as CSV and return the path."""
        return write_columns(path, self.columns)


def nectar_flow(rows: int = 2500, seed: int = 21) -> NectarFlow:
    """Generate the nectar-flow table with `rows` N rows."""
    rng = np.random.default_rng(seed)
    day = rng.integers(0, 160, rows)
    warmth = rng.normal(19 + 5 * np.sin(np.pi * day / 160), 3.5)
    rain = np.where(rng.random(rows) < 0.55, 0.0, rng.gamma(1.6, 2.2, rows))
    wind = rng.gamma(3.0, 1.2, rows)
    sun = np.clip(rng.normal(8.5, 2.5, rows) - 0.25 * rain, 0.2, 15)
    bloom = np.clip(0.75 * np.exp(-(((day - 70) / 38)**2)) + rng.normal(0.12, 0.09, rows), 0.0, 1.0)
    colony = np.clip(rng.normal(28 + 9 * np.sin(np.pi * day / 160), 7), 4, 60)
    inspected = rng.integers(0, 15, rows)
    meadow = rng.choice(4, rows, p=(0.35, 0.15, 0.2, 0.3))
    expected = true_gain(warmth, rain, wind, sun, bloom, colony, inspected, meadow)
    start = np.datetime64("2024-04-10")
    columns: dict[str, list[object]] = {
        "day": [str(start + d) for d in day],
        "meadow": [MEADOWS[i] for i in meadow],
        "warmth_c": np.round(warmth, 1).tolist(),
        "rain_mm": np.round(rain, 1).tolist(),
        "wind_m_s": np.round(wind, 1).tolist(),
        "sun_hours": np.round(sun, 1).tolist(),
        "bloom_index": np.round(bloom, 3).tolist(),
        "colony_thousands": np.round(colony, 1).tolist(),
        "days_since_inspection": inspected.tolist(),
    }
    lost = rng.random(rows) < 0.04
    columns["wind_m_s"] = [
        None if gone else v for v, gone in zip(columns["wind_m_s"], lost, strict=True)
    ]
    columns["gain_g"] = np.round(expected + rng.normal(0, NOISE, rows), 1).tolist()
    return NectarFlow(columns, expected)


def true_gain(warmth: Floats, rain: Floats, wind: Floats, sun: Floats, bloom: Floats,
              colony: Floats, inspected: Floats | NDArray[np.int64],
              meadow: NDArray[np.int64]) -> Floats:
    """Return the expected gain in grams a day (N,): what is flown in, less what is eaten;
    meadows by number.
    """
    flying = 1 / (1 + np.exp(-(warmth - 15) / 1.8)) * np.exp(-(((warmth - 25) / 14) ** 2))
    weather = np.exp(-rain / 6) * np.exp(-((wind / 9) ** 2)) * np.sqrt(sun / 9)
    unrest = 1 - 0.35 * np.exp(-inspected / 1.5)
    brought = 1500 * np.array(_YIELD)[meadow] * bloom * flying * weather * (colony /
                                                                            30)**1.2 * unrest
    net: Floats = brought - 4.0 * colony - 40
    return net
