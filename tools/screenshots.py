"""Make docs/screenshots/ again: every main view on the demo data, drawn cell by cell to PNG.

    python tools/screenshots.py [FOLDER]

Runs the demo search in a temporary workspace, drives the application without a terminal, and draws
what is on its screen with a monospaced font. Braille and block characters are drawn as what they
are, so the pictures need no special font.
"""

from __future__ import annotations

import asyncio
import sys
import tempfile
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import matplotlib
from PIL import Image, ImageDraw, ImageFont
from rich.cells import cell_len
from rich.color import Color
from rich.style import Style
from textual.pilot import Pilot

from axiarch import workflows
from axiarch.journal.workspace import Workspace
from axiarch.recipes.searchfile import MethodChoice
from axiarch.tui.app import AxiarchApp
from axiarch.tui.palette import PALETTES
from axiarch.tui.views.ladder import LadderView
from axiarch.tui.widgets.choices import Choices
from axiarch.tui.widgets.probe import ProbeScreen
from axiarch.workflows.explaining import KnobEffects

ROOT = Path(__file__).resolve().parent.parent
CELL, POINTS = (9, 18), 15
FONTS = Path(matplotlib.get_data_path()) / "fonts" / "ttf"


class Painter:
    """Draws the screen of an application."""

    def __init__(self) -> None:
        self._fonts = {
            bold: ImageFont.truetype(str(FONTS / f"DejaVuSansMono{'-Bold' if bold else ''}.ttf"),
                                     POINTS) for bold in (False, True)
        }

    def paint(self, app: AxiarchApp, path: Path) -> None:
        """Write what is on the screen as PNG."""
        ground = PALETTES[app.theme]["ground"]
        width, height = app.size
        image = Image.new("RGB", (width * CELL[0], height * CELL[1]), ground)
        draw = ImageDraw.Draw(image)
        for y, strip in enumerate(app.screen._compositor.render_strips()):
            x = 0
            for text, style, _ in strip:
                for character in text:
                    self._cell(draw, x, y, character, style or Style.null(), ground)
                    x += cell_len(character)
        image.quantize(256).save(path, optimize=True)

    def _cell(self, draw: ImageDraw.ImageDraw, x: int, y: int, character: str, style: Style,
              ground: str) -> None:
        left, top = x * CELL[0], y * CELL[1]
        ink, paper = _colour(style.color, "#ffffff"), _colour(style.bgcolor, ground)
        if style.reverse:
            ink, paper = paper, ink
        draw.rectangle((left, top, left + CELL[0] * cell_len(character) - 1, top + CELL[1] - 1),
                       fill=paper)
        code = ord(character)
        if 0x2800 < code <= 0x28FF:
            self._braille(draw, left, top, code - 0x2800, ink)
        elif 0x2581 <= code <= 0x2588:
            rows = round(CELL[1] * (code - 0x2580) / 8)
            draw.rectangle((left, top + CELL[1] - rows, left + CELL[0] - 1, top + CELL[1] - 1),
                           fill=ink)
        elif character == "▀":
            draw.rectangle((left, top, left + CELL[0] - 1, top + CELL[1] // 2 - 1), fill=ink)
        elif character in _LINES:
            self._line(draw, left, top, character, ink)
        elif character.strip():
            draw.text((left, top), character, fill=ink, font=self._fonts[bool(style.bold)])

    def _braille(self, draw: ImageDraw.ImageDraw, left: int, top: int, bits: int, ink: str) -> None:
        for bit, (column, row) in enumerate(
            ((0, 0), (0, 1), (0, 2), (1, 0), (1, 1), (1, 2), (0, 3), (1, 3))):
            if bits >> bit & 1:
                x, y = left + 1 + column * 5, top + 1 + round(row * 4.5)
                draw.rectangle((x, y, x + 1, y + 1), fill=ink)

    def _line(self, draw: ImageDraw.ImageDraw, left: int, top: int, character: str,
              ink: str) -> None:
        """Draw line characters edge to edge, so that they join from cell to cell."""
        middle, centre = left + CELL[0] // 2, top + CELL[1] // 2
        thick = 1 if character == "━" else 0
        ends = {"w": (left, centre, middle, centre + thick), "n": (middle, top, middle, centre),
                "e": (middle, centre, left + CELL[0] - 1, centre + thick),
                "s": (middle, centre, middle, top + CELL[1] - 1)}
        for side in _LINES[character]:
            draw.rectangle(ends[side], fill=ink)


#: The sides that each line character joins.
_LINES = {
    "─": "we", "━": "we", "│": "ns", "┤": "nsw", "┴": "wen", "┬": "wes", "└": "ne", "╭": "es",
    "╰": "ne", "╮": "ws", "╯": "wn"
}


def _colour(colour: Color | None, otherwise: str) -> str:
    return otherwise if colour is None or colour.is_default else colour.get_truecolor().hex


async def until(pilot: Pilot[str], condition: Callable[[], object]) -> None:
    """Wait until a condition holds."""
    async with asyncio.timeout(120):
        while not condition():
            await pilot.pause(0.02)


async def shoot(folder: Path, place: Path) -> None:
    """Make all pictures."""
    painter = Painter()
    workspace = workflows.make_demo(place)
    app = AxiarchApp(workspace)
    async with app.run_test(size=(142, 44)) as pilot:
        await until(pilot, lambda: app.state.forecast is not None)
        await pilot.press(*["down"] * 5)
        await pilot.pause(0.3)
        painter.paint(app, folder / "data-dark.png")
        await pilot.press("2", *["down"] * 7)
        await pilot.pause(0.3)
        painter.paint(app, folder / "sheet-dark.png")
        await pilot.press("t", *["up"] * 5, "enter")
        await pilot.pause(0.5)
        painter.paint(app, folder / "sheet-light.png")
        await pilot.press("escape", "t", "s")
        await until(pilot,
                    lambda: app.state.snapshot is not None and app.state.snapshot.epochs >= 700)
        painter.paint(app, folder / "field-dark.png")
        await until(pilot, lambda: app.state.snapshot is not None and app.state.snapshot.over)
        await pilot.press("4", "down", "down", "down")
        await pilot.pause(0.3)
        painter.paint(app, folder / "ladder-dark.png")
        await pilot.press("f")
        await until(pilot, lambda: isinstance(app.query_one(LadderView).panel, KnobEffects))
        await pilot.pause(0.5)
        painter.paint(app, folder / "effects-dark.png")
        await pilot.press("f")
        await pilot.pause(0.3)
        await pilot.press("enter", *["left"] * 9)
        await pilot.pause(0.3)
        painter.paint(app, folder / "strips-dark.png")
        await pilot.press("question_mark")
        await pilot.pause(0.5)
        painter.paint(app, folder / "help-dark.png")
        await pilot.press("escape", "6")
        await until(pilot, lambda: len(app.state.predictions) == 1)
        await pilot.pause(0.5)
        painter.paint(app, folder / "predictions-dark.png")
        await pilot.press("4", "home", "m", "down", "m", *["down"] * 7, "m", "enter", "v")
        await pilot.pause(0.3)
        painter.paint(app, folder / "overlay-dark.png")
        await pilot.press("escape", "escape", "4", "t")
        await pilot.pause(0.3)
        painter.paint(app, folder / "ladder-light.png")
        await pilot.press("t", "2", "o")
        await until(pilot, lambda: app.view == "strips" and app.state.snapshot is not None
                    and app.state.snapshot.search.number == 2 and app.state.snapshot.over)
        await pilot.pause(0.5)
        painter.paint(app, folder / "watched-dark.png")
        await pilot.press("3", "comma")
        await until(
            pilot,
            lambda: app.state.snapshot is not None and app.state.snapshot.search.number == 1)
    await shoot_next_steps(painter, folder, workspace)
    amounts = workflows.new_search(workflows.data_set(workspace, "nectar flow"),
                                   recipes=4,
                                   repeats=2,
                                   vary={"learning_rate": "3e-3 .. 3e-2 log"},
                                   base={"epochs": 30})
    number = workflows.start_search(workspace, amounts)
    workflows.wait(workspace, number)
    app = AxiarchApp(workspace)
    async with app.run_test(size=(142, 44)) as pilot:
        await until(pilot, lambda: app.state.snapshot is not None and app.view == "field")
        await pilot.press("t", "6")
        await until(pilot, lambda: len(app.state.predictions) == 1)
        await pilot.pause(0.5)
        painter.paint(app, folder / "predicted-amounts-light.png")
        await pilot.press("t", "space")
        await pilot.pause(0.5)
        painter.paint(app, folder / "by-input-dark.png")
        snapshot = workflows.snapshot_of(workspace)
        for row in snapshot.ranking.rows[:2]:
            workflows.keep_model(workspace, snapshot, row.recipe, note="to compare")
        await pilot.press("M")
        await pilot.pause(2.0)
        await pilot.press("m", "down")
        await pilot.pause(0.5)
        painter.paint(app, folder / "models-dark.png")
    small = AxiarchApp(workspace)
    async with small.run_test(size=(80, 24)) as pilot:
        await until(pilot, lambda: small.view == "field" and small.state.snapshot is not None)
        await pilot.press("comma", "comma")
        await until(
            pilot,
            lambda: small.state.snapshot is not None and small.state.snapshot.search.number == 3)
        await pilot.pause(0.5)
        painter.paint(small, folder / "field-small.png")


async def shoot_next_steps(painter: Painter, folder: Path, workspace: Workspace) -> None:
    """Make the pictures of what is found in a recipe, of a probe and of a ladder of capacity."""
    hives = workflows.data_set(workspace, "hive states")
    large = replace(
        workflows.new_search(hives, recipes=1, repeats=2, vary={},
                             base={"width": 256, "epochs": 60, "patience": 0,
                                   "learning_rate": 2e-3}),
        name="too large", method=MethodChoice("grid"))
    workflows.wait(workspace, workflows.start_search(workspace, large))
    ladder = workflows.ladder_from(workflows.snapshot_of(workspace, 1))
    app = AxiarchApp(workspace)
    async with app.run_test(size=(142, 44)) as pilot:
        await until(pilot, lambda: app.state.snapshot is not None and app.view == "field")
        await pilot.press("5", *["left"] * 40)
        await pilot.pause(0.5)
        painter.paint(app, folder / "findings-dark.png")
        await pilot.press("2", "p")
        await until(pilot, lambda: isinstance(app.screen, Choices))
        await pilot.press("enter")
        await until(pilot, lambda: isinstance(app.screen, ProbeScreen))
        await pilot.pause(0.5)
        painter.paint(app, folder / "probe-dark.png")
    workflows.wait(workspace, workflows.start_search(workspace, ladder))
    app = AxiarchApp(workspace)
    async with app.run_test(size=(142, 44)) as pilot:
        await until(pilot, lambda: app.state.snapshot is not None and app.view == "field")
        await pilot.press("4", "o")
        await pilot.pause(0.5)
        painter.paint(app, folder / "capacity-dark.png")


def main() -> None:
    """Make the pictures in docs/screenshots, or in the folder named."""
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else ROOT / "docs" / "screenshots"
    folder.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as place:
        asyncio.run(shoot(folder, Path(place) / "demo"))
    for path in sorted(folder.glob("*.png")):
        print(path)


if __name__ == "__main__":
    main()
