"""Run one search: decide, hand out, take in, journal, until nothing is left or somebody ends it.

The runner is the only writer of the journal. Everything that is reported goes into the journal
first, and the runner holds nothing that it could not make again from there.
"""

from __future__ import annotations

import contextlib
import sys

from axiarch.errors import AxiarchError, NoSpace, WorkspaceError
from axiarch.journal.inbox import receive
from axiarch.runner.confirming import confirm
from axiarch.runner.executors import ExecutorLost
from axiarch.runner.handing import hand_out
from axiarch.runner.reports import take
from axiarch.runner.requests import obey, stop
from axiarch.runner.running import RunningSearch
from axiarch.runs.states import RunState, SearchState
from axiarch.runs.steady import steady
from axiarch.text import count as counted

#: Seconds the runner waits for a report before it looks for requests again.
_POLL = 0.1


class Runner:
    """Runs a search."""

    def __init__(self, search: RunningSearch) -> None:
        self.search = search
        # Whether more steps may be decided now.
        self._more = False
        self._stop_asked = False

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
            lost = isinstance(error, ExecutorLost)
            try:
                return self._close(SearchState.STOPPED if lost else SearchState.FAILED, str(error))
            except (NoSpace, WorkspaceError) as worse:
                return _interrupted(worse)

    def turn(self, seconds: float) -> None:
        """Do what was asked, take in what was reported, hand out work: once."""
        search = self.search
        requests, refused = receive(search.folder)
        for why in refused:
            search.note("refused", why)
        for request in requests:
            obey(search, request)
        if self._stop_asked and search.wanted != SearchState.STOPPED:
            stop(search)
        reports = search.executor.poll(0.0 if self._more else seconds)
        if reports:
            with search.journal.transaction():
                for report in reports:
                    take(search, report)
            search.nothing_now = False  # what could not be decided before may be now
        search.settle_pause()
        self._more = search.wanted == SearchState.RUNNING and hand_out(search)

    def stop(self) -> None:
        """Stop with the next turn, as if somebody had asked for it; safe to call from a signal
        handler.
        """
        self._stop_asked = True

    def _over(self) -> bool:
        search = self.search
        if search.wanted == SearchState.STOPPED:
            return not search.crew.busy
        idle = (search.wanted == SearchState.RUNNING and search.nothing_now and not search.queue
                and not search.crew.busy)
        return idle and not confirm(search)

    def _verdict(self) -> tuple[SearchState, str]:
        if self.search.wanted == SearchState.STOPPED:
            return SearchState.STOPPED, "stopped by hand; you can resume it"
        runs = self.search.history.runs.values()
        failed = sum(run.state == RunState.FAILED for run in runs)
        trained = (RunState.ENDED, RunState.RESTING, RunState.CUT)
        if failed and not any(run.state in trained for run in runs):
            return SearchState.FAILED, "every run failed"
        if failed:
            return SearchState.DONE, ("every run has ended; "
                                      f"{failed} of {counted(len(runs), 'run')} failed")
        return SearchState.DONE, "every run has ended"

    def _close(self, state: SearchState, why: str) -> SearchState:
        search = self.search
        with search.journal.transaction():
            training = [run.id for run in search.history.runs.values()
                        if run.state == RunState.TRAINING]
            search.journal.set_runs(training, RunState.WAITING)
            search.journal.add_event(search.number, "memory", str(search.crew.most_memory))
            if state == SearchState.DONE:
                self._cut_resting()
            search.enter_state(state, why)
            search.journal.add_event(search.number, state, why)
            search.journal.clear_workers(search.number)
        if state == SearchState.DONE:
            self._tidy()
        return state

    def _cut_resting(self) -> None:
        """Enter why the runs that rest were not trained further: nothing more will come of them."""
        for number, run in self.search.history.runs.items():
            if run.state == RunState.RESTING:
                run.state = RunState.CUT
                why = self.search.history.method.cut_reason(run.recipe)
                self.search.journal.end_run(number, RunState.CUT, "cut", why,
                                            steady(run.losses)[0])

    def _tidy(self) -> None:
        """Remove all checkpoints but the latest of each run: all is journalled."""
        for run in self.search.history.runs.values():
            for key in run.checkpoints[1:]:
                with contextlib.suppress(OSError):
                    self.search.store.checkpoint(key).unlink(missing_ok=True)


def _interrupted(error: AxiarchError) -> SearchState:
    """Say in the log, if it can be written, why not even the journal could be."""
    with contextlib.suppress(OSError, ValueError):
        sys.stderr.write(f"{error}\n")
        sys.stderr.flush()
    return SearchState.INTERRUPTED
