"""The demo data: the invented apiary co-operative Marrowfen. All of it is made up, by this code,
with a known truth.

*Hive states*: what a hive is doing, told from sensors. The inputs are drawn first; the state is
then drawn from class probabilities that are a smooth, non-linear function of the inputs, so the
best loss that any predictor can reach is known: the mean of ``-log p[state]``.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

#: The five states a hive can be in; they are far from equally common.
STATES = ("settled", "foraging", "queenless", "swarming", "robbing")
SEASONS = ("early", "main", "late")
HIVE_TYPES = ("long box", "stacked", "woven")
#: Centre frequencies of the acoustic bands, in hertz.
BANDS = (110, 160, 220, 290, 370, 470, 600, 780)

#: Share of readings lost by each failing sensor.
_MISSING = {"humidity_percent": 0.06, "brood_temp_c": 0.03, "band_780_hz_db": 0.05}


@dataclass(frozen=True)
class HiveStates:
    """The generated table and the truth behind it.

    Attributes
    ----------
    columns : dict of str to list
        In the order of the file; a gap is None.
    probabilities : (N, 5) array
        The class probabilities each state was drawn from, in the order of :data:`STATES`.
    best_loss, best_accuracy, best_balanced : float
        What a predictor that knew the rule would score over all rows with every reading present.
    """

    columns: dict[str, list[object]]
    probabilities: Floats
    best_loss: float
    best_accuracy: float
    best_balanced: float

    def to_csv(self, path: Path) -> Path:
        """Write the table as CSV and return the path."""
        return write_columns(path, self.columns)


def write_columns(path: Path, columns: dict[str, list[object]]) -> Path:
    """Write named columns as CSV, a gap as an empty cell, and return the path."""
    import csv

    with path.open("w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(columns)
        writer.writerows(zip(*columns.values(), strict=True))
    return path


def hive_states(rows: int = 3000, seed: int = 20) -> HiveStates:
    """Generate the hive-states table with `rows` N rows."""
    rng = np.random.default_rng(seed)
    season = rng.choice(3, rows, p=(0.3, 0.45, 0.25))
    kind = rng.choice(3, rows, p=(0.5, 0.35, 0.15))
    outside = rng.normal((13.0, 22.0, 15.0), 4.5, (rows, 3))[np.arange(rows), season]
    brood = rng.normal(34.6, 0.9, rows) + 0.03 * (outside - 18)
    humidity = np.clip(rng.normal(62, 9, rows) - 0.5 * (outside - 18), 20, 98)
    weight = rng.normal((0.1, 0.5, -0.2), 0.55, (rows, 3))[np.arange(rows), season]
    bands = _bands(rng, rows, outside)
    probabilities = true_probabilities(season, kind, outside, brood, weight, bands)
    state = (probabilities.cumsum(1) < rng.random(rows)[:, None]).sum(1).clip(0, 4)
    columns: dict[str, list[object]] = {
        "reading_id": [f"MF-{i:05d}" for i in rng.permutation(rows)],
        "season": [SEASONS[i] for i in season],
        "hive_type": [HIVE_TYPES[i] for i in kind],
        "outside_temp_c": np.round(outside, 1).tolist(),
        "brood_temp_c": np.round(brood, 2).tolist(),
        "humidity_percent": np.round(humidity, 1).tolist(),
        "weight_change_kg": np.round(weight, 3).tolist(),
    }
    for i, hertz in enumerate(BANDS):
        columns[f"band_{hertz}_hz_db"] = np.round(bands[:, i], 1).tolist()
    for name, share in _MISSING.items():
        lost = rng.random(rows) < share
        columns[name] = [
            None if gone else value for value, gone in zip(columns[name], lost, strict=True)
        ]
    columns["state"] = [STATES[i] for i in state]
    drawn = probabilities[np.arange(rows), state]
    return HiveStates(
        columns, probabilities, float(-np.log(drawn).mean()),
        float((probabilities.argmax(1) == state).mean()),
        float(np.mean([(probabilities[state == i].argmax(1) == i).mean() for i in range(5)])))


def messy_hive_states(path: Path, rows: int = 3000, seed: int = 20) -> Path:
    """Write the hive states as a table that needs care, and return the path.

    Semicolons and decimal commas; humidity as text with a percent sign; a date of each reading; a
    hive's name, of which related rows share one; a hundred rows that stand twice; and
    ``alarm_code``, which was written down after the state was known and gives it away.
    """
    import csv

    made = hive_states(rows, seed)
    rng = np.random.default_rng(seed + 1)
    columns = dict(made.columns)
    state = columns.pop("state")
    days = rng.integers(0, 700, rows)
    columns["read_on"] = [str(np.datetime64("2023-04-01") + d) for d in days]
    columns["hive"] = [f"hive {i:03d}" for i in rng.integers(1, 181, rows)]
    columns["humidity_percent"] = [
        None if v is None else f"{v} %" for v in columns["humidity_percent"]
    ]
    columns["alarm_code"] = [
        f"A{STATES.index(str(v)) * 7 + 3}" if rng.random() > 0.01 else "A0" for v in state
    ]
    columns["keeper_note"] = ["=see log" if rng.random() < 0.02 else "" for _ in range(rows)]
    columns["state"] = state
    order = np.concatenate([np.arange(rows), rng.choice(rows, 100, replace=False)])
    with path.open("w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file, delimiter=";", lineterminator="\n")
        writer.writerow(columns)
        writer.writerows([_comma(values[i]) for values in columns.values()] for i in order)
    return path


def _comma(value: object) -> object:
    return str(value).replace(".", ",") if isinstance(value, float) else value


def _bands(rng: np.random.Generator, rows: int, outside: Floats) -> Floats:
    """Return band levels in dB (N, 8): one loudness per hive, neighbours alike, warmer is
    louder.
    """
    level = rng.normal(0, 2.5, (rows, 1)) + 0.25 * (outside[:, None] - 18)
    own = rng.normal(0, 4.0, (rows, len(BANDS)))
    smooth = own.copy()
    smooth[:, 1:] += 0.5 * own[:, :-1]
    return -32 - 1.5 * np.arange(len(BANDS)) + level + smooth


def true_probabilities(season: NDArray[np.int64], kind: NDArray[np.int64], outside: Floats,
                       brood: Floats, weight: Floats, bands: Floats) -> Floats:
    """Return the probabilities of the states (N, 5): season and hive type by number, bands (N,
    8).
    """
    logits = _logits(season, kind, outside, brood, weight, bands)
    powers = np.exp(logits - logits.max(1, keepdims=True))
    shares: Floats = powers / powers.sum(1, keepdims=True)
    return shares


def _logits(season: NDArray[np.int64], kind: NDArray[np.int64], outside: Floats, brood: Floats,
            weight: Floats, bands: Floats) -> Floats:
    """Return the logits (N, 5) of the rule: differences of bands, products and bumps, not a
    straight line.
    """
    level = bands.mean(1)
    low = (bands[:, 1] - bands[:, 3]) / 5
    mid = (bands[:, 3] - bands[:, 5]) / 5
    high = (bands[:, 6] - level) / 5
    warm = (outside - 18) / 6
    fever = (brood - 34.6) / 0.9
    gain = weight / 0.6
    stacked = (kind == 1).astype(float)
    settled = 2.4 - 0.9 * gain**2 - 0.5 * low**2
    foraging = 0.1 + 2.0 * np.tanh(1.5 * gain) * (1.2 - (warm - 0.6) ** 2) + 0.4 * (season == 1)
    queenless = -0.9 + 2.2 * np.tanh(low * mid) - 1.2 * fever + 0.5 * stacked
    swarming = -1.2 + 2.4 * np.tanh(1.5 * fever * high) + 1.1 * (season == 1) - 0.6 * stacked
    robbing = -1.1 - 2.0 * gain + 1.6 * np.tanh(high * warm) + 1.3 * (season == 2)
    return 2.1 * np.stack([settled, foraging, queenless, swarming, robbing], axis=1)
