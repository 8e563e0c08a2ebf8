"""How small may the proxy be? Whether few epochs, fewer rows, smaller pictures or narrower networks
order the best recipes as full trainings do.

Few epochs can be read off the curves of a search. For the others the best recipes are trained once
more, each kind of proxy in a search of its own, beside the one that is asked about.
"""

from __future__ import annotations

import statistics
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass, replace
from typing import Literal, cast, get_args

from axiarch.data.dataset import Dataset
from axiarch.errors import InputError, TrainingError
from axiarch.journal.inbox import Add, send
from axiarch.journal.read import JournalReader
from axiarch.journal.workspace import Workspace
from axiarch.ranking.proxy import FEWEST, Agreement, agreement, agreements, best_half, smallest
from axiarch.recipes.network import HIDDEN, parse_network
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import Branch, MethodChoice, SearchFile, read_search
from axiarch.recipes.space import Space
from axiarch.text import count, number, share
from axiarch.workflows.adding import decided
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.starting import resume_search, start_search
from axiarch.workflows.waiting import wait
from axiarch.workflows.watching import snapshot_of

Kind = Literal["epochs", "rows", "pictures", "width"]

KINDS: tuple[Kind, ...] = get_args(Kind)
#: Shares of rows and widths that are tried, and by how much pictures are shrunk.
SHARES, SHRUNK = (0.125, 0.25, 0.5), (4, 2)
#: Recipes that are trained at the most, pixels of a side and training rows at the least.
MOST, SIDE, ROWS = 16, 4, 20


@dataclass(frozen=True)
class Proxy:
    """One cheaper training of the best recipes.

    Attributes
    ----------
    what : str
        In words, such as ``250 training rows``.
    share : float
        Of the whole.
    data : Dataset
    recipes : mapping of int to Recipe
        By the numbers of the full ones, the recipes as they are trained here.
    """

    what: str
    share: float
    data: Dataset
    recipes: Mapping[int, Recipe]

    def search(self, s: Snapshot) -> SearchFile:
        """Return the search that trains the first recipe; the others are added to it."""
        first = next(iter(self.recipes))
        return replace(
            s.file, name=f"search {s.search.number} by {self.what}"[:200], data=self.data.name,
            space=Space(self.recipes[first]), method=MethodChoice("grid"), repeats=1, start=None,
            confirm=0, branch=Branch(s.search.number, first, f"would {self.what} do?", True))


def proxies(s: Snapshot) -> list[Agreement]:
    """Return how the order after few epochs agrees with that at the end, among the better half of
    the recipes of a search that came to their own end.

    Raises
    ------
    TrainingError
        If too few recipes did.
    """
    curves = []
    for row in s.ranking.rows:
        run = next((r for r in s.runs_of(row.recipe) if r.state == "ended"), None)
        if run is not None and not s.recipes[row.recipe].origin:
            curves.append(s.curves[run.id].validation)
    found = agreements(curves)
    if not found:
        raise _too_few(s, len(curves))
    return found


def _too_few(s: Snapshot, recipes: int) -> TrainingError:
    return TrainingError(f"{count(recipes, 'recipe')} trained to their end say too little",
                         f"search {s.search.number}",
                         f"train at least {FEWEST} to their end: method random or guided")


def compared(s: Snapshot) -> list[int]:
    """Return the best recipes of a search, which proxies are judged on, best first.

    Raises
    ------
    TrainingError
        If too few were trained to their end.
    """
    rows = [row for row in s.ranking.rows if not s.recipes[row.recipe].origin]
    best = best_half([row.loss for row in rows])[:MOST]
    if len(best) < FEWEST:
        raise _too_few(s, len(rows))
    return [rows[i].recipe for i in best]


def smaller_trainings(workspace: Workspace, s: Snapshot, kind: str) -> list[Proxy]:
    """Return the cheaper trainings of a kind, smallest first; data sets for them are made where
    there are none yet.

    Parameters
    ----------
    kind : {"rows", "pictures", "width"}

    Raises
    ------
    InputError
        On another kind.
    TrainingError
        If too few recipes were trained in full, or nothing can be made smaller so.
    """
    if kind not in _MADE:
        raise InputError(f"no proxy is called {kind!r}", "the proxy",
                         "choose one of " + ", ".join(KINDS))
    recipes = {n: s.recipes[n].recipe for n in compared(s)}
    found = list(_MADE[cast(Kind, kind)](workspace, s, recipes))
    if not found:
        raise TrainingError(f"there is no proxy by {kind} here", f"search {s.search.number}",
                            _WHY[cast(Kind, kind)])
    return found


def _fewer_rows(workspace: Workspace, s: Snapshot, recipes: Mapping[int, Recipe]
                ) -> Iterator[Proxy]:
    rows = s.dataset.rows["train"]
    for part in SHARES:
        fewer = round(part * rows)
        if fewer >= ROWS:
            data = decided(workspace, s.dataset, replace(s.dataset.plan, rows=fewer),
                           f"{fewer} rows")
            yield Proxy(f"{number(fewer)} training rows", part, data, recipes)


def _smaller_pictures(workspace: Workspace, s: Snapshot, recipes: Mapping[int, Recipe]
                      ) -> Iterator[Proxy]:
    size, plan = s.dataset.encoding.picture, s.dataset.plan
    for times in SHRUNK if size else ():
        if size and min(size[:2]) // times >= SIDE:
            data = decided(workspace, s.dataset, replace(plan, shrink=plan.shrink * times),
                           f"{size[0] // times} x {size[1] // times} pictures")
            seen = data.encoding.picture or size
            yield Proxy(f"pictures of {seen[0]} × {seen[1]}", 1 / times**2, data, recipes)


def _narrower(workspace: Workspace, s: Snapshot, recipes: Mapping[int, Recipe]) -> Iterator[Proxy]:
    if not all(HIDDEN in parse_network(r.word("network")) and r.applies("width")
               for r in recipes.values()):
        return
    for part in SHARES:
        narrow = {n: r.changed({"width": max(round(part * r.whole("width")), 1)})
                  for n, r in recipes.items()}
        yield Proxy(f"layers {share(part)} as wide", part, s.dataset, narrow)


_MADE: Mapping[Kind, Callable[[Workspace, Snapshot, Mapping[int, Recipe]], Iterator[Proxy]]] = {
    "rows": _fewer_rows, "pictures": _smaller_pictures, "width": _narrower}
_WHY: Mapping[Kind, str] = {
    "rows": "use a data set with more training rows",
    "pictures": f"it takes pictures of {2 * SIDE} pixels a side or more",
    "width": "it takes recipes whose network has hidden layers of a width"}


def train_proxy(workspace: Workspace, s: Snapshot, proxy: Proxy, workers: int = 0,
                started: Callable[[int], None] = lambda number: None) -> bool:
    """Train the recipes of a proxy, one run each, and wait for them; say whether all came to an
    end. What the workspace holds already is taken over.

    Parameters
    ----------
    started : callable
        Takes the number of the search.
    """
    search = start_search(workspace, proxy.search(s), workers)
    others = list({r.essence: r for r in proxy.recipes.values()}.values())[1:]
    for recipe in others:
        send(workspace.search(search), Add(dict(recipe.changed_values())))
    started(search)
    ended = wait(workspace, search)
    if ended.search.state == "done" and len(ended.recipes) <= len(others):
        resume_search(workspace, search, workers, extended=True)  # it had ended before it read them
        ended = wait(workspace, search)
    return ended.search.state == "done"


def proxy_agreements(workspace: Workspace, s: Snapshot, trained: Sequence[Proxy]
                     ) -> list[Agreement]:
    """Return how the order by some proxies agrees with that by full trainings, and last, for
    comparison, how that by one seed agrees with that by the others.

    Raises
    ------
    TrainingError
        If none of them has been trained.
    """
    known = _losses(workspace, s)
    level = {row.recipe: row.loss for row in s.ranking.rows}
    found = []
    for proxy in trained:
        small = {n: known.get((proxy.data.folder.name, r.essence))
                 for n, r in proxy.recipes.items()}
        both = [(statistics.fmean(loss), level[n]) for n, loss in small.items() if loss]
        if len(both) >= FEWEST:
            found.append(agreement(proxy.what, proxy.share, *map(list, zip(*both, strict=True))))
    if not any(found):
        raise TrainingError("no proxy has been trained on enough recipes",
                            f"search {s.search.number}", "let its trainings come to their end")
    return [each for each in (*found, _one_seed(s)) if each is not None]


def _one_seed(s: Snapshot) -> Agreement | None:
    """Return how the first run of each of the best recipes orders them as the others do."""
    pairs = []
    for recipe in compared(s):
        losses = [s.curves[r.id].steady for r in s.runs_of(recipe)
                  if r.state == "ended" and r.reason != "diverged"]
        if len(losses) > 1:
            pairs.append((losses[0], statistics.fmean(losses[1:])))
    if len(pairs) < FEWEST:
        return None
    return agreement("one seed in full", 1.0, *map(list, zip(*pairs, strict=True)))


def _losses(workspace: Workspace, s: Snapshot) -> dict[tuple[str, object], list[float]]:
    """Return the steady losses of full runs of the searches aside of a search, by data set and
    recipe.
    """
    found: dict[tuple[str, object], dict[tuple[int, int, int], float]] = {}
    with closing(JournalReader(workspace.journal)) as reader:
        records = reader.searches()
    for record in records:
        file = read_search(record.file, "search.toml")
        branch = file.branch
        if branch is None or not branch.aside or branch.search != s.search.number:
            continue
        other = snapshot_of(workspace, record.number)
        for run in other.runs.values():
            if run.state == "ended" and run.reason != "diverged":
                key = other.dataset.folder.name, other.recipes[run.recipe].recipe.essence
                found.setdefault(key, {})[file.seed, run.repeat, run.fold] = (
                    other.curves[run.id].steady)  # a run taken over counts once
    return {key: list(own.values()) for key, own in found.items()}


def proxy_verdict(s: Snapshot, found: list[Agreement], kind: str = "epochs") -> str:
    """Say how small a training is enough to tell good recipes from better ones."""
    alone = next((each for each in found if each.share == 1), None)
    smaller = [each for each in found if each.share < 1]
    enough = smallest(smaller)
    of = count(smaller[-1].recipes, "recipe")
    more = ""
    if kind == "epochs" and s.file.method.name in ("racing", "guided_racing"):
        more = (" In a race, the recipes that came to the end are those that were ahead early, so "
                "these numbers flatter it.")
    if alone is not None:
        more += (f" For comparison: one seed in full orders them as the other seeds do by "
                 f"{number(alone.correlation, 2)} ({number(alone.low, 2)} to "
                 f"{number(alone.high, 2)}).")
    if enough is None:
        return (f"Among the best {of} no smaller training surely has the order of the full one "
                f"(rank correlation of 0.6 or more, 95 %): train in full.{more}")
    return (f"Among the best {of} the order by {enough.what}, {share(enough.share)} of the whole, "
            f"surely agrees with that in full: rank correlation {number(enough.correlation, 2)} "
            f"({number(enough.low, 2)} to {number(enough.high, 2)}, 95 %).{more}")


def proxy_lines(found: list[Agreement]) -> list[str]:
    """Return the correlations as lines of text."""
    wide = max(len(each.what) for each in found) + 2
    return [f"{'proxy':<{wide}}{'share':>9}{'correlation':>13}  95 %"] + [
        f"{each.what:<{wide}}{share(each.share):>9}{number(each.correlation, 2):>13}  "
        f"{number(each.low, 2)} to {number(each.high, 2)}" for each in found]
