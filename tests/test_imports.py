"""Imports run downwards only; heavy packages stay where they belong and out of start-up."""

from __future__ import annotations

import ast
import subprocess
import sys
import unittest
from collections.abc import Iterator
from functools import cache
from pathlib import Path

import grimp

ROOT = Path(__file__).resolve().parent.parent
PACKAGE = ROOT / "axiarch"

#: What each room may import, besides itself, `errors`, `files`, `text` and `runs`; the table of
#: docs/architecture.md.
ALLOWED: dict[str, set[str]] = {
    "runs": set(),
    "data": set(),
    "recipes": set(),
    "engine": {"recipes"},
    "ranking": {"recipes"},
    "search": {"recipes", "ranking"},
    "insight": {"recipes", "engine", "ranking"},
    "journal": {"recipes"},
    "runner": {"data", "recipes", "engine", "search", "ranking", "journal"},
    "export": {"data", "recipes", "engine", "ranking", "insight"},
    "workflows": {
        "data", "recipes", "engine", "search", "ranking", "insight", "journal", "runner", "export"
    },
}
#: Front ends import workflows and these modules of plain values.
VALUES = {
    "axiarch.data.checks", "axiarch.data.columns", "axiarch.data.dataset", "axiarch.data.findings",
    "axiarch.data.baseline", "axiarch.data.decisions", "axiarch.data.toggles",
    "axiarch.data.plan", "axiarch.data.reading", "axiarch.data.table", "axiarch.journal.records",
    "axiarch.insight.forecast", "axiarch.insight.probes", "axiarch.insight.proposal",
    "axiarch.insight.recipe_warnings", "axiarch.journal.inbox",
    "axiarch.journal.workspace", "axiarch.ranking.rank",
}
#: Packages that only one room may import.
OWNED = {"textual": {"tui"}, "sqlite3": {"journal"}, "matplotlib": {"export"}, "numba": {"engine"},
         "click": {"cli"}, "polars": {"data"}, "safetensors": {"engine"}, "onnx": {"export"},
         "jinja2": {"export"}, "pydantic": {"recipes"}, "distributed": {"runner"}}
#: Packages that only one module may import.
ONE_MODULE = {"distributed": ".executors.cluster"}


def modules() -> Iterator[tuple[Path, str]]:
    """Yield every module with the room it is in."""
    for path in sorted(PACKAGE.rglob("*.py")):
        parts = path.relative_to(PACKAGE).parts
        yield path, parts[0] if len(parts) > 1 else ""


def room_of(module: str) -> str:
    """Return the room of one of our modules; the empty text for those beside the rooms."""
    parts = module.split(".")
    return parts[1] if len(parts) > 1 and (PACKAGE / parts[1]).is_dir() else ""


@cache
def graph() -> grimp.ImportGraph:
    """Return who imports what, late and type-only imports and other packages included."""
    return grimp.build_graph("axiarch", include_external_packages=True, cache_dir=None)


class ImportDirection(unittest.TestCase):
    def test_every_arrow_is_allowed(self) -> None:
        ours = [module for module in graph().modules if module.split(".")[0] == "axiarch"]
        self.assertGreater(len(ours), 200)
        for module in ours:
            room = room_of(module)
            for target in graph().find_modules_directly_imported_by(module):
                there = room_of(target)
                if not room or not target.startswith("axiarch") or there in ("", "runs", room):
                    continue
                with self.subTest(module=module, imports=target):
                    if room in ("tui", "cli"):
                        allowed = there in ("workflows", "recipes") or target in VALUES or (
                            room == "cli" and target == "axiarch.tui.run")
                        self.assertTrue(allowed)
                    else:
                        self.assertIn(there, ALLOWED[room])

    def test_no_room_reaches_another_by_a_detour(self) -> None:
        """Whatever a room may not import, no chain of imports leads to."""
        for room, allowed in ALLOWED.items():
            for other in {*ALLOWED, "tui", "cli"} - {*allowed, room, "runs"}:
                chain = graph().find_shortest_chain(f"axiarch.{room}", f"axiarch.{other}",
                                                    as_packages=True)
                self.assertIsNone(chain, (room, other))

    def test_packages_stay_in_their_rooms(self) -> None:
        for package, rooms in OWNED.items():
            for module in graph().find_modules_that_directly_import(package):
                with self.subTest(package=package, module=module):
                    self.assertIn(room_of(module), rooms)
                    self.assertTrue(module.endswith(ONE_MODULE.get(package, "")))

    def test_one_module_writes_to_the_terminal(self) -> None:
        """Neither ``print`` nor ``echo`` nor a stream, except in the gate and in processes that
        answer on a pipe.
        """
        for path, room in modules():
            if room == "runner" or path.name == "saying.py" or (
                    (room, path.name) == ("export", "__main__.py")):
                continue
            for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
                if not isinstance(node, ast.Call):
                    continue
                name = ast.unparse(node.func)
                with self.subTest(path=path.name, line=node.lineno):
                    self.assertNotIn(name.rpartition(".")[2], {"echo", "secho", "writelines"})
                    self.assertNotEqual(name, "print")
                    self.assertFalse(name.startswith(("sys.stdout.write", "sys.stderr.write")))

    def test_plots_know_no_widgets(self) -> None:
        for module in graph().find_descendants("axiarch.tui.plots"):
            for target in graph().find_modules_directly_imported_by(module):
                with self.subTest(module=module, imports=target):
                    self.assertFalse(target.startswith(
                        ("textual", "axiarch.tui.widgets", "axiarch.tui.views")))

    def test_the_table_in_the_docs_is_this_table(self) -> None:
        text = (ROOT / "docs" / "architecture.md").read_text(encoding="utf-8")
        for room, allowed in ALLOWED.items():
            row = next(line for line in text.splitlines() if line.startswith(f"| {room} |"))
            said = {word.strip() for word in row.split("|")[2].split(",")} - {"–"}
            self.assertEqual(said, {"all of the above"} if room == "workflows" else allowed, room)


class StartUp(unittest.TestCase):
    def loaded(self, statement: str) -> set[str]:
        """Return the top packages loaded by a statement in a fresh process."""
        code = f"{statement}\nimport sys; print(*{{m.split('.')[0] for m in sys.modules}})"
        done = subprocess.run([sys.executable, "-c", code],
                              capture_output=True,
                              text=True,
                              check=True)
        return set(done.stdout.split())

    def test_the_command_line_loads_nothing_heavy(self) -> None:
        heavy = {"numpy", "numba", "textual", "matplotlib", "polars", "scipy", "pydantic"}
        self.assertFalse(self.loaded("import axiarch.cli.main") & heavy)

    def test_the_interface_never_loads_numba_or_plotting(self) -> None:
        used = ("forecasting watching judging models starting continuing confirming finishing "
                "bringing unsealing telling")
        verbs = ", ".join(f"axiarch.workflows.{name}" for name in used.split())
        loaded = self.loaded(f"import axiarch.tui.app, {verbs}")
        self.assertFalse(loaded & {"numba", "matplotlib", "polars"})


if __name__ == "__main__":
    unittest.main()
