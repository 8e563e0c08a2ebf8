"""Commands that use what was trained: ``axiarch models …`` and ``axiarch predict``."""

from __future__ import annotations

import shlex
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from axiarch.cli.options import (
    FilePath,
    guarded,
    json_option,
    open_place,
    opened,
    search_option,
    workers_option,
    workspace_option,
)
from axiarch.cli.saying import print_json, say
from axiarch.recipes.bounds import MOST_NUMBER
from axiarch.text import count, loss, memory, moment, number, shown

if TYPE_CHECKING:
    from axiarch.workflows.models import KeptModel


@click.group()
def models() -> None:
    """Keep trained networks, each in one file with all it needs to predict."""


@models.command("keep")
@click.argument("recipe", type=click.IntRange(1, MOST_NUMBER))
@search_option
@click.option("--name", default="", help="What to call it (default: its recipe and search).")
@click.option("--note", default="", help="A note in your words.")
@click.option("--run", default=0, type=click.IntRange(0, MOST_NUMBER),
              help="Which run of the recipe (default: the one with the lowest steady loss).")
@click.option(
    "--average",
    type=click.Choice(["seeds", "tied"]),
    default=None,
    help=
    "Average the predictions of all seeds of the recipe, or of all recipes tied with the leader.")
@click.option("--anyway", is_flag=True, help="Keep the average even if its gain may be chance.")
@workspace_option
@json_option
@click.pass_context
@guarded
def models_keep(context: click.Context, recipe: int, number: int, name: str, note: str, run: int,
                average: str | None, anyway: bool, folder: Path | None, as_json: bool) -> None:
    """Keep the network of RECIPE's best epoch as a model.

    An average of several networks is kept only where it is better than the best of them by more
    than chance, paired over the validation rows.
    """
    from axiarch import workflows

    workspace, snapshot = opened(context, folder, number, recipe)
    kept = workflows.keep_model(workspace, snapshot, recipe, name, note, run, average or "", anyway)
    if as_json:
        print_json(_as_json(kept))
        return
    say(f"kept {shown(kept.name)!r}: {_origin(kept)}, validation {_score(kept)}",
        f"  {kept.path} ({memory(kept.bytes)})")


@models.command("list")
@workspace_option
@json_option
@click.pass_context
@guarded
def models_list(context: click.Context, folder: Path | None, as_json: bool) -> None:
    """List the models kept, the newest first."""
    from axiarch import workflows

    found = workflows.kept_models(open_place(context, folder))
    if as_json:
        print_json([_as_json(model) for model in found])
        return
    for model in found:
        if model.problem:
            say(f"{shown(model.name, 40)}  cannot be used: {shown(model.problem, 100)}")
            continue
        say(f"{moment(model.at)}  {shown(model.name, 40)}: validation {_score(model)}, "
            f"{_origin(model)}, {count(model.parameters, 'parameter')}, {memory(model.bytes)}, "
            f"data {shown(model.data, 40)}"
            )
        if model.note:
            say(f"    {shown(model.note)}")
    if not found:
        say("no model has been kept; keep one: axiarch models keep RECIPE")


@models.command("verify")
@click.argument("name")
@workspace_option
@json_option
@click.pass_context
@guarded
def models_verify(context: click.Context, name: str, folder: Path | None, as_json: bool) -> int:
    """Score the validation rows again with the model NAME; the loss must have the same bits."""
    from axiarch import workflows

    workspace = open_place(context, folder)
    model = workflows.find_model(workspace, name)
    kept, found = workflows.verify_model(workspace, model)
    if as_json:
        print_json({"name": model.name, "kept": kept, "found": found, "same": kept == found})
    elif kept == found:
        say(f"{shown(model.name)}: validation loss {found!r}, the same to the last bit")
    else:
        say(f"{shown(model.name)}: validation loss {found!r} now, {kept!r} when it was kept; other "
            "package versions or another machine can change the last digits")
    return 0 if kept == found else 4


@models.command("import")
@click.argument("file", type=FilePath(), metavar="FILE.onnx")
@click.option("--data",
              required=True,
              metavar="NAME",
              help="The data set whose encoded inputs it takes.")
@click.option("--name", default="", help="What to call it (default: the name of the file).")
@click.option("--note", default="", help="A note in your words.")
@click.option("--fold",
              default=1,
              type=click.IntRange(1, MOST_NUMBER),
              help="Fold whose encoding it takes.")
@workspace_option
@json_option
@click.pass_context
@guarded
def models_import(context: click.Context, file: Path, data: str, name: str, note: str, fold: int,
                  folder: Path | None, as_json: bool) -> None:
    """Keep the network in FILE.onnx as a model, to continue from.

    A chain of fully connected, convolutional, pooling, normalisation and activation layers. A file
    that axiarch has exported is read without its preprocessing; any other takes the encoded inputs
    of the data set.
    """
    from axiarch import workflows

    kept = workflows.import_network(open_place(context, folder), file, data, name, note, fold)
    if as_json:
        print_json(_as_json(kept))
        return
    say(f"kept {shown(kept.name)!r}: {_origin(kept)}, validation {_score(kept)}",
        f"  train it further: axiarch models continue {shlex.quote(shown(kept.name))} 20")


@models.command("continue")
@click.argument("name")
@click.argument("epochs", type=click.IntRange(1, MOST_NUMBER))
@click.argument("values", nargs=-1)
@workspace_option
@workers_option
@json_option
@click.pass_context
@guarded
def models_continue(context: click.Context, name: str, epochs: int, values: tuple[str, ...],
                    folder: Path | None, workers: int | None, as_json: bool) -> int:
    """Train for EPOCHS from the weights of the model NAME, with VALUES of its recipe changed.

    VALUES are such as learning_rate=0.001. The optimiser and the schedule start from the
    beginning; axiarch more continues a run exactly.
    """
    from axiarch import workflows
    from axiarch.cli.searches import follow
    from axiarch.recipes.notation import fixed_values

    workspace = open_place(context, folder)
    model = workflows.find_model(workspace, name)
    number = workflows.continue_model(workspace, model, epochs, fixed_values(values), workers or 1)
    return follow(workspace, number, as_json)


@models.command("remove")
@click.argument("name")
@workspace_option
@click.pass_context
@guarded
def models_remove(context: click.Context, name: str, folder: Path | None) -> None:
    """Remove the model NAME from the workspace."""
    from axiarch import workflows

    workspace = open_place(context, folder)
    model = next(
        (m for m in workflows.kept_models(workspace) if m.name == name or m.path.stem == name),
        None) or workflows.find_model(workspace, name)
    freed = workflows.remove_model(workspace, model)
    say(f"removed {shown(model.name)!r}; {memory(freed)} freed")


@models.command("export")
@click.argument("name")
@click.argument("place", type=FilePath(), metavar="FILE.onnx")
@click.option("--force", is_flag=True, help="Replace a file that is there.")
@workspace_option
@json_option
@click.pass_context
@guarded
def models_export(context: click.Context, name: str, place: Path, force: bool, folder: Path | None,
                  as_json: bool) -> None:
    """Write the model NAME as one file in the open network format (ONNX): raw columns in, classes
    or amounts out.

    The file needs no Axiarch to run; docs/deploy.md shows how.
    """
    from axiarch import workflows

    model = workflows.find_model(open_place(context, folder), name)
    found = workflows.export_network(model, place, force)
    if as_json:
        print_json({"file": str(place), **found})
        return
    say(
        f"written: {place} ({memory(found['bytes'])}, operators of version {found['opset']})",
        f"  run against our own predictor on {count(found['rows'], 'made-up row')}: largest "
        f"difference {found['difference']:.1e}")


@click.command()
@click.argument("model")
@click.argument("file", type=FilePath())
@click.argument("place", type=FilePath(), metavar="OUT")
@click.option("--force", is_flag=True, help="Replace a file that is there.")
@workspace_option
@json_option
@click.pass_context
@guarded
def predict(context: click.Context, model: str, file: Path, place: Path, force: bool,
            folder: Path | None, as_json: bool) -> None:
    """Predict the rows of FILE with a kept MODEL (its name or its file) and write them to OUT.

    OUT is .csv or .parquet. Columns that are no inputs, such as ids, are carried along.
    """
    from axiarch import workflows
    from axiarch.cli.progress import Steps

    known = workflows.find_model(open_place(context, folder), model)
    with Steps() as steps:
        found = workflows.predict(known, file, place, force, steps.show)
    if as_json:
        print_json(found)
        return
    say(f"{count(found['rows'], 'row')} predicted in {number(found['seconds'], 3)} s: "
        f"{found['file']}"
        )
    say(*(f"  note     {line}" for line in found["remarks"]))
    if found["scored"]:
        scores = ", ".join(
            f"{shown(name, 60)} {number(value)}" for name, value in found["metrics"].items())
        say(f"  scored   {count(found['scored'], 'row')} whose target is in the file: {scores}")


@click.command()
@click.argument("recipe", type=click.IntRange(1, MOST_NUMBER))
@click.option("--seeds",
              default=5,
              type=click.IntRange(2, 1000),
              help="Fresh seeds to train on (default: 5).")
@click.option("--all-open-rows",
              "all_open",
              is_flag=True,
              help="Train on training and validation rows together, for "
              "the last look: only the test rows can judge the result.")
@search_option
@workspace_option
@workers_option
@click.pass_context
@guarded
def confirm(context: click.Context, recipe: int, seeds: int, all_open: bool, number: int,
            folder: Path | None, workers: int | None) -> int:
    """Train RECIPE again on fresh seeds, which chose nothing, and say whether its loss holds."""
    from axiarch import workflows
    from axiarch.cli.searches import run_search

    workspace, snapshot = opened(context, folder, number, recipe)
    if all_open:
        last = workflows.finishing_search(workspace, snapshot, recipe, seeds)
        code = run_search(workspace, last, workers, False)
        if code == 0:
            started = workflows.snapshot_of(workspace).search.number
            say(
                "",
                f"score it once: axiarch data open-seal {shlex.quote(last.data)} --recipe 1 "
                f"--search {started} --reason WHY")
        return code
    code = run_search(workspace, workflows.confirming_search(workspace, snapshot, recipe, seeds),
                      workers, False)
    found = workflows.confirmations(workspace, snapshot, recipe)
    if found:
        say("", found[-1])
    return code


@click.command()
@click.argument("place", type=FilePath(), metavar="FILE.html")
@click.option("--recipe", default=0, type=click.IntRange(0, MOST_NUMBER),
              help="Recipe to look at closely (default: the leader).")
@search_option
@click.option("--force", is_flag=True, help="Replace a file that is there.")
@workspace_option
@click.pass_context
@guarded
def report(context: click.Context, place: Path, recipe: int, number: int, force: bool,
           folder: Path | None) -> None:
    """Write a report of a search as one .html page with its pictures inside, or as .pdf.

    Data, baselines, what was searched and what it cost, the ranking, how the winner trained, what
    it predicts, test scores, what to distrust, and how to do it again.
    """
    from axiarch import workflows

    workspace, snapshot = opened(context, folder, number, recipe)
    say(workflows.export_report(workspace, snapshot, place, recipe, force))


@click.command("import")
@click.argument("file", type=FilePath())
@search_option
@workspace_option
@json_option
@click.pass_context
@guarded
def bring(context: click.Context, file: Path, number: int, folder: Path | None,
          as_json: bool) -> None:
    """Rank finished trainings of other origin, read from the table FILE, with those of a search
    that is done.

    One row an epoch: epoch, training loss, validation loss, and a column for each setting; a column
    run or seed tells repeats apart. The losses must be those of the search, on the same validation
    rows: they are taken as given, and the recipes are marked.
    """
    from dataclasses import asdict

    from axiarch import workflows

    found = workflows.bring_in(open_place(context, folder), file, number)
    if as_json:
        print_json(asdict(found))
        return
    say(found)


@click.command()
@click.argument("file", type=FilePath(), metavar="FILE.zip")
@click.option("--force", is_flag=True, help="Replace a file that is there.")
@workspace_option
@click.pass_context
@guarded
def pack(context: click.Context, file: Path, force: bool, folder: Path | None) -> None:
    """Write the whole workspace as one archive: data, searches, results, checkpoints, models."""
    from axiarch import workflows
    from axiarch.cli.progress import Steps

    workspace = open_place(context, folder)
    with Steps() as steps:
        files = workflows.pack(workspace, file, force, steps.show)
    say(f"packed {count(files, 'file')} into {file} ({memory(file.stat().st_size)})")


@click.command()
@click.argument("file", type=FilePath(), metavar="FILE.zip")
@click.argument("target", type=FilePath(), metavar="NEW_FOLDER")
@guarded
def unpack(file: Path, target: Path) -> None:
    """Unpack an archive that axiarch pack has written into NEW_FOLDER, every file checked."""
    from axiarch import workflows
    from axiarch.cli.progress import Steps

    with Steps() as steps:
        workspace = workflows.unpack(file, target, steps.show)
    say(f"the workspace is {workspace.folder}")


def _origin(model: KeptModel) -> str:
    """Return where a model comes from."""
    if model.source:
        return f"read from {shown(model.source, 60)}"
    if model.networks > 1:
        return (f"the mean of {model.networks} networks, recipe {model.recipe} of search "
                f"{model.search} first")
    return f"recipe {model.recipe} of search {model.search}, seed {model.seed}, epoch {model.epoch}"


def _score(model: KeptModel) -> str:
    from axiarch.text import measured

    on = " (rows that it was trained on)" if model.all_open else ""
    metric = measured(model.metric, model.metric_value)
    return f"{shown(model.loss_name)} {loss(model.loss)}, {model.metric} {metric}{on}"


def _as_json(model: KeptModel) -> dict[str, Any]:
    from dataclasses import asdict, replace

    return {
        **asdict(replace(model, recipes=())), "path": str(model.path),
        "recipes": [dict(r) for r in model.recipes]
    }


#: All commands of this module, for the program to take in.
COMMANDS = (models, predict, confirm, report, bring, pack, unpack)
