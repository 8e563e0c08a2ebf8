"""Turn columns into the inputs of a network; everything is learnt from the training rows alone.

Numbers: gaps are filled, with an extra 0/1 input that says so; a long tail is taken to its
logarithm; then centred and scaled. Text: one 0/1 input per category, rare ones pooled; a category
never seen counts as rare, or is all zeros where none is; or one number, the category's place in an
order. Dates: the year as a number, month, weekday and hour as points on a circle. Pictures: one
input per pixel and channel.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from axiarch.data.plan import DataPlan, Scaling, Treatment, constant
from axiarch.errors import DataError
from axiarch.text import count, number, shown

if TYPE_CHECKING:
    import polars

    from axiarch.data.target import Answers, Target

Floats = NDArray[np.float64]

#: A number is long-tailed if its largest values are this many times its median, and it is never
#: negative.
LONG_TAIL = 30.0
#: A category with a smaller share of the training rows is rare, if there are more than :data:`FEW`
#: categories.
RARE = 0.005
FEW = 12
#: A quartile range below this share of the standard deviation is no scale: most values are the
#: same.
NARROW = 1e-6
#: The input that rare categories share.
POOL = "(rare)"


@dataclass(frozen=True)
class NumberCode:
    """How one column of numbers is encoded: ``(f(x) - centre) / scale``, gaps filled with `fill`
    first.

    `f` is ``log(1 + x)`` for a long tail (negative values count as zero), else the number itself.
    """

    name: str
    fill: float
    centre: float
    scale: float
    indicator: bool
    log: bool = False

    @property
    def inputs(self) -> tuple[str, ...]:
        """The names of the inputs it becomes."""
        return (self.name, f"{self.name} missing") if self.indicator else (self.name,)

    def encode(self, series: polars.Series) -> Floats:
        """Return the inputs (N, 1 or 2) of a column of N rows."""
        raw = as_floats(series)
        gap = np.isnan(raw)
        scaled = (_bent(np.where(gap, self.fill, raw), self.log) - self.centre) / self.scale
        return np.stack([scaled, gap.astype(np.float64)] if self.indicator else [scaled], axis=1)

    @property
    def words(self) -> str:
        """How it is encoded, in words."""
        gaps = (f"missing values become {number(self.fill)}, with a 0/1 input "
                "beside; ") if self.indicator else ""
        log = "logarithm, " if self.log else ""
        if (self.centre, self.scale) == (0.0, 1.0):
            return f"{gaps}{log}as it is"
        return f"{gaps}{log}minus {number(self.centre)}, divided by {number(self.scale)}"

    def decode(self, inputs: Floats) -> Floats:
        """Return the numbers (N,) of inputs (N, 1 or 2), NaN for a gap."""
        bent = inputs[:, 0] * self.scale + self.centre
        raw = np.expm1(bent) if self.log else bent
        return np.where(inputs[:, 1] > 0.5, np.nan, raw) if self.indicator else raw


@dataclass(frozen=True)
class TextCode:
    """How one column of text is encoded: one 0/1 input per category, the last for rare ones if
    `pooled`.
    """

    name: str
    categories: tuple[str, ...]
    pooled: bool = False

    @property
    def inputs(self) -> tuple[str, ...]:
        """The names of the inputs it becomes."""
        return tuple(
            f"{self.name} = {c}" for c in (*self.categories, *((POOL, ) if self.pooled else ())))

    def encode(self, series: polars.Series) -> Floats:
        """Return the inputs (N, categories) of a column of N rows."""
        place = _places(series, self.categories, len(self.categories) if self.pooled else -1)
        found = np.zeros((len(place), len(self.inputs)))
        known = np.flatnonzero(place >= 0)
        found[known, place[known]] = 1
        return found

    @property
    def words(self) -> str:
        """How it is encoded, in words."""
        rare = "none for one not seen"
        if self.pooled:
            rare = "the rare ones pooled, like any not seen in training"
        return (f"one input for each of {count(len(self.categories), 'category', 'categories')}, "
                f"{rare}")

    def decode(self, inputs: Floats) -> list[str | None]:
        """Return the categories of inputs (N, categories); None for a gap, and for a pooled one."""
        names = [*self.categories, None]
        return [
            names[row.argmax()] if row.any() else None for row in inputs[:, :len(self.categories)]
        ]


@dataclass(frozen=True)
class OrderCode:
    """How a column of text in an order is encoded: its place from 0, centred and scaled.

    A category never seen and a gap count as the middle place; gaps are told apart if `indicator`.
    """

    name: str
    categories: tuple[str, ...]
    centre: float
    scale: float
    indicator: bool

    @property
    def inputs(self) -> tuple[str, ...]:
        """The names of the inputs it becomes."""
        return (self.name, f"{self.name} missing") if self.indicator else (self.name,)

    def encode(self, series: polars.Series) -> Floats:
        """Return the inputs (N, 1 or 2) of a column of N rows."""
        place = _places(series, self.categories, -1).astype(np.float64)
        gap = place < 0
        scaled = (np.where(gap, (len(self.categories) - 1) / 2, place) - self.centre) / self.scale
        return np.stack([scaled, gap.astype(np.float64)] if self.indicator else [scaled], axis=1)

    @property
    def words(self) -> str:
        """How it is encoded, in words."""
        gaps = ("; missing values become the middle, with a 0/1 input "
                "beside") if self.indicator else ""
        return ("its place in the order "
                f"{' < '.join(shown(c, 20) for c in self.categories[:8])}{gaps}")

    def decode(self, inputs: Floats) -> list[str | None]:
        """Return the categories of inputs (N, 1 or 2); None for a gap."""
        place = np.rint(inputs[:, 0] * self.scale + self.centre).astype(int)
        gap = inputs[:, 1] > 0.5 if self.indicator else np.zeros(len(place), bool)
        return [None if g else self.categories[i] for i, g in zip(place, gap, strict=True)]


def _places(series: polars.Series, categories: tuple[str, ...], unknown: int) -> NDArray[np.int64]:
    """Return the place of each row's category (N,): -1 for a gap, `unknown` for one that is not
    among them.
    """
    import polars

    texts = series.cast(polars.String)
    place = texts.replace_strict(
        list(categories), range(len(categories)), default=unknown,
        return_dtype=polars.Int64) if categories else polars.Series([unknown] * len(series))
    return np.where(texts.is_null().to_numpy(), -1, place.fill_null(-1).to_numpy())


@dataclass(frozen=True)
class DateCode:
    """How one column of dates is encoded.

    The year is centred and scaled; month, weekday and, where `hours`, the time of day are points on
    a circle (cosine and sine), so that December lies beside January. A gap is zero everywhere.
    """

    name: str
    centre: float
    scale: float
    hours: bool

    @property
    def inputs(self) -> tuple[str, ...]:
        """The names of the inputs it becomes."""
        parts = ["month", "weekday", *(["time of day"] if self.hours else [])]
        return (f"{self.name} year", *(f"{self.name} {p} {f}" for p in parts
                                       for f in ("cosine", "sine")))

    @property
    def words(self) -> str:
        """How it is encoded, in words."""
        return "the year as a number; month, weekday" + (", time of day"
                                                         if self.hours else "") + " on a circle"

    def encode(self, series: polars.Series) -> Floats:
        """Return the inputs (N, 5 or 7) of a column of N rows."""
        import polars

        dates = series.cast(polars.Datetime)
        gap = dates.is_null().to_numpy()
        turns = [(dates.dt.month(), 1, 12), (dates.dt.weekday(), 1, 7)]
        if self.hours:
            turns.append((dates.dt.hour() + dates.dt.minute() / 60, 0, 24))
        columns = [(as_floats(dates.dt.year()) - self.centre) / self.scale]
        for part, first, length in turns:
            angle = 2 * math.pi * (as_floats(part) - first) / length
            columns += [np.cos(angle), np.sin(angle)]
        return np.where(gap[:, None], 0.0, np.stack(columns, axis=1))


@dataclass(frozen=True)
class PictureCode:
    """How a column of pictures is encoded: one input per pixel and channel, each channel centred
    and scaled.

    Attributes
    ----------
    shape : (int, int, int)
        Height, width and channels C; inputs lie in this order, the channel changing fastest.
    centre, scale : tuple of float
        Of each channel.
    shrink : int
        So many times so many pixels of what is read become one, their mean.
    """

    name: str
    shape: tuple[int, int, int]
    centre: tuple[float, ...]
    scale: tuple[float, ...]
    shrink: int = 1

    @property
    def inputs(self) -> tuple[str, ...]:
        """The names of the inputs it becomes."""
        height, width, channels = self.shape
        return tuple(f"{self.name} {y},{x}" + (f",{c}" if channels > 1 else "")
                     for y in range(height) for x in range(width) for c in range(channels))

    def encode(self, series: polars.Series) -> Floats:
        """Return the inputs (N, height x width x C) of a column of N pictures."""
        if self.shrink > 1:
            pixels = shrunk(series.to_numpy(), self.shrink)
        else:
            pixels = series.to_numpy().reshape(len(series), *self.shape).astype(np.float64)
        return ((pixels - self.centre) / self.scale).reshape(len(series), -1)

    @property
    def words(self) -> str:
        """How it is encoded, in words."""
        each = "; ".join(f"less {number(c)}, divided by {number(s)}"
                         for c, s in zip(self.centre, self.scale, strict=True))
        means = f" (each the mean of {self.shrink} x {self.shrink})" if self.shrink > 1 else ""
        return f"one input a pixel{means}{' and channel' if self.shape[2] > 1 else ''}, {each}"

    def decode(self, inputs: Floats) -> Floats:
        """Return the pictures (N, height, width, C) of inputs."""
        return inputs.reshape(-1, *self.shape) * self.scale + self.centre


def shrunk(pixels: NDArray[Any], factor: int) -> Floats:
    """Return pictures (N, H, W, C) as means of squares of pixels; what is left over at the lower
    and right edge is cut.

    Raises
    ------
    DataError
        If fewer than two pixels a side would be left.
    """
    height, width = pixels.shape[1] // factor, pixels.shape[2] // factor
    if min(height, width) < 2:
        raise DataError(
            f"pictures of {pixels.shape[1]} x {pixels.shape[2]} cannot be shrunk {factor} times",
            "shrink", "leave two pixels a side or more")
    found = np.zeros((len(pixels), height, width, pixels.shape[3]))
    for y in range(factor):
        for x in range(factor):
            found += pixels[:, y : height * factor : factor, x : width * factor : factor]
    return found / factor**2


Code = NumberCode | TextCode | OrderCode | DateCode | PictureCode
#: Codes by the name that marks them in files.
CODES: dict[str, type[Code]] = {
    "number": NumberCode, "text": TextCode, "order": OrderCode, "date": DateCode,
    "picture": PictureCode
}


@dataclass(frozen=True)
class Encoding:
    """The codes of all input columns in order, and the target."""

    codes: tuple[Code, ...]
    target: Target

    @property
    def inputs(self) -> tuple[str, ...]:
        """The names of the D inputs of a network."""
        return tuple(name for code in self.codes for name in code.inputs)

    @property
    def picture(self) -> tuple[int, int, int] | None:
        """Height, width and channels, where one picture is all the input."""
        code = self.codes[0]
        return code.shape if len(self.codes) == 1 and isinstance(code, PictureCode) else None

    @property
    def shape(self) -> tuple[int, ...]:
        """The shape of one example: the number of inputs, or height, width and channels of a
        picture.
        """
        return self.picture or (len(self.inputs),)

    def encode(self, frame: polars.DataFrame) -> NDArray[np.float32]:
        """Return the inputs (N, D) of a table of N rows."""
        parts = [code.encode(frame[code.name]) for code in self.codes]
        return np.ascontiguousarray(np.concatenate(parts, axis=1), dtype=np.float32)

    def seen(self, series: polars.Series) -> NDArray[Any]:
        """Return a column of pictures (N, height, width, C) as a network sees it, or as it is
        where none does.
        """
        code = next((code for code in self.codes if code.name == series.name), None)
        return code.decode(code.encode(series)) if isinstance(code,
                                                              PictureCode) else series.to_numpy()

    def labels(self, frame: polars.DataFrame) -> Answers:
        """Return class numbers (N,) or scaled amounts (N, T) of a table of N rows."""
        return self.target.encode(frame)


def learn_encoding(column: Callable[[str], polars.Series], inputs: tuple[str, ...], target: Target,
                   plan: DataPlan | None = None) -> Encoding:
    """Learn how to encode the columns `inputs` from the training rows, by the decisions of `plan`.

    Parameters
    ----------
    column : callable
        Gives the training rows of a column.
    """
    plan = plan or DataPlan()
    return Encoding(tuple(_learn(column(name), plan) for name in inputs), target)


def _learn(series: polars.Series, plan: DataPlan) -> Code:
    import polars

    own = plan.treatment(series.name)
    if isinstance(series.dtype, polars.Array):
        return _learn_pictures(series, plan.scaling, plan.shrink)
    if series.dtype.is_numeric():
        return _learn_number(series, plan, own)
    if series.dtype.is_temporal():
        return _learn_date(series)
    return _learn_text(series) if own.order is None else _learn_order(series, own.order)


def _learn_number(series: polars.Series, plan: DataPlan, own: Treatment) -> NumberCode:
    values = as_floats(series)
    missing = np.isnan(values)
    fill = _fill(values[~missing], own.gaps or plan.gaps)
    filled = np.where(missing, fill, values)
    scaling = own.scaling or plan.scaling
    log = scaling == "logarithm" or (own.scaling is None and scaling != "none"
                                     and is_long_tailed(filled))
    centre, scale = centre_and_scale(_bent(filled, log), scaling)
    if not math.isfinite(centre) or not math.isfinite(scale):
        raise DataError("its numbers are too large to scale", f"column {shown(series.name)!r}",
                        "fix or ignore the column")
    return NumberCode(series.name, fill, centre, scale if scale > 0 else 1.0, bool(missing.any()),
                      log)


def _fill(values: Floats, gaps: str) -> float:
    told = constant(gaps)
    if told is not None or values.size == 0:
        return told or 0.0
    if gaps == "mean":
        return float(values.mean())
    if gaps == "most frequent":
        found, counts = np.unique(values, return_counts=True)
        return float(found[counts.argmax()])
    return float(np.median(values))


def is_long_tailed(values: Floats) -> bool:
    """Say whether numbers (N,) are better taken to their logarithm: never negative, and far from
    even.
    """
    if values.size == 0 or values.min() < 0:
        return False
    middle = float(np.median(values))
    return middle > 0 and float(np.quantile(values, 0.995)) > LONG_TAIL * middle


def _bent(values: Floats, log: bool) -> Floats:
    return np.log1p(np.maximum(values, 0.0)) if log else values


def centre_and_scale(values: Floats, scaling: Scaling) -> tuple[float, float]:
    """Return what is taken from numbers (N,) and what they are divided by; the latter may be
    zero.
    """
    with np.errstate(over="ignore", invalid="ignore"):
        if scaling in ("z-score", "logarithm"):
            return float(values.mean()), float(values.std())
        if scaling == "0-1":
            return float(values.min()), float(values.max() - values.min())
        if scaling == "robust":
            low, high = np.quantile(values, (0.25, 0.75))
            spread = float(values.std())
            return float(
                np.median(values)), float(high - low) if high - low > NARROW * spread else spread
    return 0.0, 1.0


def _learn_text(series: polars.Series) -> TextCode:
    texts, counts = category_counts(series)
    if len(texts) <= FEW:
        return TextCode(series.name, texts)
    kept = tuple(t for t, n in zip(texts, counts, strict=True) if n >= RARE * series.len())
    return TextCode(series.name, kept, pooled=len(kept) < len(texts))


def _learn_order(series: polars.Series, order: tuple[str, ...]) -> OrderCode:
    categories = order or category_counts(series)[0]
    place = _places(series, categories, -1)
    known = place[place >= 0].astype(np.float64)
    if len(categories) < 2:
        raise DataError("an order needs two categories or more", f"column {shown(series.name)!r}",
                        "ignore the column")
    centre, scale = (float(known.mean()), float(known.std())) if known.size else (0.0, 1.0)
    return OrderCode(series.name, categories, centre, scale or 1.0, bool((place < 0).any()))


def category_counts(series: polars.Series) -> tuple[tuple[str, ...], list[int]]:
    """Return the categories of a column in order (numbers by size, text by the alphabet) and the
    rows of each.
    """
    import polars

    found = series.drop_nulls().value_counts().sort(series.name)
    return tuple(found[series.name].cast(polars.String).to_list()), found["count"].to_list()


def _learn_date(series: polars.Series) -> DateCode:
    import polars

    dates = series.drop_nulls().cast(polars.Datetime)
    years = as_floats(dates.dt.year())
    hours = bool(
        (as_floats(dates.dt.hour()) + as_floats(dates.dt.minute())).any()) if dates.len() else False
    centre, scale = (float(years.mean()), float(years.std())) if years.size else (0.0, 1.0)
    return DateCode(series.name, centre, scale or 1.0, hours)


def _learn_pictures(series: polars.Series, scaling: Scaling, shrink: int = 1) -> PictureCode:
    """Scale each channel over all pixels: by what they are, or by the whole range of a byte."""
    pixels = series.to_numpy()
    bytes_ = pixels.dtype == np.uint8
    if shrink > 1:
        pixels = shrunk(pixels, shrink)
    height, width, channels = pixels.shape[1:]
    scaled = []
    for c in range(channels):
        own = pixels[..., c].ravel()
        if scaling == "0-1" and bytes_:
            scaled.append((0.0, 255.0))
        elif own.dtype == np.uint8 and scaling in ("z-score", "logarithm"):
            counts, values = np.bincount(own, minlength=256), np.arange(
                256.0)  # never a float for each pixel
            mean = float(counts @ values) / own.size
            scaled.append((mean, math.sqrt(float(counts @ (values - mean) ** 2) / own.size)))
        else:
            scaled.append(
                centre_and_scale(own.astype(np.float64),
                                 "z-score" if scaling == "logarithm" else scaling))
    return PictureCode(series.name, (height, width, channels), tuple(c for c, _ in scaled),
                       tuple(s or 1.0 for _, s in scaled), shrink)


def as_floats(series: polars.Series) -> Floats:
    """Return a numeric column as floats (N,) with NaN for gaps."""
    import polars

    if series.dtype.is_integer() or series.dtype.is_float(
    ):  # straight from memory: wide tables have many columns
        return series.to_numpy().astype(np.float64, copy=False)
    return series.cast(polars.Float64).fill_null(float("nan")).to_numpy().astype(np.float64,
                                                                                 copy=False)
