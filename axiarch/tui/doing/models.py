"""What a user does with trained networks: keep one or an average, look through models, use them,
bring others in.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from axiarch import workflows
from axiarch.text import count, loss, memory
from axiarch.tui import messages
from axiarch.tui.doing.asking import ask_number, chosen, replacing
from axiarch.tui.doing.context import Context
from axiarch.tui.doing.work import predict_rows
from axiarch.tui.widgets.browser import Browser
from axiarch.tui.widgets.dialogs import Asked, Question
from axiarch.tui.widgets.models import Models
from axiarch.workflows.models import KeptModel
from axiarch.workflows.snapshot import Snapshot

if TYPE_CHECKING:
    from textual.message import Message


def keep_model(c: Context) -> None:
    """Ask for a name and a note, then keep the network of a recipe as a model."""
    _ask_to_keep(c, "",
        "The network of its best epoch is kept with all it needs to predict new files, as one "
        "file. M lists the models kept.")


def keep_average(c: Context) -> None:
    """Ask for a name and a note, then keep the average of a recipe's seeds as one model."""
    _ask_to_keep(c, "seeds",
        "The predictions of all its seeds are averaged, as one model in one file. It is kept "
        "only if it is better than the best of them by more than chance, paired over the "
        "validation rows."
    )


def _ask_to_keep(c: Context, average: str, why: str) -> None:
    s, recipe = c.state.snapshot, chosen(c)
    if s is None or recipe not in s.recipes:
        return
    what = f"the average of recipe {recipe}'s seeds" if average else f"recipe {recipe}"
    name = f"recipe {recipe} of search {s.search.number}{' averaged' if average else ''}"

    def answered(answer: str | None) -> None:
        if answer:
            own, _, note = answer.partition(":")
            _beside(c, lambda: _kept(
                    workflows.keep_model(c.workspace, s, recipe, own, note, average=average)))

    c.ask(
        Asked(f"Keep {what} as a model?", why, "a name; or a name, a colon, and a note", name),
        answered)


def _kept(model: KeptModel) -> Message:
    what = f"mean of {model.networks} networks" if model.networks > 1 else (f"seed {model.seed}, "
                                                                            f"epoch {model.epoch}")
    name = model.loss_name.split(" (")[0]
    return messages.Noted(
        f"Kept {model.name!r}: {what}, validation {name} {loss(model.loss)}. M lists models.")


def models(c: Context) -> None:
    """Look through the models kept; a key does something with one."""

    def read() -> Message | None:
        found = workflows.kept_models(c.workspace)
        c.call(show, found)
        return None

    def show(found: tuple[KeptModel, ...]) -> None:
        c.ask(Models(found, str(c.workspace.models)), lambda answer: _do(c, answer))

    _beside(c, read)


def _do(c: Context, answer: tuple[str, str] | None) -> None:
    """Do what was chosen in the list of models."""
    word, name = answer or ("", "")
    if not word:
        return
    if word == "remove":
        c.ask(
            Question(f"Remove the model {name}?",
                     "Its file is deleted. The search that trained it and its "
                     "checkpoints stay."), lambda yes: _beside(c, lambda: _removed(c, name))
            if yes == "yes" else None)
        return
    _DEEDS[word](c, name)


def _removed(c: Context, name: str) -> Message:
    found = next(m for m in workflows.kept_models(c.workspace) if m.path.stem == name)
    return messages.Noted(
        f"Removed {found.name!r}; {memory(workflows.remove_model(c.workspace, found))} freed.")


def _verify(c: Context, name: str) -> None:
    def job() -> Message:
        model = workflows.find_model(c.workspace, name)
        kept, found = workflows.verify_model(c.workspace, model)
        if kept == found:
            return messages.Noted(
                f"{model.name!r}: validation loss {loss(found)}, the same to the last bit.")
        return messages.Noted(
            f"{model.name!r}: validation loss {found!r} now, {kept!r} when it was kept. Other "
            "package versions or another machine can change the last digits.")

    _beside(c, job)


def _predict(c: Context, name: str) -> None:
    def answered(path: str | None) -> None:
        if path:
            source = Path(path).expanduser()
            place = c.workspace.exports / f"{source.name.split('.')[0]}-predicted.csv"
            replacing(c, [place], lambda force: predict_rows(c, 
                lambda on_progress: workflows.predict(workflows.find_model(c.workspace, name),
                                                      source, place, force, on_progress), place))

    c.ask(Browser(Path.cwd(), workflows.recent_tables(c.workspace)), answered)


def _export(c: Context, name: str) -> None:
    place = c.workspace.exports / f"{name}.onnx"

    def job(force: bool) -> Message:
        place.parent.mkdir(parents=True, exist_ok=True)
        found = workflows.export_network(workflows.find_model(c.workspace, name), place, force)
        return messages.Noted(
            f"Written: {place} ({memory(found['bytes'])}). It differs from our own predictions by "
            f"{found['difference']:.1e} at most, on {count(found['rows'], 'made-up row')}.")

    replacing(c, [place], lambda force: _beside(c, lambda: job(force)))


def _continue(c: Context, name: str) -> None:
    ask_number(c, 
        f"Train how many epochs from the weights of {name}?",
        "Its weights are the first ones of a new training. The optimiser and the schedule start "
        "from the beginning: only more epochs of its own run, with c, continue exactly.", 20,
        lambda n: _beside(c, lambda: messages.SearchStarted(
                workflows.continue_model(c.workspace, workflows.find_model(c.workspace, name), n
                                         ), "strips")))


_DEEDS: dict[str, Callable[[Context, str], None]] = {
    "predict": _predict, "verify": _verify, "continue": _continue, "network": _export}


def last_training(c: Context) -> None:
    """Ask on how many seeds a recipe is trained on all open rows, before the test rows are
    opened.
    """
    s, recipe = c.state.snapshot, chosen(c)
    if s is None or recipe not in s.recipes:
        return
    if not s.over:
        c.post(
            messages.Noted(
                "Train on all open rows when the search is over: only one search runs at a time."))
        return
    ask_number(c, 
        f"Train recipe {recipe} on training and validation rows, on how many seeds?",
        "For the last look: more rows, as many epochs as its runs were best after, and no row left "
        "that says how good it is. Only the test rows can: open the seal (ctrl+o) once it has "
        "ended.", 3,
        lambda n: _beside(c, lambda: _last(c, s, recipe, n)))


def _last(c: Context, s: Snapshot, recipe: int, seeds: int) -> Message:
    search = workflows.finishing_search(c.workspace, s, recipe, seeds)
    return messages.SearchStarted(workflows.start_search(c.workspace, search), "field")


def bring_in(c: Context) -> None:
    """Ask for a table of finished trainings of other origin, and rank them in this search."""
    s = c.state.snapshot
    if s is None:
        return

    def answered(path: str | None) -> None:
        if path:
            _beside(c, lambda: messages.Noted(str(workflows.bring_in(
                c.workspace, Path(path).expanduser(), s.search.number))))

    c.ask(Browser(Path.cwd(), ()), answered)


def _beside(c: Context, job: Callable[[], Message | None]) -> None:
    """Do a job off the interface's loop, and post what comes of it."""
    c.in_thread_and_post(job, "model")
