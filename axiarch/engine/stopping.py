"""When a run ends by its own rule, and which of its epochs is kept."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from axiarch.engine.run import RunEnd
from axiarch.recipes.recipe import Recipe
from axiarch.runs.epoch import Epoch
from axiarch.runs.steady import WINDOW, smoothed
from axiarch.text import count, loss

#: A training loss this many times the loss before training counts as diverged even where it is
#: finite: an untrained classifier stands near the logarithm of its classes, and no training that
#: works climbs tenfold.
DIVERGED = 10.0


@dataclass
class StoppingState:
    """Follows one run's losses; plain numbers only, so that it can be saved and restored.

    Attributes
    ----------
    start_loss : float
        Validation loss before the first step, whatever is lowered.
    losses : list of float
        What is lowered, on the validation rows, of each epoch.
    best_epoch, best_loss : int, float
        The epoch kept and its smoothed validation loss.
    mark_epoch, mark_loss : int, float
        The last epoch that was better by at least ``min_improvement``: patience counts from it.
    stalls, cuts : int
        Epochs without a better smoothed loss since the last cut of the rate, and how often it was
        cut.
    unit : float
        What one of a loss is worth: the spread of a target in its own unit, 1 for classes.
    seconds : float
        Of training.
    """

    start_loss: float = math.inf
    losses: list[float] = field(default_factory=list)
    best_epoch: int = 0
    best_loss: float = math.inf
    mark_epoch: int = 0
    mark_loss: float = math.inf
    unit: float = 1.0
    stalls: int = 0
    cuts: int = 0
    seconds: float = 0.0

    def rewound(self, epoch: int, recipe: Recipe) -> StoppingState:
        """Return the watch as it stood after an earlier epoch; the seconds are those of now."""
        before = StoppingState(self.start_loss, unit=self.unit)
        for i, each in enumerate(self.losses[:epoch]):
            before.see(Epoch(0, i + 1, 0.0, 0.0, each, (), 0.0, 0.0, 0.0), recipe)
        before.seconds = self.seconds
        return before

    def see(self, numbers: Epoch, recipe: Recipe) -> bool:
        """Take in an epoch; say whether its weights are the best so far."""
        self.seconds += numbers.seconds
        self.losses.append(numbers.validation_loss)
        level = smoothed(self.losses)
        # While the window fills, an average over fewer epochs is luckier: a fuller one replaces it.
        filling = len(self.losses) <= min(WINDOW, recipe.whole("epochs"))
        better = level < self.best_loss or (filling and math.isfinite(level))
        self.stalls = 0 if better else self.stalls + 1
        if recipe.word("schedule") == "plateau" and self.stalls >= recipe.whole("plateau_patience"):
            self.stalls, self.cuts = 0, self.cuts + 1
        if better:
            self.best_epoch, self.best_loss = numbers.epoch, level
        if level < self.mark_loss - recipe.real("min_improvement") * self.unit or (
                filling and math.isfinite(level)):
            self.mark_epoch, self.mark_loss = numbers.epoch, level
        return better

    def end(self, numbers: Epoch, recipe: Recipe, steps: int = 1, baseline: float = math.inf,
            step: int = 0, level: float | None = None) -> RunEnd | None:
        """Return why the run ends after this epoch, or None if it goes on.

        Parameters
        ----------
        steps : int
            Of the optimiser, an epoch.
        baseline : float
            The loss of a predictor that ignores the inputs.
        step : int
            At which of the epoch's steps the loss was not finite; 0 if it always was.
        level : float, optional
            The loss on the sample of training rows, where `numbers` hold another measure of it.
        """
        setting = StoppingContext(steps, baseline, step,
                                  numbers.train_loss_eval if level is None else level)
        for reason, rule in RULES.items():
            text = rule(self, numbers, recipe, setting)
            if text:
                return RunEnd(reason, text, numbers.epoch, self.best_epoch, self.best_loss)
        return None


@dataclass(frozen=True)
class StoppingContext:
    """What rules need to know beside the run: steps of the optimiser an epoch, the level of the
    baseline, the step of the epoch at which the loss was not finite, and the loss on the sample of
    training rows.
    """

    steps: int = 1
    baseline: float = math.inf
    step: int = 0
    level: float = 0.0


def _diverged(watch: StoppingState, numbers: Epoch, recipe: Recipe,
              setting: StoppingContext) -> str:
    for name, value in (("training", numbers.train_loss), ("validation", numbers.validation_loss)):
        if not math.isfinite(value):
            step = f" at step {setting.step}" if setting.step and name == "training" else ""
            return f"{name} loss was not finite{step} in epoch {numbers.epoch}"
    if setting.level > DIVERGED * max(watch.start_loss, 0.1 * watch.unit):
        return (
            f"training loss {loss(setting.level)} in epoch {numbers.epoch} is more than "
            f"{DIVERGED:g} times the {loss(watch.start_loss)} it started from")
    return ""


def _stuck(watch: StoppingState, numbers: Epoch, recipe: Recipe, setting: StoppingContext) -> str:
    after = recipe.whole("stuck_after")
    if not after or numbers.epoch < after or watch.best_loss < setting.baseline:
        return ""
    return (
        f"no better than the baseline of {loss(setting.baseline)} after "
        f"{count(numbers.epoch, 'epoch')}: {loss(watch.best_loss)} at best")


def _gap(watch: StoppingState, numbers: Epoch, recipe: Recipe, setting: StoppingContext) -> str:
    most = recipe.real("max_gap") * watch.unit
    gap = smoothed(watch.losses) - numbers.train_loss_eval if most else 0.0
    if gap <= most:
        return ""
    return (f"the smoothed validation loss is {loss(gap)} above the training loss, more than "
            f"{loss(most)}")


def _steps(watch: StoppingState, numbers: Epoch, recipe: Recipe, setting: StoppingContext) -> str:
    most, done = recipe.whole("max_steps"), numbers.epoch * setting.steps
    over = most and done + setting.steps > most
    return f"{count(done, 'step')} of at most {most}" if over else ""


def _seconds(watch: StoppingState, numbers: Epoch, recipe: Recipe, setting: StoppingContext) -> str:
    most = recipe.real("max_seconds")
    over = most and watch.seconds >= most
    return f"{watch.seconds:.3g} seconds of at most {most:g}" if over else ""


def _patience(watch: StoppingState, numbers: Epoch, recipe: Recipe,
              setting: StoppingContext) -> str:
    patience = recipe.whole("patience")
    if not patience or numbers.epoch - watch.mark_epoch < patience:
        return ""
    return (
        f"no better smoothed validation loss than {loss(watch.mark_loss)} for "
        f"{count(patience, 'epoch')}, since epoch {watch.mark_epoch}")


def _completed(watch: StoppingState, numbers: Epoch, recipe: Recipe,
               setting: StoppingContext) -> str:
    if numbers.epoch < recipe.whole("epochs"):
        return ""
    return f"all {numbers.epoch} epochs" if numbers.epoch > 1 else "its one epoch"


#: Every rule that ends a run, by its reason: says why with the numbers, or nothing. The first that
#: speaks counts; a rule is added by one entry.
RULES: Mapping[str, Callable[[StoppingState, Epoch, Recipe, StoppingContext], str]] = {
    "diverged": _diverged,
    "stuck": _stuck,
    "gap": _gap,
    "steps": _steps,
    "seconds": _seconds,
    "patience": _patience,
    "completed": _completed,
}
