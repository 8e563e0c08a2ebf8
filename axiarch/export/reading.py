"""Read a network in the open format (ONNX) as first weights: fully connected and convolutional
layers in a chain.

What is read is the chain of operations before the output, from its end backwards. Every step must
be one that our own networks have; the result is then compared with the file itself, run by the onnx
package's reference evaluator. Axes: N rows, H height, W width, C channels; I numbers that a sum is
made of, U units.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from axiarch.data.encoding import Encoding
from axiarch.engine.codes import EPSILON, LEAK
from axiarch.engine.network import NetworkShape
from axiarch.engine.parts import BIASES, RUNNING, SCALES, WEIGHTS, flat_weights
from axiarch.engine.predictor import Predictor
from axiarch.errors import InputError, TrainingError
from axiarch.files import load_json, regular_file
from axiarch.recipes.recipe import Recipe
from axiarch.text import shown

if TYPE_CHECKING:
    import onnx

Floats = NDArray[np.float32]
#: Bytes of a file that is read, operations in its chain, and rows on which the result is compared.
MOST_BYTES, MOST_STEPS, COMPARED = 1 << 30, 4096, 16
#: The largest difference of outputs that is accepted, as a share of their size.
TOLERANCE = 1e-4
_REMEDY = "give a chain of fully connected, convolutional, pooling and activation layers"
#: Operations that change no number of an inference.
_NOTHING = ("Identity", "Dropout", "Cast")
#: What may come after the last sums, and is not part of the network.
_TAIL = ("Softmax", "LogSoftmax", "Sigmoid", *_NOTHING)
#: How x sigmoid(x), which is two operations, is named here.
_SILU = "x sigmoid(x)"
_ACTIVATIONS = {"Relu": "relu", "Tanh": "tanh", "Sigmoid": "sigmoid", "Softplus": "softplus",
                "LeakyRelu": "leaky_relu", "Elu": "elu", "Gelu": "gelu"}


@dataclass
class _Read:
    """One layer as it is read: its part of the network line, and its arrays."""

    words: str = ""
    arrays: dict[str, Floats] = field(default_factory=dict)
    activation: str = "identity"
    norm: str = "no"

    @property
    def line(self) -> str:
        """Its part of the network line."""
        return f"{self.words} {self.activation} {self.norm} norm" if self.arrays else self.words


def read_network(path: Path, encoding: Encoding, values: Mapping[str, object] | None = None
                 ) -> tuple[Recipe, Predictor]:
    """Return the recipe and the network of a file, for the inputs and the target of a data set.

    A file that Axiarch has exported is read from where its own encoding of columns ends. Any other
    must take the encoded inputs: (N, D), or pictures (N, C, H, W) or (N, H, W, C); and give one
    number a class in the order of the data set's classes, or scaled amounts. Of two classes the
    difference of the two outputs is taken.

    Parameters
    ----------
    values : mapping, optional
        Values of the recipe beside the network.

    Raises
    ------
    TrainingError
        If the file cannot be read, holds what our networks do not have, or does not fit the data.
    """
    made = _load(path)
    reader = _Chain(made, encoding, shown(path))
    try:
        reader.read()
        recipe = Recipe(
            {**(values or {}), "network": ", ".join(layer.line for layer in reader.layers[:-1])})
        target = encoding.target
        shape = NetworkShape.of(recipe, encoding.shape, target.outputs, target.loss)
        named: dict[str, Floats] = {}
        for i, layer in enumerate((layer for layer in reader.layers if layer.arrays), 1):
            own = layer.arrays
            sizes = {WEIGHTS: own[WEIGHTS], BIASES: own[BIASES]}
            sizes |= {part: own[part] for part in (SCALES, RUNNING) if part in own}
            named |= {
                f"layer {i}.{part}": np.asarray(array, np.float32) for part, array in sizes.items()
            }
        predictor = Predictor(shape, flat_weights(shape, named))
    except InputError as error:
        raise TrainingError(f"the network does not fit the data: {error.what}", shown(path),
                            error.remedy) from None
    except TrainingError as error:
        raise TrainingError(error.what, shown(path), error.remedy) from None
    except (ValueError, TypeError, KeyError, IndexError, OverflowError) as error:
        raise TrainingError(f"the network cannot be read: {shown(error, 100)}", shown(path),
                            _REMEDY) from None
    reader.compare(predictor)
    return recipe, predictor


def _load(path: Path) -> onnx.ModelProto:
    import onnx
    from google.protobuf.message import DecodeError  # type: ignore[import-untyped]

    if not regular_file(path):
        raise TrainingError("there is no such file", shown(path), "give a file that ends in .onnx")
    try:
        if path.stat().st_size > MOST_BYTES:
            raise ValueError(f"it is larger than {MOST_BYTES >> 20} MiB")
        made = onnx.load(str(path), load_external_data=False)
        if any(each.data_location == onnx.TensorProto.EXTERNAL for each in made.graph.initializer):
            raise ValueError("its weights are in another file")
        onnx.checker.check_model(made)
    except (OSError, ValueError, DecodeError, onnx.checker.ValidationError) as error:
        why = str(error).strip().splitlines()[:1] or ["it is not in the open network format"]
        raise TrainingError(f"the network cannot be read: {shown(why[0], 100)}", shown(path),
                            "give an .onnx file with its weights inside") from None
    return made


class _Chain:
    """The operations of a network, in order, read as layers of ours."""

    def __init__(self, made: onnx.ModelProto, encoding: Encoding, where: str) -> None:
        from onnx import numpy_helper

        self.layers: list[_Read] = []
        self._made, self._encoding, self._where = made, encoding, where
        self._known = {each.key: each.value for each in made.metadata_props}
        self._own = "data_fingerprint" in self._known
        self._tensors = {each.name: each for each in made.graph.initializer}
        self._array = numpy_helper.to_array
        self._makers = {name: node for node in made.graph.node for name in node.output}
        for node in made.graph.node:
            if node.op_type == "Constant" and node.attribute and node.attribute[0].name == "value":
                self._tensors[node.output[0]] = node.attribute[0].t
        self._steps: list[onnx.NodeProto] = []
        self._tail: list[str] = []
        self._first = self._last = ""
        # How numbers lie: "flat" (N, I), "channels last" (N, H, W, C), "channels first" (N, C, H,
        # W), or "flat channels" (N, C H W).
        self._lies = "flat"
        self._shape: tuple[int, ...] = encoding.shape

    # -- the chain, backwards --------------------------------------------------------------------

    def read(self) -> None:
        """Find the chain and read its layers."""
        if self._own:
            self._check_own()
        self._find()
        self._lay()
        for node in self._steps:
            reader = _READERS.get(node.op_type)
            if reader is None:
                raise self._odd(node)
            reader(self, node)
        if len(self.layers) < 2 or not self.layers[-1].words.isdecimal():
            raise TrainingError(
                "there is no hidden layer, or it does not end in a fully connected one", "",
                _REMEDY)
        last = self.layers[-1]
        if last.activation != "identity" or last.norm != "no":
            raise TrainingError(
                f"its last layer has an activation, {last.activation}, or a normalisation", "",
                "end it with plain sums; a softmax or sigmoid after them is left out by itself")
        self._fit_outputs(last)

    def _check_own(self) -> None:
        """Refuse a file that Axiarch has exported of several networks, or for another target."""
        target = self._encoding.target
        if "recipes" in self._known:
            raise TrainingError("the file holds the mean of several networks", "",
                                "export a model of one network")
        known = tuple(load_json(self._known.get(name, "[]")) for name in ("target", "classes"))
        if known != (list(target.columns), list(target.classes)):
            raise TrainingError("the network was made for another target or other classes", "",
                                "name the data set that it was made for")

    def _find(self) -> None:
        inputs = {each.name for each in self._made.graph.input} - set(self._tensors)
        name = self._output()
        tail, may_follow = True, _TAIL if self._encoding.target.classes else _NOTHING
        while name not in inputs:
            if len(self._steps) > MOST_STEPS or name not in self._makers:
                raise TrainingError("no chain leads from an input to the output", "", _REMEDY)
            node = self._makers[name]
            computed = [each for each in node.input if each and each not in self._tensors]
            if tail and (node.op_type in may_follow or (self._own and not self._sums(node))):
                self._tail.append(node.op_type)
                name = computed[-1] if computed else ""
                continue
            if tail:
                tail, self._last = False, name
            if self._own and self.layers_end(node):
                break
            silu = self._silu(node)
            if silu:
                self._steps.append(_marked(node, _SILU))
                name = silu
                continue
            if len(computed) != 1:
                raise self._odd(node)
            self._steps.append(node)
            name = computed[0]
        self._first = name
        self._steps.reverse()

    def _sums(self, node: onnx.NodeProto) -> bool:
        """Say whether an operation of our own export belongs to a layer, and is not the way back
        to units.
        """
        from onnx import TensorProto

        stored = [self._tensors[name] for name in node.input if name in self._tensors]
        return (node.op_type in ("MatMul", "Conv", "Add") and len(stored) == 1
                and stored[0].data_type == TensorProto.FLOAT)

    def _output(self) -> str:
        """Return the output to begin at: where there are several, the one with probabilities or
        amounts.
        """
        names = [each.name for each in self._made.graph.output]
        if not names:
            raise TrainingError("the network has no output", "", _REMEDY)
        return str(names[-1] if self._own else names[0])

    @staticmethod
    def layers_end(node: onnx.NodeProto) -> bool:
        """Say whether an operation of our own export is one before the first layer: the end of
        an encoding.
        """
        return node.op_type in ("Concat", "Cast", "Where")

    def _silu(self, node: onnx.NodeProto) -> str:
        """Return x where an operation is x sigmoid(x); empty where it is not."""
        if node.op_type != "Mul":
            return ""
        for gate, value in (tuple(node.input), tuple(node.input)[::-1]):
            maker = self._makers.get(gate)
            if maker is not None and maker.op_type == "Sigmoid" and maker.input[0] == value:
                return str(value)
        return ""

    def _odd(self, node: onnx.NodeProto) -> TrainingError:
        name = shown(node.name or node.output[0], 40)
        return TrainingError(
            f"the operation {shown(node.op_type, 30)} ({name}) is not one that our networks have",
            "", _REMEDY)

    def _lay(self) -> None:
        """Find how the numbers that come in lie."""
        if self._own:
            return
        dims = next(([d.dim_value
                      for d in each.type.tensor_type.shape.dim]
                     for each in self._made.graph.input
                     if each.name == self._first), [])
        shape = self._encoding.shape
        if len(dims) == 4 and len(shape) == 3:
            height, width, channels = shape
            if tuple(dims[1:]) == (channels, height, width):
                self._lies = "channels first"
            elif tuple(dims[1:]) == (height, width, channels):
                self._lies = "channels last"
            else:
                raise TrainingError(
                    f"its pictures are {' x '.join(map(str, dims[1:]))}; those of the data set are "
                    f"{height} x {width} in {channels} channels", "",
                    "give a network for such pictures")
        elif len(dims) != 2 or dims[1] not in (0, math.prod(shape)):
            wanted = math.prod(shape)
            raise TrainingError(
                f"it takes {' x '.join(str(d or 'N') for d in dims) or 'nothing'}; the data set "
                "has "
                f"{wanted} encoded inputs", "", f"give a network that takes N x {wanted} numbers")

    # -- the layers, forwards --------------------------------------------------------------------

    def tensor(self, name: str) -> NDArray[Any]:
        """Return a constant."""
        if name not in self._tensors:
            raise TrainingError("its weights are computed, not stored", "", _REMEDY)
        return self._array(self._tensors[name])

    def constants(self, node: onnx.NodeProto) -> list[NDArray[Any]]:
        """Return the constants that an operation takes."""
        return [self.tensor(name) for name in node.input if name in self._tensors]

    def _last_layer(self, node: onnx.NodeProto) -> _Read:
        """Return the layer that an operation belongs to: one with weights and no activation yet."""
        last = self.layers[-1] if self.layers else None
        if last is None or not last.arrays or last.activation != "identity":
            raise self._odd(node)
        return self.layers[-1]

    def dense(self, weights: NDArray[Any], bias: NDArray[Any] | None) -> None:
        """Take in a fully connected layer with weights (I, U)."""
        if self._lies not in ("flat", "flat channels") or weights.ndim != 2:
            raise TrainingError("a fully connected layer comes before its pictures are flattened",
                                "", _REMEDY)
        if weights.shape[0] != math.prod(self._shape):
            raise TrainingError(
                f"a layer takes {weights.shape[0]} numbers where {math.prod(self._shape)} come in",
                "", "give a network for the encoded inputs of this data set")
        if len(self._shape) == 3:
            weights = self._as_ours(weights)
        units = weights.shape[1]
        self._lies, self._shape = "flat", (units,)
        self.layers.append(_Read(str(units), {WEIGHTS: weights, BIASES: _bias(bias, units)}))

    def _as_ours(self, weights: NDArray[Any]) -> NDArray[Any]:
        """Return weights of flattened pictures in our order: as pixels come in at first, later
        channel by channel.
        """
        height, width, channels = self._shape
        first, by_channel = not self.layers, self._lies == "flat channels"
        if first and by_channel:
            return weights.reshape(channels, height, width, -1).transpose(1, 2, 0,
                                                                          3).reshape(weights.shape)
        if not first and not by_channel:
            return weights.reshape(height, width, channels, -1).transpose(2, 0, 1,
                                                                          3).reshape(weights.shape)
        return weights

    def gemm(self, node: onnx.NodeProto) -> None:
        """Take in x W + b."""
        more = _attributes(node)
        if more.get("transA", 0) or more.get("alpha", 1.0) != 1.0 or more.get("beta", 1.0) != 1.0:
            raise self._odd(node)
        weights = self.tensor(node.input[1])
        self.dense(weights.T if more.get("transB", 0) else weights,
                   self.tensor(node.input[2]) if len(node.input) > 2 and node.input[2] else None)

    def product(self, node: onnx.NodeProto) -> None:
        """Take in x W."""
        if node.input[1] not in self._tensors:
            raise self._odd(node)
        self.dense(self.tensor(node.input[1]), None)

    def add(self, node: onnx.NodeProto) -> None:
        """Take in a bias."""
        layer = self._last_layer(node)
        (bias,) = self.constants(node)
        units = layer.arrays[BIASES].size
        wanted = (units, 1, 1) if self._lies == "channels first" else (units,)
        if bias.size != units or bias.shape[-len(wanted):] != wanted:
            raise self._odd(node)
        layer.arrays[BIASES] = layer.arrays[BIASES] + bias.reshape(-1).astype(np.float32)

    def conv(self, node: onnx.NodeProto) -> None:
        """Take in a convolution with weights (U, C, size, size)."""
        more, weights = _attributes(node), self.tensor(node.input[1])
        if self._lies != "channels first" or weights.ndim != 4:
            raise self._odd(node)
        units, channels, size, across = weights.shape
        strides = list(more.get("strides", [1, 1]))
        if (size != across or strides[0] != strides[1] or set(more.get("dilations", [1])) != {1}
                or more.get("group", 1) != 1 or channels != self._shape[2]):
            raise self._odd(node)
        valid = " valid" if _is_valid(more) and size > 1 else ""
        stride = strides[0]
        self.layers.append(
            _Read(
                f"conv {units} size {size} stride {stride}{valid}", {
                    WEIGHTS: weights.transpose(2, 3, 1, 0).reshape(-1, units), BIASES: _bias(
                        self.tensor(node.input[2])
                        if len(node.input) > 2 and node.input[2] else None, units)
                }))
        lost = size - 1 if valid else 0
        height, width, _ = self._shape
        self._shape = (-(-(height - lost) // stride), -(-(width - lost) // stride), units)

    def pool(self, node: onnx.NodeProto) -> None:
        """Take in a pool of squares side by side."""
        more = _attributes(node)
        sides, strides = list(more.get("kernel_shape", [])), list(more.get("strides", [1, 1]))
        if self._lies != "channels first" or len(
                set(sides)) != 1 or strides != sides or not _is_valid(more):
            raise self._odd(node)
        height, width, channels = self._shape
        self._shape = (height // sides[0], width // sides[0], channels)
        self.layers.append(
            _Read(f"{'mean ' if node.op_type == 'AveragePool' else ''}pool {sides[0]}"))

    def batch_norm(self, node: onnx.NodeProto) -> None:
        """Take in a batch normalisation: a bias before it moves the mean, its own epsilon the
        variance.
        """
        layer = self._last_layer(node)
        scales, shift, mean, variance = (self.tensor(name).astype(np.float64)
                                         for name in node.input[1:5])
        epsilon = _attributes(node).get("epsilon", 1e-5)
        spread = np.maximum(variance + epsilon - EPSILON, 0)
        if layer.norm != "no" or np.any(
                np.abs(spread + EPSILON - variance - epsilon) > 1e-7 * (variance + epsilon)):
            raise self._odd(node)
        layer.norm = "batch"
        moved = np.stack((mean - layer.arrays[BIASES], spread))
        layer.arrays |= {part: each.astype(np.float32)
                         for part, each in ((SCALES, scales), (RUNNING, moved), (BIASES, shift))}

    def layer_norm(self, node: onnx.NodeProto) -> None:
        """Take in a layer normalisation of a fully connected layer without bias."""
        layer, more = self._last_layer(node), _attributes(node)
        if (layer.norm != "no" or self._lies != "flat" or np.any(layer.arrays[BIASES])
                or more.get("axis", -1) not in (-1, 1)
                or not math.isclose(more.get("epsilon", 1e-5), EPSILON, rel_tol=1e-3)):
            raise self._odd(node)
        layer.norm = "layer"
        layer.arrays[SCALES] = self.tensor(node.input[1])
        if len(node.input) > 2 and node.input[2]:
            layer.arrays[BIASES] = self.tensor(node.input[2])

    def activation(self, node: onnx.NodeProto) -> None:
        """Take in an activation."""
        layer, more = self._last_layer(node), _attributes(node)
        given = {"LeakyRelu": more.get("alpha", 0.01) - LEAK, "Elu": more.get("alpha", 1.0) - 1.0}
        if abs(given.get(node.op_type, 0.0)) > 1e-6 or more.get("approximate", b"none") != b"none":
            raise self._odd(node)
        layer.activation = _ACTIVATIONS[node.op_type]

    def silu(self, node: onnx.NodeProto) -> None:
        """Take in x sigmoid(x)."""
        self._last_layer(node).activation = "silu"

    def flatten(self, node: onnx.NodeProto) -> None:
        """Take in pictures laid out as one row, or rows made pictures."""
        if node.op_type == "Reshape":
            (wanted,) = self.constants(node)
            if len(wanted) == 4 and len(self._encoding.shape) == 3 and self._lies == "flat":
                if tuple(wanted[1:]) != self._encoding.shape:
                    raise self._odd(node)
                self._lies, self._shape = "channels last", self._encoding.shape
                return
            if len(wanted) != 2:
                raise self._odd(node)
        elif _attributes(node).get("axis", 1) != 1:
            raise self._odd(node)
        self._lies = {"channels first": "flat channels",
                      "channels last": "flat"}.get(self._lies, self._lies)

    def transpose(self, node: onnx.NodeProto) -> None:
        """Take in channels moved to the front or the back."""
        turned = (self._lies, tuple(_attributes(node).get("perm", ())))
        if turned == ("channels last", (0, 3, 1, 2)):
            self._lies = "channels first"
        elif turned == ("channels first", (0, 2, 3, 1)):
            self._lies = "channels last"
        else:
            raise self._odd(node)

    def nothing(self, node: onnx.NodeProto) -> None:
        """Pass by what changes no number."""

    def _fit_outputs(self, last: _Read) -> None:
        """Make the last layer give what the target needs."""
        target = self._encoding.target
        weights, biases = last.arrays[WEIGHTS], last.arrays[BIASES]
        wrong = "Sigmoid" if biases.size > 1 else "Softmax"
        if wrong in self._tail:
            raise TrainingError(
                f"it ends in a {wrong} over {biases.size} outputs, which is not a choice of one "
                "class",
                "", "end it with a softmax over the classes, or one sigmoid for two classes")
        if target.task == "binary" and biases.size == 2:
            last.arrays = {
                WEIGHTS: weights[:, 1:] - weights[:, :1], BIASES: biases[1:] - biases[:1]
            }
        elif biases.size != target.outputs:
            of = f"{len(target.classes)} classes" if target.classes else (f"{len(target.columns)} "
                                                                          "amounts")
            raise TrainingError(f"it has {biases.size} outputs; the target has {of}", "",
                                "give a network with one output a class or amount")

    # -- proof -----------------------------------------------------------------------------------

    def compare(self, predictor: Predictor) -> None:
        """Run the chain itself on drawn inputs and compare the outputs.

        Raises
        ------
        TrainingError
            If they differ.
        """
        x = np.random.default_rng(
            np.random.SeedSequence(7)).normal(size=(COMPARED, math.prod(self._encoding.shape)))
        given = x.astype(np.float32)
        own, found = predictor.outputs(given), self._run(given)
        if self._encoding.target.task == "binary" and found.shape[1] == 2:
            found = found[:, 1:] - found[:, :1]
        away = float(np.abs(own - found).max() / max(float(np.abs(found).max()), 1.0))
        if not away <= TOLERANCE:
            raise TrainingError(f"what was read differs by {away:.2g} from the file", self._where,
                                _REMEDY)

    def _run(self, x: Floats) -> NDArray[Any]:
        from onnx import TensorProto, helper
        from onnx.reference import ReferenceEvaluator

        graph = self._made.graph
        if not self._own and len(self._encoding.shape) == 3 and _first_dims(graph,
                                                                            self._first) == 4:
            height, width, channels = self._encoding.shape
            x = x.reshape(-1, height, width, channels)
            first = next(each for each in graph.input if each.name == self._first)
            if first.type.tensor_type.shape.dim[1].dim_value == channels:
                x = np.ascontiguousarray(x.transpose(0, 3, 1, 2))
        needed, names = [], {self._last}
        for node in reversed(graph.node):
            if names & set(node.output) and self._first not in node.output:
                needed.append(node)
                names |= set(node.input)
        made = helper.make_model(
            helper.make_graph(needed[::-1], "chain",
                              [helper.make_tensor_value_info(self._first, TensorProto.FLOAT, None)],
                              [helper.make_tensor_value_info(self._last, TensorProto.FLOAT, None)],
                              [each for each in graph.initializer if each.name in names]),
            opset_imports=list(self._made.opset_import), ir_version=self._made.ir_version)
        answers: Any = ReferenceEvaluator(made).run(None, {self._first: x})
        return np.asarray(answers[0])


_READERS: Mapping[str, Callable[[_Chain, Any], None]] = {
    "Gemm": _Chain.gemm, "MatMul": _Chain.product, "Add": _Chain.add, "Conv": _Chain.conv,
    "MaxPool": _Chain.pool, "AveragePool": _Chain.pool, "BatchNormalization": _Chain.batch_norm,
    "LayerNormalization": _Chain.layer_norm, _SILU: _Chain.silu, "Flatten": _Chain.flatten,
    "Reshape": _Chain.flatten, "Transpose": _Chain.transpose, **dict.fromkeys(
        _ACTIVATIONS, _Chain.activation), **dict.fromkeys(_NOTHING, _Chain.nothing)
}


def _marked(node: onnx.NodeProto, name: str) -> onnx.NodeProto:
    """Return a copy of an operation under another name."""
    import onnx

    made = onnx.NodeProto()
    made.CopyFrom(node)
    made.op_type = name
    return made


def _attributes(node: onnx.NodeProto) -> dict[str, Any]:
    from onnx import helper

    return {each.name: helper.get_attribute_value(each) for each in node.attribute}


def _is_valid(more: Mapping[str, Any]) -> bool:
    """Say whether windows stay inside the picture."""
    auto = more.get("auto_pad", b"NOTSET")
    return bool(auto == b"VALID" or (auto == b"NOTSET" and not any(more.get("pads", [0]))))


def _bias(bias: NDArray[Any] | None, units: int) -> Floats:
    return np.zeros(units, np.float32) if bias is None else np.asarray(bias,
                                                                       np.float32).reshape(units)


def _first_dims(graph: onnx.GraphProto, name: str) -> int:
    return next((len(each.type.tensor_type.shape.dim) for each in graph.input if each.name == name),
                0)
