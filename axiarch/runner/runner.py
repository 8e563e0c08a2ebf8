"""Run one search: propose, plan, train, journal, until nothing is left or somebody ends it.

The runner is the only writer of the journal. Everything it is told goes into the journal first, and
it holds nothing that it could not make again from there.
"""

from __future__ import annotations

import contextlib
import sys
import time
from collections.abc import Callable, Iterable

from axiarch.data.dataset import Dataset
from axiarch.engine.memory import training_bytes
from axiarch.engine.run import EpochNumbers
from axiarch.errors import AxiarchError, InputError, NoSpace, TrainingError, WorkspaceError
from axiarch.journal.inbox import Request, receive
from axiarch.journal.read import JournalReader, guarded
from axiarch.journal.records import (
    OVER,
    EpochRecord,
    ExampleRecord,
    RulingRecord,
    SearchState,
    StepRecord,
)
from axiarch.journal.workspace import Workspace
from axiarch.journal.write import JournalWriter
from axiarch.plain import count as counted
from axiarch.plain import memory, shown
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import SearchFile
from axiarch.recipes.steady import steady
from axiarch.runner.executor import Executor
from axiarch.runner.inheriting import Inheritance, Origin
from axiarch.runner.ledger import Block, Ledger, RunEntry
from axiarch.runner.material import effort_of, shape_of, worker_room
from axiarch.runner.queue import Queue
from axiarch.runner.saved import tidy
from axiarch.runner.tasks import (
    Compiling,
    Died,
    Failed,
    Held,
    Left,
    Ready,
    Report,
    Stuck,
    Task,
    Trained,
    WantedRun,
)
from axiarch.search.method import Step
from axiarch.search.methods import make_method

#: Seconds the runner waits for a report before it looks for requests again.
_POLL = 0.1
#: Runs that may wait at once.
_AHEAD = 2000
#: Runs that may wait behind the one that a worker trains; one of less effort than that is short, a
#: tenth of a second.
_BEHIND, _SHORT = 1, 5e9
#: Seconds of deciding between two looks at what workers report.
_DECIDING = 0.003
#: Times a run's worker may die, without a new epoch of the run between, before the run counts as
#: failed.
ATTEMPTS = 2
#: Workers that a search may be given.
MOST_WORKERS = 256
#: A search of at most so many recipes is watched: its runs report what they say of so many
#: validation rows.
WATCHED, EXAMPLES = 3, 8


class Runner:
    """Runs the search `number` of a workspace, which must be locked.

    Parameters
    ----------
    workspace : Workspace
    number : int
    search : SearchFile
    dataset : Dataset
    journal : JournalWriter
    executor : Executor
    room : int
        Bytes that a worker may take for a run; 0 for as many as it needs.
    """

    def __init__(self, workspace: Workspace, number: int, search: SearchFile, dataset: Dataset,
                 journal: JournalWriter, executor: Executor,
                 clock: Callable[[], float] = time.monotonic, room: int = 0) -> None:
        self._folder = workspace.search(number)
        self._number = number
        self._search = search
        self._dataset = dataset
        self._journal = journal
        self._executor = executor
        self._clock = clock
        self._room = room
        self._queue = Queue()
        self._lanes: dict[int, set[int]] = {}
        # A lane whose runs have all ended is idle only when it says so: its session has yet to
        # close.
        self._idle: set[int] = set()
        self._alone: set[int] = set()
        # Runs in the hands of a lane that has not begun with them: to the journal they wait.
        self._behind: set[int] = set()
        self._pids: dict[int, int] = {}
        self._held: set[int] = set()
        self._state: SearchState = "preparing"
        self._wanted: SearchState = "running"
        self._why_paused = ""
        # Whether more steps may be decided now, and whether none could be when that was last asked.
        self._more = self._nothing_now = False
        self._stop_asked = False
        self._memory, self._weighed = 0, -1.0
        (self._folder / "checkpoints").mkdir(exist_ok=True)
        self._restore(workspace)

    def _restore(self, workspace: Workspace) -> None:
        reader = JournalReader(workspace.journal)
        known = reader.search(self._number)
        search = self._search
        self._inheritance = Inheritance(workspace, self._number, reader, self._dataset, search.seed)
        # Where it starts from is found before anything is entered: a search that cannot start
        # leaves no trace.
        self._origin: Origin | None = None
        if search.start:
            self._origin = self._inheritance.of_search(search.start)
            if known is None:
                self._check_origin(self._origin)
        if known is None:
            with self._journal.transaction():
                self._journal.add_search(self._number, self._search.name,
                                         (self._folder / "search.toml").read_text(encoding="utf-8"),
                                         self._search.data, self._dataset.fingerprint)
        self._busy = known.busy if known else 0.0
        self._since: float | None = None
        blocks: list[Block] = [(r, f)
                               for r in range(search.repeats)
                               for f in range(len(self._dataset.folds))]
        blocks = [self._origin.block] if self._origin else blocks
        method = make_method(search.method, search.space, search.seed, len(blocks))
        self._watched = EXAMPLES if method.expected <= WATCHED else 0
        self._effort = effort_of(self._dataset)
        self._ledger = Ledger(search.seed, blocks, method, self._effort)
        with guarded(workspace.journal):
            self._ledger.restore(reader.changes(self._number), reader.steps(self._number),
                                 reader.rulings(self._number))
        reader.close()
        waiting = [entry for entry in self._ledger.runs.values() if entry.state == "waiting"]
        for entry in waiting:
            self._queue.put(entry.wanted(), entry.attempts > 0)
        with self._journal.transaction():
            self._journal.set_runs([entry.spec.id for entry in waiting], "waiting")
            self._enter_state("preparing")

    def _check_origin(self, origin: Origin) -> None:
        """Raise where the base recipe cannot continue from the run that the search file names."""
        try:
            self._inheritance.state(origin, self._search.space.base)
        except TrainingError as error:
            model = self._search.start.model if self._search.start else ""
            where = f"model {shown(model, 60)!r}" if model else error.where
            raise InputError(error.what, f"[start], {where}", error.remedy) from None

    # -- the loop --------------------------------------------------------------------------------

    def run(self) -> SearchState:
        """Run until the search is done or stopped; return its last state.

        It is ``interrupted`` where not even the journal can be written, as if the process had been
        killed: what is journalled is whole, and the search can be resumed.
        """
        try:
            while not self._over():
                self.turn(_POLL)
            return self._close(*self._verdict())
        except (NoSpace, WorkspaceError) as error:
            return _interrupted(error)
        except AxiarchError as error:
            try:
                return self._close("failed", str(error))
            except (NoSpace, WorkspaceError) as worse:
                return _interrupted(worse)

    def turn(self, seconds: float) -> None:
        """Do what was asked, take in what was reported, hand out work: once."""
        requests, refused = receive(self._folder)
        for why in refused:
            self._note("refused", why)
        for request in requests:
            self._obey(request)
        if self._stop_asked and self._wanted != "stopped":
            self._do("stop")
        for report in self._executor.poll(0.0 if self._more else seconds):
            with self._journal.transaction():
                self._take(report)
        self._weigh()
        self._settle_pause()
        self._more = self._wanted == "running" and self._hand_out()

    def _weigh(self) -> None:
        """Look once a second how much memory the workers take."""
        if self._clock() - self._weighed >= 1.0:
            self._weighed = self._clock()
            self._memory = max(self._memory, bytes_of(self._pids.values()))

    def _over(self) -> bool:
        if self._wanted == "stopped":
            return not any(self._lanes.values())
        return (self._nothing_now and not self._queue and not any(self._lanes.values())
                and self._wanted == "running")

    def _verdict(self) -> tuple[SearchState, str]:
        if self._wanted == "stopped":
            return "stopped", "stopped by hand; you can resume it"
        runs = self._ledger.runs.values()
        failed = sum(r.state == "failed" for r in runs)
        if failed and not any(r.state in ("ended", "resting", "cut") for r in runs):
            return "failed", "every run failed"
        if failed:
            return "done", f"every run has ended; {failed} of {counted(len(runs), 'run')} failed"
        return "done", "every run has ended"

    def _close(self, state: SearchState, why: str) -> SearchState:
        with self._journal.transaction():
            self._journal.set_runs(
                [i for i, e in self._ledger.runs.items() if e.state == "training"], "waiting")
            self._journal.add_event(self._number, "memory", str(self._memory))
            if state == "done":
                self._cut_resting()
                tidy(self._folder / "checkpoints")
            self._enter_state(state, why)
            self._journal.add_event(self._number, state, why)
            self._journal.clear_lanes(self._number)
        return state

    def _cut_resting(self) -> None:
        """Enter why the runs that rest were not trained further: nothing more will come of them."""
        for run, entry in self._ledger.runs.items():
            if entry.state == "resting":
                entry.state = "cut"
                why = self._ledger.course.method.fate(entry.recipe)
                self._journal.end_run(run, "cut", "cut", why, steady(entry.losses)[0])

    # -- requests --------------------------------------------------------------------------------

    def stop(self) -> None:
        """Stop with the next turn, as if somebody had asked for it; safe to call from a signal
        handler.
        """
        self._stop_asked = True

    def _obey(self, request: Request) -> None:
        """Do what was asked; what cannot be done is said in the journal, and changes nothing.

        A full disk is no fault of the request: it ends the search as everywhere.
        """
        try:
            self._do(request.do, request)
        except NoSpace:
            raise
        except (AxiarchError, ArithmeticError, ValueError, TypeError) as error:
            self._note("refused", f"{request.do}: {error}")

    def _do(self, deed: str, request: Request | None = None) -> None:
        if deed == "pause":
            self._pause("paused by hand")
        elif deed == "resume" and self._wanted == "paused":
            self._wanted = "running"
            held, self._held = self._held, set()
            self._executor.go()
            self._change("running", "resumed by hand")
            with self._journal.transaction():
                for lane in sorted(held):
                    state = "training" if self._lanes.get(lane) else "idle"
                    self._journal.set_lane(self._number, lane, self._pids.get(lane, 0), state)
        elif deed == "stop":
            self._wanted = "stopped"
            self._held.clear()
            self._executor.drop()
        elif request is not None and deed in ("cut", "keep", "more"):
            if request.recipe not in self._ledger.recipes:
                raise TrainingError(f"there is no recipe {request.recipe}",
                                    f"search {self._number}", "see the ranking")
            hands: dict[str, Callable[[int, int], None]] = {
                "cut": self._cut, "keep": self._keep, "more": self._give_more}
            hands[deed](request.recipe, request.count)
        elif request is not None and deed == "add":
            self._add(Recipe(request.values))
        elif request is not None and deed == "budget":
            self._raise_budget(request.count)
        elif request is not None and deed == "workers":
            self._resize(request.count)

    def _resize(self, workers: int) -> None:
        """Set the number of workers, each with its share of the memory."""
        if not 1 <= workers <= MOST_WORKERS:
            raise TrainingError(f"{workers} workers cannot be used", "",
                                f"give a number from 1 to {MOST_WORKERS}")
        self._room = worker_room(workers) if self._room else 0
        self._executor.resize(workers)
        self._note("workers", f"{counted(workers, 'worker')} from now on, by hand")

    def _pause(self, why: str) -> None:
        if self._wanted == "running":
            self._wanted, self._why_paused = "paused", why
            self._executor.hold()

    def _note(self, kind: str, text: str) -> None:
        with self._journal.transaction():
            self._journal.add_event(self._number, kind, text)

    def _rule(self, what: str, value: int, text: str) -> None:
        """Let the method obey, and keep that for a later sitting."""
        with self._journal.transaction():
            self._journal.add_ruling(self._number,
                                     RulingRecord(len(self._ledger.course.steps), what, value))
            self._journal.add_event(self._number, what, text)
        self._ledger.course.rule(what, value)  # type: ignore[arg-type]

    def _cut(self, recipe: int, _count: int = 0) -> None:
        """End all runs of a recipe."""
        for entry in self._ledger.runs_of(recipe):
            run = entry.spec.id
            if entry.state in OVER:
                continue
            self._queue.remove(run)
            for lane, runs in self._lanes.items():
                if run in runs:
                    self._executor.release(lane, run)
            entry.state = "cut"
            with self._journal.transaction():
                self._journal.end_run(run, "cut", "cut", "cut by hand", steady(entry.losses)[0])
        self._rule("cut", recipe, f"recipe {recipe} was cut by hand")

    def _keep(self, recipe: int, _count: int = 0) -> None:
        """Let a recipe train to its own end, whatever the others do."""
        first = self._ledger.runs_of(recipe, 1)[0]
        if first.state in OVER:
            raise TrainingError(f"recipe {recipe} is over ({first.state})",
                                f"search {self._number}", "give it more epochs")
        self._enter(Step(self._ledger.recipes[recipe], recipe, 0, 1, why="kept by hand"))
        self._note("kept", f"recipe {recipe} is trained to its end, by hand")

    def _give_more(self, recipe: int, count: int) -> None:
        """Give a recipe more epochs than its round; one that has ended goes on as a new recipe
        with more epochs.
        """
        first, old = self._ledger.runs_of(recipe, 1)[0], self._ledger.recipes[recipe]
        if first.state in ("ended", "cut", "failed"):
            longer = old.changed({"epochs": first.journalled + max(count, 1)})
            self._check_memory(longer)
            if longer in self._ledger.recipes.values():
                raise TrainingError(f"recipe {recipe} has been given {count} epochs more already",
                                    f"search {self._number}", "see the ranking")
            self._enter(
                Step(longer, 0, 0, 1, recipe, f"{count} epochs more than recipe {recipe}, by hand"))
        elif not first.until:
            raise TrainingError(f"recipe {recipe} is being trained to its end",
                                f"search {self._number}", "ask again when it has finished")
        else:
            until = max(first.until, first.journalled) + max(count, 1)
            until = 0 if until >= old.whole("epochs") else until
            self._enter(Step(old, recipe, until, 1, why=f"{count} epochs more, by hand"))
        self._note("more", f"recipe {recipe} is given {count} epochs more, by hand")

    def _check_memory(self, recipe: Recipe) -> None:
        """Raise where a worker cannot hold one run of a recipe."""
        needed = training_bytes(shape_of(recipe, self._dataset), self._dataset.rows["train"])
        if self._room and needed > self._room:
            raise TrainingError(f"one run takes {memory(needed)} and a worker may take "
                                f"{memory(self._room)}", "", "use a smaller network or batch size")

    def _add(self, recipe: Recipe) -> None:
        """Take in a recipe by hand, trained in full on every block."""
        known = next((n for n, r in self._ledger.recipes.items() if r == recipe), 0)
        self._check_memory(recipe)
        self._enter(Step(recipe, known, why="added by hand"))
        self._note("added", f"recipe {known or len(self._ledger.recipes)} was added by hand")

    def _raise_budget(self, recipes: int) -> None:
        method = self._ledger.course.method
        option = next((o for o in method.options if o.name == "recipes"), None)
        if option is None:
            raise TrainingError(f"the method {method.name} takes no number of recipes", "",
                                "it tries all there are")
        proposed = len(self._ledger.recipes)
        if not proposed <= recipes <= option.high:
            raise TrainingError(
                f"a budget of {recipes} recipes does not fit", "", "give a number from "
                f"{proposed}, which are proposed already, to {option.high}")
        self._rule("recipes", recipes, f"{recipes} recipes in all from now on, by hand")

    def _settle_pause(self) -> None:
        """The search counts as paused only when every busy lane stands still."""
        busy = {lane for lane, runs in self._lanes.items() if runs}
        if self._wanted == "paused" and self._state != "paused" and busy <= self._held:
            self._change("paused", self._why_paused)

    def _change(self, state: SearchState, why: str) -> None:
        with self._journal.transaction():
            self._enter_state(state, why)
            self._journal.add_event(self._number, state, why)

    def _enter_state(self, state: SearchState, why: str = "") -> None:
        now = self._clock()
        if self._since is not None:
            self._busy += now - self._since
        self._since = now if state == "running" else None
        self._state = state
        self._journal.set_search(self._number, state, why, self._busy)

    # -- reports ---------------------------------------------------------------------------------

    def _take(self, report: Report) -> None:
        if isinstance(report, Ready):
            self._take_ready(report)
        elif isinstance(report, Compiling):
            self._journal.set_lane(self._number, report.lane, report.pid, "compiling")
        elif isinstance(report, Trained):
            self._take_trained(report)
        elif isinstance(report, Held):
            self._held.add(report.lane)
            self._journal.set_lane(self._number, report.lane, self._pids.get(report.lane, 0),
                                   "held")
        elif isinstance(report, Failed):
            self._take_failed(report.runs, report.cause)
            self._lanes[report.lane] -= set(report.runs)
        elif isinstance(report, Stuck):
            self._pause(report.cause)
        elif isinstance(report, Died):
            self._take_died(report)
        elif isinstance(report, Left):
            self._put_back(self._lanes.pop(report.lane, set()))
            self._idle.discard(report.lane)
            self._held.discard(report.lane)
            self._journal.drop_lane(self._number, report.lane)

    def _take_ready(self, report: Ready) -> None:
        left = self._lanes.get(report.lane, set())
        self._put_back(left)
        self._lanes[report.lane] = set()
        self._idle.add(report.lane)
        self._held.discard(report.lane)
        self._pids[report.lane] = report.pid
        self._journal.set_lane(self._number, report.lane, report.pid, "idle")
        if self._state == "preparing":
            self._enter_state("running")

    def _put_back(self, runs: set[int]) -> None:
        """Let runs wait again that a lane was given and did not end."""
        self._behind -= runs
        back = [run for run in sorted(runs) if self._ledger.runs[run].state not in OVER]
        for run in reversed(back):
            entry = self._ledger.runs[run]
            entry.state = "waiting"
            self._queue.put_back(entry.wanted(), entry.attempts > 0)
        self._journal.set_runs(back, "waiting")

    def _take_trained(self, report: Trained) -> None:
        cut = {run for run, _ in report.epochs if self._ledger.runs[run].state == "cut"}
        epochs = [(run, numbers) for run, numbers in report.epochs if run not in cut]
        self._journal.add_epochs(_record(run, numbers) for run, numbers in epochs)
        for run, numbers in epochs:
            entry = self._ledger.runs[run]
            if numbers.epoch == entry.journalled + 1:
                entry.losses.append(numbers.validation_loss)
                if entry.attempts:
                    entry.attempts = 0
                    self._journal.pardon([run])
        for run, outputs in report.examples:
            self._journal.set_example(ExampleRecord(run, self._ledger.runs[run].journalled,
                                                    outputs))
        for run, end in report.ended:
            entry = self._ledger.runs[run]
            if run not in cut:
                entry.state, entry.diverged = "ended", end.reason == "diverged"
                self._journal.end_run(run, "ended", end.reason, end.text, end.best_epoch)
        for run in report.rested:
            self._rest(self._ledger.runs[run])
        over = {run for run, _ in report.ended} | set(report.rested) | cut
        self._lanes[report.lane] -= over
        begun = self._lanes[report.lane] & self._behind if over else set()
        self._behind -= begun
        self._journal.set_runs(begun, "training", report.lane)
        if self._wanted == "running":
            self._extend(report.lane)

    def _rest(self, entry: RunEntry) -> None:
        """Enter that a run has come as far as was wanted; one that more is wanted of by now
        waits again.
        """
        if entry.state == "cut":
            return
        if entry.until == 0 or entry.until > entry.journalled:
            entry.state = "waiting"
            self._queue.put(entry.wanted())
        else:
            entry.state = "resting"
        self._journal.set_runs([entry.spec.id], entry.state)

    def _take_failed(self, runs: tuple[int, ...], cause: str) -> None:
        for run in runs:
            entry = self._ledger.runs[run]
            if entry.state != "cut":
                entry.state = "failed"
                self._journal.end_run(run, "failed", "failed", cause)
        if runs:
            self._journal.add_event(self._number, "failed", f"{len(runs)} runs failed: {cause}")

    def _take_died(self, report: Died) -> None:
        """A worker is gone: its runs are tried again, one at a time; those that come no further
        twice have failed.
        """
        self._held.discard(report.lane)
        self._idle.discard(report.lane)
        runs = self._lanes.get(report.lane, set())
        self._lanes[report.lane] = set()
        self._journal.add_event(self._number, "died", f"worker {report.lane + 1}: {report.cause}; "
                                f"{len(runs)} runs are tried again, one at a time")
        self._journal.blame(sorted(runs))
        for run in runs:
            self._ledger.runs[run].attempts += 1
        given_up = {run for run in runs if self._ledger.runs[run].attempts >= ATTEMPTS}
        self._take_failed(tuple(sorted(given_up)), f"{report.cause}, twice")
        self._put_back(runs - given_up)

    # -- work ------------------------------------------------------------------------------------

    def _hand_out(self) -> bool:
        """Keep the lanes busy, and decide for a moment what they train next; say whether more may
        be decided at once.

        What is decided is handed out before the next is: a decision takes as long as a short
        training.
        """
        end = time.perf_counter() + _DECIDING
        self._give()
        while time.perf_counter() < end:
            if not self._propose():
                return False
            self._give()
        return True

    def _give(self) -> None:
        """Give every idle lane a run, and one to wait behind it where there are enough."""
        for lane in sorted(self._idle):
            waiting = self._queue.take()
            if waiting is None:
                return
            self._idle.discard(lane)
            self._alone.discard(lane)
            if waiting.alone:
                self._alone.add(lane)
            self._assign(lane, (waiting.run,))
            self._executor.submit(
                lane,
                Task((waiting.run, ), self._dataset.folder, self._folder / "checkpoints",
                     self._watched, f"search {self._number}, {self._search.name}"))
        for lane in sorted(self._lanes):
            self._extend(lane)

    def _extend(self, lane: int) -> None:
        """Let a run wait behind the one that a lane trains, so that the lane need not ask.

        Where few are left, only behind a short one: another lane might be free sooner.
        """
        runs = self._lanes[lane]
        if lane in self._idle or lane in self._alone or not 0 < len(runs) <= _BEHIND:
            return
        if not self._queue or (len(self._queue) < len(self._lanes) and not self._short(*runs)):
            return
        run = self._queue.take_behind()
        if run is not None:
            self._lanes[lane].add(run.spec.id)
            self._ledger.runs[run.spec.id].state = "training"
            self._behind.add(run.spec.id)
            self._executor.extend(lane, run)

    def _short(self, run: int) -> bool:
        """Say whether a run will soon have come as far as it is wanted."""
        entry = self._ledger.runs[run]
        recipe = entry.spec.recipe
        return self._effort(recipe,
                            (entry.until or recipe.whole("epochs")) - entry.journalled) < _SHORT

    def _assign(self, lane: int, runs: tuple[WantedRun, ...]) -> None:
        ids = [run.spec.id for run in runs]
        self._lanes[lane] = set(ids)
        for run in ids:
            self._ledger.runs[run].state = "training"
        with self._journal.transaction():
            self._journal.set_runs(ids, "training", lane)
            self._journal.set_lane(self._number, lane, self._pids.get(lane, 0), "training")

    def _propose(self) -> bool:
        """Ask the method for a step, where there is room to plan with; say whether there was
        one.
        """
        if len(self._queue) >= _AHEAD:
            return False
        step = self._ledger.course.decide()
        self._nothing_now = step is None
        if step is not None:
            self._enter(step)
        return step is not None

    def _enter(self, step: Step) -> None:
        """Take a step: enter it, and its recipe and runs where they are new, and let the runs
        wait for a worker.
        """
        ledger = self._ledger
        number = step.number or len(ledger.recipes) + 1
        try:
            with self._journal.transaction():
                if not step.number:
                    ledger.recipes[number] = step.recipe
                    parameters = shape_of(step.recipe, self._dataset).trained
                    self._journal.add_recipe(self._number, number, step.recipe, parameters)
                self._journal.add_step(
                    self._number,
                    StepRecord(
                        len(ledger.course.steps) + 1, number, step.until, step.blocks, step.parent,
                        ledger.course.told, step.why))
                for block in ledger.blocks[: step.blocks or None]:
                    self._want(number, block, step)
        except AxiarchError:
            if not step.number:
                ledger.forget(number)
            raise
        ledger.course.take(step, number)

    def _want(self, number: int, block: Block, step: Step) -> None:
        """Let a recipe's run on a block be trained as far as a step says, making it first where
        there is none.
        """
        entry = self._ledger.run_on(number, block)
        if entry is None:
            origin = self._origin if number == 1 else None
            if step.parent:
                origin = self._inheritance.of_run(self._ledger, step.parent, block)
            state = self._inheritance.state(origin, step.recipe) if origin else None
            if origin is not None and state is None:
                gone = counted(origin.epoch, "epoch")
                self._journal.add_event(
                    self._number, "afresh", f"recipe {number} is trained from its beginning: of "
                    f"the {gone} it should have continued from, no checkpoint was kept")
            run = self._journal.add_run(self._number, number, *block, state.epoch if state else 0)
            entry = self._ledger.enter(run, number, block)
            entry.until = step.until
            if origin is not None and state is not None:
                self._inheritance.hand_on(origin, state, entry, self._journal)
            try:
                self._check_memory(step.recipe)
            except TrainingError as error:
                entry.state = "failed"
                self._journal.end_run(run, "failed", "failed", error.what)
        elif entry.until:
            entry.until = 0 if step.until == 0 else max(entry.until, step.until)
        self._journal.set_until([entry.spec.id], entry.until)
        if entry.state == "resting":
            entry.state = "waiting"
            self._journal.set_runs([entry.spec.id], "waiting")
        if entry.state == "waiting":
            self._queue.put(entry.wanted(), entry.attempts > 0)


def _interrupted(error: AxiarchError) -> SearchState:
    """Say in the log, if it can be written, why not even the journal could be."""
    with contextlib.suppress(OSError, ValueError):
        sys.stderr.write(f"{error}\n")
        sys.stderr.flush()
    return "interrupted"


def bytes_of(pids: Iterable[int]) -> int:
    """Return the memory that processes have to themselves, in bytes; those that are gone count
    nothing.
    """
    import psutil

    total = 0
    for pid in pids:
        with contextlib.suppress(psutil.Error):
            known = psutil.Process(pid).memory_info()
            total += known.rss - getattr(known, "shared", 0)
    return total


def _record(run: int, n: EpochNumbers) -> EpochRecord:
    return EpochRecord(run, n.epoch, n.train_loss, n.train_loss_still, n.validation_loss, n.metrics,
                       n.learning_rate, n.gradient_norm, n.seconds, n.layers, n.waited,
                       n.loss_gradient)
