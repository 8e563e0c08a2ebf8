"""What is known of a data set as the text of its file, and back."""

from __future__ import annotations

import json
import math
from collections.abc import Mapping
from dataclasses import asdict, fields, make_dataclass
from functools import cache
from pathlib import Path
from typing import Any, get_type_hints

from axiarch.data.baseline import Baseline
from axiarch.data.dataset import RESTORE, Dataset, Fold
from axiarch.data.encoding import CODES, Code, Encoding
from axiarch.data.findings import read_finding
from axiarch.data.linear import LinearBaseline
from axiarch.data.pictures import PICTURE
from axiarch.data.target import Target
from axiarch.errors import DataError, WorkspaceError, WorkspaceMissing
from axiarch.files import read_json, typed
from axiarch.text import shown

#: The version of the description; an earlier one cannot be read.
FORMAT = 4
#: Fields of a data set that are not read as they stand in its file.
_READ_APART = frozenset({"folder", "folds", "findings"})


def as_json(dataset: Dataset) -> dict[str, Any]:
    """Return what is known of a data set, as its file holds it."""
    known = asdict(dataset)
    del known["folder"]
    known["best"] = known.pop("noise_by_loss")  # its name in the file
    for fold, written in zip(dataset.folds, known["folds"], strict=True):
        written["floor"] = written.pop("baseline")  # its name in the file
        if fold.encoding.target.measure == "loss":
            del written["encoding"]["target"]["measure"]  # as earlier versions wrote it
        written["encoding"]["codes"] = [
            {"kind": next(name for name, kind in CODES.items() if isinstance(c, kind)), **asdict(c)}
            for c in fold.encoding.codes]
    return {"format": FORMAT, **known}


def description(known: Mapping[str, Any]) -> str:
    """Return what is known of a data set as the text of its file, with a checksum of itself."""
    import xxhash

    text = json.dumps(known, ensure_ascii=False, sort_keys=True)
    # On one line: with line breaks Python writes thousands of columns ten times slower.
    return json.dumps({**known, "checksum": xxhash.xxh3_128(text.encode()).hexdigest()},
                      ensure_ascii=False)


def written_at(folder: Path) -> int:
    """Return when the data set in `folder` was written, in nanoseconds; 0 where there is none."""
    try:
        return (folder / "data.json").stat().st_mtime_ns
    except OSError:
        return 0


def read_dataset(folder: Path) -> Dataset:
    """Read what is known of the data set in `folder`.

    Raises
    ------
    WorkspaceMissing
        If there is none, or it was written by another version.
    WorkspaceError
        If its description is damaged.
    """
    try:
        known = read_json(folder / "data.json")
        if not isinstance(known, dict):
            raise ValueError("it does not describe a data set")
        if known.get("format") != FORMAT:
            raise WorkspaceMissing(
                f"the data set {shown(folder.name)!r} was written by another version",
                shown(folder), "add the data again under another name")
        digest = known.pop("checksum", "")
        if json.loads(description(known))["checksum"] != digest:
            raise ValueError("it is not what was written")
        return described(known, folder)
    except FileNotFoundError:
        raise WorkspaceMissing(f"there is no data set {shown(folder.name)!r}", shown(folder.parent),
                               "add one first") from None
    except (OSError, ValueError, KeyError, TypeError, AttributeError, DataError) as error:
        raise WorkspaceError(
            f"the description of the data set {shown(folder.name)!r} is damaged: "
            f"{shown(error, 120)}",
            shown(folder / "data.json"), RESTORE) from None


def described(known: dict[str, Any], folder: Path = Path()) -> Dataset:
    """Return the data set that :func:`as_json` described; without a folder it has no arrays.

    Raises
    ------
    ValueError, KeyError, TypeError, AttributeError
        If the description is damaged.
    """
    known = {name: value for name, value in known.items() if name != "format"}
    folds = [_fold(fold) for fold in known.pop("folds")]
    if not folds:
        raise ValueError("it has no fold")
    known["noise_by_loss"] = _by_loss(known.pop("best"), folds[0].encoding.target)
    findings = tuple(map(read_finding, known.pop("findings")))
    rest: Any = typed(known, _rest())
    made = Dataset(folder=folder, folds=tuple(folds), findings=findings,
                   **{f.name: getattr(rest, f.name) for f in fields(_rest())})
    _check_description(made)
    return made


def _by_loss(noise: dict[str, Any] | None, target: Target) -> dict[str, Any] | None:
    """Return what is known of the noise by the loss, which earlier versions wrote by what is
    lowered.
    """
    if noise is None or target.measure == "loss" or len(noise["metrics"]) < len(target.metrics):
        return noise
    level, *metrics = noise["metrics"]
    return {"loss": level, "metrics": metrics}


@cache
def _rest() -> type:
    """Return a class with the fields of a data set that are read as they stand in its file, none of
    which a file may leave out.
    """
    kinds = get_type_hints(Dataset)
    return make_dataclass("_Rest", [(f.name, kinds[f.name]) for f in fields(Dataset)
                                    if f.name not in _READ_APART], frozen=True)


def _code(known: Mapping[str, Any]) -> Code:
    values = {name: value for name, value in known.items() if name != "kind"}
    return typed(values, CODES[known["kind"]])


def _fold(known: Mapping[str, Any]) -> Fold:
    encoding, linear = known["encoding"], known["linear"]
    return Fold(Encoding(tuple(map(_code, encoding["codes"])), typed(encoding["target"], Target)),
                typed(known["rows"], dict[str, int]), typed(known["floor"], Baseline),
                typed(linear, LinearBaseline) if linear else None)


def _check_description(dataset: Dataset) -> None:
    """Raise where parts of a description do not fit each other."""
    if not {"train", "validation", "test"} <= set(dataset.rows) or min(dataset.rows.values()) < 0:
        raise ValueError("its rows are not counted")
    if not all(_fits(fold, dataset) for fold in dataset.folds):
        raise ValueError("its parts do not fit each other")
    if len(dataset.class_counts) != len(dataset.classes):
        raise ValueError("its classes are not counted")
    noise = dataset.noise_by_loss
    beside = len(dataset.target.metrics) - (dataset.target.measure != "loss")
    if noise is not None and len(noise.metrics) != beside:
        raise ValueError("the metrics of its noise do not fit its target")


def _fits(fold: Fold, dataset: Dataset) -> bool:
    """Whether a fold fits the columns of its data set and the target of the first fold."""
    names = {c.name for c in dataset.columns} | {PICTURE}
    own, first = fold.encoding.target, dataset.target
    scales = (*own.scale, *own.spread, *own.shift, *(abs(c) for c in own.centre))
    if own.task == "regression":
        target = len(own.scale) == len(own.centre) == len(
            own.columns) >= 1 and not own.classes and (len(own.spread) == len(own.shift)
                                                       and len(own.spread) in (0, len(own.columns)))
    else:
        target = len(own.classes) == len(set(own.classes)) >= 2 and len(own.columns) == 1
    same = (own.columns, own.task, own.classes) == (first.columns, first.task, first.classes)
    finite = all(map(math.isfinite, scales)) and all(s > 0 for s in (*own.scale, *own.spread))
    known = {*own.columns, *(code.name for code in fold.encoding.codes)} <= names
    measured = [fold.baseline, *([fold.linear] if fold.linear else [])]
    return (target and same and finite and known and bool(fold.encoding.codes)
            and all(fold.rows.get(part, 0) > 0 for part in ("train", "validation"))
            and all(len(each.metrics) == len(own.metrics) for each in measured))
