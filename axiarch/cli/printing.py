"""What the command line prints: plain lines for people, JSON for programs."""

from __future__ import annotations

import json
import math
import sys
from typing import Any

from rich.cells import set_cell_size

from axiarch.data.dataset import Dataset
from axiarch.errors import AxiarchError, NotationError
from axiarch.insight.forecast import Forecast
from axiarch.plain import count, duration, loss, memory, number, share, shown
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
    return {
        "name": data.name, "fingerprint": data.fingerprint, "rows": data.rows, "inputs": data.inputs,
        "target": data.encoding.target, "classes": list(data.classes),
        "class_counts": dict(zip(data.classes, data.class_counts, strict=True)),
        "floor": {"loss": data.floor.loss, "accuracy": data.floor.accuracy},
        "linear": {"loss": data.linear.loss, "accuracy": data.linear.accuracy} if data.linear else None,
        "read_as": data.how,
        "findings": [{"kind": f.kind, "column": f.column, "evidence": f.evidence, "remedy": f.remedy}
                     for f in data.findings],
        "columns": [{"name": c.name, "kind": c.kind, "role": c.role, "reason": c.reason, "missing": c.missing,
                     "distinct": c.distinct} for c in data.columns],
    }


def print_data(data: Dataset) -> None:
    """Print what is known of a data set."""
    rows = data.rows
    print(f"{shown(data.name)}: {count(sum(rows.values()), 'row')}, {count(data.inputs, 'input')}, "
          f"{count(len(data.classes), 'class', 'classes')} of {shown(data.encoding.target)}")
    part = f" of {number(rows['train'] + rows['left out'])}" if rows.get("left out") else ""
    print(f"  parts   {number(rows['train'])}{part} training, {number(rows['validation'])} validation, "
          f"{number(rows['test'])} test (sealed)")
    print(f"  floor   loss {loss(data.floor.loss)} nats, accuracy {share(data.floor.accuracy)} "
          "from the class shares alone")
    if data.linear:
        print(f"  linear  loss {loss(data.linear.loss)} nats, accuracy {share(data.linear.accuracy)} "
              "from a linear model")
    if data.how:
        print(f"  read as {data.how}")
    for finding in data.findings:
        about = f" in {shown(finding.column, 40)}" if finding.column else ""
        print(f"  !       {finding.kind}{about}: {finding.evidence}; {finding.remedy}")
    for column in data.columns:
        gaps = f", {share(column.missing / column.rows)} missing" if column.missing else ""
        print(f"  {column.role:<8}{set_cell_size(shown(column.name, 40), 41)}{column.reason}{gaps}")


# -- searches --------------------------------------------------------------------------------------


def print_forecast(f: Forecast) -> None:
    """Print what a search will take."""
    print(f"{count(f.recipes, 'recipe')}, {count(f.runs, 'run')}, at most {number(f.epochs)} epochs in all\n"
          f"networks of {number(f.smallest)} to {number(f.largest)} parameters\n"
          f"about {duration(f.low)} to {duration(f.high)} with {count(f.lanes, 'worker')}, "
          f"{memory(f.bytes)} of memory at the most")


def progress_line(s: Snapshot) -> str:
    """Return one line that says how far a search is."""
    left = f", about {duration(s.seconds_left)} left" if s.seconds_left is not None and not s.over else ""
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
    rows = [{"place": r.place, "recipe": r.recipe, "standing": r.standing, "steady_loss": r.loss,
             "spread": r.spread, "half_width": r.half_width, "training_loss": r.training, "accuracy": r.accuracy,
             "lowest_loss": r.raw_best, "chosen_epoch": r.epoch, "repeats": r.repeats, "failed": r.failed,
             "parameters": r.parameters, "seconds": r.seconds, "values": dict(s.recipes[r.recipe].recipe)}
            for r in s.ranking.rows]
    return {**status_json(s), "floor_loss": s.dataset.floor.loss, "ranking": rows,
            "without_result": list(s.ranking.broken)}


def print_ranking(s: Snapshot, most: int = 15) -> None:
    """Print the best recipes of a search: how the leader differs from the base, the others from the leader."""
    print(progress_line(s))
    print(verdict(s))
    if not s.ranking.rows:
        return
    leader = s.recipes[s.ranking.rows[0].recipe].recipe
    print(f"\n{'place':>5} {'recipe':>6}  {'loss':>7} {'±':>7} {'training':>9} {'accuracy':>9}  "
          "differs from the leader in")
    for r in s.ranking.rows[:most]:
        reach = "" if r.half_width is None else f"{r.half_width:.4f}"
        mark = {"leader": "*", "tied": "=", "apart": " ", "unknown": "?"}[r.standing]
        change = describe(s.recipes[r.recipe].recipe.difference(leader)) or "–"
        print(f"{r.place:>4}{mark} {r.recipe:>6}  {loss(r.loss):>7} {reach:>7} {loss(r.training):>9} "
              f"{share(r.accuracy):>9}  {change}")
    if len(s.ranking.rows) > most:
        print(f"      … and {len(s.ranking.rows) - most} more")
    for recipe in s.ranking.broken[:most]:
        print(f"    –  {recipe:>5}  no result: every run diverged or failed")
    print("\n* leader   = tied with it   ± half the 95 % interval of the mean, in nats")


def verdict(s: Snapshot) -> str:
    """Return what is known of the ranking in one or two sentences."""
    from axiarch.workflows.verdicts import ranking_verdict

    return ranking_verdict(s)
