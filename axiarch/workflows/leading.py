"""Who leads a search, by how much and how surely, in plain sentences."""

from __future__ import annotations

import math
from dataclasses import replace

from axiarch.insight.evidence import HEAVY, TAILED_ROWS, worst_share
from axiarch.ranking.rank import Difference, Ranked, Ranking
from axiarch.runs.curve import Curve
from axiarch.runs.lowered import name_of
from axiarch.runs.steady import steady
from axiarch.text import count, duration, loss, number, share, shown
from axiarch.workflows.snapshot import Snapshot


def ranking_verdict(s: Snapshot) -> str:
    """Say who leads, by how much over the base recipe and the baseline, and who is tied."""
    rows = s.ranking.rows
    if not rows:
        if s.ranking.broken:
            return (f"No recipe has a result: all runs of {count(len(s.ranking.broken), 'recipe')} "
                    "diverged or failed.")
        return "No run has ended yet."
    first = rows[0]
    if s.dataset.plan.split.all_open:
        return (
            f"Trained on training and validation rows together for {number(first.epoch, 3)} "
            "epochs: no loss here says how good it is. Open the seal to score it once on the test "
            "rows.")
    lead = _lead(s)
    broken = len(s.ranking.broken)
    none = (f" {count(broken, 'recipe')} {'has' if broken == 1 else 'have'} no "
            "result.") if broken else ""
    return (f"{lead}{_continued(s)}{_ahead(s)}{_confirmed(first)}{_elsewhere(s)}{_advice(s)} "
            f"{_against_base(s)}{_optimism(s)}{none}")


def _continued(s: Snapshot) -> str:
    """Say what more epochs brought, of a training that continues another one, and why it ended."""
    run = s.runs_of(s.ranking.rows[0].recipe)[0]
    curve = s.curves.get(run.id, Curve())
    if s.file.start is None or not 0 < run.start < len(curve):
        return ""
    before, more = steady(curve.validation[:run.start])[1], len(curve) - run.start
    gained = before - curve.steady
    brought = f"lowered it by {number(gained, 2)}" if gained > 0 else "did not lower it"
    end = f". It ended: {shown(run.text)}" if run.text else ""
    return (f" It continues a training that stood at {loss(before)} after "
            f"{count(run.start, 'epoch')}: {count(more, 'more epoch')} {brought}, on this one "
            f"seed{end}.")


def _ahead(s: Snapshot) -> str:
    """Say, while a search runs, which recipe is lower before its end than the leader at its own."""
    early = min(s.ranking.partial, key=lambda p: p.loss, default=None)
    if s.over or early is None or early.loss >= s.ranking.rows[0].loss:
        return ""
    return (f" Recipe {early.recipe} is lower already: {loss(early.loss)} after "
            f"{count(early.epochs, 'epoch')}.")


def _lead(s: Snapshot) -> str:
    """Say which recipe leads, how sure its loss is, and which others may be as good."""
    first = s.ranking.rows[0]
    word, alone = name_of(s.dataset.target.measure), len(s.ranking.rows) == 1
    if s.ranking.evidence is None and alone:
        return (f"Recipe {first.recipe} comes to {loss(first.loss)}; with one seed its uncertainty "
                "is unknown.")
    if s.ranking.evidence is None:
        return (f"Recipe {first.recipe} has the lowest {word}, {loss(first.loss)}; with one seed "
                "per recipe the uncertainty is unknown.")
    by = "" if word == "loss" else f" by {word}"
    verb = "comes to" if alone and s.over else f"leads{by} at"
    lead = (f"Recipe {first.recipe} {verb} {loss(first.loss)}{interval(s, first)}."
            f"{ruled_by_few(s, first.recipe)}{_without_result(first)}")
    if alone:
        return f"{lead} No other recipe has a result yet." if not s.over else lead
    return f"{lead} {groups(s.ranking)}"


def groups(ranking: Ranking) -> str:
    """Say which recipes may be as good as the leader; the ranking has at least two."""
    tied, open_ = len(ranking.tied) - 1, len(ranking.open)
    if not tied and not open_:
        return "It stands apart from all others."
    words = [f"{count(tied, 'other')} {'is' if tied == 1 else 'are'} tied with it"] if tied else []
    if open_:
        many = f"{number(open_)} more" if tied else count(open_, "other")
        words.append(f"{many}, with fewer runs, {'is' if open_ == 1 else 'are'} not ruled out")
    return f"{', and '.join(words)}."


def ruled_by_few(s: Snapshot, recipe: int) -> str:
    """Say of a root mean squared error that a few rows make most of it, where they do."""
    each = [worst_share(s.rows[run.id].values) for run in s.runs_of(recipe)
            if run.id in s.rows and len(s.rows[run.id].values) >= TAILED_ROWS]
    part = math.fsum(each) / len(each) if each else 0.0
    if not s.dataset.target.root or part < HEAVY:
        return ""
    return (f" A few rows rule it: the worst hundredth has {share(part)} of the squared error, so "
            "that other rows may differ by more.")


def _without_result(row: Ranked) -> str:
    """Say that a loss rests only on the runs that reached their end."""
    if not row.failed:
        return ""
    return (f" Of its {count(row.repeats + row.failed, 'run')}, {number(row.failed)} diverged or "
            "failed: its loss is that of the others.")


def interval(s: Snapshot, row: Ranked) -> str:
    """Return the interval of a recipe's level in words, both doubts apart."""
    if row.half_width is None or row.seeds_half is None:
        return ", its uncertainty unknown"
    runs = count(row.repeats, "run" if len(s.dataset.folds) > 1 else "seed")
    if row.rows_half is None:
        return f" ± {row.seeds_half:.2g} (95 %, {runs}; what the rows add is unknown)"
    rows = number(s.dataset.rows["validation"]) if len(s.dataset.folds) == 1 else (
        number(sum(fold.rows["validation"] for fold in s.dataset.folds)))
    return (f" ± {row.half_width:.2g} (95 %; ± {row.seeds_half:.2g} over {runs}, "
            f"± {row.rows_half:.2g} with these {rows} rows)")


def _confirmed(row: Ranked) -> str:
    """Say what the leader came to on seeds that chose nothing."""
    if row.confirmed is None:
        return ""
    level, half, runs = row.confirmed
    return f" Confirmed: {loss(level)} ± {half:.2g} on {count(runs, 'fresh run')}."


def _advice(s: Snapshot) -> str:
    """Say what it would take to conclude more."""
    advice = s.ranking.advice
    if advice is None or not s.over:
        return ""
    if not advice.recipes:
        return " More seeds would not tell them apart: more validation rows might."
    seconds = advice.seeds * sum(row.seconds for row in s.ranking.rows
                                 if row.recipe in advice.recipes)
    return (f" About {count(advice.seeds, 'more seed')} for {count(len(advice.recipes), 'recipe')} "
            f"({duration(seconds)} of training) would tell more: +.")


def _elsewhere(s: Snapshot) -> str:
    """Say what is to be known of recipes that were trained elsewhere."""
    found = sum(bool(s.recipes[row.recipe].origin) for row in s.ranking.rows)
    if not found:
        return ""
    return (
        f" {count(found, 'recipe')} trained elsewhere: "
        f"{'its losses are' if found == 1 else 'their losses are'} as given, not checked here.")


def _optimism(s: Snapshot) -> str:
    """Say how much too low the leader's loss is expected to be, where that is worth saying."""
    found, half = s.ranking.optimism, s.ranking.rows[0].half_width
    if found is None or half is None or found < 0.1 * half:
        return ""
    return (f" Expect about {number(found, 2)} worse on new data: the best of many looks better "
            "than it is.")


def _against_base(s: Snapshot) -> str:
    first = s.ranking.rows[0]
    beaten = _beaten(s)
    base = next((r for r in s.ranking.rows if s.recipes[r.recipe].recipe == s.file.space.base
                 and not s.recipes[r.recipe].origin), None)
    if base is None:
        return beaten
    if base.recipe == first.recipe:
        return f"It is the base recipe. {beaten}"
    found = s.ranking.gain_over(base.recipe)
    return f"{_against(s, found, first.recipe, base.recipe, 'the base recipe')} {beaten}"


def against(s: Snapshot, one: int, other: int) -> str:
    """Say by how much a recipe is better than another, paired over rows and seeds, and what it
    costs beside it.
    """
    found = s.ranking.difference(one, other)
    if found is not None and not (one == s.ranking.rows[0].recipe and s.ranking.leads(other)):
        found = replace(found, least=-math.inf)  # a one-sided claim is the leader's alone
    return _against(s, found, one, other, f"recipe {other}")


def _against(s: Snapshot, found: Difference | None, one: int, other: int, name: str) -> str:
    rows = {row.recipe: row for row in s.ranking.rows}
    if found is None or not {one, other} <= set(rows):
        return f"It is not known how it compares with {name}."
    low, high = found.better - found.half_width, found.better + found.half_width
    size = abs(found.better)
    span_ = f"95 %: {number(low, 2)} to {number(high, 2)}"
    if found.better > 0 and not found.sure and found.least > 0:
        span_ = f"95 %: at least {number(found.least, 2)}"
    elif not found.sure:
        return f"It is not clearly better than {name}: by {number(found.better, 2)} ({span_})."
    times = rows[one].seconds / rows[other].seconds if rows[other].seconds > 0 else 1.0
    cost = f", {times:.2g} times the time" if times >= 1.1 or times <= 0.9 else ""
    if found.better < 0:
        span_ = f"95 %: {number(-high, 2)} to {number(-low, 2)}"
    word = "better" if found.better > 0 else "worse"
    return f"It is {number(size, 2)} {word} than {name} ({span_}){cost}."


def _beaten(s: Snapshot) -> str:
    """Say what the leader is better than, only where that stands apart, and the noise floor."""
    known = {"baseline": s.dataset.baseline.loss}
    if s.dataset.linear is not None:
        known["linear model"] = s.dataset.linear.loss
    better, unknown, worse = [], [], []
    first, optimism = s.ranking.rows[0], s.ranking.optimism or 0.0
    for name, level in known.items():
        claim = s.skill.get(name)
        text = f"the {name} ({loss(level)})"
        if claim is not None and claim.verdict == "better":
            better.append(f"{text} by {number(-claim.difference, 2)} ± {claim.half_width:.2g}")
        elif claim is not None and claim.verdict == "worse":
            worse.append(f"{text} by {number(claim.difference, 2)} ± {claim.half_width:.2g}")
        elif claim is None and level - first.loss - optimism > (first.half_width or math.inf):
            better.append(text)  # by more than the whole interval, pairs or not
        else:
            unknown.append(text)
    alone = any(claim.one_run for claim in s.skill.values())
    it, words = "Its one run" if alone else "It", []
    if better:
        words.append(f"{it} is better than {' and '.join(better)}.")
    if worse:
        words.append(f"{it} is worse than {' and '.join(worse)}.")
    if unknown and s.ranking.evidence is None and not alone:
        words.append(f"Whether it is better than {' or '.join(unknown)} is not known from one "
                     "seed.")
    elif unknown:
        words.append(f"{it} is not clearly better or worse than {' or '.join(unknown)}.")
    if alone:
        words.append("Other seeds may differ.")
    left = max((claim.left_out for claim in s.skill.values()), default=0)
    if left:
        also = "stands" if left == 1 else "stand"
        words.append(f"{count(left, 'validation row')} that also {also} in the training part "
                     f"{'is' if left == 1 else 'are'} left out of this.")
    if s.dataset.noise_floor:
        words.append(f"The noise of the data leaves {loss(s.dataset.noise_floor.loss)}.")
    return " ".join(words)
