"""Imports run downwards only; heavy packages stay where they belong and out of start-up."""

from __future__ import annotations

import ast
import subprocess
import sys
import unittest
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
PACKAGE = ROOT / "axiarch"

#: What each room may import, besides itself, `errors`, `files`, `plain` and `runs`; the table of
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
    "axiarch.data.floor",
    "axiarch.data.plan", "axiarch.data.reading", "axiarch.data.table", "axiarch.journal.records",
    "axiarch.insight.forecast", "axiarch.insight.regrets", "axiarch.journal.inbox",
    "axiarch.journal.workspace", "axiarch.ranking.rank",
}
#: Packages that only one room may import.
OWNED = {"textual": {"tui"}, "sqlite3": {"journal"}, "matplotlib": {"export"}, "numba": {"engine"},
         "click": {"cli"}, "polars": {"data"}, "safetensors": {"engine"}, "onnx": {"export"},
         "jinja2": {"export"}, "pydantic": {"recipes"}, "distributed": {"runner"}}
#: Packages that only one module may import.
ONE_MODULE = {"distributed": "executors/cluster.py"}


def modules() -> Iterator[tuple[Path, str]]:
    """Yield every module with the room it is in."""
    for path in sorted(PACKAGE.rglob("*.py")):
        parts = path.relative_to(PACKAGE).parts
        yield path, parts[0] if len(parts) > 1 else ""


def imports(path: Path) -> Iterator[tuple[str, int]]:
    """Yield every module imported in a file, late and type-only imports included."""
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            yield from ((alias.name, node.lineno) for alias in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module:
            if node.module == "axiarch":
                yield from ((f"axiarch.{alias.name}", node.lineno) for alias in node.names)
            else:
                yield node.module, node.lineno


def room_of(module: str) -> str:
    """Return the room of one of our modules; the empty text for those beside the rooms."""
    parts = module.split(".")
    return parts[1] if len(parts) > 1 and (PACKAGE / parts[1]).is_dir() else ""


class ImportDirection(unittest.TestCase):
    def test_every_arrow_is_allowed(self) -> None:
        for path, room in modules():
            for module, line in imports(path):
                if not module.startswith("axiarch") or not room:
                    continue
                target = room_of(module)
                if target in ("", "runs", room):
                    continue
                with self.subTest(path=path.name, line=line, imports=module):
                    if room in ("tui", "cli"):
                        allowed = target in ("workflows", "recipes") or module in VALUES or (
                            room == "cli" and module == "axiarch.tui.app")
                        self.assertTrue(allowed)
                    else:
                        self.assertIn(target, ALLOWED[room])

    def test_packages_stay_in_their_rooms(self) -> None:
        for path, room in modules():
            for module, line in imports(path):
                top = module.split(".")[0]
                if top in OWNED:
                    with self.subTest(path=str(path.relative_to(ROOT)), line=line, imports=module):
                        self.assertIn(room, OWNED[top])
                        self.assertTrue(str(path).endswith(ONE_MODULE.get(top, "")))

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
        for path in (PACKAGE / "tui" / "plots").glob("*.py"):
            for module, line in imports(path):
                with self.subTest(path=path.name, line=line):
                    self.assertFalse(
                        module.startswith(("textual", "axiarch.tui.widgets", "axiarch.tui.views")))

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
