"""What the command line prints of data sets and searches: plain lines for people, JSON for
programs.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence
from dataclasses import asdict
from typing import TYPE_CHECKING, Any

from rich.cells import set_cell_size

from axiarch.cli.saying import say
from axiarch.data.baseline import Baseline
from axiarch.data.dataset import Dataset
from axiarch.data.findings import grave
from axiarch.insight.forecast import Forecast
from axiarch.journal.records import OpeningRecord
from axiarch.ranking.rank import STANDING_WORDS
from axiarch.runs.lowered import name_of
from axiarch.text import (
    count,
    loss,
    measured,
    memory,
    moment,
    number,
    share,
    shown,
    span,
    time_left,
)
from axiarch.workflows.deciding import data_proposals, proposal_lines
from axiarch.workflows.snapshot import Snapshot

if TYPE_CHECKING:
    from axiarch.workflows.unsealing import TestScore

#: Columns of a table that are printed; of more there is a summary.
MOST_COLUMNS = 60


# -- data ------------------------------------------------------------------------------------------


def data_json(data: Dataset, openings: int = 0) -> dict[str, Any]:
    """Return what is known of a data set, for JSON."""
    t = data.target
    known: dict[str, Any] = {
        "name": data.name,
        "fingerprint": data.fingerprint,
        "rows": data.rows,
        "inputs": data.inputs,
        "picture": list(data.encoding.picture) if data.encoding.picture else None,
        "task": t.task,
        "targets": list(t.columns),
        "outputs": t.outputs,
        "loss": t.loss_name,
        "classes": list(data.classes),
        "class_counts": dict(zip(data.classes, data.class_counts, strict=True)),
        "folds": [fold.rows for fold in data.folds] if len(data.folds) > 1 else None,
        "rows_without_target": data.rows.get("without target", 0),
        "baseline": baseline_json(data, data.baseline),
        "linear": baseline_json(data, data.linear),
        "times_opened": openings,
        "linear_ridge": data.linear.ridge if data.linear else None,
        "noise": baseline_json(data, data.noise_floor),
        "read_as": data.how,
        "findings": _findings_json(data),
        "columns": [{
            "name": c.name, "kind": c.kind, "role": c.role, "reason": c.reason,
            "missing": c.missing, "distinct": c.distinct, "lowest": c.low, "highest": c.high,
            "median": c.middle
        } for c in data.columns],
    }
    return known


def _findings_json(data: Dataset) -> list[dict[str, Any]]:
    """Return what the checks found, for JSON; changes by the number that ``data change`` takes."""
    numbers, found = itertools.count(1), []
    for finding, proposal in zip(data.findings, data_proposals(data), strict=True):
        found.append({
            "kind": finding.name, "column": finding.column, "evidence": finding.evidence,
            "remedy": finding.advice, "grave": grave(finding), "sure": str(finding.sure),
            "changes": [{"number": next(numbers), **asdict(each)} for each in proposal.changes]})
    return found


def baseline_json(data: Dataset, baseline: Baseline | None) -> dict[str, float] | None:
    """Return a baseline with its metrics by name, for JSON."""
    return {"loss": baseline.loss, **dict(zip(data.target.metrics, baseline.metrics, strict=True))
            } if baseline else None


def seal_text(openings: int) -> str:
    """Say whether test rows are still sealed."""
    return f"opened {count(openings, 'time')}" if openings else "sealed"


def print_data(data: Dataset, openings: int = 0) -> None:
    """Print what is known of a data set; `openings` is how often its seal was opened."""
    rows, t = data.rows, data.target
    what = f"{count(len(data.classes), 'class', 'classes')} of " if data.classes else "amounts of "
    say(f"{shown(data.name)}: {count(data.height, 'row')}, {count(data.inputs, 'input')}, {what}"
          f"{shown(t.name)} ({t.task})")
    part = f" of {number(rows['train'] + rows['left out'])}" if rows.get("left out") else ""
    folds = f", the first of {len(data.folds)} folds" if len(data.folds) > 1 else ""
    say(f"  parts    {number(rows['train'])}{part} training, {number(rows['validation'])} "
        f"validation{folds}, {number(rows['test'])} test ({seal_text(openings)})")
    without = rows.get("without target", 0)
    if without:
        say(f"          {count(without, 'row')} without a value of {shown(t.name)} left out")
    trivial = "from the class shares alone" if data.classes else (
        "from the mean (RMSE) and the median (mean absolute error) of the training rows alone")
    linear = "from a linear model"
    if data.linear:
        linear += f", ridge {number(data.linear.ridge)} chosen on folds of the training rows"
    for name, baseline, why in (("baseline", data.baseline, trivial), ("linear", data.linear,
                                                                       linear),
                                ("noise", data.noise_floor,
                                 "from the rule behind the data, which is noisy")):
        if baseline:
            say(f"  {name:<9}{floor_text(data, baseline)} {why}")
    if data.how:
        say(f"  read as  {data.how}")
    for finding in data.findings:
        about = f" in {shown(finding.column, 40)}" if finding.column else ""
        say(f"  {'!' if grave(finding) else 'note':<9}{finding.name}{about}: {finding.evidence}; "
            f"{finding.advice}")
    changes = proposal_lines(data_proposals(data), data)
    if changes:
        say("  Proposed changes; make one with: axiarch data change NUMBER")
        for line in changes:
            say(f"    {line}")
    columns = sorted(data.columns, key=lambda c: ("target", "input", "ignored").index(c.role))
    for column in columns[:MOST_COLUMNS] if len(columns) > MOST_COLUMNS else data.columns:
        gaps = f", {share(column.missing / column.rows)} missing" if column.missing else ""
        say(f"  {column.role:<8}{set_cell_size(shown(column.name, 40), 41)}{column.reason}{gaps}")
    if len(columns) > MOST_COLUMNS:
        by_role = {role: sum(c.role == role for c in columns) for role in ("input", "ignored")}
        say(f"  … and {number(len(columns) - MOST_COLUMNS)} more of {number(len(columns))} "
            f"columns: {number(by_role['input'])} inputs, {number(by_role['ignored'])} ignored; "
            "--json lists all"
            )


def floor_text(data: Dataset, baseline: Baseline) -> str:
    """Return a baseline with its unit and its metrics."""
    t = data.target
    metrics = ", ".join(f"{shown(name)} {measured(name, value)}"
                        for name, value in zip(t.metrics, baseline.metrics, strict=True)
                        if name != t.level_name)
    unit = "" if t.unit == "share" else f" {shown(t.unit)}"
    return f"{shown(t.level_name)} {loss(baseline.loss)}{unit}, {metrics}"


def print_openings(openings: Sequence[OpeningRecord]) -> None:
    """Print when the seal was opened, and why."""
    from axiarch.workflows.unsealing import score_of, score_words

    for o in openings:
        whose = f", for recipe {o.recipe} of search {o.search}" if o.recipe else ""
        say(f"{moment(o.at)}  {shown(o.data)}, {count(o.rows, 'test row')}{whose}: "
            f"{shown(o.reason)}"
            )
        score = score_of(o)
        if score is not None:
            say(f"    {score_words(score)}")
    if not openings:
        say("the seal has never been opened")


# -- searches --------------------------------------------------------------------------------------


def print_forecast(f: Forecast) -> None:
    """Print what a search will take."""
    say(
        f"{count(f.recipes, 'recipe')}, {count(f.runs, 'run')}, at most {number(f.epochs)} epochs "
        "in all", f"networks of {number(f.smallest)} to {number(f.largest)} parameters",
        f"{span(f.low, f.high)} with {count(f.workers, 'worker')}, {memory(f.bytes)} of "
        "memory "
        "at the most")


def progress_line(s: Snapshot) -> str:
    """Return one line that says how far a search is."""
    left = f", {time_left(s.seconds_left)}" if s.seconds_left is not None and not s.over else ""
    failed = sum(r.state == "failed" for r in s.runs.values())
    odd = f", {number(failed)} failed" if failed else ""
    best = (f", best steady validation {name_of(s.dataset.target.measure)} "
            f"{loss(s.ranking.rows[0].loss)}") if s.ranking.rows else ""
    return (
        f"search {s.search.number} {s.search.state}: {s.ended_runs} of "
        f"{count(s.expected_runs, 'run')} ended, {count(s.epochs, 'epoch')}{odd}{best}{left}")


def status_json(s: Snapshot) -> dict[str, Any]:
    """Return how far a search is, for JSON."""
    return {
        "search": s.search.number, "name": s.search.name, "data": s.search.data,
        "state": s.search.state, "why": s.search.why, "runs_ended": s.ended_runs,
        "runs_expected": s.expected_runs, "epochs": s.epochs, "runs_failed": sum(
            r.state == "failed" for r in s.runs.values()), "seconds_taken": s.taken,
        "seconds_left": None if s.over else s.seconds_left,
        "events": [{"at": e.at, "kind": e.kind, "text": e.text} for e in s.events]
    }


def ranking_json(s: Snapshot, listed: Sequence[int] | None = None) -> dict[str, Any]:
    """Return a ranking, for JSON; with `listed`, these recipes alone, in their order."""
    metrics = s.dataset.target.metrics
    ranked = {row.recipe: row for row in s.ranking.rows}
    chosen = [ranked[n] for n in (ranked if listed is None else listed) if n in ranked]
    rows = [{
        "place": r.place, "recipe": r.recipe, "standing": STANDING_WORDS[r.standing],
        "steady_loss": r.loss,
        "spread": r.spread, "half_width": r.half_width,
        "confirmed": r.confirmed and dict(zip(("loss", "half_width", "runs"), r.confirmed,
                                              strict=True)),
        "half_width_seeds": r.seeds_half, "half_width_rows": r.rows_half,
        "training_loss": r.training, **dict(zip(metrics, r.metrics, strict=True)),
        "lowest_loss": r.raw_best,
        "chosen_epoch": r.epoch, "repeats": r.repeats, "failed": r.failed,
        "parameters": r.parameters, "seconds": r.seconds,
        "trained_elsewhere": s.recipes[r.recipe].origin or None, "values": dict(
            s.recipes[r.recipe].recipe)
    } for r in chosen]
    cut = [{
        "recipe": p.recipe, "epochs": p.epochs, "steady_loss": p.loss,
        "lowest_by_then": p.best_then, "values": dict(s.recipes[p.recipe].recipe)
    } for p in s.ranking.partial]
    return {
        **status_json(s), "loss": s.dataset.target.loss_name,
        "baseline_loss": s.dataset.baseline.loss, "optimism": s.ranking.optimism,
        "leader_compared_with": {name: {
            "difference": claim.difference, "half_width": claim.half_width,
            "verdict": claim.verdict, "rows": claim.rows, "rows_left_out": claim.left_out,
            "one_run": claim.one_run,
        } for name, claim in s.skill.items()}, "times_opened": len(s.openings), "ranking": rows,
        "cut_or_resting": cut, "without_result": list(s.ranking.broken)
    }


def print_ranking(s: Snapshot, most: int = 15, listed: Sequence[int] | None = None) -> None:
    """Print the best recipes of a search: how the leader differs from the base, the others from
    the leader.

    Parameters
    ----------
    listed : sequence of int, optional
        The recipes to print, in this order; by default all, by their place.
    """
    say(progress_line(s))
    say(verdict(s))
    if not s.ranking.rows:
        return
    leader = s.recipes[s.ranking.rows[0].recipe].recipe
    metric = s.dataset.target.metrics[0]
    room = max(len(shown(metric, 20)), 9)
    head = name_of(s.dataset.target.measure)
    wide = max(len(head), 7)
    say(
        "",
        f"{'place':>5} {'recipe':>6}  {head:>{wide}} {'±':>7} {'seeds':>5} {'training':>9} "
        f"{shown(metric, 20):>{room}}  differs from the leader in")
    ranked = {row.recipe: row for row in s.ranking.rows}
    rows = [ranked[n] for n in (ranked if listed is None else listed) if n in ranked]
    for r in rows[:most]:
        reach = "" if r.half_width is None else loss(r.half_width)
        mark = {"leader": "*", "tied": "=", "open": "?", "apart": " ", "unknown": "?"}[r.standing]
        change = ("† " if r.failed else "") + (s.recipes[r.recipe].apart(leader) or "–")
        say(f"{r.place:>4}{mark} {r.recipe:>6}  {loss(r.loss):>{wide}} {reach:>7} {r.repeats:>5} "
            f"{loss(r.training):>9} "
              f"{measured(metric, r.metrics[0]):>{room}}  {change}")
    if len(rows) > most:
        say(f"      … and {len(rows) - most} more; --most {len(rows)} prints all")
    if s.ranking.partial:
        say(f"      {count(len(s.ranking.partial), 'recipe')} cut or resting before the last "
            "epoch, not ranked with these; --json lists them")
    for recipe in s.ranking.broken[:most]:
        say(f"    –  {recipe:>5}  no result: every run diverged or failed")
    from axiarch.workflows.unsealing import trust

    if s.openings:
        say("", f"seal: {trust(s.openings)}")
    say("", "* leader   = tied with it   ? not ruled out   ± half the 95 % interval, seeds and "
            f"rows   losses: {shown(s.dataset.target.loss_name)}")
    if any(r.failed for r in rows[:most]):
        say("† some of its runs diverged or failed; its loss is that of the others")


def verdict(s: Snapshot) -> str:
    """Return what is known of the ranking in one or two sentences."""
    from axiarch.workflows.leading import ranking_verdict

    return ranking_verdict(s)


def print_judged(recipe: int,
                 dataset: Dataset,
                 found: dict[str, Any],
                 part: str = "validation") -> None:
    """Print the metrics of a recipe on its validation rows."""
    target = dataset.target
    part = dataset.validation_name if part == "validation" else part
    runs = found["runs"]
    rows = number(runs[0]["rows"]) if len({r["rows"] for r in runs}) == 1 else (
        f"{number(min(r['rows'] for r in runs))} to {number(max(r['rows'] for r in runs))}")
    if len(runs) == 1:
        say(f"recipe {recipe}, epoch {runs[0]['epoch']}, on {rows} {part} rows")
    else:
        folds, seeds = len({r["fold"] for r in runs}), len({r["seed"] for r in runs})
        say(f"recipe {recipe}, mean of {count(len(runs), 'run')} ({count(seeds, 'seed')}, "
            f"{count(folds, 'fold')}), each on {rows} {part} rows; counts are sums over the runs")
    print_summary(dataset, found["summary"])
    for group in found["groups"]:
        form = share if target.classes else number
        value, low, high = map(form, group["value"])
        say(f"    {shown(group['group'], 40)}: {count(group['rows'], 'row')}, "
            f"{'accuracy' if target.classes else 'RMSE'} {value} [{low} to {high}]")
    if not target.classes:
        for i, name in enumerate(target.columns):
            say(f"    {shown(name, 40)}: median absolute error {number(found['median_error'][i])}")
        print_inputs(dataset, found["summary"])
        return
    say(f"    among the first two classes {share(found['top_2'])}, log loss "
        f"{loss(found['log_loss'])}, mean F1 {found['macro']['f1']:.3f}")
    width = max(len(shown(c)) for c in target.classes)
    names = ", ".join(map(shown, target.classes))
    say("", f"    {'':{width}}    AUC   rows predicted as {names}")
    for i, name in enumerate(target.classes):
        area = found["auc"][i]
        counts = " ".join(f"{n:>5}" for n in found["confusion"][i])
        area_text = "–" if area is None else f"{area:.3f}"
        say(f"    {shown(name):{width}}  {area_text:>5}   {counts}")
    for ratio, level, missed, alarms in found["summary"].get("thresholds", ()):
        if ratio == 1.0 or ratio in (5.0, 0.2):
            second = shown(target.classes[1], 30)
            cost = "as expensive as" if ratio == 1 else (
                f"{number(ratio)} times as expensive as" if ratio > 1 else
                f"{number(1 / ratio)} times cheaper than")
            say(f"    where a missed {second} is {cost} the other mistake: predict {second} from "
                f"{level:.2f} on ({number(missed, 3)} missed, {number(alarms, 3)} false alarms a "
                "run)")
    print_inputs(dataset, found["summary"])


def print_inputs(dataset: Dataset, found: dict[str, Any]) -> None:
    """Print how predictions depend on each input column, and which groups of rows are predicted
    worst.
    """
    form = share if dataset.classes else number
    known = found.get("responses")
    if known and known["columns"]:
        what = ("probabilities change" if dataset.classes else
                f"the mean prediction of {shown(dataset.target.columns[0], 40)} changes")
        say(f"  along each input column, the others as in {count(known['rows'], 'row')}, {what} by "
            "up to (the strongest first)")
        for column in known["columns"]:
            reach = max(max(place) - min(place) for place in zip(*column["predicted"], strict=True))
            say(f"    {set_cell_size(shown(column['column'], 40), 41)}{form(reach)}")
        if known["left_out"]:
            say(f"    … and {count(known['left_out'], 'column')} that change them less")
        if known["truth"]:
            unit = "nats (Kullback-Leibler)" if dataset.classes else "RMSE"
            say("  distance from the true rule, without its noise: "
                f"{number(known['truth']['distance'])} {unit}, "
                f"{count(known['truth']['rows'], 'row')}")
    worst = found.get("worst")
    if worst and worst["compared"]:
        apart = sum(group["apart"] for group in worst["groups"])
        what = "accuracy" if dataset.classes else "RMSE"
        say(f"  {apart or 'none'} of {count(worst['compared'], 'group')} of rows "
            f"{'is' if apart < 2 else 'are'} predicted worse than all other rows by more than "
            "chance"
            )
        for group in worst["groups"][: max(apart, 5)]:
            name = f"{shown(group['column'], 30)}: {shown(group['group'], 30)}"
            say(f"    {'!' if group['apart'] else ' '} {set_cell_size(name, 50)} {what} "
                f"{form(group['value'])}, others {form(group['others'])} "
                f"({count(group['rows'], 'row')})")


def print_test_score(snapshot: Snapshot, recipe: int, score: TestScore) -> None:
    """Print what a recipe scored on the test rows, beside what was measured on the validation
    rows.
    """
    expected = next((row for row in snapshot.ranking.rows if row.recipe == recipe), None)
    target, runs = snapshot.dataset.target, score.runs
    assert score.loss is not None
    spread = f" ({loss(min(runs))} to {loss(max(runs))} over {count(len(runs), 'run')})" if len(
        runs) > 1 else ""
    say(f"  recipe {recipe}: {shown(target.loss_name)} {loss(score.loss)}{spread}")
    if expected is not None and not snapshot.dataset.plan.split.all_open:
        say(f"    on the validation rows it had {loss(expected.loss)}, a difference of "
            f"{loss(abs(score.loss - expected.loss))} "
            f"{'above' if score.loss > expected.loss else 'below'}"
            )
    print_summary(snapshot.dataset, score.summary)


def print_summary(data: Dataset, found: dict[str, Any]) -> None:
    """Print metrics with their 95 % intervals over rows."""
    target = data.target
    say(f"    95 % intervals over {count(int(found['rows']), 'row')}, each metric the mean of "
        f"{count(int(found['runs']), 'run')}")

    def words(values: Sequence[float], form: Callable[[float], str]) -> str:
        return f"{form(values[0])} [{form(values[1])} to {form(values[2])}]"

    if target.classes:
        say(f"    accuracy {words(found['accuracy'], share)}, balanced "
            f"{words(found['balanced_accuracy'], share)}"
            )
        width = max(len(shown(name, 30)) for name in target.classes)
        for i, name in enumerate(target.classes):
            say(f"    {shown(name, 30):{width}}  precision {words(found['precision'][i], share)}, "
                f"recall {words(found['recall'][i], share)}, F1 {words(found['f1'][i], share)}")
        return
    for i, name in enumerate(target.columns):
        say(f"    {shown(name, 40)}: RMSE {words(found['rmse'][i], number)}, mean absolute error "
            f"{words(found['mae'][i], number)}, R² {words(found['r2'][i], lambda v: f'{v:.3f}')}")
    from axiarch.workflows.judging import tail_words

    for each in tail_words(found, target.columns):
        say(f"    {each}")
