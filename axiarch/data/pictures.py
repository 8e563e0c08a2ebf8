"""Read small pictures with their labels: NumPy files, the IDX format, or a folder of PNG files.

A table of pictures has a column of pictures (height x width x channels, the channel changing
fastest) and one of labels; everything after reading treats it as any other table. Nothing in a file
is ever run: NumPy files with pickled objects are refused, and so is what unpacks to far more than
its size.
"""

from __future__ import annotations

import contextlib
import gzip
import math
import struct
import zipfile
import zlib
from collections.abc import Iterator
from pathlib import Path
from typing import IO, Any

import numpy as np
from numpy.typing import NDArray

from axiarch.data.archives import check_unpacked
from axiarch.data.table import PART, Table, Tell, no_progress
from axiarch.errors import DataError
from axiarch.text import count, shown

#: How the names of files of pictures end.
PICTURES = (".npz", ".npy", ".idx", "-ubyte", "-ubyte.gz", ".idx.gz")
#: What the columns of pictures and labels are called.
PICTURE, LABEL = "picture", "label"
#: Most pixels of one picture, channels counted: networks of this program take every pixel as an
#: input.
MOST_PIXELS = 128 * 128 * 4
#: Names that people give to the two arrays of an archive.
_PICTURE_NAMES = ("pictures", "images", "x", "data", "inputs")
_LABEL_NAMES = ("labels", "label", "y", "targets", "target", "classes")
#: Files that a message names, at the most.
MOST_LISTED = 12
_PARTS = {
    "train": "train", "training": "train", "validation": "validation", "valid": "validation",
    "test": "test"
}
#: Element types of the IDX format by their code.
_IDX = {0x08: ">u1", 0x09: ">i1", 0x0B: ">i2", 0x0C: ">i4", 0x0D: ">f4", 0x0E: ">f8"}


def read_pictures(path: Path, labels: Path | None = None, on_progress: Tell = no_progress,
                  skip_bad: bool = False) -> tuple[Table, str]:
    """Read pictures and return them as a table with a sentence on how they were read.

    Parameters
    ----------
    labels : Path, optional
        The file of labels, where the pictures' file has none and its name does not lead to it.
    skip_bad : bool
        Whether files of a folder that cannot be used are left out instead of refusing them all.

    Raises
    ------
    DataError
    """
    where = shown(path)
    if path.is_dir():
        return _from_folder(path, on_progress, skip_bad)
    if path.suffix.lower() == ".npz":
        pictures, found = _from_archive(path, where)
        return _table(pictures, found, where), "NumPy archive of pictures"
    with _refusing(where):
        pictures = _one_array(path, where)
    labels = labels or _labels_beside(path)
    if labels is None:
        raise DataError(
            "these pictures come without labels", where,
            "name the file of labels, or put it beside with 'labels' in the place of 'images'")
    with _refusing(shown(labels)):
        found = _one_array(labels, shown(labels))
    kind = "NumPy" if path.suffix.lower() == ".npy" else "IDX"
    return _table(pictures, found,
                  where), f"{kind} file of pictures, labels from {shown(labels.name)}"


@contextlib.contextmanager
def _refusing(where: str) -> Iterator[None]:
    """Turn what readers of damaged files raise into words."""
    try:
        yield
    except (FileNotFoundError, PermissionError, DataError):
        raise
    except (ValueError, OSError, EOFError, struct.error, zipfile.BadZipFile, KeyError,
            zlib.error) as error:
        raise DataError(f"cannot read this as an array file: {shown(error, 120)}", where,
                        "write the file again; it may have been cut short") from None


def _table(pictures: NDArray[Any], labels: NDArray[Any], where: str) -> Table:
    """Return the table of N pictures (N, H, W) or (N, H, W, C) and their labels (N,)."""
    import polars

    pictures = _channels_last(pictures, where)
    if labels.ndim == 2 and 1 in labels.shape:
        labels = labels.ravel()
    if labels.ndim != 1 or len(labels) != len(pictures):
        raise DataError(
            f"there are {count(len(pictures), 'picture')} and labels of shape {labels.shape}",
            where, "give one label a picture")
    if len(pictures) == 0:
        raise DataError("there are no pictures in it", where, "give some")
    kept = labels.astype(str) if labels.dtype.kind in "SU" else labels
    if kept.dtype.kind not in "biufU":
        raise DataError(f"labels of kind {labels.dtype} cannot be used", where,
                        "give numbers or text")
    return Table.of(polars.DataFrame([polars.Series(PICTURE, np.ascontiguousarray(pictures)),
                                      polars.Series(LABEL, kept)]), where)


def _channels_last(pictures: NDArray[Any], where: str) -> NDArray[Any]:
    """Return pictures as (N, H, W, C) of bytes or float32, whichever way round they were."""
    if pictures.ndim == 4 and pictures.shape[3] > 4 and pictures.shape[1] <= 4:
        pictures = pictures.transpose(0, 2, 3, 1)
    if pictures.ndim == 3:
        pictures = pictures[..., None]
    if pictures.ndim != 4 or not 1 <= pictures.shape[3] <= 4:
        raise DataError(f"an array of shape {pictures.shape} holds no pictures", where,
                        "give number x height x width, with one to four channels behind or before")
    pixels = int(np.prod(pictures.shape[1:]))
    if pixels > MOST_PIXELS or pixels == 0:
        raise DataError(
            f"a picture of {pictures.shape[1]} x {pictures.shape[2]} is not a small one", where,
            f"scale them to at most {MOST_PIXELS} pixels, channels counted")
    if pictures.dtype.kind not in "buif":
        raise DataError(f"pixels of kind {pictures.dtype} cannot be used", where, "give numbers")
    if pictures.dtype.kind == "f":
        if not np.isfinite(pictures).all():
            bad = int(np.flatnonzero(~np.isfinite(pictures).all(axis=(1, 2, 3)))[0])
            raise DataError(f"picture {bad + 1} holds a pixel that is not a finite number", where,
                            "fix it")
        return pictures.astype(np.float32)
    return pictures.astype(
        np.uint8) if pictures.min() >= 0 and pictures.max() <= 255 else pictures.astype(np.float32)


# -- NumPy -----------------------------------------------------------------------------------------


def _from_archive(path: Path, where: str) -> tuple[NDArray[Any], NDArray[Any]]:
    with _refusing(where), zipfile.ZipFile(path) as archive:
        for member in archive.infolist():
            check_unpacked(member.file_size, member.compress_size,
                           f"{where}, {shown(member.filename, 60)}")
        names = {m.removesuffix(".npy"): m for m in archive.namelist() if m.endswith(".npy")}
        shapes = {}
        for name, member_name in names.items():
            with archive.open(member_name) as file:
                shapes[name], dtype = _header(file, f"{where}, {shown(name, 60)}")
            if math.prod(shapes[name]) * dtype.itemsize > archive.getinfo(member_name).file_size:
                raise DataError(f"it is cut short: it should hold {shapes[name]} numbers",
                                f"{where}, {shown(name, 60)}", "write the file again")
        first, second = _two(shapes, where)
        with archive.open(names[first]) as one, archive.open(names[second]) as two:
            return _numpy(one, f"{where}, {shown(first, 60)}"), _numpy(
                two, f"{where}, {shown(second, 60)}")


def _two(shapes: dict[str, tuple[int, ...]], where: str) -> tuple[str, str]:
    """Return which array of an archive holds the pictures and which the labels."""
    labels = [n for n, s in shapes.items() if len([d for d in s if d != 1]) <= 1]
    pictures = [n for n, s in shapes.items() if len(s) in (3, 4)]
    for wanted, found in ((_PICTURE_NAMES, pictures), (_LABEL_NAMES, labels)):
        named = [n for n in found if n.lower() in wanted]
        if len(found) > 1 and len(named) == 1:
            found[:] = named
    if len(pictures) != 1 or len(labels) != 1:
        held = ", ".join(f"{shown(n, 40)} {s}" for n, s in list(shapes.items())[:8]) or "nothing"
        raise DataError(
            f"cannot tell which arrays hold the pictures and the labels: the file holds {held}",
            where, "call them pictures and labels")
    return pictures[0], labels[0]


def _header(file: IO[bytes], where: str) -> tuple[tuple[int, ...], np.dtype[Any]]:
    version = np.lib.format.read_magic(file)
    read = np.lib.format.read_array_header_1_0 if version == (
        1, 0) else np.lib.format.read_array_header_2_0
    shape, _, dtype = read(file)
    if dtype.hasobject:
        raise DataError("it holds Python objects, which could run any code when they are loaded",
                        where, "save plain numbers and text instead")
    return shape, dtype


def _numpy(file: IO[bytes], where: str) -> NDArray[Any]:
    """Read an array whose header has been checked."""
    found: NDArray[Any] = np.lib.format.read_array(file, allow_pickle=False)
    return found


def _one_array(path: Path, where: str) -> NDArray[Any]:
    if path.suffix.lower() == ".npy":
        with path.open("rb") as file:
            shape, dtype = _header(file, where)
            if math.prod(shape) * dtype.itemsize > path.stat().st_size:
                raise DataError(f"it is cut short: it should hold {shape} numbers", where,
                                "write the file again")
        mapped: NDArray[Any] = np.load(path, mmap_mode="r", allow_pickle=False)
        return mapped
    return _idx(path, where)


# -- IDX -------------------------------------------------------------------------------------------


def _idx(path: Path, where: str) -> NDArray[Any]:
    """Read the IDX format: two zero bytes, the element type, the dimensions, then big-endian
    numbers.
    """
    packed = path.suffix == ".gz"
    with gzip.open(path) if packed else path.open("rb") as file:
        zero, code, dimensions = struct.unpack(">HBB", file.read(4))
        if zero != 0 or code not in _IDX or not 1 <= dimensions <= 4:
            raise DataError("it does not begin as the IDX format does", where,
                            "give an IDX, .npy or .npz file")
        shape = struct.unpack(f">{dimensions}I", file.read(4 * dimensions))
        size = math.prod(shape) * np.dtype(_IDX[code]).itemsize
        if packed:
            check_unpacked(size, path.stat().st_size, where)
        elif size > path.stat().st_size:
            raise DataError(f"it is cut short: it should hold {shape} numbers", where,
                            "write the file again")
        content = file.read(size)
    if len(content) < size:
        raise DataError(f"it is cut short: it should hold {shape} numbers", where,
                        "write the file again")
    return np.frombuffer(content,
                         _IDX[code]).reshape(shape).astype(np.dtype(_IDX[code]).newbyteorder("="))


def _labels_beside(path: Path) -> Path | None:
    """Return the file of labels that a file of pictures is usually kept with."""
    name = path.name
    for old, new in (("images", "labels"), ("pictures", "labels"), ("inputs", "targets"),
                     ("x", "y"), ("X", "y")):
        if old in name:
            for other in (name.replace(old, new), name.replace(old, new).replace("idx3", "idx1")):
                if other != name and path.with_name(other).is_file():
                    return path.with_name(other)
    beside = path.with_name(f"{path.stem}-labels{path.suffix}")
    return beside if beside.is_file() else None


# -- PNG -------------------------------------------------------------------------------------------


def _from_folder(path: Path, on_progress: Tell, skip_bad: bool) -> tuple[Table, str]:
    """Read a folder with a sub-folder of PNG files a class, or train, validation and test
    folders of those.
    """
    where = shown(path)
    found, parted, passed_over = _files(path)
    if not found:
        raise DataError("it holds no sub-folders with PNG files", where,
                        "put the pictures of each class into a folder of its name")
    pictures: list[NDArray[Any]] = []
    kept: list[tuple[Path, str, str]] = []
    bad: list[str] = []
    for i, each in enumerate(found):
        if i % 50 == 0:
            on_progress("reading pictures", i / len(found))
        try:
            pixels = _png(each[0])
            if pictures and pixels.shape != pictures[0].shape:
                raise DataError(f"it is {_size(pixels)}; {shown(kept[0][0].name, 60)} is "
                                f"{_size(pictures[0])}", "", "")
            if not pictures:
                _channels_last(pixels[None], shown(each[0]))
        except DataError as error:
            bad.append(f"{shown(each[0].relative_to(path), 80)} ({error.what})")
            continue
        pictures.append(pixels)
        kept.append(each)
    if bad and (not skip_bad or not pictures):
        raise DataError(
            _listed(f"{count(len(bad), 'picture')} of {len(found)} cannot be used", bad), where,
            "fix or remove them, or leave them out with --skip-bad")
    if bad:
        passed_over.append(_listed(f"{count(len(bad), 'bad file')} left out", bad))
    table = _table(
        np.stack([p.astype(np.float32)
                  for p in pictures] if len({p.dtype for p in pictures}) > 1 else pictures),
        np.array([each[1] for each in kept]), where)
    if parted:
        import polars

        frame = table.rows(0, table.height).with_columns(
            polars.Series(PART, [each[2] for each in kept]))
        table = Table.of(frame, where)
    return table, "; ".join([f"folder of {count(len(kept), 'PNG file')}", *passed_over])


def _listed(what: str, names: list[str]) -> str:
    more = f" and {len(names) - MOST_LISTED} more" if len(names) > MOST_LISTED else ""
    return f"{what}: {', '.join(names[:MOST_LISTED])}{more}"


def _files(path: Path) -> tuple[list[tuple[Path, str, str]], bool, list[str]]:
    """Return all PNG files with label and part, whether parts are given, and what was passed
    over.
    """
    folders = sorted(p for p in path.iterdir() if p.is_dir() and not p.name.startswith("."))
    parted = bool(folders) and all(p.name.lower() in _PARTS for p in folders)
    classes = [(p, _PARTS[part.name.lower()])
               for part in folders
               for p in sorted(part.iterdir())
               if p.is_dir() and not p.name.startswith(".")] if parted else [(p, "")
                                                                             for p in folders]
    files, hidden, other = [], 0, 0
    empty = []
    for folder, part in classes:
        inside = sorted(folder.iterdir())
        own = [f for f in inside if f.suffix.lower() == ".png" and not f.name.startswith(".")]
        hidden += sum(f.name.startswith(".") for f in inside)
        other += sum(not f.name.startswith(".") and f.suffix.lower() != ".png" for f in inside)
        empty += [] if own else [shown(folder.name, 40)]
        files += [(file, folder.name, part) for file in own]
    said = [_listed(f"{count(len(empty), 'class folder')} without a PNG file", empty)
            ] if empty else []
    said += [f"{count(hidden, 'hidden file')} passed over"] if hidden else []
    said += [f"{count(other, 'file')} of other kinds passed over"] if other else []
    return files, parted, said


def _png(path: Path) -> NDArray[Any]:
    """Return the pixels (H, W, C) of a PNG file: bytes, or up to 65 535 where it has 16 bits."""
    from PIL import Image

    try:
        with Image.open(path, formats=("PNG",)) as image:
            if image.width * image.height * 4 > 4 * MOST_PIXELS:
                raise DataError(f"a picture of {image.height} x {image.width} is not a small one",
                                shown(path),
                                f"scale them to at most {MOST_PIXELS} pixels, channels counted")
            if image.mode.startswith("I"):
                deep: NDArray[Any] = np.asarray(image).astype(np.float32)
                return deep[..., None]
            plain = image if image.mode in ("L", "RGB", "RGBA") else image.convert(
                "RGB" if image.mode in ("P", "CMYK", "PA") else "L")
            pixels: NDArray[Any] = np.asarray(plain)
            return pixels if pixels.ndim == 3 else pixels[..., None]
    except (OSError, ValueError, SyntaxError, Image.DecompressionBombError) as error:
        if isinstance(error, PermissionError):
            raise
        raise DataError(f"cannot read this as a PNG file: {shown(error, 100)}", shown(path),
                        "fix or remove it") from None


def _size(pixels: NDArray[Any]) -> str:
    return f"{pixels.shape[0]} x {pixels.shape[1]} with {count(pixels.shape[2], 'channel')}"
