"""What is wrong with a training, causes before what follows from them."""

from __future__ import annotations

import math
from collections.abc import Sequence

from axiarch.insight.evidence import Evidence
from axiarch.insight.proposal import HARMLESS, Proposal, Sure
from axiarch.insight.symptoms import ending, fitting, layers, rows, steps
from axiarch.insight.symptoms.readings import Look
from axiarch.ranking.best import quantile
from axiarch.text import count, loss, number

#: What is looked for, causes before consequences.
LOOKS: tuple[Look, ...] = (
    steps.diverged, layers.single_unit, layers.vanishing, rows.target_scale, steps.rate_high,
    steps.clipped, steps.exploding, layers.saturated_units, layers.dead_units, steps.rate_low,
    fitting.too_regularised, rows.batch_large, ending.short_patience, fitting.overfits,
    ending.improving, fitting.underfits, fitting.stuck, fitting.no_skill, fitting.jumpy,
    rows.never_predicted, fitting.no_better_than_linear, fitting.easier_validation,
    layers.single_row, rows.waiting, rows.tiny_batches, ending.long_patience,
    fitting.regularisation_noise, ending.lucky_epoch)

_LEARNS_LITTLE = frozenset({"underfits", "stuck", "no_skill", "improving", "linear",
                            "never_predicted", "batch_large", "short_patience"})
#: What follows from each cause, and is not said beside it.
FOLLOWS: dict[str, frozenset[str]] = {
    "diverged": frozenset({"rate_high", "exploding", "vanishing", "dead", "saturated", "jumpy",
                           "overfits", "target_scale", "long_patience", "noise", "lucky",
                           "easier", *_LEARNS_LITTLE}),
    "single_row": frozenset({"vanishing"}),  # the gradient is measured at that step, and is 0
    "single_unit": frozenset({"vanishing", "dead", "rate_low", *_LEARNS_LITTLE}),
    "rate_high": frozenset({"dead", "saturated", "jumpy", "exploding", "long_patience", "lucky",
                            "overfits", *_LEARNS_LITTLE}),
    "target_scale": frozenset({"rate_high", "jumpy", "overfits", "exploding", "lucky", "easier",
                               "long_patience", *_LEARNS_LITTLE}),
    "clipped": frozenset({"rate_low", *_LEARNS_LITTLE}),
    "vanishing": frozenset({"rate_high", "rate_low", "dead", "saturated", "exploding", "jumpy",
                            *_LEARNS_LITTLE}),
    "saturated": frozenset({"dead", "rate_low", "easier", "lucky", *_LEARNS_LITTLE}),
    "dead": frozenset({"rate_low", "jumpy", "easier", "lucky", *_LEARNS_LITTLE}),
    "rate_low": _LEARNS_LITTLE,
    "too_regularised": _LEARNS_LITTLE | {"long_patience", "dead", "tiny_batches"},
    "batch_large": _LEARNS_LITTLE - {"batch_large"},
    "short_patience": _LEARNS_LITTLE - {"short_patience"},
    "underfits": frozenset({"linear", "stuck", "no_skill", "never_predicted"}),
    "stuck": frozenset({"linear", "never_predicted", "long_patience", "improving"}),
    "no_skill": frozenset({"linear", "never_predicted", "jumpy", "long_patience", "lucky"}),
    "overfits": frozenset({"no_skill", "jumpy", "long_patience", "lucky"}),
    "improving": frozenset({"linear", "never_predicted", "underfits", "stuck", "no_skill"}),
    "linear": frozenset({"long_patience"}),
}

#: Runs, or folds, of a recipe from which one is called an outlier, how often one is without reason,
#: and how far it lies from the others at the least, as a share of the loss.
_RUNS, _OFTEN, _SHARE = 4, 0.02, 0.1


def diagnose(evidence: Evidence) -> tuple[Proposal, ...]:
    """Return what is found in a run, causes first; what follows from one is left out."""
    if not evidence.epochs:
        return ()
    found = [p for look in LOOKS if (p := look(evidence)) is not None]
    return _causes(found)


def _causes(found: Sequence[Proposal]) -> tuple[Proposal, ...]:
    """Leave out what follows from something else that is found: it explains nothing itself."""
    implied = frozenset().union(*(FOLLOWS.get(p.name, frozenset()) for p in found))
    return tuple(p for p in found if p.name not in implied) or tuple(found[:1])


def diagnose_runs(each: Sequence[Evidence]) -> tuple[Proposal, ...]:
    """Return what is found in the runs of a recipe: what shows in at least half of them, by the
    first run that shows it and what is harmless last, then runs that differ from the others.
    """
    found: dict[str, list[Proposal]] = {}
    for evidence in each:
        for proposal in diagnose(evidence):
            found.setdefault(proposal.name, []).append(proposal)
    kept = [own[0] for own in found.values() if 2 * len(own) >= len(each)]
    order = {name: i for i, name in enumerate(found)}
    kept.sort(key=lambda p: (p.name in HARMLESS, order[p.name]))
    outlier = _outlier(each)
    return (*_causes(kept), *([outlier] if outlier else []))


def _outlier(each: Sequence[Evidence]) -> Proposal | None:
    """Return that a fold, or one run, came to something else than the others."""
    known = [e for e in each if math.isfinite(e.level)]
    folds: dict[int, list[float]] = {}
    for e in known:
        folds.setdefault(e.fold, []).append(e.level)
    means = {fold: math.fsum(own) / len(own) for fold, own in folds.items()}
    for fold, mean in means.items():
        others = [level for other, level in means.items() if other != fold]
        if _apart(mean, others) and _all_away(folds[fold], others):
            runs = f" ({count(len(folds[fold]), 'run')})" if len(known) > len(folds) else ""
            return _differs(f"fold {fold + 1}", f"Fold {fold + 1} came to {loss(mean)}{runs}",
                            mean, others)
    for place, e in enumerate(known):
        others = [other.level for i, other in enumerate(known) if i != place]
        if _apart(e.level, others):
            name = e.name or f"run {each.index(e) + 1}"
            return _differs("one run", f"{name[0].upper()}{name[1:]} of "
                            f"{count(len(each), 'run')} came to {loss(e.level)}", e.level, others)
    return None


def _deviations(level: float, others: Sequence[float]) -> float:
    """Return how far a level lies from the mean of others, in standard deviations of a level that
    is one of theirs.
    """
    mean, size = math.fsum(others) / len(others), len(others)
    variance = math.fsum((v - mean) ** 2 for v in others) / (size - 1)
    return (level - mean) / max(math.sqrt(variance * (1 + 1 / size)), 1e-12 * abs(mean), 1e-300)


def _apart(level: float, others: Sequence[float]) -> bool:
    """Say whether a level lies farther from others than chance alone sends any of them in 98 % of
    all cases (Grubbs 1950), and by enough to matter.
    """
    if len(others) < _RUNS - 1 or not _all_away([level], others):
        return False
    usual = quantile(len(others) - 1.0, _OFTEN / 2 / (len(others) + 1))
    return abs(_deviations(level, others)) > usual


def _all_away(levels: Sequence[float], others: Sequence[float]) -> bool:
    """Say whether levels are all above the mean of others, or all below, by enough to matter."""
    mean = math.fsum(others) / len(others)
    away = [(level - mean) / max(mean, 1e-300) for level in levels]
    return min(away) > _SHARE or max(away) < -_SHARE


def _differs(what: str, came: str, level: float, others: Sequence[float]) -> Proposal:
    mean = math.fsum(others) / len(others)
    return Proposal("outlier", f"{what} differs from the others",
                    f"{came}, the others to {loss(mean)} on average: "
                    f"{number(abs(_deviations(level, others)), 2)} of their standard deviations.",
                    Sure.LIKELY)
