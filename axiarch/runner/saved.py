"""The checkpoints of a run: its latest, the one before, and the one that it started from.

A worker saves before its report is journalled, so that after an interruption the latest may be
ahead of the journal; the one before is seconds older and is not.
"""

from __future__ import annotations

from pathlib import Path

from axiarch.files import regular_file


def latest(folder: Path, run: int) -> Path:
    """Return the place of a run's latest checkpoint."""
    return folder / f"{run}.safetensors"


def origin(folder: Path, run: int) -> Path:
    """Return the place of the checkpoint that a run started from, where it goes on from
    another's.
    """
    return folder / f"{run}.start.safetensors"


def first_model(search: Path) -> Path:
    """Return the place of the model that a search starts from, in the search's folder."""
    return search / "start.safetensors"


def before(folder: Path, run: int) -> Path:
    """Return the place of the checkpoint before the latest."""
    return folder / f"{run}.before.safetensors"


def checkpoints(folder: Path, run: int) -> list[Path]:
    """Return the checkpoints that there are of a run, the latest first."""
    return [
        path for path in (latest(folder, run), before(folder, run), origin(folder, run))
        if regular_file(path)
    ]


def tidy(folder: Path) -> None:
    """Remove the checkpoints before the latest: of a search that is done, all is journalled."""
    for path in folder.glob("*.before.safetensors"):
        path.unlink(missing_ok=True)
