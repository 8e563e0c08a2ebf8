"""One table of all that a user can do: it makes the key bindings, the key line, the palette and
the help.
"""

from __future__ import annotations

from dataclasses import dataclass

#: The views in the order of the work: key, name, the question each answers.
VIEWS: tuple[tuple[str, str, str], ...] = (
    ("1", "data", "What do I have, and what must any recipe beat?"),
    ("2", "sheet", "Which recipe is the base, what varies, and what will that take?"),
    ("3", "field", "How far is the search, and who leads?"),
    ("4", "ladder", "Which recipes are best, and how sure is that?"),
    ("5", "strips", "How did this recipe train?"),
    ("6", "predictions", "What does this recipe predict, and where is it wrong?"),
)


@dataclass(frozen=True)
class Action:
    """One thing a user can do.

    Attributes
    ----------
    name : str
        Of the function or method that does it.
    key : str
        As Textual names it.
    label : str
        One or two words for the key line.
    words : str
        A sentence for palette and help, with the words people may look for.
    views : tuple of str
        Where it can be done; empty for everywhere.
    line : bool
        Whether the key line names it.
    """

    name: str
    key: str
    label: str
    words: str
    views: tuple[str, ...] = ()
    line: bool = True

    @property
    def shown_key(self) -> str:
        """The key as people read it."""
        names = {
            "question_mark": "?", "left_square_bracket": "[", "right_square_bracket": "]",
            "comma": ",", "full_stop": ".", "escape": "esc", "ctrl+p": "^p", "ctrl+r": "^r",
            "ctrl+o": "^o"
        }
        return names.get(self.key, self.key)


ACTIONS: tuple[Action, ...] = (
    Action("go_data", "1", "data", "Show the data: columns, classes, baseline", (), False),
    Action("go_sheet", "2", "sheet", "Edit the base recipe and what varies", (), False),
    Action("go_field", "3", "field", "Watch the search: every run against the budget", (), False),
    Action("go_ladder", "4", "ladder", "See the ranking of recipes", (), False),
    Action("go_strips", "5", "strips", "See how one recipe trained: curves and gap", (), False),
    Action("go_predictions", "6", "predictions",
           "See what one recipe predicts: confusion matrix, mistakes, errors", (), False),
    Action("next_step", "n", "next",
           "Go to the next view", ("data", "sheet", "field", "ladder", "strips")),
    Action("pane", "space", "findings",
           "In a small window, show the columns, the findings and the target in turn", ("data",)),
    Action("open_file", "o", "open a file",
           "Open a table or pictures of your own as data", ("data",)),
    Action("other_data", "comma", "other data",
           "Show the next data set in this workspace", ("data",)),
    Action("examples", "e", "examples",
           "Show examples, a page at a time, with their targets", ("data",)),
    Action("ignore", "i", "ignore or use",
           "Ignore the column under the cursor, or use it again", ("data",)),
    Action("aim", "m", "make target", "Predict the column under the cursor", ("data",)),
    Action("group", "g", "group by",
           "Keep rows with equal values of this column in one part (group split), or not",
           ("data",)),
    Action("fewer", "h", "fewer rows",
           "Train on a quarter of the rows for quick work, or on all again", ("data",)),
    Action("smaller", "H", "smaller pictures",
           "Shrink pictures to a half or a quarter for quick work, or leave them as they are",
           ("data",), False),
    Action("also_aim", "M", "also predict",
           "Add this column to the targets, or remove it (several amounts)", ("data",), False),
    Action("task", "y", "task",
           "Predict the target as classes or as an amount: classification or regression",
           ("data",), False),
    Action("gaps", "f", "fill gaps",
           "Fill gaps of the column under the cursor another way: median, mean, most frequent, "
           "constant", ("data",), False),
    Action("scaling", "z", "scaling",
           "Scale the column under the cursor another way: z-score, 0-1, robust, logarithm, "
           "none", ("data",), False),
    Action("ordinal", "c", "ordered",
           "Take the categories of the column under the cursor as ordered (ordinal), or one by "
           "one", ("data",), False),
    Action("order", "l", "by time",
           "Split by the order of the column under the cursor, such as time, or not",
           ("data",), False),
    Action("shares", "v", "split",
           "Change the split: shares of validation and test, folds, repeats, seed",
           ("data",), False),
    Action("folds", "b", "folds", "Validate on 5 folds, on 10, or on one part", ("data",), False),
    Action("page", "space", "next page",
           "Turn the page: overview, by input, residuals by input, where it is worse",
           ("predictions",)),
    Action("open_seal", "ctrl+o", "open the seal",
           "Open the sealed test rows, with a reason, on the record", ("data", "predictions")),
    Action("part", "b", "other rows",
           "Show the predictions on validation, training or test rows", ("predictions",)),
    Action("reading", "a", "other reading",
           "Show the confusion matrix as rows, by true or by predicted class, or the next "
           "amount", ("predictions",)),
    Action("keep_model", "K", "keep model",
           "Keep the network of this recipe as a model, to predict with and to export",
           ("ladder", "strips", "predictions")),
    Action("keep_average", "A", "keep average",
           "Keep the average of this recipe's seeds as one model (ensemble), if it gains more "
           "than chance", ("ladder", "strips", "predictions"), False),
    Action("models", "M", "models",
           "Show the models kept: compare, verify, predict with, train on, export, remove",
           ("ladder", "strips", "predictions")),
    Action("last_training", "L", "all open rows",
           "Last training: train this recipe on training and validation rows together, before "
           "the test", ("ladder", "strips", "predictions"), False),
    Action("bring_in", "I", "bring in",
           "Bring in finished trainings of other origin from a table (import), ranked and "
           "marked", ("ladder",), False),
    Action("reread", "r", "how it is read",
           "Change how the file is read: separator, encoding, decimal comma, header",
           ("data",), False),
    Action("as_text", "k", "as text",
           "Keep the column under the cursor as text, or read it as numbers or dates, leading "
           "zeros or not", ("data",), False),
    Action("marks", "w", "missing marks",
           "Say which texts or numbers mean a missing value in the column under the cursor",
           ("data",), False),
    Action("dates", "D", "date order",
           "Read dates of the column under the cursor day first, month first, or as detected",
           ("data",), False),
    Action("merge_case", "u", "merge case",
           "Treat texts of the column under the cursor that differ only in case as equal, or "
           "not", ("data",), False),
    Action("equal_rows", "j", "equal rows",
           "Keep rows with the same inputs together in one part, or not", ("data",), False),
    Action("add_demo", "d", "demo data", "Add the demo data to this workspace", ("data",), False),
    Action("edit", "enter", "edit",
           "Edit the value under the cursor: type a value or a range", ("sheet",)),
    Action("vary", "v", "vary",
           "Vary the value under the cursor over its usual range, or fix it", ("sheet",)),
    Action("undo", "u", "undo", "Undo the last edit of the recipe or space", ("sheet",)),
    Action("redo", "ctrl+r", "redo", "Redo the edit that was undone", ("sheet",), False),
    Action("start", "s", "start", "Start the search that is on the sheet", ("sheet",)),
    Action("train_once", "o", "train once",
           "Train the base recipe once, alone, and watch its curves", ("sheet",)),
    Action("write_file", "w", "write file",
           "Save the search on the sheet as a search file", ("sheet",), False),
    Action("pause", "p", "pause or resume",
           "Pause the running search, or resume it", ("field", "ladder", "strips")),
    Action("stop", "x", "stop",
           "Stop the running search; finished runs are kept", ("field", "ladder", "strips")),
    Action("axis", "b", "budget or epochs",
           "Draw runs against the budget spent or against their own epochs", ("field",)),
    Action("open_recipe", "enter", "open recipe", "Open the recipe under the cursor", ("ladder",)),
    Action("rebase", "r", "make base",
           "Make this recipe the base on the sheet", ("ladder", "strips")),
    Action("more", "c", "more epochs",
           "Continue: train this recipe for more epochs, from exactly where it stopped",
           ("ladder", "strips")),
    Action("from_best", "C", "from its best",
           "Continue training from the checkpoint of its best epoch", ("ladder", "strips"), False),
    Action("keep", "k", "keep",
           "Keep this recipe from being cut: train it to its end", ("ladder", "strips"), False),
    Action("cut", "d", "cut",
           "Cut this recipe: stop training it in this search", ("ladder", "strips"), False),
    Action("add_recipe", "a", "add a recipe",
           "Add the base recipe on the sheet to the running search", ("field", "ladder"), False),
    Action("budget", "g", "budget",
           "Raise or lower the number of recipes that the running search tries",
           ("field", "ladder"), False),
    Action("workers", "w", "workers",
           "Change the number of worker processes of the running search",
           ("field", "ladder"), False),
    Action("scale_up", "U", "scale up",
           "Scale up: compare this recipe with wider or longer versions",
           ("ladder", "strips"), False),
    Action("mark", "m", "mark",
           "Mark this recipe for overlays and comparison, or unmark it", ("ladder", "strips")),
    Action("overlay", "v", "overlay",
           "Draw the marked recipes over one another, or the open one by itself", ("strips",)),
    Action("other_bands", "a", "metric, time",
           "Draw the metric, the time of a step and dead units below the losses, or gap, rate "
           "and gradient", ("strips",)),
    Action("overlay_axis", "b", "epoch, step, time",
           "Draw the marked recipes by epoch, by step or by seconds", ("strips",), False),
    Action("keep_version", "k", "keep version",
           "Keep the base recipe as a named version with a note", ("sheet",)),
    Action("versions", "V", "versions",
           "Show the versions kept, compare one with the base recipe, or restore it", ("sheet",)),
    Action("export", "e", "export",
           "Export the current view: CSV, SVG and PDF",
           ("field", "ladder", "strips", "predictions")),
    Action("confirm", "F", "confirm",
           "Confirm: train this recipe on fresh seeds, which chose nothing, and compare",
           ("ladder", "strips", "predictions"), False),
    Action("predict_file", "P", "predict a file",
           "Predict the rows of a file with the network of this recipe",
           ("ladder", "strips", "predictions"), False),
    Action("report", "R", "report",
           "Write a report of this search: one HTML page and a PDF",
           ("ladder", "strips", "predictions"), False),
    Action("cursor_left", "left", "cursor",
           "Move the reading cursor back", ("field", "strips"), False),
    Action("cursor_right", "right", "cursor",
           "Move the reading cursor on", ("field", "strips"), False),
    Action("previous_recipe", "left_square_bracket", "better",
           "Open the next better recipe", ("strips", "predictions")),
    Action("next_recipe", "right_square_bracket", "worse",
           "Open the next worse recipe", ("strips", "predictions")),
    Action("older_search", "comma", "older search",
           "Show the previous search", ("field", "ladder", "strips", "predictions"), False),
    Action("newer_search", "full_stop", "newer search",
           "Show the next search", ("field", "ladder", "strips", "predictions"), False),
    Action("back", "escape", "back",
           "Go back to the previous view, or close what is open", (), False),
    Action("turn_theme", "t", "light or dark",
           "Switch between the dark and the light theme", (), False),
    Action("command_palette", "ctrl+p", "find", "Find any action by words"),
    Action("explain", "question_mark", "help", "Explain this view and its terms"),
    Action("quit", "q", "quit", "Quit; a running search continues in the background"),
)


def actions_of(view: str) -> list[Action]:
    """Return what can be done in a view, its own actions first."""
    own = [a for a in ACTIONS if view in a.views]
    return own + [a for a in ACTIONS if not a.views]
