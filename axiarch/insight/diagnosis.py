"""What is wrong with a training, causes before what follows from them."""

from __future__ import annotations

import math
from collections.abc import Sequence

from axiarch.insight import symptoms
from axiarch.insight.evidence import Evidence
from axiarch.insight.proposal import Proposal, Sure
from axiarch.text import count, loss, number

#: What is looked for, causes before consequences.
LOOKS: tuple[symptoms.Look, ...] = (
    symptoms.diverged, symptoms.single_unit, symptoms.vanishing, symptoms.target_scale,
    symptoms.rate_high,
    symptoms.clipped, symptoms.exploding, symptoms.saturated_units, symptoms.dead_units,
    symptoms.rate_low, symptoms.too_regularised, symptoms.batch_large, symptoms.short_patience,
    symptoms.overfits, symptoms.improving, symptoms.underfits, symptoms.stuck, symptoms.jumpy,
    symptoms.never_predicted, symptoms.no_better_than_linear,
    symptoms.easier_validation, symptoms.waiting, symptoms.tiny_batches, symptoms.long_patience,
    symptoms.regularisation_noise, symptoms.lucky_epoch)

_LEARNS_LITTLE = frozenset({"underfits", "stuck", "improving", "linear", "never_predicted",
                            "batch_large", "short_patience"})
#: What follows from each cause, and is not said beside it.
FOLLOWS: dict[str, frozenset[str]] = {
    "diverged": frozenset({"rate_high", "exploding", "vanishing", "dead", "saturated", "jumpy",
                           "overfits", "target_scale", "long_patience", "noise", "lucky",
                           "easier", *_LEARNS_LITTLE}),
    "single_unit": frozenset({"vanishing", "dead", "rate_low", *_LEARNS_LITTLE}),
    "rate_high": frozenset({"dead", "saturated", "jumpy", "exploding", "long_patience", "lucky",
                            "overfits", *_LEARNS_LITTLE}),
    "target_scale": frozenset({"rate_high", "jumpy", "overfits", "exploding", "lucky",
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
    "underfits": frozenset({"linear", "stuck", "never_predicted"}),
    "stuck": frozenset({"linear", "never_predicted", "long_patience", "improving"}),
    "overfits": frozenset({"jumpy", "long_patience", "lucky"}),
    "improving": frozenset({"linear", "never_predicted", "underfits", "stuck"}),
    "linear": frozenset({"long_patience"}),
}

#: Runs of a recipe from which one is called an outlier, and how far it lies from the others'
#: median, in median absolute deviations and as a share of the loss.
_RUNS, _FAR, _SHARE = 4, 6.0, 0.1


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
    first run that shows it, then runs that differ from the others.
    """
    found: dict[str, list[Proposal]] = {}
    for evidence in each:
        for proposal in diagnose(evidence):
            found.setdefault(proposal.name, []).append(proposal)
    kept = [own[0] for own in found.values() if 2 * len(own) >= len(each)]
    order = {name: i for i, name in enumerate(found)}
    kept.sort(key=lambda p: order[p.name])
    outlier = _outlier(each)
    return (*_causes(kept), *([outlier] if outlier else []))


def _outlier(each: Sequence[Evidence]) -> Proposal | None:
    """Return that one run came to something else than the others."""
    levels = sorted((e.level, i) for i, e in enumerate(each) if math.isfinite(e.level))
    if len(levels) < _RUNS:
        return None
    values = [level for level, _ in levels]
    median = values[len(values) // 2]
    deviation = sorted(abs(v - median) for v in values)[len(values) // 2]
    far, place = max((abs(level - median), i) for level, i in levels)
    if far < _FAR * max(deviation, 1e-12) or far < _SHARE * median:
        return None
    return Proposal("outlier", "one run differs from the others",
                    f"Run {place + 1} of {count(len(each), 'run')} came to "
                    f"{loss(each[place].level)}, where their median is {loss(median)}: "
                    f"{number(far / max(deviation, 1e-12), 2)} times the usual deviation.",
                    Sure.POSSIBLE)
