"""Follow every remedy on odd tables: ``python -m benchmarks.following FIRST LAST``.

Each number is a table of some columns that people have and of a target of its own kind. It is added
as a user would; every change that its checks propose is made, every option that they name is given,
a small search is run, and every change that its diagnosis proposes is searched. What fails, or
leaves in place what it answers, is printed; nothing else should be.
"""

from __future__ import annotations

import csv
import json
import re
import shlex
import sys
import tempfile
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import numpy as np
from click.testing import CliRunner, Result

from axiarch.cli.main import main as program
from axiarch.runner.launched import keep

Draw = Callable[[np.random.Generator, np.ndarray], list[str]]

_ROWS = (90, 300, 800, 2000)
_WORDS = ("lorem", "ipsum", "dolor", "sit")


def _pick(rng: np.random.Generator, x: np.ndarray, words: tuple[str, ...]) -> list[str]:
    return [words[i] for i in rng.integers(len(words), size=len(x))]


#: Columns, from noise (N,).
COLUMNS: Mapping[str, Draw] = {
    "number": lambda rng, x: [f"{v:.3f}" for v in x],
    "category": lambda rng, x: _pick(rng, x, ("red", "Red", "blue", "green ", "näß")),
    "date": lambda rng, x: [f"2024-{1 + i % 12:02d}-{1 + i % 28:02d}" for i in range(len(x))],
    "percent": lambda rng, x: [f"{50 + 10 * v:.1f} %" for v in x],
    "money": lambda rng, x: [f"€ {1000 * abs(v) + 1:,.2f}" for v in x],
    "marks": lambda rng, x: [f"{v:.2f}" if rng.random() < 0.9 else "n/a" for v in x],
    "gaps": lambda rng, x: [f"{v:.2f}" if rng.random() < 0.6 else "" for v in x],
    "constant": lambda rng, x: ["7"] * len(x),
    "id": lambda rng, x: [f"u{i:05d}" for i in rng.permutation(len(x))],
    "large": lambda rng, x: [f"{1e9 * v:.0f}" if rng.random() < 0.99 else "-999" for v in x],
    "truth": lambda rng, x: [str(v > 0) for v in x],
    "text": lambda rng, x: [" ".join(_pick(rng, x[:3], _WORDS)) for _ in x],
}
#: Targets, from a signal (N,) that a column holds.
TARGETS: Mapping[str, Draw] = {
    "classes": lambda rng, s: [f"c{int(v > -0.5) + int(v > 0.5)}"
                               for v in s + 0.5 * rng.normal(size=len(s))],
    "rare": lambda rng, s: ["yes" if v > 1.9 else "no" for v in s + 0.3 * rng.normal(size=len(s))],
    "amounts": lambda rng, s: [f"{3 * v + rng.normal():.3f}" for v in s],
    "heavy": lambda rng, s: [f"{np.exp(2 * v + rng.normal()):.3f}" for v in s],
    "below": lambda rng, s: [f"{-np.exp(2 * v + rng.normal()):.3f}" for v in s],
    "counts": lambda rng, s: [str(int(rng.poisson(np.exp(v)))) for v in s],
    "noise": lambda rng, s: [f"k{i}" for i in rng.integers(0, 12, len(s))],
    "binary": lambda rng, s: [str(int(v > 0)) for v in s + 0.5 * rng.normal(size=len(s))],
}
#: Decisions that are given beside the table.
GIVEN = ((), (), (), ("--folds", "4"), ("--validation", "0.35"), ("--scaling", "none"),
         ("--keep-equal-rows",), ("--order", "signal"), ("--rows", "60"), ("--test", "0.4"))
#: Options that say how rows are split.
SPLITS = {"--keep-equal-rows", "--order"}


def table(seed: int) -> dict[str, list[str]]:
    """Return an odd table; its target is ``y``."""
    rng = np.random.default_rng(seed)
    rows = int(rng.choice(_ROWS))
    names = rng.choice(list(COLUMNS), int(rng.integers(2, 7)))
    columns = {f"{name} {i}": COLUMNS[name](rng, rng.normal(size=rows))
               for i, name in enumerate(names)}
    signal = rng.normal(size=rows)
    kind = str(rng.choice(list(TARGETS)))
    return {**columns, "signal": [f"{v:.4f}" for v in signal], "y": TARGETS[kind](rng, signal)}


class Follower:
    """One table in a workspace of its own."""

    def __init__(self, seed: int, folder: Path) -> None:
        self.seed, self.folder, self.faults = seed, folder, 0
        self.rng = np.random.default_rng([seed, 1])
        columns = table(seed)
        with (folder / "t.csv").open("w", newline="", encoding="utf-8") as file:
            csv.writer(file).writerows([columns, *zip(*columns.values(), strict=True)])

    def run(self, *words: object, may_refuse: bool = False) -> Result:
        """Run a command in the workspace."""
        done = CliRunner().invoke(program, [*map(str, words), "-w", str(self.folder / "w")])
        refused = done.exit_code == 2 and may_refuse
        if (done.exit_code and not refused) or not isinstance(done.exception, SystemExit | None):
            self.fault(f"{words} ended with {done.exit_code}: {done.exception!r}", done.output)
        return done

    def fault(self, *words: str) -> None:
        """Print what went wrong."""
        self.faults += 1
        print(f"table {self.seed}:", *words, flush=True)

    def add(self, name: str, *given: str, may_refuse: bool = False) -> Any:
        """Add the table under a name; return what is known of it, or None."""
        done = self.run("data", "add", self.folder / "t.csv", "--target", "y", "--name", name,
                        "--json", *given, may_refuse=may_refuse)
        return json.loads(done.stdout) if done.exit_code == 0 else None

    def follow(self) -> None:
        """Do all of it."""
        given = GIVEN[int(self.rng.integers(len(GIVEN)))]
        data = self.add("t", *given, may_refuse=True)
        if data is None:
            return
        for finding in data["findings"]:
            self.decide(finding)
            option = re.search(r"or (--\S.*)$", finding["remedy"])
            if option:
                words = shlex.split(option[1])
                # rows are split in one way: the one that is named takes the place of the other
                other = () if given and {given[0], words[0]} <= SPLITS else given
                name = f"o{self.rng.integers(1 << 30)}"
                self.gone(finding, self.add(name, *other, *words))
        self.search()

    def decide(self, finding: dict[str, Any]) -> None:
        """Make each change of the data that a finding proposes."""
        for change in finding["changes"]:
            if "what" in change:
                done = self.run("data", "change", change["number"], "t", "--json")
                self.gone(finding, json.loads(done.stdout) if done.exit_code == 0 else None)

    def gone(self, finding: dict[str, Any], data: Any) -> None:
        """See that a finding is none any more."""
        kind = finding["kind"], finding["column"]
        if data and kind in [(each["kind"], each["column"]) for each in data["findings"]]:
            self.fault(f"{kind} is still there after {finding['remedy']}")

    def search(self) -> None:
        """Run a small search, and a search of every change that is proposed of its leader."""
        rate, width = 10 ** self.rng.uniform(-5, 0), 2 ** self.rng.integers(0, 8)
        file = self.folder / "s.toml"
        file.write_text(f'data = "t"\nrepeats = 2\nmethod = {{name = "random", recipes = 3}}\n'
                        f"[recipe]\nepochs = 15\nlearning_rate = {rate}\nwidth = {width}\n"
                        '[vary]\ndropout = "0 .. 0.5"\n', encoding="utf-8")
        if self.run("search", file, "--json").exit_code:
            return
        found = json.loads(self.run("diagnose", "--json").stdout)
        ranked = json.loads(self.run("ranking", "--json").stdout)
        best = [each["recipe"] for each in ranked["ranking"]]
        leader = [*best, *ranked["without_result"]][0]
        for change in (each for finding in found for each in finding["changes"]):
            self.run("branch", leader, "--change", change["number"], "--search", 1, "--json")
        if best:
            self.run("judge", leader, "--search", 1)


def main(first: int, last: int) -> int:
    """Follow the remedies of some tables; return how many faults there were."""
    keep()
    faults = 0
    for seed in range(first, last):
        with tempfile.TemporaryDirectory() as folder:
            each = Follower(seed, Path(folder))
            each.follow()
            faults += each.faults
    print(f"{last - first} tables, {faults} faults")
    return faults


if __name__ == "__main__":
    sys.exit(min(main(*map(int, sys.argv[1:3])), 1))
