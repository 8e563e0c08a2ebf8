"""What travels between views, app and feed; named as things that have happened."""

from __future__ import annotations

from typing import Any

from textual.message import Message

from axiarch.errors import AxiarchError
from axiarch.insight.forecast import Forecast
from axiarch.insight.probes import Probe
from axiarch.recipes.searchfile import SearchFile
from axiarch.workflows.explaining import KnobEffects
from axiarch.workflows.foreseeing import Foresight
from axiarch.workflows.sidebyside import Comparison
from axiarch.workflows.snapshot import Snapshot


class SnapshotTaken(Message):
    """The feed has read something new; only the latest one counts."""

    def __init__(self, snapshot: Snapshot) -> None:
        super().__init__()
        self.snapshot = snapshot

    def can_replace(self, message: Message) -> bool:
        """A later snapshot makes an earlier one that waits superfluous."""
        return isinstance(message, SnapshotTaken)


class ErrorRaised(Message):
    """Something could not be done."""

    def __init__(self, error: AxiarchError) -> None:
        super().__init__()
        self.error = error


class Noted(Message):
    """Something was done that the user should read of."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.text = text


class DraftEdited(Message):
    """The sheet holds another search now."""

    def __init__(self, draft: SearchFile) -> None:
        super().__init__()
        self.draft = draft


class ForecastMade(Message):
    """A draft's forecast is there, or could not be made."""

    def __init__(self,
                 draft: SearchFile,
                 forecast: Forecast | None,
                 error: AxiarchError | None = None) -> None:
        super().__init__()
        self.draft = draft
        self.forecast = forecast
        self.error = error


class SearchStarted(Message):
    """A search runs now; `view` is where it is watched."""

    def __init__(self, number: int, view: str = "field") -> None:
        super().__init__()
        self.number = number
        self.view = view


class DataAdded(Message):
    """A data set was added to the workspace."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.name = name


class StepTaken(Message):
    """Work on data has come so far; only the latest one counts."""

    def __init__(self, step: str, done: float, seconds: float) -> None:
        super().__init__()
        self.step, self.done, self.seconds = step, done, seconds

    def can_replace(self, message: Message) -> bool:
        """A later step makes an earlier one that waits superfluous."""
        return isinstance(message, StepTaken)


class SealOpened(Message):
    """The seal was opened; `times` counts all openings of these data, `text` says what was
    found.
    """

    def __init__(self, times: int, text: str) -> None:
        super().__init__()
        self.times, self.text = times, text


class PredictionsWanted(Message):
    """A view needs the predictions of a recipe on a part of the rows."""

    def __init__(self, search: int, recipe: int, part: str) -> None:
        super().__init__()
        self.search, self.recipe, self.part = search, recipe, part


class PredictionsMade(Message):
    """Predictions are there: a summary, or in words why there are none."""

    def __init__(self, search: int, recipe: int, part: str, found: dict[str, Any] | str) -> None:
        super().__init__()
        self.key = (search, recipe, part)
        self.found = found


class EffectsMade(Message):
    """Which knobs of a search matter, or in words why that is not known."""

    def __init__(self, search: int, found: KnobEffects | str) -> None:
        super().__init__()
        self.search, self.found = search, found


class Compared(Message):
    """Marked recipes, by search and number, side by side, or in words why their results cannot be
    compared.
    """

    def __init__(self, marked: tuple[tuple[int, int], ...], found: Comparison | str) -> None:
        super().__init__()
        self.marked, self.found = marked, found


class Foreseen(Message):
    """What earlier searches on a data set let one expect of recipes; None where that is nothing."""

    def __init__(self, data: str, foresight: Foresight | None) -> None:
        super().__init__()
        self.data, self.foresight = data, foresight


class Probed(Message):
    """A probe of the recipe on the sheet has found something."""

    def __init__(self, draft: SearchFile, probe: Probe) -> None:
        super().__init__()
        self.draft, self.probe = draft, probe


class ViewWanted(Message):
    """The user goes to another view."""

    def __init__(self, view: str) -> None:
        super().__init__()
        self.view = view


class RecipePointed(Message):
    """The cursor of the ladder stands on a recipe; 0 is whichever leads."""

    def __init__(self, recipe: int) -> None:
        super().__init__()
        self.recipe = recipe


class RecipeOpened(Message):
    """The user opens one recipe."""

    def __init__(self, recipe: int) -> None:
        super().__init__()
        self.recipe = recipe
