"""What the command line prints: plain lines for people, JSON for programs."""

from __future__ import annotations

import json
import math
import sys
from collections.abc import Sequence
from typing import Any

from rich.cells import set_cell_size

from axiarch.data.dataset import Dataset
from axiarch.data.floor import Floor
from axiarch.errors import AxiarchError, NotationError
from axiarch.insight.forecast import Forecast
from axiarch.journal.records import OpeningRecord
from axiarch.plain import count, loss, measured, memory, number, share, shown, span, time_left
from axiarch.recipes.recipe import describe
from axiarch.workflows.watching import Snapshot


def print_error(error: AxiarchError) -> None:
    """Say on standard error what happened, where and what to do."""
    out = [f"axiarch: {shown(error.what)}"]
    if isinstance(error, NotationError):
        out += ["  " + line for line in error.marked().splitlines()]
    if error.where:
        out.append(f"  where:   {shown(error.where)}")
    if error.remedy:
        out.append(f"  remedy:  {shown(error.remedy)}")
    print("\n".join(out), file=sys.stderr)


def print_json(value: Any) -> None:
    """Print a value as one JSON document; numbers that are not finite become null."""
    print(json.dumps(_finite(value), indent=1, ensure_ascii=True, allow_nan=False))


def _finite(value: Any) -> Any:
    if isinstance(value, float) and not math.isfinite(value):
        return None
    if isinstance(value, dict):
        return {k: _finite(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_finite(v) for v in value]
    return value


# -- data ------------------------------------------------------------------------------------------


def data_json(data: Dataset) -> dict[str, Any]:
    """Return what is known of a data set, for JSON."""
    t = data.target
    known: dict[str, Any] = {
        "name": data.name, "fingerprint": data.fingerprint, "rows": data.rows, "inputs": data.inputs,
        "picture": list(data.encoding.picture) if data.encoding.picture else None,
        "task": t.task, "targets": list(t.columns), "outputs": t.outputs, "loss": t.loss_name,
        "classes": list(data.classes), "class_counts": dict(zip(data.classes, data.class_counts, strict=True)),
        "folds": [fold.rows for fold in data.folds] if len(data.folds) > 1 else None,
        "floor": floor_json(data, data.floor), "linear": floor_json(data, data.linear),
        "noise": floor_json(data, data.best), "read_as": data.how,
        "findings": [{"kind": f.kind, "column": f.column, "evidence": f.evidence, "remedy": f.remedy}
                     for f in data.findings],
        "columns": [{"name": c.name, "kind": c.kind, "role": c.role, "reason": c.reason, "missing": c.missing,
                     "distinct": c.distinct, "lowest": c.low, "highest": c.high, "median": c.middle}
                    for c in data.columns],
    }
    return known


def floor_json(data: Dataset, floor: Floor | None) -> dict[str, float] | None:
    """Return a floor with its metrics by name, for JSON."""
    return {"loss": floor.loss, **dict(zip(data.target.metrics, floor.metrics, strict=True))} if floor else None


def print_data(data: Dataset) -> None:
    """Print what is known of a data set."""
    rows, t = data.rows, data.target
    what = f"{count(len(data.classes), 'class', 'classes')} of " if data.classes else "amounts of "
    print(f"{shown(data.name)}: {count(sum(rows.values()), 'row')}, {count(data.inputs, 'input')}, {what}"
          f"{shown(t.name)} ({t.task})")
    part = f" of {number(rows['train'] + rows['left out'])}" if rows.get("left out") else ""
    folds = f", the first of {len(data.folds)} folds" if len(data.folds) > 1 else ""
    print(f"  parts   {number(rows['train'])}{part} training, {number(rows['validation'])} validation{folds}, "
          f"{number(rows['test'])} test (sealed)")
    trivial = "from the class shares alone" if data.classes else "from the mean and the median alone"
    for name, floor, why in (("floor", data.floor, trivial), ("linear", data.linear, "from a linear model"),
                             ("noise", data.best, "from the rule behind the data, which is noisy")):
        if floor:
            print(f"  {name:<7} {floor_text(data, floor)} {why}")
    if data.how:
        print(f"  read as {data.how}")
    for finding in data.findings:
        about = f" in {shown(finding.column, 40)}" if finding.column else ""
        print(f"  !       {finding.kind}{about}: {finding.evidence}; {finding.remedy}")
    for column in data.columns:
        gaps = f", {share(column.missing / column.rows)} missing" if column.missing else ""
        print(f"  {column.role:<8}{set_cell_size(shown(column.name, 40), 41)}{column.reason}{gaps}")


def floor_text(data: Dataset, floor: Floor) -> str:
    """Return a floor with its unit and its metrics."""
    t = data.target
    metrics = ", ".join(f"{shown(name)} {measured(name, value)}"
                        for name, value in zip(t.metrics, floor.metrics, strict=True))
    return f"{shown(t.loss_name.split(' (')[0])} {loss(floor.loss)} {shown(t.unit)}, {metrics}"


def print_openings(openings: Sequence[OpeningRecord]) -> None:
    """Print when the seal was opened, and why."""
    from datetime import datetime

    for o in openings:
        at = datetime.fromtimestamp(o.at).astimezone().isoformat(" ", "seconds")
        print(f"{at}  {shown(o.data)}, {count(o.rows, 'test row')}: {shown(o.reason)}")
    if not openings:
        print("the seal has never been opened")


# -- searches --------------------------------------------------------------------------------------


def print_forecast(f: Forecast) -> None:
    """Print what a search will take."""
    print(f"{count(f.recipes, 'recipe')}, {count(f.runs, 'run')}, at most {number(f.epochs)} epochs in all\n"
          f"networks of {number(f.smallest)} to {number(f.largest)} parameters\n"
          f"about {span(f.low, f.high)} with {count(f.lanes, 'worker')}, "
          f"{memory(f.bytes)} of memory at the most")


def progress_line(s: Snapshot) -> str:
    """Return one line that says how far a search is."""
    left = f", {time_left(s.seconds_left)}" if s.seconds_left is not None and not s.over else ""
    best = f", best steady validation loss {loss(s.ranking.rows[0].loss)}" if s.ranking.rows else ""
    return (f"search {s.search.number} {s.search.state}: {s.ended_runs} of {count(s.expected_runs, 'run')} ended, "
            f"{number(s.epochs)} epochs{best}{left}")


def status_json(s: Snapshot) -> dict[str, Any]:
    """Return how far a search is, for JSON."""
    return {"search": s.search.number, "name": s.search.name, "data": s.search.data, "state": s.search.state,
            "why": s.search.why, "runs_ended": s.ended_runs, "runs_expected": s.expected_runs, "epochs": s.epochs,
            "seconds_taken": s.taken, "seconds_left": None if s.over else s.seconds_left,
            "events": [{"at": e.at, "kind": e.kind, "text": e.text} for e in s.events]}


def ranking_json(s: Snapshot) -> dict[str, Any]:
    """Return a ranking, for JSON."""
    metrics = s.dataset.target.metrics
    rows = [{"place": r.place, "recipe": r.recipe, "standing": r.standing, "steady_loss": r.loss,
             "spread": r.spread, "half_width": r.half_width, "training_loss": r.training,
             **dict(zip(metrics, r.metrics, strict=True)),
             "lowest_loss": r.raw_best, "chosen_epoch": r.epoch, "repeats": r.repeats, "failed": r.failed,
             "parameters": r.parameters, "seconds": r.seconds, "values": dict(s.recipes[r.recipe].recipe)}
            for r in s.ranking.rows]
    return {**status_json(s), "loss": s.dataset.target.loss_name, "floor_loss": s.dataset.floor.loss, "ranking": rows,
            "without_result": list(s.ranking.broken)}


def print_ranking(s: Snapshot, most: int = 15) -> None:
    """Print the best recipes of a search: how the leader differs from the base, the others from the leader."""
    print(progress_line(s))
    print(verdict(s))
    if not s.ranking.rows:
        return
    leader = s.recipes[s.ranking.rows[0].recipe].recipe
    metric = s.dataset.target.metrics[0]
    room = max(len(shown(metric, 20)), 9)
    print(f"\n{'place':>5} {'recipe':>6}  {'loss':>7} {'±':>7} {'training':>9} {shown(metric, 20):>{room}}  "
          "differs from the leader in")
    for r in s.ranking.rows[:most]:
        reach = "" if r.half_width is None else loss(r.half_width)
        mark = {"leader": "*", "tied": "=", "apart": " ", "unknown": "?"}[r.standing]
        change = describe(s.recipes[r.recipe].recipe.difference(leader)) or "–"
        print(f"{r.place:>4}{mark} {r.recipe:>6}  {loss(r.loss):>7} {reach:>7} {loss(r.training):>9} "
              f"{measured(metric, r.metrics[0]):>{room}}  {change}")
    if len(s.ranking.rows) > most:
        print(f"      … and {len(s.ranking.rows) - most} more")
    for recipe in s.ranking.broken[:most]:
        print(f"    –  {recipe:>5}  no result: every run diverged or failed")
    print(f"\n* leader   = tied with it   ± half the 95 % interval of the mean   "
          f"losses: {shown(s.dataset.target.loss_name)}")


def verdict(s: Snapshot) -> str:
    """Return what is known of the ranking in one or two sentences."""
    from axiarch.workflows.verdicts import ranking_verdict

    return ranking_verdict(s)


def print_judged(recipe: int, dataset: Dataset, found: dict[str, Any]) -> None:
    """Print the metrics of a recipe on its validation rows."""
    target = dataset.target
    print(f"recipe {recipe}, epoch {found['epoch']}, on {found['rows']} validation rows")
    if not target.classes:
        for i, name in enumerate(target.columns):
            print(f"  {shown(name)}: RMSE {number(found['rmse'][i])}, mean error {number(found['mae'][i])}, "
                  f"median error {number(found['median_error'][i])}, R² {found['r2'][i]:.3f}")
        return
    print(f"  accuracy {share(found['accuracy'])}, balanced {share(found['balanced_accuracy'])}, among the first two "
          f"{share(found['top_2'])}, log loss {loss(found['log_loss'])}, "
          f"F1 {found['macro']['f1']:.3f}")
    width = max(len(shown(c)) for c in target.classes)
    names = ", ".join(map(shown, target.classes))
    print(f"\n  {'':{width}}  precision  recall     F1    AUC   taken for {names}")
    for i, name in enumerate(target.classes):
        area = found["auc"][i]
        counts = " ".join(f"{n:>5}" for n in found["confusion"][i])
        told = "–" if area is None else f"{area:.3f}"
        print(f"  {shown(name):{width}}  {found['precision'][i]:>9.3f}  {found['recall'][i]:>6.3f}  "
              f"{found['f1'][i]:>5.3f}  {told:>5}  {counts}")
