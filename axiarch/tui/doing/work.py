"""Work that takes time: every workflow beside the interface's loop, its errors made messages."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, Literal

from textual.message import Message

from axiarch import workflows
from axiarch.data.dataset import Dataset
from axiarch.data.table import Tell
from axiarch.errors import AxiarchError
from axiarch.journal.inbox import Request
from axiarch.text import count
from axiarch.tui import messages
from axiarch.tui.doing.context import Context
from axiarch.workflows.snapshot import Snapshot

#: Seconds after the last edit before the forecast is worked out anew.
_SETTLE = 0.7


class GivenUpError(Exception):
    """The user wants this work ended."""


class Steps:
    """Says how far work is, a few times a second, and ends it where that is wanted."""

    def __init__(self, c: Context) -> None:
        self._context = c
        self._step = ""
        self._began = self._said = 0.0

    def __call__(self, step: str, done: float) -> None:
        if self._context.give_up.is_set():
            raise GivenUpError
        now = time.monotonic()
        if step != self._step:
            self._step, self._began = step, now
        if now - self._said > 0.2:
            self._said = now
            self._context.post(messages.StepTaken(step, done, now - self._began))


def load(c: Context) -> None:
    """Read what the workspace holds."""

    def job() -> None:
        name = workflows.draft_data(c.workspace)
        dataset = guard(c, lambda: workflows.data_set(c.workspace, name)) if name else None
        numbers = c.workspace.search_numbers()
        c.call(loaded, c, dataset, numbers)

    c.in_thread(job, "load")


def loaded(c: Context, dataset: Dataset | None, numbers: list[int]) -> None:
    if numbers:
        c.feed.watch(numbers[-1])
    if c.state.dataset is not None:  # data was added meanwhile
        dataset = c.state.dataset
    draft = workflows.load_draft(c.workspace, dataset) if dataset else None
    c.show(dataset=dataset,
               draft=draft,
               searches=numbers[-1] if numbers else 0,
               looked=True,
               openings=times_opened(c, dataset),
               versions=workflows.versions(c.workspace))
    if not c.past:  # else the user has gone somewhere meanwhile
        c.bring(c.first_view or ("field" if numbers else "data"))
    forecast_soon(c)
    foresee(c)


def times_opened(c: Context, dataset: Dataset | None) -> int:
    """Return how often the seal of a data set was opened."""
    return len(workflows.openings(c.workspace, dataset)) if dataset else 0


def guard(c: Context, job: Callable[[], Dataset]) -> Dataset | None:
    try:
        return job()
    except AxiarchError as error:
        c.post(messages.ErrorRaised(error))
        return None


def forecast_soon(c: Context) -> None:
    if c.settling is not None:
        c.settling.stop()
    c.settling = c.after(_SETTLE, lambda: forecast(c))


def foresee(c: Context) -> None:
    """Work out what earlier searches on the data let one expect of other recipes."""

    def job() -> None:
        dataset = c.state.dataset
        if dataset is None:
            return
        try:
            found = workflows.foresight(c.workspace, dataset)
        except AxiarchError as error:
            c.post(messages.ErrorRaised(error))
            return
        c.post(messages.Foreseen(dataset.fingerprint, found))

    c.in_thread(job, "foresight")


def forecast(c: Context) -> None:
    """Work out what the draft will take."""

    def job() -> None:
        draft, dataset = c.state.draft, c.state.dataset
        if draft is None or dataset is None:
            return
        try:
            made = messages.ForecastMade(
                draft, workflows.forecast_search(draft, dataset, workspace=c.workspace))
        except AxiarchError as error:
            made = messages.ForecastMade(draft, None, error)
        c.post(made)

    c.in_thread(job, "forecast")


def later(c: Context, what: Callable[[], None]) -> None:
    """Do something when the data set under way is there."""
    c.pending.append(what)
    waiting = len(c.pending)
    c.say(
        (f"The data set is still being rebuilt; {waiting} more "
         f"{'key waits' if waiting == 1 else 'keys wait'}. Esc cancels.", "ink"))


def add(c: Context, job: Callable[[Tell], str]) -> None:
    """Make a data set off the interface's loop, one at a time: two at once could take each
    other's place.
    """
    if c.adding:
        c.post(messages.Noted("The data set is still being rebuilt."))
        return
    c.adding = True
    c.give_up.clear()
    c.in_thread(lambda: cancellable(c, lambda: messages.DataAdded(job(Steps(c)))), "data", False)


def cancellable(c: Context, job: Callable[[], Message]) -> None:
    """Do a job whose progress is shown and which esc cancels, and post what comes of it."""
    done: Message
    try:
        done = job()
    except GivenUpError:
        done = messages.Noted("Cancelled. Nothing was changed.")
    except AxiarchError as error:
        done = messages.ErrorRaised(error)
    finally:
        c.adding = False
    c.post(done)


def start_search(c: Context, once: bool = False) -> None:
    def job() -> None:
        draft = c.state.draft
        assert draft is not None
        try:
            forecast = c.state.forecast if not once else None
            number = workflows.start_search(c.workspace,
                                            workflows.alone(draft) if once else draft,
                                            forecast=forecast)
            c.post(messages.SearchStarted(number, "strips" if once else "field"))
        except AxiarchError as error:
            c.post(messages.ErrorRaised(error))

    c.in_thread(job, "start")


def resume_search(c: Context, number: int) -> None:
    def job() -> None:
        try:
            workflows.resume_search(c.workspace, number)
        except AxiarchError as error:
            c.post(messages.ErrorRaised(error))

    c.in_thread(job, "start")


def steer(c: Context, request: Request) -> None:
    s = c.state.snapshot
    assert s is not None
    number, over = s.search.number, s.over

    def job() -> None:
        try:
            workflows.steer_search(c.workspace, number, request)
        except AxiarchError as error:
            c.post(messages.ErrorRaised(error))

    if over:  # it is resumed, which takes a moment
        c.in_thread(job, "start")
    else:
        job()


def explain(c: Context, snapshot: Snapshot) -> None:
    """Work out which knobs matter, off the interface's loop."""

    def job() -> None:
        found: workflows.KnobEffects | str
        try:
            found = workflows.explain(snapshot)
        except AxiarchError as error:
            found = f"{error.what}: {error.remedy}."
        c.post(messages.EffectsMade(snapshot.search.number, found))

    c.in_thread(job, "effects")


def predict(c: Context, snapshot: Snapshot, recipe: int, part: Literal["validation",
                                                                  "train"]) -> None:
    """Work out what a recipe predicts, off the interface's loop."""

    def job() -> None:
        found: dict[str, Any] | str
        try:
            found = workflows.judge_recipe(c.workspace,
                                           snapshot,
                                           recipe,
                                           part=part,
                                           inputs=True)["summary"]
        except AxiarchError as error:
            found = f"{error.what}. {error.remedy}"
        c.post(messages.PredictionsMade(snapshot.search.number, recipe, part, found))

    c.in_thread(job, "predictions")


def score_test_rows(c: Context, data: Dataset, reason: str, snapshot: Snapshot | None,
                     recipe: int) -> None:
    """Open the seal, on the record, off the interface's loop."""

    def job() -> None:
        try:
            opened = workflows.open_seal(c.workspace, data, reason, snapshot, recipe)
        except AxiarchError as error:
            c.post(messages.ErrorRaised(error))
            return
        c.post(messages.SealOpened(opened.times, workflows.score_words(opened.score)))

    c.in_thread(job, "seal")


def predict_rows(c: Context, predict: Callable[[Tell], dict[str, Any]], place: Path) -> None:
    """Predict the rows of a file into `place`; esc cancels."""
    if c.adding:
        c.post(messages.Noted("Wait until the data set is rebuilt, then predict the file."))
        return
    c.adding = True
    c.give_up.clear()

    def job() -> Message:
        found = predict(Steps(c))
        remarks = " ".join(f"{line}." for line in found["remarks"][:2])
        more = f" {len(found['remarks']) - 2} more remarks: axiarch predict prints them." if (
            len(found["remarks"]) > 2) else ""
        return messages.Noted(f"{count(found['rows'], 'row')} predicted: {place}. {remarks}{more}")

    c.in_thread(lambda: cancellable(c, job), "predict file")


def write_beside(c: Context, job: Callable[[], list[Path]]) -> None:
    """Write files off the interface's loop and say where they are."""

    def written() -> Message:
        names = ", ".join(dict.fromkeys(p.name for p in job()))
        return messages.Noted(f"Written: {names} in {c.workspace.exports}")

    c.in_thread_and_post(written, "export")
