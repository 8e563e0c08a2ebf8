"""What keeps the interpreter from making keys wait."""

from __future__ import annotations

import gc
import sys
import unittest
from unittest import mock

from axiarch.tui.quiet import IDLE, Tidier, be_quiet
from axiarch.tui.widgets.drawing import strip_of, style_of


class Quiet(unittest.TestCase):
    def test_only_young_objects_are_looked_through_by_themselves(self) -> None:
        before, switch = gc.get_threshold(), sys.getswitchinterval()
        try:
            be_quiet()
            young, middle, old = gc.get_threshold()
            self.assertEqual((young, middle), before[:2])
            self.assertGreater(old, 10**6)
            self.assertLess(sys.getswitchinterval(), 0.005)
        finally:
            gc.set_threshold(*before)
            sys.setswitchinterval(switch)

    def test_all_are_when_nobody_is_at_the_keyboard(self) -> None:
        now = [0.0]
        tidier = Tidier(lambda: now[0])
        with mock.patch("gc.collect") as collect:
            now[0] = IDLE - 1
            self.assertFalse(tidier.tidy())
            tidier.touch()
            now[0] = IDLE + 1
            self.assertFalse(tidier.tidy())
            collect.assert_not_called()
            now[0] = 2 * IDLE
            self.assertTrue(tidier.tidy())
            collect.assert_called_once()


class Kept(unittest.TestCase):
    def test_the_same_row_is_the_same_strip(self) -> None:
        row = [("a", "ink"), ("bc", "warn*")]
        first = strip_of(row, 8, "axiarch-dark")
        self.assertIs(strip_of(list(row), 8, "axiarch-dark"), first)
        self.assertIs(style_of("warn*", "axiarch-dark"), style_of("warn*", "axiarch-dark"))
        for other in (strip_of(row, 9, "axiarch-dark"), strip_of([("a", "ink")], 8, "axiarch-dark"),
                      strip_of(row, 8, "axiarch-light"), strip_of(row, 8, "axiarch-dark", "ink!")):
            self.assertIsNot(other, first)
        self.assertEqual(first.text, "abc     ")


if __name__ == "__main__":
    unittest.main()
