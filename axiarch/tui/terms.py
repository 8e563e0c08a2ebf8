"""What the help says about each view, and the terms on it."""

from __future__ import annotations

from collections.abc import Mapping

ABOUT: Mapping[str, str] = {
    "data": "The data as the program understands them: one row a column, with its role, its gaps and a small drawing "
            "of its values. Nothing here has looked at the test rows. What is to be predicted is drawn below; the "
            "floor says what any recipe must beat. Keys turn decisions about the column under the cursor; the data are "
            "made anew at once, and nothing that a search has used is lost.",
    "sheet": "All values of the base recipe in groups. Press enter on one and type: a single value changes the base, a "
             "range lets it vary in the search. Beside it the network is drawn with its widths, and the learning "
             "rate over the whole training. Above stands how many runs that makes and how long they will take, "
             "measured from a few real steps. k keeps the base as a version with a note, V compares versions with "
             "it.",
    "field": "Every run is one line: to the right the budget that has been spent, in epochs of all runs together; "
             "downwards the validation loss. Runs in training glow, runs that ended fade, those of the leading "
             "recipes stay bright. The stepped line is the best steady loss reached so far. The arrow keys move a "
             "cursor that reads exact values. Below, what each worker trains now, how many recipes were let train how "
             "far, and when the best last fell. While it runs, g changes how many recipes it tries, w the workers, "
             "and a takes in the base on the sheet.",
    "ladder": "One rung a recipe, best on top, all on one loss axis. The filled dot is the mean over seeds of the "
              "steady validation loss, the whisker its 95 % interval, the open dot the training loss: the distance "
              "between them is the gap. The bracket joins recipes that cannot be told apart from the leader. Below the "
              "ranking, faint, stand recipes that were cut or still wait, with what is known of them; they are no "
              "results. While the search runs, k keeps a recipe, d cuts it, c gives it more epochs.",
    "strips": "One recipe on a common axis of epochs: losses, the gap between them, the learning rate, the size of "
              "the gradient, dead or saturated units. All seeds are drawn. The arrow keys move a cursor that reads all "
              "bands at once. c lets the recipe go on from where it stopped, C from its best epoch; m marks it, v "
              "draws all that are marked over one another, b by epoch, step or seconds.",
}

_LOSS = ("validation loss", "on the validation rows: mean cross-entropy in nats, or for amounts the root mean squared "
         "error (RMSE) in their own unit; lower is better")
_FLOOR = ("floor", "the loss of a predictor that knows only how common each class is, or the mean amount")
_NOISE = ("noise", "for generated data: what the rule behind them scores, which no predictor can beat for long")
_LINEAR = ("linear", "the loss of a linear model trained by the same engine: what depth has to beat")
_STEADY = ("steady loss",
           "validation loss averaged over the last 3 epochs, at its lowest: one lucky epoch counts little")

TERMS: Mapping[str, tuple[tuple[str, str], ...]] = {
    "data": (("role", "input, target, or ignored, each with the reason it was proposed"), _FLOOR, _LINEAR, _NOISE,
             ("fold", "one of several divisions of the open rows; every recipe trains on all of them"),
             ("!", "something suspicious, found before training, with its evidence and a remedy"),
             ("seal", "the guard on the test rows; no view, statistic or search reads them")),
    "sheet": (("recipe", "one complete configuration: network, optimiser, schedule, batches, regularisation, stopping"),
              ("knob", "a value that varies: 16 | 32 | 64, 1e-4 .. 1e-1 log, 8 .. 512 doubling, 0 .. 0.6 step 0.1"),
              ("condition", "a range may end in: when optimiser = momentum"),
              ("idle", "has no effect as things stand, such as momentum where only adam is used"),
              ("repeats", "seeds each recipe is trained with; recipes share them, so that they can be compared")),
    "field": (("run", "one training: a recipe, a seed and a fold"), ("budget", "epochs of all runs together"), _STEADY,
              ("cut", "ended by the search because others were better by then"),
              ("round", "a number of epochs after which recipes wait, and the best of them go on"),
              ("paused", "workers stand still and lose nothing"),
              ("stopped", "ended by hand; what has ended is kept, and it can go on")),
    "ladder": (_STEADY, ("tied", "not told apart from the leader by what has been measured"),
               ("apart", "worse than the leader beyond doubt, at 95 % over all comparisons"),
               ("spread", "standard deviation of the steady loss over seeds"), _FLOOR, _LINEAR),
    "strips": (_LOSS, ("gap", "validation loss minus training loss; it widens when the network learns by heart"),
               ("training loss", "in inference mode on as many training rows as there are validation rows"),
               ("kept epoch", "the one whose weights were kept: lowest steady loss"),
               ("patience", "epochs without improvement before a run is stopped")),
}
