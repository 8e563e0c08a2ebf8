"""What a package of your own brings, so that recipes can name it: see ``docs/members.md``."""

from axiarch.recipes.installed import Activation, Loss, Optimiser, Schedule

__all__ = ["Activation", "Loss", "Optimiser", "Schedule"]
