"""What is said where the application ends because of an internal error."""

from __future__ import annotations

import unittest
from unittest import mock

from axiarch.tui.farewell import last_words
from axiarch.tui.views.ladder import LadderView
from tests.tui.test_app import AppCase


class LastWords(AppCase):
    def test_they_say_where_it_happened_and_no_value_or_escape(self) -> None:
        secret = "value of a variable"
        try:
            raise ValueError("\x1b[31m[bold]red" + "!" * 500)
        except ValueError as error:
            said = last_words(error).plain
        self.assertIn("Nothing is lost", said)
        self.assertIn("test_farewell.py", said)
        self.assertIn("[bold]red!", said)
        self.assertNotIn("\x1b", said)
        self.assertNotIn(secret, said)
        self.assertLess(len(said), 3000)

    async def test_the_application_leaves_with_them(self) -> None:
        with mock.patch.object(LadderView, "take", side_effect=KeyError("gone")), \
                mock.patch("axiarch.tui.app.last_words", return_value="so it ended") as said, \
                self.assertRaises(KeyError):
            async with self.running(self.searched()) as (_app, pilot):
                await pilot.press("4")
                await pilot.pause(0.2)
        said.assert_called_once()


if __name__ == "__main__":
    unittest.main()
