"""A model as one file in the open network format (ONNX): raw columns in, classes or amounts out.

Everything that was learnt from the training rows is in the graph: marks of missing values, fills,
scales, categories, dates, the network, and the way back to classes or units. Whoever runs the file
needs no Axiarch. Axes: N rows, D inputs, C classes, T amounts; pictures are (N, H, W, channels).
"""

from __future__ import annotations

import json
import math
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from axiarch import __version__
from axiarch.data.conversions import Conversion
from axiarch.data.encoding import Code, DateCode, NumberCode, OrderCode, PictureCode, TextCode
from axiarch.data.target import LARGEST_LOG, Target
from axiarch.engine.codes import EPSILON, LEAK
from axiarch.engine.network import Placed
from axiarch.engine.parts import BIASES, RUNNING, SCALES, WEIGHTS, named_arrays
from axiarch.engine.predictor import Predictor
from axiarch.errors import InputError, TrainingError, not_written
from axiarch.export.models import Model
from axiarch.export.tables import check_place
from axiarch.files import draft_of
from axiarch.text import shown

if TYPE_CHECKING:
    import onnx

#: The version of the operators, and of the file, that are written: RegexFullMatch and StringSplit
#: need 20.
OPSET, FILE_VERSION = 20, 10
#: Rows on which a written file is run against our own predictor, and the largest difference
#: accepted.
CHECKED, TOLERANCE = 100, 1e-5
ENDINGS = (".onnx",)
#: Blanks around a text, which never count.
_BLANK = "[\\s\u00a0]*"
_DATE = r"\d{4}-\d{1,2}-\d{1,2}"
_TIME = r"\d{1,2}:\d{2}(:\d{2}(\.\d+)?)?"
#: What stands in for a date that is missing, until it is taken out again.
_ANY_DATE = "2000-01-01 00:00:00"


def export_network(model: Model, path: Path, force: bool = False) -> dict[str, Any]:
    """Write a model as an ONNX file and run it against our own predictor.

    Returns
    -------
    dict
        ``rows`` that were compared, ``difference``: the largest between probabilities, or between
        amounts in standard deviations of the target; ``bytes``.

    Raises
    ------
    InputError, WorkspaceReadOnly
        If it cannot be written.
    TrainingError
        If the written network predicts something else; nothing is kept then.
    """
    import onnx

    check_place(path, ENDINGS, force)
    made = network(model)
    onnx.checker.check_model(made, full_check=True)
    rows, difference = compared(model, made)
    if not difference <= TOLERANCE:
        raise TrainingError(f"the exported network differs by {difference:.2g} from our own",
                            shown(path), "keep the model as a file of ours; nothing was written")
    try:
        with draft_of(path) as draft:
            draft.write_bytes(made.SerializeToString())
        return {
            "rows": rows, "difference": difference, "bytes": path.stat().st_size, "opset": OPSET
        }
    except OSError as error:
        raise not_written("the network cannot be written", shown(path), error,
                          "choose another place; nothing was changed") from None


def network(model: Model) -> onnx.ModelProto:
    """Return a model as an ONNX model, with names, units, classes, data fingerprint and recipe
    as metadata.
    """
    import onnx
    from onnx import helper

    encoding, target = model.data.encoding, model.data.target
    graph = _Graph([code.name for code in encoding.codes])
    conversions = {c.column: c for c in model.data.conversions}
    parts = [_ENCODERS[type(code)](graph, code, conversions.get(code.name, Conversion(code.name)))
             for code in encoding.codes]
    first = parts[0] if len(parts) == 1 else graph.node("Concat", parts, axis=1)
    predicted = [
        _predicted(graph, _layers(graph, network, first), target) for network in model.networks
    ]
    outputs = _outputs(graph, _mean(graph, predicted, target), target)
    made = helper.make_model(
        helper.make_graph(graph.nodes, "axiarch", graph.inputs, outputs, graph.constants),
        opset_imports=[helper.make_opsetid("", OPSET)], ir_version=FILE_VERSION,
        producer_name="axiarch", producer_version=__version__)
    helper.set_model_props(made, {name: json.dumps(value, ensure_ascii=True)
                                  for name, value in _metadata(model).items()})
    assert isinstance(made, onnx.ModelProto)
    return made


def feeds(model: Model, columns: Mapping[str, Sequence[Any]]) -> dict[str, NDArray[Any]]:
    """Return columns of raw values as an exported network takes them, (N, 1) each; None is a gap.

    Numbers as float64 with NaN for a gap, text as it is with "" for a gap, dates as text
    ``YYYY-MM-DD`` or ``YYYY-MM-DD HH:MM:SS``, pictures (N, H, W, channels) as float32.
    """
    found: dict[str, NDArray[Any]] = {}
    for code in model.data.encoding.codes:
        values = columns[code.name]
        if isinstance(code, PictureCode):
            found[code.name] = np.asarray(values, np.float32)
        elif isinstance(code, NumberCode):
            found[code.name] = np.array([math.nan if v is None else float(v) for v in values])[:,
                                                                                               None]
        else:
            texts = [
                "" if v is None else
                str(v)[:19].replace("T", " ") if isinstance(code, DateCode) else str(v)
                for v in values
            ]
            found[code.name] = np.array(texts, dtype=object)[:, None]
    return found


def compared(model: Model, made: onnx.ModelProto) -> tuple[int, float]:
    """Run a network by the reference evaluator of the onnx package on rows of no data set.

    Returns the rows, and the largest difference from our own predictor (see
    :func:`export_network`). The rows are drawn: numbers over the range of training and beyond it,
    every category and unknown ones, gaps, dates.
    """
    from onnx.reference import ReferenceEvaluator

    frame = made_up_rows(model, CHECKED if model.data.encoding.picture is None else CHECKED // 10)
    encoding, target = model.data.encoding, model.data.target
    own = model.predictor.predict(encoding.encode(frame))
    columns = {
        name: (frame[name].to_numpy() if frame[name].dtype.is_nested() else frame[name].to_list())
        for name in frame.columns
    }
    answers: Any = ReferenceEvaluator(made).run(None, feeds(model, columns))
    found = answers[-1]
    if not target.classes:
        spread = np.array(target.units)
        return frame.height, float(np.abs((found - np.asarray(target.decode(own))) / spread).max())
    return frame.height, float(np.abs(found - own).max())


def made_up_rows(model: Model, rows: int) -> Any:
    """Return a table of `rows` made-up rows of a model's input columns, as they are after
    conversion.
    """
    import datetime

    from axiarch.data.table import frame_of

    rng = np.random.default_rng(np.random.SeedSequence(20))
    known = {column.name: column for column in model.data.columns}
    columns: dict[str, Any] = {}
    for code in model.data.encoding.codes:
        if isinstance(code, PictureCode):
            height, width, channels = code.shape
            size = (rows, height * code.shrink, width * code.shrink, channels)
            columns[code.name] = rng.normal(np.array(code.centre), code.scale,
                                            size).astype(np.float32)
            continue
        gap = rng.random(rows) < 0.15
        values: list[Any]
        if isinstance(code, NumberCode):
            column = known[code.name]
            low, high = column.low or 0.0, column.high or 0.0
            values = list(rng.uniform(low - 0.1 * (high - low), high + 0.1 * (high - low), rows))
        elif isinstance(code, DateCode):
            values = [datetime.datetime(1990, 1, 1) + datetime.timedelta(minutes=int(m))
                      for m in rng.integers(0, 30_000_000, rows)]
        else:
            values = [(*code.categories, "never seen \u00e9(")[i]
                      for i in rng.integers(0, len(code.categories) + 1, rows)]
        columns[code.name] = [None if g else v for g, v in zip(gap, values, strict=True)]
    kinds = {
        code.name: "number" if isinstance(code, NumberCode) else "moment" if isinstance(
            code, DateCode) else "picture" if isinstance(code, PictureCode) else "text"
        for code in model.data.encoding.codes
    }
    return frame_of(columns, kinds)


def _metadata(model: Model) -> dict[str, Any]:
    encoding, target = model.data.encoding, model.data.target
    kinds = {
        NumberCode: "number", TextCode: "text", OrderCode: "text", DateCode: "date",
        PictureCode: "picture"
    }
    return {
        "model": dict(model.about), "recipe": dict(model.recipes[0]),
        **_others(model), "data": model.data.name, "data_fingerprint": model.data.fingerprint,
        "task": target.task, "target": list(target.columns), "classes": list(target.classes),
        "inputs": [{"column": code.name, "kind": kinds[type(code)], "encoding": code.words}
                   for code in encoding.codes]
    }


def _others(model: Model) -> dict[str, Any]:
    """Return the recipes of all networks, where several are averaged."""
    return {"recipes": [dict(recipe) for recipe in model.recipes]} if len(model.recipes) > 1 else {}


class _Graph:
    """Nodes, constants and inputs of a network being made; every value gets a name of its own."""

    def __init__(self, columns: Sequence[str]) -> None:
        self.nodes: list[onnx.NodeProto] = []
        self.constants: list[onnx.TensorProto] = []
        self.inputs: list[onnx.ValueInfoProto] = []
        self._taken = set(columns)
        self._count = 0

    def free(self, name: str) -> str:
        """Return `name`, or one like it that nothing has."""
        while name in self._taken:
            name = f"{name}_"
        self._taken.add(name)
        return name

    def input(self, name: str, kind: str, shape: Sequence[int | str]) -> str:
        """Add an input: ``DOUBLE``, ``FLOAT`` or ``STRING``."""
        from onnx import TensorProto, helper

        self.inputs.append(
            helper.make_tensor_value_info(name, getattr(TensorProto, kind), list(shape)))
        return name

    def constant(self, value: Any, kind: Any = np.float64) -> str:
        """Add a constant: numbers, or text with ``kind=str``."""
        from onnx import TensorProto, helper, numpy_helper

        name = self.free(f"constant_{len(self.constants)}")
        if kind is str:
            texts = [text.encode() for text in np.ravel(np.array(value, dtype=object))]
            shape = list(np.shape(np.array(value, dtype=object)))
            self.constants.append(helper.make_tensor(name, TensorProto.STRING, shape, texts))
        else:
            self.constants.append(numpy_helper.from_array(np.asarray(value, kind), name))
        return name

    def node(self, operator: str, inputs: Sequence[str], name: str = "", **attributes: Any) -> str:
        """Add an operation and return the name of its first output."""
        from onnx import helper

        self._count += 1
        out = name or self.free(f"value_{self._count}")
        self.nodes.append(helper.make_node(operator, list(inputs), [out], **attributes))
        return out

    def cast(self, value: str, kind: str) -> str:
        """Return a value as another type."""
        from onnx import TensorProto

        return self.node("Cast", [value], to=getattr(TensorProto, kind))

    def scaled(self, value: str, centre: float, scale: float) -> str:
        """Return ``(value - centre) / scale`` of doubles as float32."""
        moved = self.node("Sub", [value, self.constant(centre)])
        return self.cast(self.node("Div", [moved, self.constant(scale)]), "FLOAT")

    def matches(self, text: str, pattern: str) -> str:
        """Return where a text matches a whole pattern."""
        return self.node("RegexFullMatch", [text], pattern=pattern)

    def any(self, values: Sequence[str]) -> str:
        """Return where one of several holds."""
        found = values[0]
        for value in values[1:]:
            found = self.node("Or", [found, value])
        return found

    def joined(self, values: Sequence[str]) -> str:
        """Return columns side by side."""
        return values[0] if len(values) == 1 else self.node("Concat", list(values), axis=1)


# -- from raw columns to inputs --------------------------------------------------------------------


def _number(graph: _Graph, code: Code, conversion: Conversion) -> str:
    assert isinstance(code, NumberCode)
    raw = graph.input(code.name, "DOUBLE", ["N", 1])
    gaps = [graph.node("IsNaN", [raw])]
    for mark in conversion.missing:
        try:
            value = float(mark)
        except ValueError:
            continue
        if math.isfinite(value):
            gaps.append(graph.node("Equal", [raw, graph.constant(value)]))
    gap = graph.any(gaps)
    filled = graph.node("Where", [gap, graph.constant(code.fill), raw])
    if code.log:
        above = graph.node("Max", [filled, graph.constant(0.0)])
        filled = graph.node("Log", [graph.node("Add", [above, graph.constant(1.0)])])
    parts = [graph.scaled(filled, code.centre, code.scale)]
    if code.indicator:
        parts.append(graph.cast(gap, "FLOAT"))
    return graph.joined(parts)


def _texts(graph: _Graph, name: str, categories: Sequence[str],
           conversion: Conversion) -> tuple[list[str], str]:
    """Return where each category stands, and where there is a gap."""
    text = graph.input(name, "STRING", ["N", 1])
    fold = "(?i)" if conversion.merge_case else ""
    blank = _BLANK if conversion.kind == "text" else ""
    found = [
        graph.matches(text, f"{fold}{blank}{_escaped(category)}{blank}") for category in categories
    ]
    marks = "|".join(_escaped(mark) for mark in ("", *conversion.missing))
    return found, graph.matches(text, f"{_BLANK}({marks}){_BLANK}")


def _escaped(text: str) -> str:
    """Return a pattern that matches a text alone, in the syntax that all runtimes share."""
    return "".join(f"\\x{ord(c):02x}" if ord(c) < 32 or ord(c) == 127 else
                   f"\\{c}" if c.isascii() and not c.isalnum() and c not in " _" else c
                   for c in text)


def _text(graph: _Graph, code: Code, conversion: Conversion) -> str:
    assert isinstance(code, TextCode)
    found, gap = _texts(graph, code.name, code.categories, conversion)
    if code.pooled:
        known = graph.any([*found, gap]) if found else gap
        found.append(graph.node("Not", [known]))
    return graph.joined([graph.cast(each, "FLOAT") for each in found])


def _order(graph: _Graph, code: Code, conversion: Conversion) -> str:
    assert isinstance(code, OrderCode)
    found, _ = _texts(graph, code.name, code.categories, conversion)
    gap = graph.node("Not", [graph.any(found)])
    places = graph.joined([graph.cast(each, "DOUBLE") for each in found])
    place = graph.node(
        "MatMul", [places, graph.constant(np.arange(len(found), dtype=np.float64)[:, None])])
    middle = graph.constant((len(code.categories) - 1) / 2)
    parts = [graph.scaled(graph.node("Where", [gap, middle, place]), code.centre, code.scale)]
    if code.indicator:
        parts.append(graph.cast(gap, "FLOAT"))
    return graph.joined(parts)


def _date(graph: _Graph, code: Code, conversion: Conversion) -> str:
    assert isinstance(code, DateCode)
    text = graph.input(code.name, "STRING", ["N", 1])
    with_time = graph.matches(text, f"{_BLANK}{_DATE} +{_TIME}{_BLANK}")
    without = graph.matches(text, f"{_BLANK}{_DATE}{_BLANK}")
    there = graph.any([with_time, without])
    midnight = graph.node("StringConcat", [text, graph.constant(" 00:00:00", str)])
    whole = graph.node("Where", [without, midnight, text])
    whole = graph.node("Where", [there, whole, graph.constant(_ANY_DATE, str)])
    date_and_time = _split(graph, whole, "", 2)
    year, month, day = (graph.cast(part, "DOUBLE")
                        for part in _split(graph, date_and_time[0], "-", 3))
    parts = [graph.scaled(year, code.centre, code.scale)]
    turns = [(month, 1.0, 12.0), (_weekday(graph, year, month, day), 0.0, 7.0)]
    if code.hours:
        clock = _split(graph, date_and_time[1], ":", 2)
        hour, minute = (graph.cast(part, "DOUBLE") for part in clock)
        turns.append(
            (graph.node("Add",
                        [hour, graph.node("Div", [minute, graph.constant(60.0)])]), 0.0, 24.0))
    for value, first, length in turns:
        moved = graph.node("Sub", [value, graph.constant(first)])
        angle = graph.node("Mul", [moved, graph.constant(2 * math.pi / length)])
        parts += [graph.cast(graph.node(wave, [angle]), "FLOAT") for wave in ("Cos", "Sin")]
    zero = graph.constant(0.0, np.float32)
    return graph.node("Where", [there, graph.joined(parts), zero])


def _split(graph: _Graph, text: str, mark: str, many: int) -> list[str]:
    """Return the first parts (N, 1) of texts that all have at least `many`."""
    from onnx import helper

    pieces, counts = graph.free("pieces"), graph.free("counts")
    attributes = {"delimiter": mark} if mark else {}
    graph.nodes.append(helper.make_node("StringSplit", [text], [pieces, counts], **attributes))
    return [
        graph.node("Gather", [pieces, graph.constant(i, np.int64)], axis=2) for i in range(many)
    ]


def _weekday(graph: _Graph, year: str, month: str, day: str) -> str:
    """Return the weekday, Monday 0, by the Julian day number of a Gregorian date (Fliegel & Van
    Flandern 1968).
    """

    def of(operator: str, one: str, other: float | str) -> str:
        return graph.node(operator,
                          [one, other if isinstance(other, str) else graph.constant(other)])

    def part(value: str, by: float) -> str:
        return graph.node("Floor", [of("Div", value, by)])

    early = part(graph.node("Sub", [graph.constant(14.0), month]), 12.0)
    years = of("Sub", of("Add", year, 4800.0), early)
    months = of("Sub", of("Add", month, of("Mul", early, 12.0)), 3.0)
    days = of("Add", day, part(of("Add", of("Mul", months, 153.0), 2.0), 5.0))
    for by, sign in ((4.0, "Add"), (100.0, "Sub"), (400.0, "Add")):
        days = of(sign, days, part(years, by))
    days = of("Sub", of("Add", days, of("Mul", years, 365.0)), 32045.0)
    return of("Sub", days, of("Mul", part(days, 7.0), 7.0))


def _picture(graph: _Graph, code: Code, conversion: Conversion) -> str:
    """Return pictures (N, channels, H, W), or their numbers (N, H W channels) where a table has
    more columns.
    """
    assert isinstance(code, PictureCode)
    height, width, channels = code.shape
    raw = graph.input(code.name, "FLOAT",
                      ["N", height * code.shrink, width * code.shrink, channels])
    if code.shrink > 1:
        side = [code.shrink, code.shrink]
        first = graph.node("Transpose", [raw], perm=[0, 3, 1, 2])
        raw = graph.node("Transpose",
                         [graph.node("AveragePool", [first], kernel_shape=side, strides=side)],
                         perm=[0, 2, 3, 1])
    wide = graph.cast(raw, "DOUBLE")
    moved = graph.node("Sub", [wide, graph.constant(code.centre)])
    scaled = graph.cast(graph.node("Div", [moved, graph.constant(code.scale)]), "FLOAT")
    return graph.node("Flatten", [scaled], axis=1)


_ENCODERS = {
    NumberCode: _number, TextCode: _text, OrderCode: _order, DateCode: _date, PictureCode: _picture
}


# -- layers ----------------------------------------------------------------------------------------


def _layers(graph: _Graph, network: Predictor, value: str) -> str:
    """Return the outputs (N, outputs) of a network for its inputs (N, D)."""
    shape = network.shape
    arrays = named_arrays(shape, network.weights)
    pictured, number = False, 0
    for placed in shape.placed:
        wants = placed.layer.kind != "dense"
        if wants and not pictured:
            height, width, channels = placed.before
            form = graph.constant([-1, height, width, channels], np.int64)
            value = graph.node("Transpose", [graph.node("Reshape", [value, form])],
                               perm=[0, 3, 1, 2])
        elif pictured and not wants:
            value = graph.node("Flatten", [value],
                               axis=1)  # channel by channel, as our fully connected layers take it
        pictured = wants
        if not placed.weighted:
            side = [placed.layer.size] * 2
            kind = "AveragePool" if placed.layer.kind == "mean pool" else "MaxPool"
            value = graph.node(kind, [value], kernel_shape=side, strides=side)
            continue
        number += 1
        own = {
            part: arrays.get(f"layer {number}.{part}")
            for part in (WEIGHTS, BIASES, SCALES, RUNNING)
        }
        out = _weighted(graph, placed, value, own)
        value = graph.node("Add", [out, value]) if placed.skips else out
    return value


def _weighted(graph: _Graph, placed: Placed, value: str, own: Mapping[str, Any]) -> str:
    """Return sums, normalisation, bias and activation of a layer with weights."""
    layer, weights = placed.layer, own[WEIGHTS]
    pictured = layer.kind == "conv"
    if pictured:
        (height, width, channels), (tall, wide, units) = placed.before, placed.after
        form = weights.reshape(layer.size, layer.size, channels, units).transpose(3, 2, 0, 1)
        down, across = (0, 0) if layer.valid else (
            max((tall - 1) * layer.stride + layer.size - height, 0),
            max((wide - 1) * layer.stride + layer.size - width, 0))
        pads = [down // 2, across // 2, down - down // 2, across - across // 2]
        value = graph.node("Conv", [value, graph.constant(form, np.float32)], pads=pads,
                           strides=[layer.stride] * 2, kernel_shape=[layer.size] * 2)
    else:
        value = graph.node("MatMul", [value, graph.constant(weights, np.float32)])
    if layer.norm == "batch":
        mean, variance = own[RUNNING]
        inputs = (own[SCALES], own[BIASES], mean, variance)
        value = graph.node("BatchNormalization",
                           [value, *(graph.constant(a, np.float32) for a in inputs)],
                           epsilon=EPSILON)
        return _activated(graph, value, layer.activation)
    if layer.norm == "layer":
        if pictured:
            value = graph.node("Transpose", [value], perm=[0, 2, 3, 1])
        value = graph.node("LayerNormalization", [value, graph.constant(own[SCALES], np.float32)],
                           axis=-1, epsilon=EPSILON)
        if pictured:
            value = graph.node("Transpose", [value], perm=[0, 3, 1, 2])
    bias = own[BIASES].reshape(-1, 1, 1) if pictured else own[BIASES]
    return _activated(graph, graph.node("Add", [value, graph.constant(bias, np.float32)]),
                      layer.activation)


def _activated(graph: _Graph, value: str, name: str) -> str:
    plain = {"relu": "Relu", "tanh": "Tanh", "sigmoid": "Sigmoid", "softplus": "Softplus"}
    if name == "identity":
        return value
    if name in plain:
        return graph.node(plain[name], [value])
    if name == "silu":
        return graph.node("Mul", [value, graph.node("Sigmoid", [value])])
    if name == "leaky_relu":
        return graph.node("LeakyRelu", [value], alpha=float(LEAK))
    if name == "elu":
        return graph.node("Elu", [value], alpha=1.0)
    if name != "gelu":
        raise InputError(
            f"the activation {name} comes from a package, and ONNX has no operator for it", "",
            "keep the model as it is; axiarch predict uses it where the package is installed")
    return graph.node("Gelu", [value], approximate="none")


# -- from outputs to answers -----------------------------------------------------------------------


def _predicted(graph: _Graph, value: str, target: Target) -> str:
    """Return class probabilities (N, C), or scaled amounts (N, T), of a network's outputs."""
    if not target.classes:
        return graph.cast(value, "DOUBLE")
    if target.task == "binary":
        second = graph.node("Sigmoid", [value])
        first = graph.node("Sub", [graph.constant(1.0, np.float32), second])
        return graph.node("Concat", [first, second], axis=1)
    return graph.node("Softmax", [value], axis=1)


def _mean(graph: _Graph, predicted: Sequence[str], target: Target) -> str:
    """Return the mean of what several networks predict; runtimes know no Mean of doubles."""
    total = predicted[0]
    for each in predicted[1:]:
        total = graph.node("Add", [total, each])
    if len(predicted) == 1:
        return total
    kind = np.float32 if target.classes else np.float64
    return graph.node("Div", [total, graph.constant(len(predicted), kind)])


def _outputs(graph: _Graph, value: str, target: Target) -> list[onnx.ValueInfoProto]:
    from onnx import TensorProto, helper

    if not target.classes:
        amounts = graph.node("Add", [graph.node("Mul", [value, graph.constant(target.scale)]),
                                     graph.constant(target.centre)])
        if target.spread:
            bounded = graph.node("Min", [amounts, graph.constant(LARGEST_LOG)])
            amounts = graph.node("Sub",
                                 [graph.node("Exp", [bounded]),
                                  graph.constant(target.shift)])
        out = graph.node("Identity", [amounts], graph.free("amounts"))
        return [helper.make_tensor_value_info(out, TensorProto.DOUBLE, ["N", len(target.columns)])]
    shares = graph.node("Identity", [value], graph.free("probabilities"))
    best = graph.node("ArgMax", [shares], axis=1, keepdims=0)
    label = graph.node("Gather", [graph.constant(target.classes, str), best],
                       graph.free("label"),
                       axis=0)
    return [helper.make_tensor_value_info(label, TensorProto.STRING, ["N"]),
            helper.make_tensor_value_info(shares, TensorProto.FLOAT, ["N", len(target.classes)])]
