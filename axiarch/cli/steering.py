"""Commands that steer a search: pause, cut, add, give it more."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import click

from axiarch.cli.options import (
    guarded,
    json_option,
    number_argument,
    open_place,
    opened,
    search_option,
    workers_option,
    workspace_option,
)
from axiarch.cli.saying import say
from axiarch.cli.searches import follow
from axiarch.recipes.bounds import MOST_NUMBER
from axiarch.text import count as counted

if TYPE_CHECKING:
    from axiarch.journal.inbox import Request


@click.command()
@number_argument
@workspace_option
@click.pass_context
@guarded
def pause(context: click.Context, number: int, folder: Path | None) -> None:
    """Pause a search that runs in the background."""
    from axiarch.journal import inbox

    _steer(context, folder, number, inbox.Pause(), "pauses")


@click.command()
@number_argument
@workspace_option
@click.pass_context
@guarded
def stop(context: click.Context, number: int, folder: Path | None) -> None:
    """Stop a search; what has ended is kept, and you can resume it."""
    from axiarch.journal import inbox

    _steer(context, folder, number, inbox.Stop(), "stops")


def _steering(name: str, what: str, summary: str, done: Callable[[int], str],
              most: int | None = None
              ) -> click.Command:
    """Return the command that sends the request of a name, which takes one number."""
    @click.command(name, help=summary)
    @click.argument(what, type=click.IntRange(1, most or MOST_NUMBER))
    @search_option
    @workspace_option
    @click.pass_context
    @guarded
    def command(context: click.Context, number: int, folder: Path | None, **given: int) -> None:
        from axiarch.journal import inbox

        request = getattr(inbox, name.capitalize())(**given)
        _steer(context, folder, number, request, done(given[what]))

    return command


cut = _steering("cut", "recipe", "Cut RECIPE from a running search: it is trained no further.",
                lambda recipe: f"cuts recipe {recipe}")
keep = _steering("keep", "recipe",
                 "Keep RECIPE of a running search from being cut: it is trained to its end.",
                 lambda recipe: f"keeps recipe {recipe}")
budget = _steering("budget", "recipes",
                   "Let a search try RECIPES recipes in all; a finished one resumes.",
                   lambda recipes: f"tries {counted(recipes, 'recipe')} in all")
workers = _steering("workers", "count",
                    "Let a running search use COUNT worker processes from now on.",
                    lambda workers: f"uses {counted(workers, 'worker')}", 256)


@click.command()
@click.argument("count", type=click.IntRange(1, 200), required=False)
@click.argument("recipes", type=click.IntRange(1, MOST_NUMBER), nargs=-1)
@search_option
@workspace_option
@json_option
@click.pass_context
@guarded
def seeds(context: click.Context, count: int | None, recipes: tuple[int, ...], number: int,
          folder: Path | None, as_json: bool) -> int:
    """Train RECIPES on COUNT more seeds; a finished search resumes.

    By default the ranking chooses: the leader and the recipes that may be as good, on as many
    seeds as it takes to rule them out.
    """
    from axiarch import workflows
    from axiarch.journal import inbox

    workspace, snapshot = opened(context, folder, number)
    chosen, more = workflows.seeds_wanted(snapshot, recipes, count or 0)
    if not chosen:
        raise workflows.unranked(snapshot)
    number = workflows.steer_search(workspace, snapshot.search.number, inbox.Seeds(chosen, more))
    say(f"search {number} trains {counted(len(chosen), 'recipe')} on "
        f"{counted(more, 'more seed')}", error=as_json)
    return follow(workspace, number, as_json)


@click.command()
@click.argument("recipe", type=click.IntRange(1, MOST_NUMBER))
@click.argument("epochs", type=click.IntRange(1, MOST_NUMBER))
@search_option
@click.option("--best", is_flag=True, help="Continue from its best epoch instead of its last.")
@workspace_option
@workers_option
@json_option
@click.pass_context
@guarded
def more(context: click.Context, recipe: int, epochs: int, number: int, best: bool,
         folder: Path | None, workers: int | None, as_json: bool) -> int:
    """Train RECIPE for EPOCHS more, from where it stopped.

    In a running search it continues there. Where the search is over, a new search continues from
    its checkpoint.
    """
    from axiarch import workflows
    from axiarch.journal import inbox

    workspace, snapshot = opened(context, folder, number, recipe)
    if not snapshot.over and not best:
        workflows.steer_search(workspace, snapshot.search.number, inbox.More(recipe, epochs))
        say(f"recipe {recipe} of search {snapshot.search.number} trains for {epochs} more epochs")
        return 0
    run = workflows.first_run(snapshot, recipe).id
    started = workflows.continue_run(workspace,
                                     snapshot,
                                     run,
                                     epochs,
                                     "best" if best else "last",
                                     workers=workers or 1)
    return follow(workspace, started, as_json)


@click.command()
@click.argument("values", nargs=-1, required=True)
@search_option
@workspace_option
@click.pass_context
@guarded
def add(context: click.Context, values: tuple[str, ...], number: int, folder: Path | None) -> None:
    """Take a recipe into a running search: its base with VALUES changed, such as
    learning_rate=0.01 width=64.
    """
    from axiarch import workflows
    from axiarch.journal import inbox
    from axiarch.recipes.notation import fixed_values

    workspace, snapshot = opened(context, folder, number)
    recipe = snapshot.file.space.base.changed(fixed_values(values))
    workflows.steer_search(workspace, snapshot.search.number, inbox.Add(dict(recipe)))
    say(f"recipe added to search {snapshot.search.number}")


def _steer(context: click.Context, folder: Path | None, number: int, request: Request, done: str
           ) -> None:
    from axiarch import workflows

    number = workflows.steer_search(open_place(context, folder), number, request)
    say(f"search {number} {done}")


#: All commands of this file, for the program to take in.
COMMANDS = (pause, stop, cut, keep, more, add, budget, seeds, workers)
