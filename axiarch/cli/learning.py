"""Commands on what was learnt, and on what to try next: effects, capacity, diagnosis, branches."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from axiarch.cli.options import (
    guarded,
    json_option,
    open_place,
    search_option,
    workers_option,
    workspace_option,
)
from axiarch.cli.saying import print_json, say
from axiarch.cli.searches import follow
from axiarch.errors import InputError
from axiarch.recipes.bounds import MOST_NUMBER
from axiarch.runs.lowered import name_of
from axiarch.text import count

if TYPE_CHECKING:
    from axiarch.insight.probes import Probe

recipe_argument = click.argument("recipe", type=click.IntRange(1, MOST_NUMBER), required=False)


@click.command()
@search_option
@workspace_option
@json_option
@click.pass_context
@guarded
def effects(context: click.Context, number: int, folder: Path | None, as_json: bool) -> None:
    """Print which knobs of a search matter, how surely, and where each is best."""
    from axiarch import workflows

    found = workflows.explain(workflows.snapshot_of(open_place(context, folder), number))
    if as_json:
        print_json(workflows.effects_json(found))
        return
    say(found.verdict(), "", *workflows.effect_lines(found))


@click.command()
@recipe_argument
@search_option
@click.option("--start", is_flag=True,
              help="Climb a ladder of capacity with the recipe as its base (by default the "
                   "leader), then print it.")
@workspace_option
@workers_option
@json_option
@click.pass_context
@guarded
def capacity(context: click.Context, recipe: int | None, number: int, start: bool,
             folder: Path | None, workers: int | None, as_json: bool) -> int:
    """Print what a lower loss costs: the knee, and the recipes that nobody beats in both loss and
    parameters; of a ladder of capacity all its rungs.
    """
    from axiarch import workflows

    if recipe is not None and not start:
        raise InputError("a recipe is the base of a ladder of capacity", "RECIPE",
                         "climb it with --start, or name a search with --search")
    workspace = open_place(context, folder)
    snapshot = workflows.snapshot_of(workspace, number)
    code = 0
    if start:
        number = workflows.start_search(workspace, workflows.ladder_from(snapshot, recipe or 0),
                                        workers or 0)
        code = follow(workspace, number, as_json=False, ranks=False)
        snapshot = workflows.snapshot_of(workspace, number)
    found = workflows.TradeOffs(snapshot)
    if as_json:
        print_json(workflows.tradeoffs_json(found))
    else:
        say(found.verdict(), "", *workflows.tradeoff_lines(found))
    return code


@click.command()
@recipe_argument
@search_option
@workspace_option
@json_option
@click.pass_context
@guarded
def diagnose(context: click.Context, recipe: int | None, number: int, folder: Path | None,
             as_json: bool) -> None:
    """Say what is wrong with RECIPE (by default the leader), with the numbers that it rests on, and
    what to change.
    """
    from axiarch import workflows

    snapshot = workflows.snapshot_of(open_place(context, folder), number)
    recipe = recipe or workflows.leader_of(snapshot)
    found = workflows.diagnosis(snapshot, recipe)
    if as_json:
        print_json(workflows.diagnosis_json(found))
        return
    named = name_of(workflows.findings_by(snapshot.dataset))
    by = "" if snapshot.dataset.target.measure == "loss" else f"; losses in findings: {named}"
    say(f"recipe {recipe} of search {snapshot.search.number}{by}", *workflows.finding_lines(found))
    if any(each.changes for each in found):
        say("", f"to try the first change: axiarch branch {recipe} --search "
                f"{snapshot.search.number}")


@click.command()
@recipe_argument
@search_option
@click.option("--change", "which", type=click.IntRange(1, 99), default=1,
              help="Number of the change, as diagnose lists them; by default the first.")
@click.option("--dry-run", is_flag=True, help="Print the search file, and start nothing.")
@workspace_option
@workers_option
@json_option
@click.pass_context
@guarded
def branch(context: click.Context, recipe: int | None, number: int, which: int, dry_run: bool,
           folder: Path | None, workers: int | None, as_json: bool) -> int:
    """Start the follow-up search that a finding on RECIPE (by default the leader) proposes: the
    recipe as base, the knobs of the change as ranges, the same data, folds and seeds.
    """
    from axiarch import workflows
    from axiarch.recipes.searchfile import write_search

    workspace = open_place(context, folder)
    snapshot = workflows.snapshot_of(workspace, number)
    recipe = recipe or workflows.leader_of(snapshot)
    file = workflows.branch_of(snapshot, recipe, which)
    if dry_run:
        say(*write_search(file).splitlines())
        return 0
    assert file.branch is not None
    say(f"recipe {recipe}, {file.branch.reason}", error=True)
    return follow(workspace, workflows.start_search(workspace, file, workers or 0), as_json)


@click.command()
@workspace_option
@json_option
@click.pass_context
@guarded
def lineage(context: click.Context, folder: Path | None, as_json: bool) -> None:
    """Print which search came from which, what each brought, and what it cost."""
    from axiarch import workflows

    found = workflows.lineage(open_place(context, folder))
    if as_json:
        print_json([asdict(each) for each in found])
    else:
        say(*workflows.lineage_lines(found))


@click.command()
@click.argument("text")
@click.option("--recipe", type=click.IntRange(0, MOST_NUMBER), default=0,
              help="The recipe that it is about; by default the search as a whole.")
@click.option("--seed", type=click.IntRange(0, MOST_NUMBER), default=0,
              help="The run of the recipe that it is about, by its seed, from 1.")
@click.option("--fold", type=click.IntRange(1, MOST_NUMBER), default=1,
              help="The same by its fold, where there are several.")
@search_option
@workspace_option
@click.pass_context
@guarded
def note(context: click.Context, text: str, recipe: int, seed: int, fold: int, number: int,
         folder: Path | None) -> None:
    """Keep TEXT as a note on a search, a recipe or a run."""
    from axiarch import workflows

    workspace = open_place(context, folder)
    kept = workflows.keep_note(workspace, text, number, recipe, seed, fold)
    say(f"note {kept.number} on {workflows.about_words(workspace, kept)}")


@click.command()
@click.argument("words", required=False, default="")
@workspace_option
@json_option
@click.pass_context
@guarded
def notes(context: click.Context, words: str, folder: Path | None, as_json: bool) -> None:
    """Print all notes, or those that hold WORDS."""
    from axiarch import workflows

    workspace = open_place(context, folder)
    if as_json:
        print_json([asdict(each) for each in workflows.find_notes(workspace, words)])
        return
    say(*workflows.note_lines(workspace, words))


@click.command()
@click.argument("device", default="", metavar="['NAME = AMOUNT']")
@workspace_option
@json_option
@click.pass_context
@guarded
def devices(context: click.Context, device: str, folder: Path | None, as_json: bool) -> None:
    """List the devices whose memory batches may be meant for; 'office card = 12 GiB' keeps one,
    'office card =' removes it.
    """
    from axiarch import workflows

    workspace = open_place(context, folder)
    if device:
        workflows.keep_device(workspace, device)
    if as_json:
        print_json(workflows.known_devices(workspace))
        return
    say(*workflows.device_lines(workspace))


@click.command()
@click.argument("kind", type=click.Choice(("rate", "batch", "depth", "noise")))
@click.argument("values", nargs=-1)
@click.option("--data", "name", default="", help="Name of the data set; the one on the sheet by "
                                                 "default.")
@click.option("--device", default="this machine",
              help="Whose memory batches must fit: a device of axiarch devices, or an amount such "
                   "as '6 GiB'; by default this machine's.")
@workspace_option
@json_option
@click.pass_context
@guarded
def probe(context: click.Context, kind: str, values: tuple[str, ...], name: str, device: str,
          folder: Path | None, as_json: bool) -> None:
    """Probe the recipe on the sheet, with VALUES such as optimiser=sgd changed, by short trainings:
    in which band of learning rates the loss falls (rate), where larger batches stop paying (batch),
    how many layers learn (depth), how large a difference can be seen (noise).
    """
    from axiarch import workflows
    from axiarch.cli.progress import Steps
    from axiarch.recipes.notation import fixed_values

    workspace = open_place(context, folder)
    dataset = workflows.data_set(workspace, name or workflows.draft_data(workspace))
    recipe = workflows.load_draft(workspace, dataset).space.base.changed(fixed_values(values))
    with Steps() as steps:
        found = workflows.probe(workspace, dataset, recipe, kind, device, steps.show)
    if as_json:
        print_json(_probe_json(kind, found))
    else:
        say(*_probe_text(found))


def _probe_json(kind: str, found: Probe) -> dict[str, Any]:
    proposal = found.proposal()
    return {"kind": kind, **asdict(found), "verdict": found.verdict(),
            "proposal": asdict(proposal) if proposal else None}


def _probe_text(found: Probe) -> list[str]:
    from axiarch import workflows

    proposal = found.proposal()
    lines = [found.verdict(), "", *found.lines()]
    for change in proposal.changes if proposal else ():
        lines += ["", f"{change.words}: {workflows.change_words(change)}"]
    return lines


@click.command()
@click.argument("number", type=click.IntRange(1, MOST_NUMBER), required=False)
@workspace_option
@json_option
@click.pass_context
@guarded
def probes(context: click.Context, number: int | None, folder: Path | None, as_json: bool) -> None:
    """List the probes that were made, or print probe NUMBER again."""
    from axiarch import workflows

    workspace = open_place(context, folder)
    if number is not None:
        record, found = workflows.kept_probe(workspace, number)
        if as_json:
            print_json(_probe_json(record.kind, found))
        else:
            say(workflows.probe_line(record), "", *_probe_text(found))
        return
    kept = workflows.kept_probes(workspace)
    if as_json:
        print_json([{"number": record.number, "at": record.at, "data": record.data,
                     "recipe": record.recipe.changed_values(), **_probe_json(record.kind, found)}
                    for record, found in kept])
        return
    lines = [f"{record.number:>4}  {workflows.probe_line(record)}" for record, _ in kept]
    say(*lines or ["No probe has been made. Make one with axiarch probe rate."])


@click.command()
@click.argument("numbers", nargs=-1, type=click.IntRange(1, MOST_NUMBER), metavar="SEARCH...")
@click.option("--most", type=click.IntRange(1, 10**6), default=15, help="Recipes printed.")
@workspace_option
@json_option
@click.pass_context
@guarded
def together(context: click.Context, numbers: tuple[int, ...], most: int, folder: Path | None,
             as_json: bool) -> None:
    """Rank the recipes of several searches on the same data together."""
    from axiarch import workflows

    found = workflows.together(open_place(context, folder), numbers)
    if as_json:
        print_json(workflows.together_json(found))
    else:
        say(found.verdict(), "", *workflows.together_lines(found, most))


@click.command()
@click.argument("recipes", nargs=-1, metavar="RECIPE...")
@search_option
@workspace_option
@json_option
@click.pass_context
@guarded
def compare(context: click.Context, recipes: tuple[str, ...], number: int, folder: Path | None,
            as_json: bool) -> None:
    """Print recipes side by side: the values in which they differ, then what came of each.

    RECIPE is 12, 2:12 for recipe 12 of search 2, base for the base recipe, or v3 for version 3.
    """
    from axiarch import workflows

    workspace = open_place(context, folder)
    snapshot = workflows.snapshot_of(workspace, number)
    found = workflows.compare_recipes(workspace, snapshot, recipes)
    if as_json:
        print_json(workflows.comparison_json(found))
    else:
        say(found.verdict(), "", *workflows.comparison_lines(found))


@click.command()
@recipe_argument
@search_option
@workspace_option
@workers_option
@json_option
@click.pass_context
@guarded
def rows(context: click.Context, recipe: int | None, number: int, folder: Path | None,
         workers: int | None, as_json: bool) -> int:
    """Say whether more rows would help RECIPE (by default the leader): it is trained on 10, 20, 40,
    80 and 100 % of its training rows, on three seeds each, and the trend of the losses is
    continued to twice as many.
    """
    from axiarch import workflows

    workspace = open_place(context, folder)
    snapshot = workflows.snapshot_of(workspace, number)
    recipe = recipe or workflows.leader_of(snapshot)
    for file in workflows.row_searches(workspace, snapshot, recipe):
        code = follow(workspace, workflows.start_search(workspace, file, workers or 0),
                      as_json=False, ranks=False)
        if code:
            return code
    found = workflows.more_rows(workspace, snapshot, recipe)
    if as_json:
        print_json({**asdict(found.trend), "tuned": found.tuned, "verdict": found.verdict()})
    else:
        say(found.verdict(), "", *workflows.row_lines(found))
    return 0


@click.command()
@click.option("--by", type=click.Choice(("epochs", "rows", "pictures", "width")), default="epochs",
              show_default=True,
              help="What is made smaller: epochs are read off the curves; for fewer rows, smaller "
                   "pictures or narrower layers, the best recipes are trained.")
@search_option
@workspace_option
@workers_option
@json_option
@click.pass_context
@guarded
def proxy(context: click.Context, by: str, number: int, folder: Path | None, workers: int | None,
          as_json: bool) -> int:
    """Say how small a training may be that still shows the order of a search's best recipes."""
    from axiarch import workflows

    workspace = open_place(context, folder)
    snapshot = workflows.snapshot_of(workspace, number)
    if by == "epochs":
        found = workflows.proxies(snapshot)
    else:
        smaller = workflows.smaller_trainings(workspace, snapshot, by)
        for each in smaller:
            say(f"training {count(len(each.recipes), 'recipe')}: {each.what}", error=True)
            if not workflows.train_proxy(workspace, snapshot, each, workers or 0):
                say("stopped; what has been trained is kept, and the same command continues",
                    error=True)
                return 1
        found = workflows.proxy_agreements(workspace, snapshot, smaller)
    verdict = workflows.proxy_verdict(snapshot, found, by)
    if as_json:
        print_json({"verdict": verdict, "agreements": [asdict(each) for each in found]})
    else:
        say(verdict, "", *workflows.proxy_lines(found))
    return 0


#: All commands of this file, for the program to take in.
COMMANDS = (probe, probes, devices, proxy, compare, together, rows, effects, capacity, diagnose,
            branch, lineage, note, notes)
