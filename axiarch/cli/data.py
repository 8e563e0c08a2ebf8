"""Commands on data sets: ``axiarch data …``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from axiarch.cli.options import guarded, json_option, open_place, workspace_option
from axiarch.data.plan import GAPS, SCALINGS
from axiarch.errors import InputError

if TYPE_CHECKING:
    from axiarch.data.dataset import Dataset
    from axiarch.data.plan import DataPlan


@click.group()
def data() -> None:
    """Add data sets and look at them."""


@data.command("add")
@click.argument("file", type=click.Path(path_type=Path))
@workspace_option
@click.option("--name", default="", help="What to call it; by default the file's name.")
@click.option("--target", default=None, help="Column to be predicted; by default it is proposed.")
@click.option("--ignore", multiple=True, help="Column to leave out; may be given again.")
@click.option("--use", multiple=True, help="Column to take in although it would be left out.")
@click.option("--text", multiple=True, help="Column that stays text although it reads as numbers or dates.")
@click.option("--gaps", type=click.Choice(GAPS), default="median",
              help="What fills gaps in numbers; learnt from the training rows.", show_default=True)
@click.option("--scaling", type=click.Choice(SCALINGS), default="z-score",
              help="How numbers are brought near zero; learnt from the training rows.", show_default=True)
@click.option("--rows", default=0, help="Training rows used at the most, for quick work; 0 for all.")
@click.option("--validation", default=0.2, help="Share of the rows for validation.", show_default=True)
@click.option("--test", "test_share", default=0.2, help="Share of the rows sealed for the test.", show_default=True)
@click.option("--group", default="", help="Column whose equal values stay together in one part.")
@click.option("--order", default="", help="Column that puts rows in order; the last are for the test.")
@click.option("--seed", default=1, type=click.IntRange(0), help="Fixes the split.", show_default=True)
@click.option("--separator", default=None, help="Between cells of a text; by default found out.")
@click.option("--encoding", default=None, help="Of a text, such as utf-8 or windows-1252; by default found out.")
@click.option("--decimal", type=click.Choice([".", ","]), default=None, help="By default found out.")
@click.option("--header/--no-header", default=None, help="Whether the first row names the columns.")
@json_option
@click.pass_context
@guarded
def data_add(context: click.Context, file: Path, folder: Path | None, name: str, as_json: bool, **decided: Any) -> None:
    """Add a table: read, checked, split, encoded, its test rows sealed.

    Reads delimited text of any kind, Parquet, Arrow, JSON lines and Excel.
    """
    from axiarch import workflows

    workspace = open_place(context, folder, create=True)
    _print_data(workflows.add_table(workspace, file, name=name, plan=_plan(decided)), as_json)


def _plan(decided: dict[str, Any]) -> DataPlan:
    """Return the decisions that options stand for."""
    from axiarch.data.delimited import Said
    from axiarch.data.plan import DataPlan, SplitPlan

    separator = decided["separator"]
    if separator is not None:
        separator = {"tab": "\t", "\\t": "\t", "comma": ",", "semicolon": ";"}.get(separator, separator)
        if len(separator) != 1:
            raise InputError(f"{separator!r} is not a separator", "--separator", "give one character, or tab")
    split = SplitPlan(decided["validation"], decided["test_share"], decided["group"], decided["order"], decided["seed"])
    said = Said(separator, decided["encoding"], decided["decimal"], decided["header"])
    return DataPlan(decided["target"], decided["ignore"], decided["use"], decided["text"], decided["gaps"],
                    decided["scaling"], decided["rows"], split, said)


@data.command("demo-files")
@click.argument("place", type=click.Path(path_type=Path), default=Path("demo-files"))
@guarded
def data_demo_files(place: Path) -> None:
    """Write the demo tables as files, a clean and a messy one."""
    from axiarch import workflows

    for path in workflows.write_demo_files(place):
        print(path)


@data.command("show")
@click.argument("name", default="")
@workspace_option
@json_option
@click.pass_context
@guarded
def data_show(context: click.Context, name: str, folder: Path | None, as_json: bool) -> None:
    """Show what is known of a data set."""
    from axiarch import workflows

    _print_data(workflows.data_set(open_place(context, folder), name), as_json)


def _print_data(found: Dataset, as_json: bool) -> None:
    from axiarch.cli import printing

    if as_json:
        printing.print_json(printing.data_json(found))
    else:
        printing.print_data(found)
