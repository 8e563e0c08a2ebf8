"""What the help says about each view, and the terms on it."""

from __future__ import annotations

from collections.abc import Mapping

ABOUT: Mapping[str, str] = {
    "data": "Each row is one column of the table, with its role, its missing values and a small "
            "drawing of its values. The test rows are not looked at. The target is drawn below; "
            "the baseline says what any recipe must beat. Keys change how the selected column is "
            "used; the data set is rebuilt immediately, and keys that you press meanwhile wait "
            "their turn. Nothing that a search has used is lost.",
    "sheet": "All values of the base recipe in groups. Press Enter on one and type: a single value "
             "changes the base, a range varies it in the search. ↑ and ↓ step through sensible "
             "values. Beside it you see the network with its widths and the learning rate over the "
             "whole training. The lines on top say how many runs that makes and how long they "
             "take, estimated from a few real steps. k keeps the base as a version with a note, V "
             "compares versions with it.",
    "field": "Every run is one line. The x-axis shows epochs spent by all runs together, the "
             "y-axis the validation loss. Active runs are highlighted, ended runs fade, those of "
             "the leading recipes stay bright. The stepped line is the best steady loss reached so "
             "far. The arrow keys move a cursor that reads exact values. Below you see what each "
             "worker trains, how many recipes reached each round, and when the best loss last "
             "fell. While the search runs, g changes the number of recipes, w the number of "
             "workers, and a adds the base recipe on the sheet.",
    "ladder": "One line per recipe, best on top, all on one loss axis. The filled dot is the mean "
              "over seeds of the steady validation loss, the whisker its 95 % interval, the open "
              "dot the training loss: the distance between them is the gap. The bracket joins "
              "recipes that are tied with the leader. A letter behind a number marks a recipe for "
              "comparison (m). Below the ranking, faint, are recipes that were cut or still wait: "
              "do not read them as results. While the search runs, k keeps a recipe, d cuts it, c "
              "gives it more epochs.",
    "strips": "One recipe on a common axis of epochs: losses, the gap between them, the learning "
              "rate, the size of the gradient, dead or saturated units. All seeds and folds are "
              "drawn. The arrow keys move a cursor that reads all bands at once. [ and ] go to the "
              "recipes beside it in the ranking. c continues the recipe from its last epoch, C "
              "from its best; m marks it, v compares all that are marked, b changes their axis "
              "between epoch, step and seconds.",
    "predictions": "What one recipe predicts on rows that it was not trained on, the mean over its "
                   "seeds and folds, by the weights of each run's best epoch. For classes: the "
                   "confusion matrix, precision, recall and F1 of each class with 95 % intervals "
                   "over the rows, how often predictions are right against how sure they are, and "
                   "the most confident mistakes (✓ the true class, ✗ the one predicted). For "
                   "amounts: predicted against true, the rows by their true amount, residuals, and "
                   "the worst rows. Space turns to further pages: the mean prediction along each "
                   "input column (over the true rule for demo data), residuals by input, and the "
                   "groups of rows that are predicted worse. b changes between validation, "
                   "training and test rows; test rows need the seal opened (ctrl+o). a reads the "
                   "confusion matrix another way, and for two classes draws the ROC curve, or "
                   "precision against recall with thresholds by cost. P predicts a file, K keeps a "
                   "model, F confirms on fresh seeds. [ and ] go to the recipes beside it in the "
                   "ranking.",
}

_LOSS = ("validation loss",
         "on the validation rows: mean cross-entropy in nats, or for amounts the root mean squared "
         "error (RMSE) in their own unit; lower is better")
_FLOOR = ("baseline",
          "the loss of a predictor that learns nothing: class shares alone, or the mean amount")
_NOISE = (
    "noise",
    "for generated data: what the rule behind them scores, which no predictor can beat for long")
_LINEAR = (
    "linear",
    "the loss of a linear model with the best ridge of a path: what hidden layers have to beat")
_STEADY = (
    "steady loss",
    "validation loss averaged over the last 3 epochs, at its lowest: one lucky epoch counts little")

TERMS: Mapping[str, tuple[tuple[str, str], ...]] = {
    "data": (("role", "input, target, or ignored, each with the reason it was "
                      "proposed"), _FLOOR, _LINEAR, _NOISE,
             ("fold", "one of several divisions of the open rows; every recipe trains on all of "
                      "them"),
             ("!", "something suspicious, found before training, with its evidence and a remedy"),
             ("seal", "the guard on the test rows; no view, statistic or search reads them")),
    "sheet": (("recipe", "one complete configuration: network, optimiser, schedule, batches, "
                         "regularisation, stopping"),
              ("knob", "a value that varies: 16 | 32 | 64, 1e-4 .. 1e-1 log, 8 .. 512 doubling, 0 "
                       ".. 0.6 step 0.1"),
              ("condition", "a range may end in: when optimiser = momentum"),
              ("idle", "has no effect with the other values, such as momentum where only adam is "
                       "used"),
              ("repeats", "seeds each recipe is trained with; recipes share them, so that they "
                          "can be compared")),
    "field": (("run", "one training: a recipe, a seed and a fold"), ("budget", "epochs of all runs "
                                                                               "together"), _STEADY,
              ("cut", "ended by the search because others were better by then"),
              ("round", "a number of epochs after which recipes wait and only the best continue"),
              ("paused", "workers wait; nothing is lost"),
              ("stopped", "ended by hand; finished runs are kept, and p resumes it")),
    "ladder": (_STEADY, ("tied", "not distinguishable from the leader with what has been measured"),
               ("apart", "worse than the leader, at 95 % over all comparisons"),
               ("spread", "standard deviation of the steady loss over seeds"), _FLOOR, _LINEAR),
    "strips": (_LOSS, ("gap", "validation loss minus training loss; it widens when the network "
                              "overfits"),
               ("training loss", "in inference mode on as many training rows as there are "
                                 "validation rows"),
               ("kept epoch", "the one whose weights were kept: lowest steady loss"),
               ("patience", "epochs without improvement before a run is stopped")),
    "predictions": (("precision", "of the rows predicted as a class, the share that is that class"),
                    ("recall", "of the rows of a class, the share that is predicted as it"),
                    ("F1", "harmonic mean of precision and recall"),
                    ("[ to ]", "95 % interval over the rows; it leaves out the "
                               "doubt of few seeds"),
                    ("calibrated", "predictions made with 80 % are right in 80 % of rows"),
                    ("residual", "predicted minus true amount"),
                    ("by input", "one column takes one value after another in every row, the "
                                 "others stay; the mean of the predictions (partial dependence)"),
                    ("▸", "a group worse than all other rows by more than chance, all groups "
                          "counted"),
                    ("seal", "the guard on the test rows; opening it is recorded for good")),
}
