"""What a lower loss costs: recipes that nobody beats in both, the knee, and ladders of capacity."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property

from axiarch.errors import InputError
from axiarch.ranking.capacity import Rung, knee, rung
from axiarch.ranking.rank import Difference, Ranked
from axiarch.recipes.recipe import Recipe
from axiarch.recipes.searchfile import MethodChoice, SearchFile
from axiarch.recipes.space import Space
from axiarch.runner.material import shape_of
from axiarch.text import count, loss, measured, number, seconds_text, share, shown
from axiarch.workflows.leading import ranking_verdict
from axiarch.workflows.snapshot import Snapshot
from axiarch.workflows.verdicts import unknown_recipe, unranked

#: Seeds that the rungs of a ladder are trained on.
SEEDS = 3


def _multiplications(s: Snapshot, row: Ranked) -> float:
    shape = shape_of(s.recipes[row.recipe].recipe, s.dataset)
    return shape.work / shape.batch_size / 3  # of which forward is a third


#: What a recipe may cost, and how it is worked out.
COSTS: dict[str, Callable[[Snapshot, Ranked], float]] = {
    "parameters": lambda s, row: float(row.parameters),
    "time": lambda s, row: row.seconds,
    "prediction": _multiplications,
}
#: The same for people, with units.
COST_WORDS = {"parameters": "parameters", "time": "seconds of training",
              "prediction": "multiplications to predict a row"}


@dataclass(frozen=True)
class TradeOffs:
    """Loss against cost over the ranked recipes of a search.

    Attributes
    ----------
    snapshot : Snapshot
    cost : str
        One of :data:`COSTS`.
    """

    snapshot: Snapshot
    cost: str = "parameters"

    @cached_property
    def rows(self) -> tuple[tuple[float, Ranked], ...]:
        """Cost and recipe, cheapest first, those with failed runs left out."""
        found = [(COSTS[self.cost](self.snapshot, row), row) for row in self.snapshot.ranking.rows
                 if not row.failed and not self.snapshot.recipes[row.recipe].origin]
        return tuple(sorted(found, key=lambda each: (each[0], each[1].loss)))

    @cached_property
    def unbeaten(self) -> tuple[tuple[float, Ranked], ...]:
        """Those that no other recipe beats in both loss and cost, cheapest first."""
        found: list[tuple[float, Ranked]] = []
        for cost, row in self.rows:
            if not found or row.loss < found[-1][1].loss:
                found.append((cost, row))
        return tuple(found)

    @cached_property
    def knee(self) -> tuple[Ranked, Difference | None] | None:
        """The smallest recipe tied with the best, and by how much the best is better."""
        return knee(self.snapshot.ranking)

    @property
    def is_ladder(self) -> bool:
        """Whether the search climbed a ladder of capacity."""
        return self.snapshot.file.method.name == "capacity"

    @cached_property
    def rungs(self) -> tuple[Rung, ...]:
        """What the curves of each recipe show, the smallest first."""
        return tuple(map(self.rung, sorted(self.snapshot.ranking.rows,
                                           key=lambda row: (row.parameters, row.recipe))))

    def rung(self, row: Ranked) -> Rung:
        """Return what the curves of a recipe show."""
        s = self.snapshot
        curves = s.curves_of(row.recipe)
        return rung(row, [c.validation for c in curves], [c.train_loss_eval for c in curves],
                    s.dataset.baseline.loss)

    def verdict(self) -> str:
        """Say where the knee is and what more capacity brings."""
        s = self.snapshot
        if not self.rows:
            return ranking_verdict(s)
        parts = [self._knee_words()]
        if self.is_ladder:
            parts += self._ladder_words()
        elif len(self.rows) > 1:
            parts.append(f"{count(len(self.unbeaten), 'recipe')} of {number(len(self.rows))} "
                         f"{'is' if len(self.unbeaten) == 1 else 'are'} beaten by no other in "
                         f"both loss and {COST_WORDS[self.cost]}.")
        so_far = "" if s.over else "So far: "
        return so_far + " ".join(part for part in parts if part)

    def _knee_words(self) -> str:
        if self.knee is None:
            return ("With one seed per recipe it is unknown which recipes are tied: train more "
                    "seeds (+).")
        row, apart = self.knee
        leader = self.snapshot.ranking.rows[0]
        head = (f"The knee is recipe {row.recipe}, with {count(row.parameters, 'parameter')} and "
                f"loss {loss(row.loss)}")
        if apart is None:
            return (f"{head}: it leads, and each smaller recipe is worse, or tried too little to "
                    "say.")
        return (f"{head}: the smallest that is not clearly worse than the leader, recipe "
                f"{leader.recipe} ({count(leader.parameters, 'parameter')}), and at most "
                f"{number(apart.most, 2)} worse (95 %).")

    def _ladder_words(self) -> list[str]:
        words = []
        for name, bad in (("memorise their training rows", [r for r in self.rungs if r.memorises]),
                          ("fail to train", [r for r in self.rungs if r.fails])):
            if bad:
                first = bad[0].row
                many = "1 rung" if len(bad) == 1 else f"{len(bad)} rungs"
                verb = name if len(bad) > 1 else name.replace("memorise their", "memorises its"
                                                              ).replace("fail", "fails")
                words.append(f"{many} {verb}, the smallest with "
                             f"{count(first.parameters, 'parameter')}.")
        return words


def tradeoffs_json(found: TradeOffs) -> dict[str, object]:
    """Return trade-offs, for JSON."""
    best = {row.recipe for _, row in found.unbeaten}
    costs = {name: {row.recipe: cost(found.snapshot, row) for _, row in found.rows}
             for name, cost in COSTS.items()}
    return {
        "knee": found.knee[0].recipe if found.knee else None,
        "ladder": found.is_ladder,
        "recipes": [{
            "recipe": each.row.recipe, "loss": each.row.loss, "half_width": each.row.half_width,
            "training_loss": each.row.training, "metrics": list(each.row.metrics),
            "standing": each.row.standing, "unbeaten": each.row.recipe in best,
            "roughness": each.roughness, "memorises": each.memorises, "fails": each.fails,
            **{f"cost_{name}": values.get(each.row.recipe) for name, values in costs.items()},
        } for each in found.rungs],
    }


def rung_name(s: Snapshot, row: Ranked) -> str:
    """Return the size of a recipe's network in a few words: that of its hidden layers, or of the
    network line where that says more.
    """
    recipe = s.recipes[row.recipe].recipe
    depth, line = recipe.whole("depth"), recipe.word("network")
    if line != "hidden":
        hidden = f" ({depth} of {recipe.whole('width')})" if "hidden" in line else ""
        return f"{shown(line, 60)}{hidden}"
    if depth == 0:
        return "linear"
    if depth == 1:
        return f"1 layer of {recipe.whole('width')}"
    if recipe.word("shape") == "funnel":
        return f"{depth} layers from {recipe.whole('width')}"
    return f"{depth} layers of {recipe.whole('width')}"


def rung_marks(each: Rung) -> str:
    """Return what a rung's curves show, in words."""
    words = ["memorises"] if each.memorises else []
    words += ["fails to train"] if each.fails else []
    return ", ".join(words)


def tradeoff_lines(found: TradeOffs) -> list[str]:
    """Return the rungs of a ladder, or the recipes that nobody beats, as lines of text."""
    s, lines = found.snapshot, []
    if not found.rows:
        return []
    knee_ = found.knee[0].recipe if found.knee else 0
    best = {row.recipe for _, row in found.unbeaten}
    metric = s.dataset.target.metrics[0]
    head = f"{'':2}{'recipe':>7}{'parameters':>12}{'loss':>9}{'±':>8}{'training':>10}"
    room = max(len(shown(metric, 20)), 8) + 2
    lines.append(f"{head}{shown(metric, 20):>{room}}{'jumps':>8}{'a run':>9}  network")
    for each in found.rungs:
        row = each.row
        if not found.is_ladder and row.recipe not in best and row.recipe != knee_:
            continue
        mark = "◆" if row.recipe == knee_ else "○" if row.recipe in best else ""
        half = f"{row.half_width:.2g}" if row.half_width is not None else ""
        notes = rung_marks(each)
        lines.append(
            f"{mark:2}{'#' + str(row.recipe):>7}{number(row.parameters):>12}{loss(row.loss):>9}"
            f"{half:>8}{loss(row.training):>10}"
            f"{measured(metric, row.metrics[0]):>{room}}"
            f"{share(each.roughness):>8}{seconds_text(row.seconds):>9}  {rung_name(s, row)}"
            f"{f' ({notes})' if notes else ''}")
    return lines


def capacity_search(file: SearchFile, base: Recipe) -> SearchFile:
    """Return the search that climbs a ladder of capacity with a recipe as its base.

    Raises
    ------
    InputError
        If depth and width have no effect in its network line.
    """
    from axiarch.search.methods import make_method

    found = replace(file, name="capacity", space=Space(base, (), file.space.constraints),
                    method=MethodChoice("capacity"), repeats=max(SEEDS, file.repeats), start=None)
    make_method(found.method, found.space, found.seed)
    return found


def ladder_from(snapshot: Snapshot, recipe: int = 0) -> SearchFile:
    """Return the ladder of capacity of a recipe of a search; 0 is its leader.

    Raises
    ------
    TrainingError
        If there is no such recipe.
    """
    if not recipe and not snapshot.ranking.rows:
        raise unranked(snapshot)
    recipe = recipe or snapshot.ranking.rows[0].recipe
    if recipe not in snapshot.recipes:
        raise unknown_recipe(snapshot, recipe)
    return capacity_search(snapshot.file, snapshot.recipes[recipe].recipe)


def cost_named(text: str) -> str:
    """Return the name of a cost.

    Raises
    ------
    InputError
    """
    if text not in COSTS:
        raise InputError(f"{text!r} is no cost", "cost", f"give one of {', '.join(COSTS)}")
    return text
