"""What a user does before a search: probe the recipe on the sheet."""

from __future__ import annotations

from axiarch import workflows
from axiarch.insight.probes import HERE, KINDS, Probe
from axiarch.journal.records import ProbeRecord
from axiarch.recipes.searchfile import SearchFile
from axiarch.text import count, shown
from axiarch.tui import messages
from axiarch.tui.doing.context import Context
from axiarch.tui.doing.sheet import put_on_sheet
from axiarch.tui.doing.work import Steps, cancellable
from axiarch.tui.widgets.choices import Choice, Choices
from axiarch.tui.widgets.dialogs import Asked
from axiarch.tui.widgets.probe import ProbeScreen

_NAMES = {"rate": "Learning rate", "batch": "Batch size", "depth": "Depth", "noise": "Noise"}


def probe(c: Context) -> None:
    """Ask what to probe."""
    draft = c.state.draft
    if draft is None or c.state.dataset is None:
        return
    choices = [Choice(_NAMES[kind], f"{words[0].upper()}{words[1:]}.", ())
               for kind, words in KINDS.items()]
    kept = workflows.kept_probes(c.workspace, c.state.dataset.fingerprint)[::-1]
    if kept:
        choices.append(Choice("Earlier probes", f"{count(len(kept), 'probe')} of this data set.",
                              ()))

    def chosen(answer: str) -> None:
        place = int(answer.split()[1]) if answer else -1
        if 0 <= place < len(KINDS):
            _chosen(c, draft, list(KINDS)[place])
        elif place >= 0:
            _earlier(c, draft, kept)

    c.ask(Choices("Probe the recipe on the sheet with short trainings: some seconds, Esc cancels",
                  choices, "Enter starts it    Esc closes"), chosen)


def _earlier(c: Context, draft: SearchFile, kept: list[tuple[ProbeRecord, Probe]]) -> None:
    """Choose one of the probes that were made, newest first, and show it again."""
    choices = [Choice(workflows.probe_line(record), found.verdict(), ())
               for record, found in kept]
    c.ask(Choices("Probes of this data set, newest first", choices,
                  "Enter shows it again    Esc closes"),
          lambda answer: probed(c, messages.Probed(draft, kept[int(answer.split()[1])][1]))
          if answer else None)


def _chosen(c: Context, draft: SearchFile, kind: str) -> None:
    if kind == "batch":
        known = workflows.known_devices(c.workspace)
        c.ask(Asked("Whose memory must a batch fit?",
                    f"{HERE}, {', '.join(f'{shown(n)} ({a})' for n, a in known.items())}, or an "
                    "amount such as 6 GiB. NAME = AMOUNT keeps a device, NAME = removes it.",
                    HERE, HERE),
              lambda answer: _with_device(c, draft, answer) if answer else None)
    elif kind:
        _start(c, draft, kind)


def _with_device(c: Context, draft: SearchFile, answer: str) -> None:
    """Probe the batch size for a device, kept first where it is a new one."""
    name = workflows.keep_device(c.workspace, answer) if "=" in answer else answer
    if name:
        _start(c, draft, "batch", name)
    else:
        _chosen(c, draft, "batch")


def _start(c: Context, draft: SearchFile, kind: str, device: str = HERE) -> None:
    dataset = c.state.dataset
    if dataset is None:
        return
    if c.adding:
        c.post(messages.Noted("Other work is still under way."))
        return
    c.adding = True
    c.give_up.clear()
    steps = Steps(c)
    c.in_thread(lambda: cancellable(c, lambda: messages.Probed(draft, workflows.probe(
        c.workspace, dataset, draft.space.base, kind, device, steps))), "probe", False)


def probed(c: Context, message: messages.Probed) -> None:
    """Show what a probe found, and put what it proposes on the sheet if that is wanted."""
    c.say()
    c.ask(ProbeScreen(message.probe),
          lambda answer: _use(c, message.draft, message.probe) if answer else None)


def _use(c: Context, draft: SearchFile, probe: Probe) -> None:
    proposal = probe.proposal()
    if proposal is None or not proposal.changes:
        return
    change = proposal.changes[0]
    after = change.applied(c.state.draft or draft)
    put_on_sheet(c, after, f"{change.words}: {workflows.change_words(change)}. u undoes this.")
