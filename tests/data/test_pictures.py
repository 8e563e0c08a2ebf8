"""Pictures of every format are read alike; damaged, hostile and unequal ones are refused in
words.
"""

from __future__ import annotations

import gzip
import io
import struct
import unittest
import zipfile
from dataclasses import replace
from pathlib import Path

import numpy as np
import polars
from PIL import Image

from axiarch.data.building import build_dataset
from axiarch.data.demo_hum import KINDS, MISLABELLED, hum
from axiarch.data.describing import read_dataset
from axiarch.data.encoding import PictureCode
from axiarch.data.pictures import LABEL, PICTURE
from axiarch.data.plan import DataPlan
from axiarch.data.reading import Reading, read_table
from axiarch.data.sealed import kept_table, sealed_part
from axiarch.data.table import PART, Table
from axiarch.errors import DataError
from tests.support import FolderCase

PIXELS = np.random.default_rng(0).integers(0, 256, (12, 5, 4), np.uint8)
LABELS = np.array(["moss", "fern", "reed"] * 4)


def write_idx(path: Path, array: np.ndarray) -> Path:
    """Write bytes in the IDX format."""
    content = struct.pack(">HBB", 0, 8, array.ndim) + struct.pack(f">{array.ndim}I", *
                                                                  array.shape) + array.tobytes()
    path.write_bytes(gzip.compress(content) if path.suffix == ".gz" else content)
    return path


class Formats(FolderCase):
    def check(self,
              path: Path,
              labels: list[object],
              how: str,
              order: list[int] | None = None) -> None:
        table, said = read_table(path)
        self.assertIn(how, said)
        found = table.column(PICTURE).to_numpy()
        np.testing.assert_array_equal(
            found, PIXELS[order if order is not None else slice(None), ..., None])
        self.assertEqual(table.column(LABEL).to_list(), labels)

    def test_a_numpy_archive(self) -> None:
        np.savez_compressed(self.folder / "a.npz", pictures=PIXELS, labels=LABELS)
        self.check(self.folder / "a.npz", LABELS.tolist(), "NumPy archive")

    def test_numpy_files_side_by_side(self) -> None:
        np.save(self.folder / "images.npy", PIXELS)
        np.save(self.folder / "labels.npy", np.arange(12) % 3)
        self.check(self.folder / "images.npy", (np.arange(12) % 3).tolist(), "NumPy")

    def test_idx_plain_and_packed(self) -> None:
        for end in ("", ".gz"):
            write_idx(self.folder / f"images-idx3-ubyte{end}", PIXELS)
            write_idx(self.folder / f"labels-idx1-ubyte{end}", (np.arange(12) % 3).astype(np.uint8))
            self.check(self.folder / f"images-idx3-ubyte{end}", (np.arange(12) % 3).tolist(), "IDX")

    def test_a_folder_of_png(self) -> None:
        for i, (pixels, label) in enumerate(zip(PIXELS, LABELS, strict=True)):
            (self.folder / "p" / label).mkdir(parents=True, exist_ok=True)
            Image.fromarray(pixels).save(self.folder / "p" / label / f"{i:02d}.png")
        order = sorted(range(12), key=lambda i: (LABELS[i], i))
        self.check(self.folder / "p", [LABELS[i] for i in order], "12 PNG files", order)

    def test_a_folder_with_given_parts(self) -> None:
        for part in ("train", "validation", "test"):
            for i, label in enumerate(LABELS):
                (self.folder / "p" / part / label).mkdir(parents=True, exist_ok=True)
                Image.fromarray(PIXELS[i]).save(self.folder / "p" / part / label / f"{i:02d}.png")
        table, _ = read_table(self.folder / "p")
        self.assertIn(PART, table.columns)
        data = build_dataset(table, self.folder / "d", "d")
        self.assertEqual([data.rows[p] for p in ("train", "validation", "test")], [12, 12, 12])

    def test_channels_before_or_behind(self) -> None:
        colours = np.random.default_rng(1).integers(0, 256, (6, 8, 8, 3), np.uint8)
        for name, array in (("a", colours), ("b", colours.transpose(0, 3, 1, 2))):
            np.savez(self.folder / f"{name}.npz", x=array, y=np.arange(6) % 2)
            np.testing.assert_array_equal(
                read_table(self.folder / f"{name}.npz")[0].column(PICTURE).to_numpy(), colours)

    def test_pictures_are_a_data_set_like_any_other(self) -> None:
        made = hum(300)
        table, _ = read_table(made.to_npz(self.folder / "h.npz"))
        data = build_dataset(table, self.folder / "d", "d")
        self.assertEqual((data.encoding.picture, data.inputs, data.classes),
                         ((16, 16, 1), 256, tuple(sorted(KINDS))))
        x = data.part("train").inputs
        self.assertAlmostEqual(float(x.mean()), 0.0, places=4)
        self.assertAlmostEqual(float(x.std()), 1.0, places=4)
        self.assertEqual(kept_table(data).column(PICTURE).to_numpy().shape, (300, 16, 16, 1))
        again = build_dataset(kept_table(data),
                              self.folder / "e",
                              "e",
                              plan=DataPlan(scaling="0-1"))
        self.assertEqual(
            (float(again.part("train").inputs.min()), float(again.part("train").inputs.max())),
            (0.0, 1.0))

    def test_shrunk_pictures_are_means_of_squares(self) -> None:
        table, _ = read_table(hum(60).to_npz(self.folder / "a.npz"))
        data = build_dataset(table, self.folder / "d", "d", plan=DataPlan(shrink=3))
        self.assertEqual(data.encoding.picture, (5, 5, 1))
        pictures = table.column(PICTURE)
        found, wanted = data.encoding.seen(pictures), pictures.to_numpy()[:, 3:6,
                                                                          12:15].mean(axis=(1, 2))
        np.testing.assert_allclose(found[:, 1, 4], wanted)
        self.assertAlmostEqual(float(data.part("train").inputs.std()), 1.0, places=4)
        self.assertEqual(read_dataset(self.folder / "d").encoding, data.encoding)
        self.assertEqual(
            kept_table(data).column(PICTURE).to_numpy().shape[1:], (16, 16, 1),
            "kept as they were read")
        for factor, words in ((9, "two pixels"), (0, "whole number"), (17, "16")):
            with self.assertRaises(DataError) as caught:
                build_dataset(table, self.folder / "e", "e", plan=DataPlan(shrink=factor))
            self.assertIn(words, caught.exception.remedy)

    def test_pictures_decode_to_what_they_were(self) -> None:
        np.savez(self.folder / "a.npz", pictures=PIXELS, labels=LABELS)
        table, _ = read_table(self.folder / "a.npz")
        code = PictureCode(PICTURE, (5, 4, 1), (91.0,), (33.0,))
        np.testing.assert_allclose(code.decode(code.encode(table.column(PICTURE))),
                                   PIXELS[..., None],
                                   atol=1e-9)


class Refused(FolderCase):
    def refuse(self, path: Path, words: str, place: str = "") -> None:
        with self.assertRaises(DataError) as caught:
            read_table(path)
        self.assertIn(words, str(caught.exception))
        self.assertIn(place or path.name, caught.exception.where)
        self.assertTrue(caught.exception.remedy)

    def test_pickled_objects_are_never_read(self) -> None:
        class Trap:
            def __reduce__(self) -> tuple[object, ...]:
                return (Path.touch, (Path(self_folder) / "ran",))

        self_folder = str(self.folder)
        hostile = np.array([Trap()] * 3, dtype=object)
        np.savez(self.folder / "a.npz", pictures=PIXELS[:3], labels=hostile)
        np.save(self.folder / "images.npy", hostile, allow_pickle=True)
        np.save(self.folder / "labels.npy", np.arange(3))
        self.refuse(self.folder / "a.npz", "Python objects", "labels")
        self.refuse(self.folder / "images.npy", "Python objects")
        self.assertFalse((self.folder / "ran").exists())

    def test_an_archive_that_unpacks_to_far_more_than_its_size(self) -> None:
        np.savez_compressed(self.folder / "a.npz", pictures=np.zeros((40000, 32, 32), np.uint8),
                            labels=np.zeros(40000, np.uint8))
        self.assertLess((self.folder / "a.npz").stat().st_size, 1 << 20)
        self.refuse(self.folder / "a.npz", "unpack", "pictures")
        head = struct.pack(">HBB", 0, 8, 3) + struct.pack(">3I", 60000, 100, 100)
        (self.folder / "images-idx3-ubyte.gz").write_bytes(gzip.compress(head + bytes(1000)))
        self.refuse(self.folder / "images-idx3-ubyte.gz", "unpack")

    def test_pictures_of_one_class_only(self) -> None:
        (self.folder / "p" / "lone").mkdir(parents=True)
        for i, pixels in enumerate(PIXELS):
            Image.fromarray(pixels).save(self.folder / "p" / "lone" / f"{i:02d}.png")
        table, _ = read_table(self.folder / "p")  # as to be predicted they will do
        with self.assertRaisesRegex(DataError, "label is the same in every row"):
            build_dataset(table, self.folder / "d", "d")

    def test_files_cut_short(self) -> None:
        np.savez(self.folder / "a.npz", pictures=PIXELS, labels=LABELS)
        np.save(self.folder / "images.npy", PIXELS)
        np.save(self.folder / "labels.npy", np.arange(12))
        write_idx(self.folder / "images-idx3-ubyte", PIXELS)
        write_idx(self.folder / "labels-idx1-ubyte", np.zeros(12, np.uint8))
        for name in ("a.npz", "images.npy", "images-idx3-ubyte"):
            path = self.folder / name
            for keep in (0.6, 0.02):
                path.write_bytes(path.read_bytes()[: int(keep * path.stat().st_size)])
                with self.subTest(name=name, keep=keep), self.assertRaises(DataError) as caught:
                    read_table(path)
                self.assertTrue(caught.exception.remedy)

    def test_a_lying_header_is_not_believed(self) -> None:
        file = io.BytesIO()
        np.lib.format.write_array_header_1_0(
            file, {"descr": "|u1", "fortran_order": False, "shape": (10**12, 9, 9)})
        (self.folder / "images.npy").write_bytes(file.getvalue() + bytes(100))
        np.save(self.folder / "labels.npy", np.arange(3))
        self.refuse(self.folder / "images.npy", "cut short")
        with zipfile.ZipFile(self.folder / "a.npz", "w") as archive:
            archive.writestr("pictures.npy", file.getvalue() + bytes(100))
            archive.writestr("labels.npy", (self.folder / "labels.npy").read_bytes())
        with self.assertRaises((DataError, MemoryError)) as caught:
            read_table(self.folder / "a.npz")
        self.assertIsInstance(caught.exception, DataError)

    def test_pictures_of_different_sizes_name_both(self) -> None:
        (self.folder / "p" / "a").mkdir(parents=True)
        Image.fromarray(PIXELS[0]).save(self.folder / "p" / "a" / "first.png")
        Image.fromarray(PIXELS[0, :3]).save(self.folder / "p" / "a" / "other.png")
        self.refuse(self.folder / "p", "a/other.png (it is 3 x 4")

    def test_all_bad_files_are_listed_and_can_be_left_out(self) -> None:
        folder = self.folder / "p"
        for name in ("a", "b", "empty"):
            (folder / name).mkdir(parents=True)
        for i in range(4):
            Image.fromarray(PIXELS[i]).save(folder / "ab"[i % 2] / f"{i}.png")
        (folder / "a" / "bad.png").write_bytes(b"no")
        Image.fromarray(PIXELS[0, :3]).save(folder / "b" / "small.png")
        (folder / "a" / ".hidden.png").write_bytes(b"no")
        with self.assertRaises(DataError) as caught:
            read_table(folder)
        for words in ("2 pictures of 6", "a/bad.png", "b/small.png"):
            self.assertIn(words, caught.exception.what)
        self.assertIn("--skip-bad", caught.exception.remedy)
        table, how = read_table(folder, Reading(skip_bad=True))
        self.assertEqual(table.height, 4)
        for words in ("2 bad files left out", "1 hidden file", "empty"):
            self.assertIn(words, how)

    def test_sixteen_bits_keep_their_range(self) -> None:
        (self.folder / "p" / "a").mkdir(parents=True)
        deep = (np.arange(20, dtype=np.uint16).reshape(5, 4) * 3000)
        for i in range(2):
            Image.fromarray(deep).save(self.folder / "p" / "a" / f"{i}.png")
        table, _ = read_table(self.folder / "p")
        np.testing.assert_array_equal(table.column(PICTURE).to_numpy()[0, ..., 0], deep)

    def test_columns_of_pixels_can_be_declared_pictures(self) -> None:
        rng = np.random.default_rng(0)
        pixels = rng.integers(0, 255, (60, 12)).astype(float)
        frame = polars.DataFrame({**{f"p{i}": pixels[:, i] for i in range(12)},
                                  "name": [f"n{i}" for i in range(60)], "y": ["a", "b"] * 30})
        plan = DataPlan(("y",), ignore=("name",), pictures="3x4")
        data = build_dataset(Table.of(frame), self.folder / "d", "d", plan=plan)
        self.assertEqual(data.encoding.picture, (3, 4, 1))
        first = int(
            np.flatnonzero((pixels == data.examples[PICTURE].to_numpy()[0].ravel()).all(1))[0])
        np.testing.assert_array_equal(data.examples[PICTURE].to_numpy()[0, :, :, 0],
                                      pixels[first].reshape(3, 4))
        self.assertEqual(sealed_part(data).inputs.shape[1], 12)
        with self.assertRaises(DataError) as caught:
            build_dataset(Table.of(frame),
                          self.folder / "e",
                          "e",
                          plan=replace(plan, pictures="5x4"))
        self.assertIn("12 columns", caught.exception.what)

    def test_what_is_no_set_of_small_pictures(self) -> None:
        (self.folder / "p" / "a").mkdir(parents=True)
        self.refuse(self.folder / "p", "no sub-folders with PNG", "p")
        (self.folder / "p" / "a" / "x.png").write_bytes(b"not a picture")
        self.refuse(self.folder / "p", "a/x.png (cannot read this as a PNG file")
        Image.fromarray(np.zeros((900, 900), np.uint8)).save(self.folder / "p" / "a" / "x.png")
        self.refuse(self.folder / "p", "not a small one")
        np.save(self.folder / "alone.npy", PIXELS)
        self.refuse(self.folder / "alone.npy", "without labels")
        for name, arrays in (("few", {"pictures": PIXELS, "labels": LABELS[:5]}),
                             ("two", {"a": PIXELS, "b": PIXELS, "labels": LABELS}),
                             ("flat", {"pictures": PIXELS[0], "labels": LABELS})):
            np.savez(self.folder / f"{name}.npz", **arrays)
            with self.subTest(name=name), self.assertRaises(DataError):
                read_table(self.folder / f"{name}.npz")

    def test_pixels_must_be_finite_numbers(self) -> None:
        wrong = PIXELS.astype(float)
        wrong[4, 0, 0] = np.nan
        np.savez(self.folder / "a.npz", pictures=wrong, labels=LABELS)
        self.refuse(self.folder / "a.npz", "picture 5")


class HumLaws(unittest.TestCase):
    def test_the_same_seed_makes_the_same_pictures(self) -> None:
        np.testing.assert_array_equal(hum(20, 5).pictures, hum(20, 5).pictures)
        self.assertFalse(np.array_equal(hum(20, 5).pictures, hum(20, 6).pictures))

    def test_as_many_labels_are_wrong_as_is_said(self) -> None:
        made = hum(8000, 1)
        right = made.labels == np.array(KINDS)[made.kinds]
        self.assertAlmostEqual(float(right.mean()), 1 - MISLABELLED, delta=0.008)
        p = np.where(right, 1 - MISLABELLED, MISLABELLED / 3)
        self.assertAlmostEqual(float(-np.log(p).mean()), made.best_loss, delta=0.03)

    def test_neither_place_nor_loudness_tells_the_kinds_apart(self) -> None:
        made = hum()
        means = np.array([made.pictures[made.kinds == k].mean() for k in range(4)])
        self.assertLess(np.ptp(means), made.pictures.mean(axis=(1, 2)).std() * 2.5)


if __name__ == "__main__":
    unittest.main()
