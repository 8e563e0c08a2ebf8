"""How small may the proxy be? Whether few epochs of a search show the order at its end."""

from __future__ import annotations

from axiarch.errors import TrainingError
from axiarch.ranking.proxy import FEWEST, Agreement, agreements, smallest
from axiarch.text import count, number, share
from axiarch.workflows.watching import Snapshot


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
        raise TrainingError(f"{count(len(curves), 'recipe')} trained to their end say too little",
                            f"search {s.search.number}",
                            f"train at least {FEWEST} to their end: method random or guided")
    return found


def proxy_verdict(s: Snapshot, found: list[Agreement]) -> str:
    """Say how few epochs are enough to tell good recipes from better ones."""
    enough = smallest(found)
    of = count(found[-1].recipes, "recipe")
    biased = (" In a race, the recipes that came to the end are those that were ahead early, so "
              "these numbers flatter it." if s.file.method.name in ("racing", "guided_racing")
              else "")
    if enough is None:
        return (f"Among the best {of} no shorter training surely has the order of the end (rank "
                f"correlation of 0.6 or more, 95 %): train in full.{biased}")
    return (f"Among the best {of} the order after {count(enough.epochs, 'epoch')}, "
            f"{share(enough.share)} of the training, surely agrees with that at the end: rank "
            f"correlation {number(enough.correlation, 2)} ({number(enough.low, 2)} to "
            f"{number(enough.high, 2)}, 95 %).{biased}")


def proxy_lines(found: list[Agreement]) -> list[str]:
    """Return the correlations as lines of text."""
    return [f"{'epochs':>8}{'share':>9}{'correlation':>13}  95 %"] + [
        f"{each.epochs:>8}{share(each.share):>9}{number(each.correlation, 2):>13}  "
        f"{number(each.low, 2)} to {number(each.high, 2)}" for each in found]
