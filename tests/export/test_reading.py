"""Networks of the open format read as weights: ours to the bit, others as an independent runtime
has them.
"""

from __future__ import annotations

import unittest
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
import onnx
from onnx import TensorProto, helper, numpy_helper

from axiarch.data.building import build_dataset
from axiarch.data.dataset import Dataset
from axiarch.data.reading import read_table
from axiarch.errors import TrainingError
from axiarch.export.network import export_network
from axiarch.export.reading import read_network
from axiarch.recipes.members import ACTIVATIONS
from tests.export.test_models import HEADER, messy_rows, trained
from tests.export.test_network import session
from tests.support import FolderCase, ring_dataset, write_csv


class Ours(FolderCase):
    """What Axiarch has exported reads back as the same weights."""

    def check(self, data: Dataset, **values: Any) -> None:
        model, _ = trained(data, self.folder, 2, **values)
        export_network(model, self.folder / "m.onnx", force=True)
        recipe, found = read_network(self.folder / "m.onnx", data.encoding)
        self.assertEqual([layer.kind for layer in recipe.layers],
                         [layer.kind for layer in model.recipes[0].layers])
        np.testing.assert_array_equal(found.weights, model.networks[0].weights)

    def test_tables(self) -> None:
        data = build_dataset(read_table(write_csv(self.folder / "t.csv", HEADER, messy_rows()))[0],
                             self.folder / "d", "d")
        for i, activation in enumerate(ACTIVATIONS):
            with self.subTest(activation=activation):
                self.check(data,
                           activation=activation,
                           normalisation=("none", "batch", "layer")[i % 3],
                           depth=2)

    def test_one_column_and_amounts(self) -> None:
        rows = [[i % 50, 1000 + 3 * (i % 50) + i % 7] for i in range(200)]
        data = build_dataset(read_table(write_csv(self.folder / "t.csv", ["x", "grams"], rows))[0],
                             self.folder / "d", "d")
        self.assertEqual(data.encoding.target.task, "regression")
        self.check(data, network="5, 3")

    def test_pictures(self) -> None:
        data = pictures(self.folder)
        for line, norm in (("conv 4, pool 2, hidden",
                            "none"), ("conv 3 size 5 stride 2, mean pool 2, 7", "batch"),
                           ("conv 3 valid, conv 2 size 2", "none"), ("hidden", "layer")):
            with self.subTest(line=line):
                self.check(data, network=line, normalisation=norm)

    def test_what_has_no_chain_is_refused(self) -> None:
        data = ring_dataset(self.folder / "d")
        model, _ = trained(data, self.folder, 2, network="6, 6 residual")
        export_network(model, self.folder / "m.onnx")
        with self.assertRaisesRegex(TrainingError, "operation Add"):
            read_network(self.folder / "m.onnx", data.encoding)
        with self.assertRaisesRegex(TrainingError, "another target"):
            read_network(self.folder / "m.onnx", pictures(self.folder).encoding)


def pictures(folder: Path) -> Dataset:
    """Return a data set of small pictures of three classes."""
    rng = np.random.default_rng(1)
    pixels, labels = rng.integers(0, 255, (90, 9, 8, 2), np.uint8), np.arange(90) % 3
    pixels[labels == 1, :4] //= 2
    np.savez(folder / "p.npz", images=pixels, labels=labels)
    return build_dataset(read_table(folder / "p.npz")[0], folder / "pictures", "d")


class Builder:
    """Makes a network of another origin, operation by operation."""

    def __init__(self, shape: Sequence[int], seed: int = 4) -> None:
        self._rng = np.random.default_rng(seed)
        self.nodes: list[onnx.NodeProto] = []
        self.tensors: list[onnx.TensorProto] = []
        self._input = helper.make_tensor_value_info("x", TensorProto.FLOAT, ["N", *shape])
        self.last = "x"

    def weights(self, *shape: int, low: float = -0.6, high: float = 0.6) -> str:
        name = f"w{len(self.tensors)}"
        self.tensors.append(
            numpy_helper.from_array(self._rng.uniform(low, high, shape).astype(np.float32), name))
        return name

    def add(self, operator: str, *more: str, **attributes: Any) -> Builder:
        out = f"v{len(self.nodes)}"
        self.nodes.append(helper.make_node(operator, [self.last, *more], [out], **attributes))
        self.last = out
        return self

    def write(self, path: Path) -> Path:
        out = helper.make_tensor_value_info(self.last, TensorProto.FLOAT, ["N", "outputs"])
        graph = helper.make_graph(self.nodes, "g", [self._input], [out], self.tensors)
        onnx.save(
            helper.make_model(graph, opset_imports=[helper.make_opsetid("", 20)], ir_version=10),
            str(path))
        return path


class Others(FolderCase):
    """A file of another origin predicts what an independent runtime says."""

    def check(self, path: Path, data: Dataset, inputs: np.ndarray, given: np.ndarray) -> str:
        recipe, found = read_network(path, data.encoding)
        (runtime,) = session(path).run(None, {"x": given})
        own = found.predict(inputs)
        np.testing.assert_allclose(own if runtime.shape == own.shape else own[:, 1:],
                                   runtime,
                                   atol=1e-5)
        return str(recipe["network"])

    def test_a_table_with_turned_weights_and_two_outputs(self) -> None:
        data = ring_dataset(self.folder / "d")
        inputs = np.asarray(data.part("validation").inputs)
        made = Builder([inputs.shape[1]])
        made.add("Gemm", made.weights(7, inputs.shape[1]), made.weights(7),
                 transB=1).add("LeakyRelu", alpha=0.01)
        made.add("Dropout").add("MatMul", made.weights(7, 4)).add("Add",
                                                                  made.weights(4)).add("Tanh")
        made.add("Gemm", made.weights(4, 2), made.weights(2)).add("Softmax", axis=1)
        line = self.check(made.write(self.folder / "m.onnx"), data, inputs, inputs)
        self.assertEqual(line, "7 leaky_relu no norm, 4 tanh no norm")

    def test_two_classes_by_one_sigmoid_and_gated_units(self) -> None:
        data = ring_dataset(self.folder / "d")
        inputs = np.asarray(data.part("validation").inputs)
        made = Builder([inputs.shape[1]])
        made.add("Gemm", made.weights(inputs.shape[1], 5), made.weights(5))
        before = made.last
        made.add("Sigmoid").add("Mul", before)
        made.add("Gemm", made.weights(5, 1), made.weights(1)).add("Sigmoid")
        self.assertIn("silu", self.check(made.write(self.folder / "m.onnx"), data, inputs, inputs))

    def test_pictures_with_channels_first_and_a_normalisation_of_another_epsilon(self) -> None:
        data = pictures(self.folder)
        inputs = np.asarray(data.part("validation").inputs)
        tall = np.ascontiguousarray(inputs.reshape(-1, 9, 8, 2).transpose(0, 3, 1, 2))
        made = Builder([2, 9, 8])
        made.add("Conv",
                 made.weights(4, 2, 3, 3),
                 made.weights(4),
                 pads=[1, 1, 1, 1],
                 kernel_shape=[3, 3])
        made.add("BatchNormalization",
                 made.weights(4, low=0.5, high=2),
                 made.weights(4),
                 made.weights(4),
                 made.weights(4, low=0.5, high=2),
                 epsilon=1e-3)
        made.add("Relu").add("MaxPool", kernel_shape=[2, 2], strides=[2, 2])
        made.add("Conv", made.weights(3, 4, 2, 2)).add("Elu").add("Flatten")
        made.add("Gemm", made.weights(27, 6), made.weights(6)).add("Softplus")
        made.add("Gemm", made.weights(6, 3), made.weights(3)).add("Softmax", axis=1)
        line = self.check(made.write(self.folder / "m.onnx"), data, inputs, tall)
        self.assertIn(
            "conv 4 size 3 stride 1 relu batch norm, pool 2, conv 3 size 2 stride 1 valid", line)

    def test_what_does_not_fit_is_refused_with_the_reason(self) -> None:
        data = ring_dataset(self.folder / "d")
        wide = data.encoding.shape[0]
        cases: list[tuple[Builder, str]] = []

        def case(inputs: int, words: str) -> Builder:
            cases.append((Builder([inputs]), words))
            return cases[-1][0]

        made = case(wide + 1, "encoded inputs")
        made.add("Gemm", made.weights(wide + 1, 2))
        made = case(wide, "no hidden layer")
        made.add("Gemm", made.weights(wide, 2))
        made = case(wide, "5 outputs; the target has 2 classes")
        made.add("Gemm", made.weights(wide, 3)).add("Relu").add("Gemm", made.weights(3, 5))
        made = case(wide, "operation Clip")
        made.add("Gemm", made.weights(wide, 3)).add("Clip").add("Gemm", made.weights(3, 2))
        made = case(wide, "operation LeakyRelu")
        made.add("Gemm", made.weights(wide, 3)).add("LeakyRelu",
                                                    alpha=0.3).add("Gemm", made.weights(3, 2))
        made = case(wide, "a layer takes 4 numbers where 3 come in")
        made.add("Gemm", made.weights(wide, 3)).add("Relu").add("Gemm", made.weights(4, 2))
        made = case(wide, "an activation")
        made.add("Gemm", made.weights(wide, 3)).add("Relu").add("Gemm", made.weights(3,
                                                                                     2)).add("Tanh")
        made = case(wide, "a Sigmoid over 2 outputs")
        made.add("Gemm", made.weights(wide, 3)).add("Relu").add("Gemm",
                                                                made.weights(3, 2)).add("Sigmoid")
        for builder, words in cases:
            with self.subTest(words=words), self.assertRaisesRegex(TrainingError, words):
                read_network(builder.write(self.folder / "m.onnx"), data.encoding)

    def test_any_damaged_file_is_refused(self) -> None:
        data = ring_dataset(self.folder / "d")
        model, _ = trained(data, self.folder, 2)
        path, bad = self.folder / "m.onnx", self.folder / "bad.onnx"
        export_network(model, path)
        whole, rng = path.read_bytes(), np.random.default_rng(0)
        for i in range(60):
            damaged = bytearray(whole)
            if i % 2:
                del damaged[int(rng.integers(len(whole))) :]
            for place in rng.integers(0, max(len(damaged), 1), 20 if damaged else 0):
                damaged[place] = int(rng.integers(256))
            bad.write_bytes(damaged)
            try:
                read_network(bad, data.encoding)
            except TrainingError:
                continue
        for content in (b"", b"text", b"\x00" * 1000):
            bad.write_bytes(content)
            with self.assertRaises(TrainingError):
                read_network(bad, data.encoding)
        with self.assertRaises(TrainingError):
            read_network(self.folder, data.encoding)


if __name__ == "__main__":
    unittest.main()
