"""Drawings: numbers to cells, tested without a screen."""

from __future__ import annotations

import math
import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from rich.cells import cell_len

from axiarch.tui.plots import bars, ladder
from axiarch.tui.plots.canvas import Canvas
from axiarch.tui.plots.chart import Chart, Level, Series, draw_chart, loss_scale
from axiarch.tui.plots.network import draw_network
from axiarch.tui.plots.picture import picture
from axiarch.tui.plots.runs import Row, Rows, cut, fit, fit_name, in_columns, right, row_width, wrap
from axiarch.tui.plots.scale import Scale, span_of

FINITE = st.floats(-1e6, 1e6)


def text(rows: Rows) -> str:
    """Return a drawing as plain text."""
    return "\n".join("".join(piece for piece, _ in row) for row in rows)


class Text(unittest.TestCase):
    @given(st.text(max_size=30), st.integers(0, 30))
    def test_fitted_text_has_exactly_its_width(self, value: str, width: int) -> None:
        self.assertEqual(row_width([(fit(value, width), "ink")]), width)
        self.assertEqual(row_width([(right(value, width), "ink")]), width)

    @given(st.lists(st.text(max_size=10), max_size=5), st.integers(0, 30))
    def test_a_cut_row_is_no_wider_than_asked(self, pieces: list[str], width: int) -> None:
        self.assertLessEqual(row_width(cut([(fit(p, 9), "ink") for p in pieces], width)), width)

    def test_wide_characters_count_twice(self) -> None:
        self.assertEqual(row_width([(fit("日本語", 4), "ink")]), 4)

    def test_columns_stand_beneath_each_other_and_none_is_cut(self) -> None:
        lines: list[list[Row]] = [
            [[("a ", "ink"), ("1", "lead")], [("bb", "ink")], [("c", "ink")]],
            [[("a ", "ink"), ("123", "lead")], [("b", "ink")], [("c", "ink")]]]

        def said(width: int) -> list[str]:
            return ["".join(text for text, _ in row).rstrip() for row in in_columns(lines, width)]

        self.assertEqual(said(40), ["a 1     bb   c", "a 123   b    c"])
        self.assertEqual(said(12), ["a 1    bb  c", "a 123  b   c"])
        self.assertEqual(said(11), ["a 1     bb", "a 123   b"])
        self.assertEqual(in_columns([], 40), [])

    def test_sentences_are_wrapped(self) -> None:
        self.assertEqual(len(wrap("one two three four", 10)), 2)


class Scales(unittest.TestCase):
    @given(FINITE, st.floats(1e-3, 1e6), st.integers(2, 12))
    def test_ticks_are_round_and_on_the_axis(self, low: float, span: float, most: int) -> None:
        scale = Scale(low, low + span)
        ticks = scale.ticks(most)
        self.assertTrue(1 <= len(ticks) <= most + 2, ticks)
        for tick in ticks:
            self.assertTrue(low - span * 1e-6 <= tick <= low + span * (1 + 1e-6))

    @given(st.floats(1e-30, 1e6), st.floats(1.05, 1e30), st.integers(2, 12))
    def test_logarithmic_ticks_are_on_the_axis(self, low: float, times: float, most: int) -> None:
        scale = Scale(low, low * times, True)
        ticks = scale.labels(most)
        self.assertTrue(1 <= len(ticks) <= most + 2, ticks)
        for tick, _ in ticks:
            self.assertTrue(-1e-6 <= float(scale.at(tick)) <= 1 + 1e-6, (tick, scale))

    def test_ticks_of_an_axis_are_written_alike(self) -> None:
        for low, high, log, wanted in (
                (0.00089, 0.0011, False, "0.00090 0.00095 0.00100 0.00105 0.00110"),
                (0.0, 2.0, False, "0.0 0.5 1.0 1.5 2.0"), (0.0, 40.0, False, "0 10 20 30 40"),
                (0.0, 1e-12, False, "0 2e-13 4e-13 6e-13 8e-13 1e-12"),
                (1e-4, 1.0, True, "1e-4 0.001 0.01 0.1 1")):
            found = [label for _, label in Scale(low, high, log).labels(5)]
            self.assertEqual(" ".join(found), wanted)

    @given(st.floats(-1e6, 1e6), st.floats(1e-3, 1e6), st.integers(2, 12))
    def test_labels_say_where_ticks_are(self, low: float, span: float, most: int) -> None:
        for tick, label in Scale(low, low + span).labels(most):
            self.assertAlmostEqual(float("".join(label.split())), tick,
                                   delta=1e-3 * max(abs(tick), span))

    def test_epochs_are_not_cut_in_half(self) -> None:
        for end in (2.0, 3.0, 6.0, 12.0, 18.0, 27.0, 40.0, 60.0):
            for most in (3, 11):
                ticks = Scale(1.0, end, whole=True).ticks(most)
                self.assertTrue(all(tick == int(tick) for tick in ticks), (end, ticks))
                self.assertTrue(ticks, end)

    def test_a_logarithmic_axis_has_decades(self) -> None:
        self.assertEqual(Scale(1e-4, 1.0, True).ticks(9), [1e-4, 1e-3, 1e-2, 1e-1, 1.0])
        self.assertAlmostEqual(float(Scale(1e-4, 1.0, True).at(1e-2)), 0.5)

    def test_an_axis_holds_its_values_whatever_they_are(self) -> None:
        for values in ([], [math.inf], [1.0], [1e-12, 2e-12], [-3.0, 5.0]):
            scale = span_of(np.array(values))
            self.assertLess(scale.low, scale.high)
            for value in values:
                if math.isfinite(value):
                    self.assertTrue(0 <= float(scale.at(value)) <= 1)

    def test_a_loss_axis_ends_near_the_floor(self) -> None:
        above = loss_scale(np.array([2.0, 2.1, 900.0]), 1.4, best=0.4)
        self.assertTrue(above.low <= 0.4 and 2.1 < above.high < 3.0)
        scale = loss_scale(np.array([0.5, 900.0, np.inf]), 1.4)
        self.assertLess(scale.high, 2.0)
        self.assertLess(scale.low, 0.5)

    def test_the_lowest_of_each_curve_is_on_a_loss_axis(self) -> None:
        """Of a recipe whose training loss is low, and all of whose validation losses are high."""
        values = np.array([0.5, 0.7, 1.6, 1.8])
        self.assertLess(loss_scale(values, 1.1).high, 1.6)
        self.assertGreater(loss_scale(values, 1.1, lows=[1.6]).high, 1.6)
        self.assertLess(loss_scale(np.array([0.5, 900.0]), 1.1, lows=[900.0, np.inf]).high, 2.0)


class Canvases(unittest.TestCase):
    @given(st.lists(st.tuples(st.floats(), st.floats()), max_size=20), st.integers(1, 30),
           st.integers(1, 12))
    def test_any_line_fits_the_canvas(self, points: list[tuple[float, float]], cols: int,
                                      rows: int) -> None:
        canvas = Canvas(cols, rows)
        x, y = (np.array([p[i] for p in points], dtype=float) for i in (0, 1))
        x = np.clip(x, -5, 5)
        with np.errstate(all="ignore"):
            canvas.line(x, y, "lead")
        drawn = canvas.drawn()
        self.assertEqual(len(drawn), rows)
        self.assertTrue(all(row_width(row) == cols for row in drawn))

    def test_corners(self) -> None:
        canvas = Canvas(3, 2)
        canvas.points(np.array([0.0, 1.0]), np.array([0.0, 1.0]), "lead")
        rows = text(canvas.drawn()).splitlines()
        self.assertEqual((rows[0][2], rows[1][0]), ("⠈", "⡀"))

    def test_a_diagonal_has_no_holes(self) -> None:
        canvas = Canvas(10, 10)
        canvas.line(np.array([0.0, 1.0]), np.array([0.0, 1.0]), "lead")
        self.assertTrue(
            all(row[9 - i] != " " for i, row in enumerate(text(canvas.drawn()).splitlines())))

    def test_a_break_in_the_values_breaks_the_line(self) -> None:
        canvas = Canvas(9, 1)
        canvas.line(np.array([0.0, 0.2, 0.5, 0.8, 1.0]), np.array([0.5, 0.5, np.nan, 0.5, 0.5]),
                    "lead")
        self.assertEqual(text(canvas.drawn())[4], " ")

    def test_the_higher_rank_colours_the_cell(self) -> None:
        for order in ((0, 1), (1, 0)):
            canvas = Canvas(1, 1)
            for rank in order:
                canvas.points(np.array([0.1]), np.array([0.1 + 0.5 * rank]), ["low", "high"][rank],
                              rank)
            self.assertEqual(canvas.drawn()[0][0][1], "high")


class Charts(unittest.TestCase):
    chart = Chart([Series(np.arange(1.0, 41), np.linspace(1.3, 0.4, 40), "lead", 1, "●")],
                  Scale(1, 40), Scale(0.3, 1.6), "epoch", "loss (nats)", [Level(1.41, "baseline")],
                  20.0)

    def test_it_fits_and_carries_names_ticks_and_levels(self) -> None:
        for width, height in ((80, 20), (140, 40), (30, 8)):
            rows = draw_chart(self.chart, width, height)
            self.assertEqual(len(rows), height)
            self.assertTrue(all(row_width(row) <= width for row in rows))
            self.assertIn("baseline", text(rows))
        self.assertIn("loss (nats)", text(draw_chart(self.chart, 80, 20)))
        self.assertIn("epoch →", text(draw_chart(self.chart, 80, 20)))
        self.assertIn("●", text(draw_chart(self.chart, 80, 20)))

    def test_too_small_says_so(self) -> None:
        self.assertIn("too small", text(draw_chart(self.chart, 12, 4)))

    def test_nothing_to_draw_is_still_an_axis(self) -> None:
        empty = Chart([], Scale(0, 1), loss_scale(np.zeros(0), 1.4), "epoch", "loss")
        self.assertEqual(len(draw_chart(empty, 60, 12)), 12)


class Rungs(unittest.TestCase):
    def drawn(self, loss: float, reach: float | None = 0.1, training: float = 0.2) -> str:
        return "".join(
            piece
            for piece, _ in ladder.rung(Scale(0, 1), 50, loss, reach, reach, training, [0.9],
                                        "lead"))

    def test_dot_whisker_training_and_floor_stand_where_they_should(self) -> None:
        row = self.drawn(0.5)
        self.assertEqual((row.index("●"), row.index("○"), row.index("┊")), (25, 10, 45))
        self.assertEqual((row.index("─"), row.rindex("─")), (20, 30))
        self.assertEqual(len(row), 50)

    def test_what_lies_beyond_is_pointed_to(self) -> None:
        self.assertEqual(self.drawn(7.0)[-1], "▸")

    def test_no_interval_no_whisker(self) -> None:
        self.assertNotIn("─", self.drawn(0.5, None))

    def test_the_axis_has_ticks(self) -> None:
        self.assertIn("0.4", text(ladder.axis(Scale(0, 1), 50)))


class Bars(unittest.TestCase):
    @given(st.lists(st.integers(0, 10**6), max_size=20))
    def test_every_count_above_zero_is_seen(self, counts: list[int]) -> None:
        for count, cell in zip(counts, bars.spark(counts), strict=True):
            self.assertEqual(count == 0, cell == " ")

    @given(st.floats(0, 100), st.integers(1, 40))
    def test_bars_have_their_width(self, value: float, width: int) -> None:
        self.assertEqual(len(bars.along(value, 100, width)), width)

    def test_named_bars_carry_counts_and_shares(self) -> None:
        drawn = text(bars.named_bars(["calm", "busy"], [30, 10], 60))
        self.assertIn("75.0 %", drawn)
        self.assertIn("10", drawn)

    def test_a_histogram_names_its_ends(self) -> None:
        drawn = text(bars.histogram([1, 5, 2], -1.5, 4.0, 30, 4))
        self.assertIn("-1.5", drawn)
        self.assertEqual(len(drawn.splitlines()), 5)


class Networks(unittest.TestCase):
    def test_widths_are_seen(self) -> None:
        rows = draw_network([21, 64, 5], ["inputs", "relu", "classes"], 60, 9)
        lengths = [sum(piece.count("▇") for piece, _ in row) for row in rows]
        self.assertGreater(lengths[2], lengths[0])
        self.assertGreater(lengths[0], lengths[4])
        self.assertIn("relu 64", text(rows))

    @given(st.lists(st.integers(1, 16384), min_size=2, max_size=40), st.integers(20, 120),
           st.integers(5, 30))
    def test_any_network_fits(self, sizes: list[int], width: int, height: int) -> None:
        rows = draw_network(sizes, ["layer"] * len(sizes), width, height)
        self.assertLessEqual(len(rows), max(height + 1, 6))
        self.assertTrue(all(row_width(row) <= width for row in rows))

    def test_a_deep_one_is_folded(self) -> None:
        self.assertIn("more layers", text(draw_network([8] * 40, ["tanh"] * 40, 60, 12)))


class Names(unittest.TestCase):
    @given(st.text(max_size=90), st.integers(0, 60))
    def test_a_name_takes_exactly_its_cells(self, text: str, width: int) -> None:
        self.assertEqual(cell_len(fit_name(text, width)), width)

    def test_long_names_keep_both_their_ends(self) -> None:
        names = [f"a rather long name of a column, number {i:03d}" for i in range(20)]
        cut = [fit_name(name, 24) for name in names]
        self.assertEqual(len(set(cut)), 20)
        self.assertTrue(all(c.startswith("a rather") and "…" in c for c in cut))


class Pictures(unittest.TestCase):
    def test_two_pixels_share_a_cell_and_large_pictures_are_drawn_smaller(self) -> None:
        rows = picture(np.arange(20.0).reshape(5, 4, 1), 0.0, 19.0)
        self.assertEqual([len(row) for row in rows], [4, 4, 4])
        self.assertEqual(rows[0][0], ("▀", "~0/21"))
        self.assertEqual(rows[2][3][1], "~100/0")
        self.assertLessEqual(len(picture(np.zeros((100, 90, 3)), 0.0, 1.0)[0]), 32)

    def test_colours_are_colours(self) -> None:
        rows = picture(np.array([[[255, 0, 0]], [[0, 0, 255]]], np.uint8), 0.0, 255.0)
        self.assertEqual(rows, [[("▀", "~#ff0000/#0000ff")]])
