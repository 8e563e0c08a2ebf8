"""Windows that slide over pictures: what goes out is what a plain loop finds."""

from __future__ import annotations

import unittest

import numpy as np

from axiarch.engine import codes
from axiarch.engine.kernels import driver, rows
from axiarch.engine.network import NetworkShape, Placed
from axiarch.engine.program import Program
from tests.support import recipe


class Windows(unittest.TestCase):
    def test_a_convolution_is_what_a_plain_loop_finds(self) -> None:
        rng = np.random.default_rng(0)
        count = 3
        for line in ("conv 4", "conv 4 size 2", "conv 4 size 5", "conv 4 stride 2",
                     "conv 4 size 2 stride 3", "conv 4 valid", "conv 4 size 4 stride 2 valid",
                     "conv 4 size 1", "conv 4 size 9 stride 2"):
            shape = NetworkShape.of(
                recipe(network=f"{line} identity") if "valid" not in line else recipe(
                    network=line.replace(" valid", " identity valid")), (9, 10, 2), 3)
            p = shape.placed[0]
            flat = rng.normal(size=shape.parameters)
            x = rng.normal(size=(count, 9, 10, 2))
            program = Program.of(shape, count, False)
            room, first = program.room(np.float64, False), program.ops[:1]
            rows.gather(x.reshape(-1), 180, np.zeros(0, np.int64), 0, count, room.a,
                        first[0, codes.IN], 2)
            driver.forward(room.a, room.which, flat, first, count, False, np.uint64(0), 0,
                           np.zeros(1, np.int32), np.ones(1), room.words, room.bits, room.one)
            out = room.a[first[0, codes.OUT] :][: 4 * p.positions * count]
            found = out.reshape(4, *p.after[:2], count).transpose(3, 1, 2, 0)
            with self.subTest(line):
                np.testing.assert_allclose(found, by_loop(x, flat, p), rtol=1e-10, atol=1e-12)


def by_loop(x: np.ndarray, flat: np.ndarray, p: Placed) -> np.ndarray:
    """Return the convolution of `x` (B, H, W, C), a window at a time."""
    size, stride = p.layer.size, p.layer.stride
    weights = flat[p.weights : p.weights + p.fan_in * p.units].reshape(size, size, -1, p.units)
    tall, wide, _ = p.after
    around = [(0, 0)]
    for side, places in zip(x.shape[1:3], (tall, wide), strict=True):
        outside = 0 if p.layer.valid else max((places - 1) * stride + size - side, 0)
        around.append((outside // 2, outside - outside // 2))
    padded = np.pad(x, (*around, (0, 0)))
    out = np.empty((len(x), tall, wide, p.units))
    for i in range(tall):
        for j in range(wide):
            window = padded[:, i * stride : i * stride + size, j * stride : j * stride + size]
            out[:, i, j] = np.tensordot(window, weights, 3) + flat[p.biases : p.biases + p.units]
    return out


if __name__ == "__main__":
    unittest.main()
