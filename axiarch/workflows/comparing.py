"""Keep versions of a recipe with a note, and compare two recipes."""

from __future__ import annotations

from dataclasses import dataclass

from axiarch.journal.records import Version
from axiarch.journal.versions import read_versions, write_version
from axiarch.journal.workspace import Workspace
from axiarch.recipes.conditions import written
from axiarch.recipes.fields import FIELDS
from axiarch.recipes.recipe import Recipe, describe


@dataclass(frozen=True)
class Difference:
    """One value in which two recipes differ, written as it is typed; empty where it has no
    effect.
    """

    group: str
    label: str
    first: str
    second: str


def keep_version(workspace: Workspace, recipe: Recipe, note: str = "") -> Version:
    """Keep a recipe; ``name: note`` gives it a name, else what changed against the last version is
    its name.

    Raises
    ------
    WorkspaceReadOnly
        If it cannot be written.
    """
    kept = read_versions(workspace)
    head, colon, tail = note.partition(":")
    if colon:
        return write_version(workspace, recipe, head.strip(), tail.strip())
    name = changes(recipe, kept[-1].recipe) if kept else "the first version"
    return write_version(workspace, recipe, name, note.strip())


def versions(workspace: Workspace) -> tuple[Version, ...]:
    """Return the versions kept in a workspace, oldest first."""
    return read_versions(workspace)


def changes(recipe: Recipe, before: Recipe) -> str:
    """Say in one line what a recipe changed against another."""
    return describe(recipe.difference(before)) or "no change"


def differences(first: Recipe, second: Recipe) -> tuple[Difference, ...]:
    """Return every value in which two recipes differ, in the order of the sheet."""
    found = []
    for name, field in FIELDS.items():
        left, right = (written(r[name]) if r.applies(name) else "" for r in (first, second))
        if left != right:
            found.append(Difference(field.group, field.label, left, right))
    return tuple(found)
