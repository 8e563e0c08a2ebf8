"""The members that installed packages bring, and what is wrong with them."""

from __future__ import annotations

from dataclasses import dataclass

from axiarch.errors import AxiarchError
from axiarch.recipes import installed


@dataclass(frozen=True)
class Brought:
    """One member, or one that cannot be used.

    Attributes
    ----------
    name : str
        What recipes call it; for one that cannot be loaded, what its package does.
    kind, formula, source, package, version, digest : str
    problem : str
        Why it cannot be used; empty where nothing wrong was found.
    """

    name: str
    package: str
    kind: str = ""
    formula: str = ""
    source: str = ""
    version: str = ""
    digest: str = ""
    problem: str = ""


def installed_members(check: bool = False) -> list[Brought]:
    """Return what installed packages bring; with `check` each is tried out, as the start of a
    search does.
    """
    found = [
        Brought(own.name, own.package, own.member.kind, own.member.formula, own.member.source,
                own.version, own.digest,
                _problem(own) if check else "") for own in installed.installed()
    ]
    return found + [
        Brought(each.entry, each.package, problem=each.why) for each in installed.refused()
    ]


def _problem(own: installed.Installed) -> str:
    from axiarch.engine.proving import prove

    try:
        prove(own)
    except AxiarchError as error:
        return error.what
    return ""
