"""Find every action by words."""

from __future__ import annotations

from typing import TYPE_CHECKING

from textual.command import DiscoveryHit, Hit, Hits, Provider

from axiarch.tui.actions import Action, actions_of

if TYPE_CHECKING:
    from axiarch.tui.app import AxiarchApp


class ActionFinder(Provider):
    """Offers the actions of the view in front, then all others that lead to a view."""

    def _actions(self) -> list[Action]:
        app: AxiarchApp = self.app  # type: ignore[assignment]
        return [a for a in actions_of(app.view) if a.name not in ("command_palette", "back")]

    async def discover(self) -> Hits:
        """Offer all before anything is typed."""
        app: AxiarchApp = self.app  # type: ignore[assignment]
        for action in self._actions():
            yield DiscoveryHit(f"{action.words}  [{action.shown_key}]".replace("[", "(").replace("]", ")"),
                               lambda name=action.name: app.perform(name))

    async def search(self, query: str) -> Hits:
        """Offer those whose words fit."""
        app: AxiarchApp = self.app  # type: ignore[assignment]
        matcher = self.matcher(query)
        for action in self._actions():
            score = matcher.match(f"{action.words} {action.label}")
            if score > 0:
                yield Hit(score, f"{action.words}  ({action.shown_key})", lambda name=action.name: app.perform(name))
