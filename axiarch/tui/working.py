"""Work that the application calls for: every workflow, in a thread where it takes time, its
errors made messages.
"""

from __future__ import annotations

import threading
import time
from collections import deque
from collections.abc import Callable
from pathlib import Path
from typing import Any, Literal

from textual import work
from textual.message import Message
from textual.timer import Timer

from axiarch import workflows
from axiarch.data.dataset import Dataset
from axiarch.data.table import Tell
from axiarch.errors import AxiarchError
from axiarch.journal.inbox import Request
from axiarch.journal.workspace import Workspace
from axiarch.plain import count
from axiarch.tui import messages
from axiarch.tui.framed import FramedApp
from axiarch.tui.state import State
from axiarch.workflows.watching import Snapshot

#: Seconds after the last edit before the forecast is worked out anew.
_SETTLE = 0.7


class GivenUpError(Exception):
    """The user wants this work ended."""


class _Steps:
    """Says how far work is, a few times a second, and ends it where that is wanted."""

    def __init__(self, app: WorkingApp) -> None:
        self._app = app
        self._step = ""
        self._began = self._said = 0.0

    def __call__(self, step: str, done: float) -> None:
        if self._app._give_up.is_set():
            raise GivenUpError
        now = time.monotonic()
        if step != self._step:
            self._step, self._began = step, now
        if now - self._said > 0.2:
            self._said = now
            self._app.post_message(messages.StepTaken(step, done, now - self._began))


class WorkingApp(FramedApp):
    """An application that can load, forecast, start, steer, and write files."""

    _settling: Timer | None = None
    _adding = False

    def __init__(self, workspace: Workspace, view: str = "") -> None:
        super().__init__(workspace, view)
        self._give_up = threading.Event()
        self._pending: deque[Callable[[], None]] = deque()

    @property
    def workspace(self) -> Workspace:
        """The workspace that is open."""
        return self._workspace

    @property
    def state(self) -> State:
        """What is shown."""
        return self._state

    @work(thread=True, exclusive=True, group="load")
    def _load(self) -> None:
        """Read what the workspace holds."""
        name = workflows.draft_data(self._workspace)
        dataset = self._guard(lambda: workflows.data_set(self._workspace, name)) if name else None
        numbers = self._workspace.search_numbers()
        self.call_from_thread(self._loaded, dataset, numbers)

    def _loaded(self, dataset: Dataset | None, numbers: list[int]) -> None:
        if numbers:
            self._feed.watch(numbers[-1])
        if self._state.dataset is not None:  # data was added meanwhile
            dataset = self._state.dataset
        draft = workflows.load_draft(self._workspace, dataset) if dataset else None
        self._show(dataset=dataset,
                   draft=draft,
                   searches=numbers[-1] if numbers else 0,
                   looked=True,
                   openings=self._times_opened(dataset),
                   versions=workflows.versions(self._workspace))
        if not self._past:  # else the user has gone somewhere meanwhile
            self._bring(self._first_view or ("field" if numbers else "data"))
        self._forecast_soon()

    def _times_opened(self, dataset: Dataset | None) -> int:
        """Return how often the seal of a data set was opened."""
        return len(workflows.openings(self._workspace, dataset)) if dataset else 0

    def _guard(self, job: Callable[[], Dataset]) -> Dataset | None:
        try:
            return job()
        except AxiarchError as error:
            self.post_message(messages.ErrorRaised(error))
            return None

    def _forecast_soon(self) -> None:
        if self._settling is not None:
            self._settling.stop()
        self._settling = self.set_timer(_SETTLE, self._forecast)

    @work(thread=True, exclusive=True, group="forecast")
    def _forecast(self) -> None:
        """Work out what the draft will take."""
        draft, dataset = self._state.draft, self._state.dataset
        if draft is None or dataset is None:
            return
        try:
            made = messages.ForecastMade(draft, workflows.forecast_search(draft, dataset))
        except AxiarchError as error:
            made = messages.ForecastMade(draft, None, error)
        self.post_message(made)

    def _add(self, job: Callable[[Tell], str]) -> None:
        """Make a data set off the interface's loop, one at a time: two at once could take each
        other's place.
        """
        if self._adding:
            self.post_message(messages.Noted("The data set is still being rebuilt."))
            return
        self._adding = True
        self._give_up.clear()
        self._add_in_thread(job)

    @work(thread=True, group="data")
    def _add_in_thread(self, job: Callable[[Tell], str]) -> None:
        self._cancellable(lambda: messages.DataAdded(job(_Steps(self))))

    def _cancellable(self, job: Callable[[], Message]) -> None:
        """Do a job whose progress is shown and which esc cancels, and post what comes of it."""
        done: Message
        try:
            done = job()
        except GivenUpError:
            done = messages.Noted("Cancelled. Nothing was changed.")
        except AxiarchError as error:
            done = messages.ErrorRaised(error)
        finally:
            self._adding = False
        self.post_message(done)

    @work(thread=True, exclusive=True, group="start")
    def _start(self, once: bool = False) -> None:
        draft = self._state.draft
        assert draft is not None
        try:
            forecast = self._state.forecast if not once else None
            number = workflows.start_search(self._workspace,
                                            workflows.alone(draft) if once else draft,
                                            forecast=forecast)
            self.post_message(messages.SearchStarted(number, "strips" if once else "field"))
        except AxiarchError as error:
            self.post_message(messages.ErrorRaised(error))

    @work(thread=True, exclusive=True, group="start")
    def _resume(self, number: int) -> None:
        try:
            workflows.resume_search(self._workspace, number)
        except AxiarchError as error:
            self.post_message(messages.ErrorRaised(error))

    def _steer(self, request: Request) -> None:
        s = self._state.snapshot
        assert s is not None
        try:
            workflows.steer_search(self._workspace, s.search.number, request)
        except AxiarchError as error:
            self.post_message(messages.ErrorRaised(error))

    @work(thread=True, exclusive=True, group="predictions")
    def _predict(self, snapshot: Snapshot, recipe: int, part: Literal["validation",
                                                                      "train"]) -> None:
        """Work out what a recipe predicts, off the interface's loop."""
        found: dict[str, Any] | str
        try:
            found = workflows.judge_recipe(self._workspace,
                                           snapshot,
                                           recipe,
                                           part=part,
                                           inputs=True)["summary"]
        except AxiarchError as error:
            found = f"{error.what}. {error.remedy}"
        self.post_message(messages.PredictionsMade(snapshot.search.number, recipe, part, found))

    @work(thread=True, exclusive=True, group="seal")
    def _score_test_rows(self, data: Dataset, reason: str, snapshot: Snapshot | None,
                         recipe: int) -> None:
        """Open the seal, on the record, off the interface's loop."""
        try:
            opened = workflows.open_seal(self._workspace, data, reason, snapshot, recipe)
        except AxiarchError as error:
            self.post_message(messages.ErrorRaised(error))
            return
        self.post_message(messages.SealOpened(opened.times, workflows.score_words(opened.score)))

    @work(thread=True, exclusive=True, group="predict file")
    def predict_rows(self, predict: Callable[[Tell], dict[str, Any]], place: Path) -> None:
        """Predict the rows of a file into `place`; esc cancels."""
        if self._adding:
            self.post_message(
                messages.Noted("Wait until the data set is rebuilt, then predict the file."))
            return
        self._adding = True
        self._give_up.clear()

        def job() -> Message:
            found = predict(_Steps(self))
            remarks = " ".join(f"{line}." for line in found["remarks"][:2])
            more = f" {len(found['remarks']) - 2} more remarks: axiarch predict prints them." if (
                len(found["remarks"]) > 2) else ""
            return messages.Noted(
                f"{count(found['rows'], 'row')} predicted: {place}. {remarks}{more}")

        self._cancellable(job)

    @work(thread=True, exclusive=True, group="export")
    def _do(self, job: Callable[[], list[Path]]) -> None:
        """Write files off the interface's loop and say where they are."""
        try:
            names = ", ".join(dict.fromkeys(p.name for p in job()))
            self.post_message(messages.Noted(f"Written: {names} in {self._workspace.exports}"))
        except AxiarchError as error:
            self.post_message(messages.ErrorRaised(error))
