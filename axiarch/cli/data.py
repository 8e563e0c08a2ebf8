"""Commands on data sets: ``axiarch data …``."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, get_args

import click

from axiarch.cli.options import (
    FilePath,
    guarded,
    json_option,
    open_place,
    search_option,
    workspace_option,
)
from axiarch.cli.saying import print_json, say
from axiarch.data.plan import SCALINGS, SEPARATOR_NAMES, TARGET_SCALINGS, TASKS
from axiarch.errors import InputError
from axiarch.recipes.bounds import MOST_NUMBER
from axiarch.runs.lowered import Lowered
from axiarch.text import count

if TYPE_CHECKING:
    from axiarch.data.dataset import Dataset
    from axiarch.data.plan import DataPlan


@click.group()
def data() -> None:
    """Add data sets and look at them."""


@data.command("add")
@click.argument("file", type=FilePath())
@workspace_option
@click.option("--name", default="", help="What to call it; by default the file's name.")
@click.option("--target", "targets", multiple=True,
              help="Column to predict (default: proposed). Repeatable, to predict several amounts.")
@click.option("--task",
              type=click.Choice(TASKS),
              default=None,
              help="By default it follows from the target.")
@click.option("--ignore", multiple=True, help="Column to leave out (repeatable).")
@click.option("--use",
              multiple=True,
              help="Column to use even if it would be ignored (repeatable).")
@click.option("--text", multiple=True,
              help="Column that stays text although it reads as numbers or dates (repeatable).")
@click.option("--number", "numbers", multiple=True,
              help="Column of numbers although leading zeros make it look like codes (repeatable).")
@click.option(
    "--missing",
    multiple=True,
    metavar="[COLUMN=]MARK",
    help="Text or number that means a missing value, in all columns or in one (repeatable). "
    "Texts replace the usual marks and those found, numbers are added to them; 'COLUMN=' alone "
    "means none.")
@click.option(
    "--dates",
    multiple=True,
    metavar="COLUMN=HOW",
    help="How a column of dates is written: day first, month first, year first, or a pattern "
    "like %d.%m.%Y (repeatable).")
@click.option("--merge-case", multiple=True, metavar="COLUMN",
              help="Column whose texts count as equal when they differ only in case (repeatable).")
@click.option(
    "--pictures",
    default="",
    metavar="HxW[xC]",
    help="The columns that are neither target nor ignored are the pixels of one picture a row.")
@click.option("--skip-bad", is_flag=True, help="Leave out pictures that cannot be read.")
@click.option("--gaps", multiple=True, metavar="[COLUMN=]HOW",
              help="What fills gaps in numbers, of all columns or of one: median (default), mean, "
                   "'most frequent', or 'constant N', learnt from the training rows (repeatable).")
@click.option(
    "--scaling",
    multiple=True,
    metavar="[COLUMN=]HOW",
    help="How numbers are scaled, of all columns or of one: z-score (default), 0-1, robust, "
    "logarithm, none, learnt from the training rows (repeatable).")
@click.option("--ordinal", multiple=True, metavar="COLUMN[=LOW<...<HIGH]",
              help="Text column that becomes one number, its place in this order (repeatable).")
@click.option("--target-scaling",
              type=click.Choice(TARGET_SCALINGS),
              default="z-score",
              show_default=True,
              help="The same for a target of amounts; losses are reported in its own units.")
@click.option("--ranked-by", type=click.Choice(get_args(Lowered)), default="loss",
              show_default=True,
              help="What searches lower and recipes are ranked by on the validation rows.")
@click.option("--rows",
              default=0,
              help="Training rows used at the most, for quick work; 0 for all.")
@click.option("--shrink", default=1, help="Downscale pictures by this factor for quick work.")
@click.option("--validation",
              default=0.2,
              help="Share of the rows for validation.",
              show_default=True)
@click.option("--test",
              "test_share",
              default=0.2,
              help="Share of the rows sealed for the test.",
              show_default=True)
@click.option("--group", default="", help="Column whose equal values stay together in one part.")
@click.option("--order",
              default="",
              help="Column that puts rows in order; the last are for the test.")
@click.option("--part",
              default="",
              help="Column that assigns every row to train, validation or test.")
@click.option("--keep-equal-rows", "equal_rows", is_flag=True,
              help="Keep rows with the same inputs together in one part.")
@click.option("--folds",
              default=0,
              help="Number of cross-validation folds; 0 for one validation part.")
@click.option("--fold-repeats", default=1, help="How often the rows are divided into folds.",
              show_default=True)
@click.option("--validation-file", type=FilePath(), default=None,
              help="File with the same columns that holds the validation rows.")
@click.option("--test-file", type=FilePath(), default=None, help="The same for the test rows.")
@click.option("--labels-file", type=FilePath(), default=None,
              help="File that holds the labels of pictures, where theirs does not.")
@click.option("--seed",
              default=1,
              type=click.IntRange(0),
              help="Fixes the split.",
              show_default=True)
@click.option("--separator",
              default=None,
              help="Separator between the cells of a text (default: detected).")
@click.option("--encoding",
              default=None,
              help="Encoding of a text, such as utf-8 or windows-1252 (default: detected).")
@click.option("--decimal", type=click.Choice([".", ","]), default=None, help="Default: detected.")
@click.option("--header/--no-header", default=None, help="Whether the first row names the columns.")
@json_option
@click.pass_context
@guarded
def data_add(context: click.Context, file: Path, folder: Path | None, name: str, as_json: bool,
             validation_file: Path | None, test_file: Path | None, labels_file: Path | None,
             **decided: Any) -> None:
    """Add a table or pictures: read, checked, split, encoded, the test rows sealed.

    Reads delimited text of any kind, Parquet, Arrow, JSON lines and Excel; pictures as .npz or
    .npy, in the IDX format, or as a folder of PNG files with a sub-folder for each class.
    """
    from axiarch import workflows
    from axiarch.cli.progress import Steps
    from axiarch.data.reading import CompanionFiles

    plan = _plan(decided)
    workspace = open_place(context, folder, create=True)
    given = CompanionFiles(validation_file, test_file, labels_file)
    with Steps() as steps:
        made = workflows.add_table(workspace,
                                   file,
                                   name=name,
                                   plan=plan,
                                   given=given,
                                   on_progress=steps.show)
    _print_data(made, as_json)


def _plan(decided: dict[str, Any]) -> DataPlan:
    """Return the decisions that options stand for."""
    from axiarch.data.plan import DataPlan, FormatOverrides, SplitPlan, check_gaps

    separator = decided["separator"]
    if separator is not None:
        separator = {**SEPARATOR_NAMES, "\\t": "\t"}.get(separator, separator)
        if len(separator) != 1:
            raise InputError(f"{separator!r} is not a separator", "--separator",
                             "give one character, or tab")
    split = SplitPlan(decided["validation"], decided["test_share"], decided["group"],
                      decided["order"], decided["part"], decided["folds"], decided["fold_repeats"],
                      decided["seed"], decided["equal_rows"])
    said = FormatOverrides(separator, decided["encoding"], decided["decimal"], decided["header"])
    plan = DataPlan(decided["targets"],
                    decided["task"] or "",
                    decided["ignore"],
                    decided["use"],
                    decided["text"],
                    decided["numbers"],
                    pictures=decided["pictures"],
                    skip_bad=decided["skip_bad"],
                    target_scaling=decided["target_scaling"],
                    ranked_by=decided["ranked_by"],
                    rows=decided["rows"],
                    shrink=decided["shrink"],
                    split=split,
                    said=said)
    plan = _with_marks(plan, decided["missing"])
    for column, how in map(_of_column, decided["dates"]):
        if not column:
            raise InputError(f"{how!r} names no column", "--dates", "give COLUMN=HOW")
        plan = plan.treated(column, dates=how)
    for column in decided["merge_case"]:
        plan = plan.treated(column, merge_case=True)
    for column, how in map(_of_column, decided["gaps"]):
        plan = plan.treated(column, gaps=check_gaps(how, "--gaps")) if column else replace(plan,
                                                                                           gaps=how)
    for column, how in map(_of_column, decided["scaling"]):
        if how not in SCALINGS:
            raise InputError(f"no scaling is called {how!r}", "--scaling",
                             "give one of " + ", ".join(SCALINGS))
        plan = plan.treated(column, scaling=how) if column else replace(plan, scaling=how)
    for text in decided["ordinal"]:
        column, _, order = text.partition("=")
        plan = plan.treated(column,
                            order=tuple(c.strip() for c in order.split("<")) if order else ())
    return plan


def _with_marks(plan: DataPlan, texts: Sequence[str]) -> DataPlan:
    """Return a plan with the marks of missing values that options name."""
    for column, mark in map(_of_column, texts):
        if column:
            known = plan.treatment(column).missing or ()
            plan = plan.treated(column, missing=(*known, mark) if mark else known)
        else:
            plan = replace(plan, missing=(*(plan.missing or ()), mark))
    return plan


def _of_column(text: str) -> tuple[str, str]:
    """Return column and decision of ``COLUMN=HOW``; no column where there is none."""
    column, equals, how = text.rpartition("=")
    return (column, how.strip()) if equals else ("", text.strip())


@data.command("demo-files")
@click.argument("place", type=FilePath(), default=Path("demo-files"))
@guarded
def data_demo_files(place: Path) -> None:
    """Write the demo data as files: hive states, clean and messy, nectar flow, and pictures of
    hum.
    """
    from axiarch import workflows

    for path in workflows.write_demo_files(place):
        say(path)


@data.command("show")
@click.argument("name", default="")
@workspace_option
@json_option
@click.pass_context
@guarded
def data_show(context: click.Context, name: str, folder: Path | None, as_json: bool) -> None:
    """Show what is known of a data set."""
    from axiarch import workflows

    workspace = open_place(context, folder)
    found = workflows.data_set(workspace, name)
    _print_data(found, as_json, len(workflows.openings(workspace, found)))


@data.command("change")
@click.argument("which", type=click.IntRange(1, MOST_NUMBER), metavar="NUMBER")
@click.argument("name", default="")
@workspace_option
@json_option
@click.pass_context
@guarded
def data_change(context: click.Context, which: int, name: str, folder: Path | None,
                as_json: bool) -> None:
    """Make a change that the checks of a data set propose, by its number in axiarch data show.

    The data set stays as it is; the change makes a new one beside it.
    """
    from axiarch import workflows

    workspace = open_place(context, folder)
    before = workflows.data_set(workspace, name)
    decision, made = workflows.decide(workspace, before, which)
    if not as_json:
        say(f"{decision.words}: {', '.join(decision.preview(before.plan))}")
        say(f"the new data set is {made.name}; {before.name} stays as it is")
    _print_data(made, as_json, len(workflows.openings(workspace, made)))


@data.command("open-seal")
@click.argument("name", default="")
@click.option("--reason",
              required=True,
              help="What the test score will decide; it is recorded with the time.")
@click.option("--recipe", default=0, type=click.IntRange(0, MOST_NUMBER),
              help="Recipe to score on the test rows, with all its runs, beside the baselines.")
@search_option
@workspace_option
@json_option
@click.pass_context
@guarded
def data_open_seal(context: click.Context, name: str, reason: str, recipe: int, number: int,
                   folder: Path | None, as_json: bool) -> None:
    """Open the sealed test rows, on the record, and score the baselines and a recipe on them.

    Do it once, for the recipe you have chosen: every later opening is counted and printed with
    every ranking.
    """
    from axiarch import workflows
    from axiarch.cli import printing

    workspace = open_place(context, folder)
    found = workflows.data_set(workspace, name)
    snapshot = workflows.snapshot_of(workspace, number) if recipe else None
    opened = workflows.open_seal(workspace, found, reason, snapshot, recipe)
    score = opened.score
    if as_json:
        print_json({"data": found.name, "rows": opened.rows, "times_opened": opened.times,
                    "baseline": printing.baseline_json(found, score.baseline),
                    "linear": printing.baseline_json(found, score.linear) if score.linear else None,
                    "recipe": recipe or None, "loss": score.loss, "runs": list(score.runs),
                    "summary": score.summary})
        return
    say(f"opened {opened.rows} test rows of {found.name}; the seal has been opened "
        f"{count(opened.times, 'time')} by now")
    say(f"  baseline {printing.floor_text(found, score.baseline)}")
    if score.linear:
        say(f"  linear   {printing.floor_text(found, score.linear)}")
    if score.loss is not None and snapshot is not None:
        printing.print_test_score(snapshot, recipe, score)
    say(f"  {workflows.trust(workflows.openings(workspace, found))}")


@data.command("openings")
@workspace_option
@json_option
@click.pass_context
@guarded
def data_openings(context: click.Context, folder: Path | None, as_json: bool) -> None:
    """List when test rows were opened, and why."""
    from dataclasses import asdict

    from axiarch import workflows
    from axiarch.cli import printing

    found = workflows.openings(open_place(context, folder))
    if as_json:
        print_json([asdict(o) for o in found])
    else:
        printing.print_openings(found)


def _print_data(found: Dataset, as_json: bool, openings: int = 0) -> None:
    from axiarch.cli import printing

    if as_json:
        print_json(printing.data_json(found, openings))
    else:
        printing.print_data(found, openings)
