"""Choose a table or pictures: type a path, or walk the folders; the tables opened before come
first.
"""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from textual.app import ComposeResult
from textual.containers import Vertical
from textual.content import Content
from textual.screen import ModalScreen
from textual.widgets import DirectoryTree, Input, OptionList, Static
from textual.widgets.option_list import Option

from axiarch.text import shown

#: Endings of files that are tables.
TABLES = frozenset({
    ".csv", ".tsv", ".txt", ".dat", ".parquet", ".pq", ".arrow", ".feather", ".ipc", ".jsonl",
    ".ndjson", ".xlsx", ".xls", ".ods", ".npz", ".npy", ".idx", ".gz"
})


class Tables(DirectoryTree):
    """A tree of folders and tables; everything else is left out."""

    ICON_NODE = "▸ "
    ICON_NODE_EXPANDED = "▾ "
    ICON_FILE = "  "

    def filter_paths(self, paths: Iterable[Path]) -> Iterable[Path]:
        """Keep folders and tables, without the hidden ones."""
        return [p for p in paths if not p.name.startswith(".") and (
            _is_folder(p) or p.suffix.lower() in TABLES or p.name.endswith("-ubyte"))]


def _is_folder(path: Path) -> bool:
    try:
        return path.is_dir()
    except OSError:
        return False


class Browser(ModalScreen[str]):
    """Answers with the path of a table; empty if none was chosen."""

    DEFAULT_CSS = """
    Browser { align: center middle; background: $background 60%; }
    Browser > Vertical { width: 90; max-width: 94%; height: 90%; padding: 1 2; border: round $rule;
        background: $background; }
    Browser Static { height: auto; }
    Browser .faint { color: $faint; }
    Browser Input, Browser Input:focus { border: none; height: 1; padding: 0; margin: 1 0;
                                         background: $select; }
    Browser OptionList, Browser OptionList:focus { height: auto; max-height: 7; border: none;
                                                   padding: 0;
        background: $background; }
    Browser DirectoryTree, Browser DirectoryTree:focus { height: 1fr; border: none; padding: 0;
        background: $background; }
    """

    BINDINGS = [("escape", "dismiss('')", "close")]

    def __init__(self, start: Path, recent: tuple[str, ...]) -> None:
        super().__init__()
        self._start, self._recent = start, recent

    def compose(self) -> ComposeResult:
        """Lay out the line to type, what was opened before, and the tree."""
        with Vertical():
            yield Static(
                Content(
                    "Open a table (text of any separator, Parquet, Arrow, JSON lines, Excel) or "
                    "pictures (.npz, .npy, IDX, or a folder of PNG files: type its path)"))
            yield Input(placeholder="type a path, or browse below with Tab and the arrow keys")
            if self._recent:
                yield Static(Content("opened before"), classes="faint")
                yield OptionList(*(Option(Content(shown(path)), id=str(i))
                                   for i, path in enumerate(self._recent)))
            yield Static(Content(shown(self._start)), classes="faint")
            yield Tables(self._start)
            yield Static(Content("Enter opens    Tab moves on    Esc cancels"), classes="faint")

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Answer with the path typed."""
        self.dismiss(event.value.strip())

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        """Answer with a table opened before."""
        self.dismiss(self._recent[event.option_index])

    def on_directory_tree_file_selected(self, event: DirectoryTree.FileSelected) -> None:
        """Answer with the table chosen in the tree."""
        self.dismiss(str(event.path))
