"""Versions of recipes: each a small TOML file in the workspace, with a name, a note and its
time, never changed.
"""

from __future__ import annotations

import time
import tomllib
from pathlib import Path

from axiarch.errors import InputError, not_written
from axiarch.files import write_whole
from axiarch.journal.records import Version
from axiarch.journal.workspace import Workspace
from axiarch.recipes.bounds import is_whole
from axiarch.recipes.recipe import Recipe
from axiarch.text import shown

#: Characters of a name and of a note at the most.
_NAME, _NOTE = 60, 2000


def read_versions(workspace: Workspace) -> tuple[Version, ...]:
    """Return the versions kept in a workspace, oldest first; files that are none are passed
    over.
    """
    found = []
    for path in sorted(_folder(workspace).glob("[0-9]*.toml")):
        version = _read(path)
        if version is not None:
            found.append(version)
    return tuple(found)


def _read(path: Path) -> Version | None:
    try:
        known = tomllib.loads(path.read_text(encoding="utf-8"))
        return Version(int(path.stem),
                       str(known.get("name", ""))[:_NAME],
                       str(known.get("note", ""))[:_NOTE], float(known.get("at", 0.0)),
                       Recipe(known["recipe"]))
    except (OSError, ValueError, KeyError, TypeError, InputError):
        return None


def write_version(workspace: Workspace, recipe: Recipe, name: str, note: str = "") -> Version:
    """Keep a recipe as a new version.

    Raises
    ------
    WorkspaceReadOnly
        If it cannot be written.
    """
    import tomlkit

    folder = _folder(workspace)
    taken = [int(p.stem) for p in folder.glob("[0-9]*.toml") if is_whole(p.stem)]
    version = Version(max(taken, default=0) + 1, name[:_NAME], note[:_NOTE], time.time(), recipe)
    doc = tomlkit.document()
    doc.update({"name": version.name, "note": version.note, "at": version.at})
    table = tomlkit.table()
    table.update(recipe.changed_values())
    doc["recipe"] = table
    path = folder / f"{version.number:04d}.toml"
    try:
        folder.mkdir(exist_ok=True)
        write_whole(path, tomlkit.dumps(doc))
    except OSError as error:
        raise not_written("the version cannot be kept", shown(path), error,
                          "change the folder's permissions") from None
    return version


def _folder(workspace: Workspace) -> Path:
    return workspace.folder / "versions"
