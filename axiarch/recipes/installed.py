"""Members that installed Python packages bring: activations, losses, optimisers and schedules of a
user's own.

A package names them in its entry-point group ``axiarch.members``. Each is known by its name with
the version of its package and a digest of the package's sources behind it (``mish_1_0_3fa9c2d1``),
so that recipes, journals, checkpoints, models and exports never mix two versions. Where only the
plain name is given, the installed one is meant. Only packages that are installed are looked at:
nothing is loaded from a workspace or from the working directory.
"""

from __future__ import annotations

import hashlib
import importlib.util
import os
import re
import sys
from collections.abc import Callable, Mapping, Sequence
from contextlib import contextmanager, redirect_stdout
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any, ClassVar, TypeVar

from axiarch.errors import TrainingError

GROUP = "axiarch.members"
#: Values of a recipe that an optimiser may be given.
OPTIMISER_VALUES = ("momentum", "beta1", "beta2", "rho", "epsilon")
#: Values of a recipe that a schedule may be given.
SCHEDULE_VALUES = ("rate_decay", "step_epochs", "decay", "power", "final_fraction", "period",
                   "period_growth", "peak_fraction")
#: Numbers that an optimiser may keep of each weight.
MOST_STATES = 3
#: A name: no word of it begins with a digit, so that the version behind it is known from it.
_PLAIN = r"[a-z][a-z0-9]*(?:_[a-z][a-z0-9]*)*"
_NAME, _MOST_NAME = re.compile(_PLAIN), 31
#: A name with version and digest.
_FULL = re.compile(rf"({_PLAIN})_\d\w*_[0-9a-f]{{8}}", re.ASCII)


@dataclass(frozen=True)
class Member:
    """What all members say of themselves.

    Attributes
    ----------
    name : str
        Lower-case words joined by underscores; digits may follow letters.
    formula, source : str
        What it computes, and where that was published.
    """

    name: str
    formula: str
    source: str
    kind: ClassVar[str] = ""

    def fault(self) -> str:
        """Return what is wrong with it, if anything."""
        if not isinstance(self.name, str) or len(
                self.name) > _MOST_NAME or not _NAME.fullmatch(self.name):
            return ("its name is not made of lower-case words joined by underscores, each "
                    "beginning with a letter")
        if not all(isinstance(text, str) and text.strip() for text in (self.formula, self.source)):
            return "it names no formula, or no source"
        return ""


@dataclass(frozen=True)
class Activation(Member):
    """A curve that hidden units bend their sums by.

    Attributes
    ----------
    curve, slope : callable
        From a sum to what goes out, and to the derivative there; plain Python on single numbers and
        ``math``.
    initialisation : {"he", "glorot", "lecun"}
        What ``auto`` draws the first weights by.
    """

    curve: Callable[[float], float]
    slope: Callable[[float], float]
    initialisation: str = "he"
    kind: ClassVar[str] = "activation"

    def fault(self) -> str:
        """Return what is wrong with it, if anything."""
        if self.initialisation not in ("he", "glorot", "lecun"):
            return "its initialisation is none of he, glorot, lecun"
        return super().fault() or _takes(self.curve, 1, "curve") or _takes(self.slope, 1, "slope")


@dataclass(frozen=True)
class Loss(Member):
    """What amounts are trained by.

    Attributes
    ----------
    value, slope : callable
        From a difference, predicted less true in spreads of the target, to its loss and the
        derivative of that.
    """

    value: Callable[[float], float]
    slope: Callable[[float], float]
    kind: ClassVar[str] = "loss"

    def fault(self) -> str:
        """Return what is wrong with it, if anything."""
        return super().fault() or _takes(self.value, 1, "value") or _takes(self.slope, 1, "slope")


@dataclass(frozen=True)
class Optimiser(Member):
    """A rule that turns gradients into steps, each weight by itself.

    Attributes
    ----------
    step : callable
        ``step(w, g, s, t, rate, *values)`` returns the new weight and the new state. `s` is a tuple
        of :data:`MOST_STATES` numbers, zero at first; `t` counts steps from 1; `values` are those
        of `uses`. L2 is in `g`, decoupled decay is taken off afterwards.
    uses : tuple of str
        Values of the recipe: of :data:`OPTIMISER_VALUES`.
    highest_rate : float
        Learning rates above it diverge on most tasks.
    """

    step: Callable[..., tuple[float, tuple[float, float, float]]]
    uses: tuple[str, ...] = ()
    highest_rate: float = 1.0
    kind: ClassVar[str] = "optimiser"

    def fault(self) -> str:
        """Return what is wrong with it, if anything."""
        return (super().fault() or _known(self.uses, OPTIMISER_VALUES)
                or _takes(self.step, 5 + len(self.uses), "step"))


@dataclass(frozen=True)
class Schedule(Member):
    """How the learning rate moves.

    Attributes
    ----------
    factor : callable
        ``factor(epochs, last, *values)`` returns the factors (T,) on the rate at so many `epochs`
        (T,), fractions included, since the schedule began, of `last` in all; `values` are those of
        `uses`.
    uses : tuple of str
        Values of the recipe: of :data:`SCHEDULE_VALUES`.
    """

    factor: Callable[..., Any]
    uses: tuple[str, ...] = ()
    kind: ClassVar[str] = "schedule"

    def fault(self) -> str:
        """Return what is wrong with it, if anything."""
        return (super().fault() or _known(self.uses, SCHEDULE_VALUES)
                or _takes(self.factor, 2 + len(self.uses), "factor"))


def _known(uses: Sequence[str], values: Sequence[str]) -> str:
    wrong = [each for each in uses if each not in values]
    return f"it uses {wrong[0]!r}, which is none of {', '.join(values)}" if wrong else ""


def _takes(function: object, count: int, name: str) -> str:
    """Return what is wrong with a function of `count` arguments, if anything."""
    import inspect

    if not callable(function):
        return f"its {name} cannot be called"
    try:
        inspect.signature(function).bind(*range(count))
    except (TypeError, ValueError):
        return f"its {name} does not take {count} arguments"
    return ""


@dataclass(frozen=True)
class Installed:
    """A member with the package it comes from.

    Attributes
    ----------
    member : Member
    package, version, digest : str
        The digest is of the sources of the package, in sixteen hexadecimal digits.
    """

    member: Member
    package: str
    version: str
    digest: str

    @property
    def name(self) -> str:
        """What recipes call it: its own name, the version, and the first half of the digest."""
        version = re.sub(r"\W+", "_", self.version, flags=re.ASCII).strip("_")
        return f"{self.member.name}_{version}_{self.digest[:8]}"


@dataclass(frozen=True)
class Refused:
    """An entry of a package that cannot be used, and why."""

    entry: str
    package: str
    why: str


@cache
def _loaded() -> tuple[tuple[Installed, ...], tuple[Refused, ...]]:
    """Load what installed packages bring; what is wrong with one of them is kept, and stops
    nothing.
    """
    from importlib import metadata

    found: list[Installed] = []
    refused: list[Refused] = []
    for dist in metadata.distributions(path=_places()):
        for entry in dist.entry_points.select(group=GROUP):
            package = str(dist.metadata["Name"])
            try:
                with _without_here(), redirect_stdout(
                        sys.stderr):  # what we print may be read by a program
                    member, digest = entry.load(), _digest(entry.module)
                why = member.fault() if isinstance(member, Member) else (
                    "it is neither an Activation, a Loss, an Optimiser nor a Schedule")
            except (Exception,
                    SystemExit) as error:  # whatever somebody's package does when it is loaded
                why = f"{type(error).__name__}: {error}"
            if not why and any(each.member.name == member.name for each in found):
                why = f"another package has a member called {member.name}"
            if why:
                refused.append(Refused(entry.name, package, why))
            else:
                found.append(Installed(member, package, dist.version, digest))
    return tuple(found), tuple(refused)


def installed() -> tuple[Installed, ...]:
    """Return all members that installed packages bring."""
    return _loaded()[0]


def refused() -> tuple[Refused, ...]:
    """Return the entries that cannot be used."""
    return _loaded()[1]


_M = TypeVar("_M", bound=Member)


def of_kind(kind: type[_M]) -> Mapping[str, _M]:
    """Return the members of a kind, by what recipes call them."""
    return {each.name: each.member for each in installed() if isinstance(each.member, kind)}


def full_name(kind: str, word: str) -> str:
    """Return what recipes call a member: the installed one where `word` is a plain name; else
    the word itself.
    """
    return next(
        (each.name for each in installed() if (each.member.kind, each.member.name) == (kind, word)),
        word)


def is_full(word: str) -> bool:
    """Say whether a word has version and digest behind it: it names a member of a package,
    installed or not.
    """
    return bool(_FULL.fullmatch(word))


def absent(kind: str, name: str) -> TrainingError:
    """Return the error of a member that a recipe names and that is not installed."""
    known = _FULL.fullmatch(name)
    plain = known[1] if known else name
    own = next(
        (each for each in installed() if (each.member.kind, each.member.name) == (kind, plain)),
        None)
    if own is not None:
        return TrainingError(
            f"the recipe names {kind} {name}; installed is another one, {own.name}",
            f"package {own.package} {own.version}",
            "install the version that the recipe names, or start a new search with this one")
    return TrainingError(
        f"the {kind} {name} is not installed", "",
        f"install the package that brings {plain}, in the version that stands behind its name")


def wanted(names: Mapping[str, str]) -> list[Installed]:
    """Return members by what recipes call them, each name with the kind it is to be of.

    Raises
    ------
    TrainingError
        If one is not installed.
    """
    known = {(each.name, each.member.kind): each for each in installed()}
    for name, kind in names.items():
        if (name, kind) not in known:
            raise absent(kind, name)
    return [known[name, kind] for name, kind in names.items()]


def _places() -> list[str]:
    """Return the folders that packages are installed in: those of the module path, without the
    working directory.
    """
    here = Path.cwd().resolve()
    return [place for place in sys.path if place and Path(place).resolve() != here]


@contextmanager
def _without_here() -> Any:
    """Let modules be found in the folders of packages alone."""
    before = sys.path[:]
    sys.path[:] = _places()
    try:
        yield
    finally:
        sys.path[:] = before


def _digest(module: str) -> str:
    """Return a digest of the sources of a module's package."""
    spec = importlib.util.find_spec(module.partition(".")[0])
    if spec is None or spec.origin is None:
        raise ImportError(f"{module} has no source files")
    root = Path(spec.origin)
    files = sorted(root.parent.rglob("*.py")) if root.name == "__init__.py" else [root]
    digest = hashlib.sha256()
    for path in files:
        digest.update(
            os.fspath(path.relative_to(root.parent)).encode() + b"\0" + path.read_bytes() + b"\0")
    return digest.hexdigest()[:16]
