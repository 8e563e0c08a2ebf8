"""Find every action by words."""

from __future__ import annotations

from functools import partial
from typing import Protocol, cast

from textual.command import DiscoveryHit, Hit, Hits, Provider

from axiarch.tui.action import Action
from axiarch.tui.doing.context import Context


class Performer(Protocol):
    """What is asked of the application."""

    @property
    def view(self) -> str:
        """The view in front."""

    @property
    def context(self) -> Context:
        """What it works on."""

    def perform(self, action: Action) -> None:
        """Do one action of the table."""


class ActionFinder(Provider):
    """Offers the actions of the view in front, then those of the others, which it goes to first."""

    def _app(self) -> Performer:
        return cast(Performer, self.app)

    def _actions(self) -> list[Action]:
        app = self._app()
        own = [a for a in app.context.actions if a.here(app.view)]
        found = own + [a for a in app.context.actions if a not in own]
        return [
            a for a in found
            if a.name not in ("command_palette", "back", "cursor_left", "cursor_right")
        ]

    async def discover(self) -> Hits:
        """Offer all before anything is typed."""
        for action in self._actions():
            yield DiscoveryHit(_line(action), partial(self._app().perform, action))

    async def search(self, query: str) -> Hits:
        """Offer those whose words fit."""
        matcher = self.matcher(query)
        for action in self._actions():
            score = matcher.match(f"{action.words} {action.label}")
            if score > 0:
                yield Hit(score, _line(action), partial(self._app().perform, action))


def _line(action: Action) -> str:
    return f"{action.words}  ({action.shown_key})" if action.shown_key not in "[]" else action.words
