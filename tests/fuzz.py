"""Texts that nobody means: ``python -m tests.fuzz N [SEED]`` tries N of every kind and says what
broke.

Each text must be read or refused in words, within :data:`SECONDS` and :data:`MEMORY`. The
generators draw from the grammar, from what is nearly right, and from what has once been a fault.
Whatever is written goes into a temporary folder; a path that was generated is never followed out of
it.
"""

from __future__ import annotations

import random
import resource
import sys
import tempfile
import time
import traceback
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from axiarch.errors import AxiarchError

#: Seconds and bytes that one text may take at the most.
SECONDS, MEMORY = 2.0, 1 << 30

NAMES = ("learning_rate", "width", "depth", "dropout", "optimiser", "network", "schedule", "epochs",
         "batch_size", "momentum", "max_steps", "rate_decay", "nope", "", "widht")
NUMBERS = ("0", "1", "2", "-1", "1e-4", "0.5", "1e999", "1e-999", "5e-324", "1e308", "10", "100000",
           "1000000000000", "9" * 50, "9" * 5000, "٣", "²", "½", "0x10", "1_000", "nan", "inf",
           "-0", ".5", "1.", "1..2", "00", "+5", "１２", "1e", "true")
WORDS = ("adam", "sgd", "momentum", "hidden", "conv", "pool", "of", "narrowing", "from", "relu",
         "batch", "norm", "drop", "residual", "size", "stride", "valid", "when", "log", "doubling",
         "step", "cosine")
SIGNS = ("|", "..", "=", "!=", "<", "<=", ">", ">=", ",", "+", "-", "*", "/", "(", ")", "[", "]",
         "{", "}", "'", '"', "#", "\n", "\t", " ", "\x00", "\x1b[31m", "\u202e", "é",
         "\ud800", "😀",
         "`", ";", "%", "**", "//")
WHOLE = ("1 | 2 | 3", "1e-4 .. 1e-1 log", "8 .. 512 doubling", "0 .. 0.6 step 0.1",
         "1 .. 1000000000", "1 .. 1000000000000", "0 .. 1 step 5e-324", "0 .. 1 step 1e-9",
         "16 | 32 when optimiser = adam", "1 when network < 5", "hidden when depth = 1",
         "1e-308 .. 1e308 doubling", "64 x", "3 of 64 tanh", "2 narrowing from ²",
         "conv 16 size 99", "network <= 5", "width * depth <= 1024",
         "width" + " + 1" * 1500 + " <= 5", "(" * 500 + "width" + ")" * 500 + " < 1",
         "width <= 10**400", "1 < width < 5", "width <= True", "not width",
         "width if width else 1", " " * 1_000_000 + "1", "1" + " " * 1_000_000 + "| 2", " | ".join(
             map(str, range(30_000))), "64, " * 30_000, "hidden, " * 300, "[" * 100_000,
         "width == 'a'", "lambda: 1", "width <= " + "9" * 400)


@dataclass(frozen=True)
class Fault:
    """A text that broke something, and how."""

    kind: str
    text: str
    what: str


def text(chance: random.Random) -> str:
    """Return a text that is nearly right, or not at all."""
    way = chance.random()
    if way < 0.25:
        return chance.choice(WHOLE)
    if way < 0.5:
        return _mutated(chance.choice(WHOLE)[:200], chance)
    pieces = [chance.choice(chance.choice((NUMBERS, WORDS, SIGNS, NAMES)))
              for _ in range(chance.randint(0, 12))]
    return chance.choice(("", " ", "  ")).join(pieces)


def _mutated(given: str, chance: random.Random) -> str:
    letters = list(given)
    for _ in range(chance.randint(1, 4)):
        at = chance.randrange(len(letters) + 1)
        way = chance.random()
        if way < 0.4:
            letters.insert(at, chance.choice(chance.choice((NUMBERS, SIGNS, WORDS))))
        elif letters and way < 0.7:
            del letters[min(at, len(letters) - 1)]
        elif letters:
            letters[min(at, len(letters) - 1)] = chance.choice(chance.choice((SIGNS, NUMBERS)))
    return "".join(letters)


def search_file(chance: random.Random) -> str:
    """Return a search file, more or less."""
    def value() -> str:
        way = chance.random()
        if way < 0.5:
            plain = text(chance)[:4000].replace("\\", "").replace('"', "'")
            return f'"{plain}"' if chance.random() < 0.9 else plain
        if way < 0.7:
            return chance.choice(NUMBERS)
        return chance.choice(("[]", "{}", "[[[]]]", "true", "1979-05-27", '"""x"""', "[1, 'a']",
                              "{a = 1}", "[" * 2000, "{a=" * 300, '"' + "x" * 9000 + '"'))

    lines = []
    for key in chance.sample(("format", "name", "data", "seed", "repeats", "constraints", "folds"),
                             chance.randint(0, 6)):
        lines.append(f"{key} = {value()}")
    for table in chance.sample(("method", "start", "recipe", "vary", "extra", "a.b.c"),
                               chance.randint(0, 5)):
        lines.append(f"[{table}]")
        for _ in range(chance.randint(0, 4)):
            key = chance.choice(
                (*NAMES, "name", "recipes", "points", "window", "search", "run", "at"))
            lines.append(f"{key or 'x'} = {value()}")
    found = "\n".join(lines)
    return _mutated(found, chance) if chance.random() < 0.3 else found


COMMANDS = ("forecast", "search", "attach", "status", "ranking", "pause", "stop", "resume", "cut",
            "keep", "more", "add", "budget", "workers", "judge", "scale", "export", "data add",
            "data show", "data open-seal", "data openings", "rescue", "data demo-files")
OPTIONS = ("--json", "--search", "--recipe", "--best", "--workers", "--most", "--background",
           "--target", "--task", "--gaps", "--scaling", "--ordinal", "--folds", "--validation",
           "--seed", "--separator", "--encoding", "--missing", "--dates", "--pictures", "--reason",
           "--rows", "--shrink", "--force", "--name")


def command_line(chance: random.Random) -> list[str]:
    """Return the words of a command; paths among them lie in the current folder or are no paths."""
    words = chance.choice(COMMANDS).split()
    for _ in range(chance.randint(0, 5)):
        way = chance.random()
        if way < 0.35:
            words.append(chance.choice(OPTIONS))
        elif way < 0.6:
            words.append(
                chance.choice(("table.csv", "s.toml", "none.csv", "out.csv", "out.svg", "ranking",
                               "chart", "ring", "place", "a\x00b", "folder", "", "x" * 300, "x=y")))
        elif way < 0.8:
            words.append(chance.choice((*NUMBERS, str(2**63), "-" + "9" * 30)))
        else:
            words.append(text(chance)[:300].replace("/", "").replace("..", "").replace("~", ""))
    return words


def attempt(kind: str,
            given: str,
            read: Callable[[], object],
            seconds: float = SECONDS) -> Fault | None:
    """Read a text; return what broke, if anything did."""
    started = time.perf_counter()
    try:
        read()
    except AxiarchError as error:
        if not error.what or "Traceback" in error.what:
            return Fault(kind, given, "refused without words")
    except BaseException:
        if isinstance(sys.exc_info()[1], KeyboardInterrupt):
            raise
        return Fault(kind, given, traceback.format_exc(limit=-3))
    took = time.perf_counter() - started
    return Fault(kind, given, f"took {took:.1f} s") if took > seconds else None


def read_notation(name: str, given: str) -> None:
    """Read a text as a value or range, write it and read it again; count and draw what it
    allows.
    """
    from axiarch.recipes.notation import parse_range
    from axiarch.recipes.space import knob, space

    found, when = parse_range(name, given)
    written = f"{found} when {when}" if when else str(found)
    if parse_range(name, written) != (found, when):
        raise AssertionError(f"{written!r} does not read back")
    made = space({}, {name: given})
    _ = (made.combinations, found.size, found.at(0.3), found.at(0.999999), str(knob(name, given)))
    made.at([0.5])


def read_network(given: str) -> None:
    """Read a text as a network line and work out its layers."""
    from axiarch.recipes.recipe import Recipe

    _ = Recipe({"network": given}).layers


def read_constraint(given: str) -> None:
    """Read a text as a constraint and decide it."""
    from axiarch.recipes.constraints import parse_constraint
    from axiarch.recipes.recipe import Recipe

    parse_constraint(given).holds(Recipe())


def read_file(given: str) -> None:
    """Read a text as a search file, write it, read it again, and begin its method."""
    from axiarch.recipes.searchfile import read_search, write_search
    from axiarch.search.methods import make_method

    found = read_search(given)
    if read_search(write_search(found)) != found:
        raise AssertionError("it does not read back")
    method = make_method(found.method, found.space, found.seed)
    _ = (method.expected, method.next())


def run_command(words: list[str], folder: Path) -> None:
    """Run a command in this process, its output caught; only exit codes of its own may come out."""
    from click.testing import CliRunner

    from axiarch.cli.main import main

    done = CliRunner().invoke(main, ["--workspace", str(folder / "w"), *words])
    if done.exception is not None and not isinstance(done.exception, SystemExit):
        raise done.exception
    if done.exit_code not in (0, 2, 3, 4):
        raise AssertionError(f"exit code {done.exit_code}: {done.output[-300:]}")
    for character in done.output:
        if ord(character) < 32 and character not in "\n\r\t":
            raise AssertionError(f"control character {ord(character)} in {done.output!r:.200}")


def faults(
    count: int,
    seed: int,
    kinds: tuple[str, ...] = ("notation", "network", "constraint", "file", "command")
) -> list[Fault]:
    """Try `count` texts of every kind; return what broke."""
    chance = random.Random(seed)
    found: list[Fault | None] = []
    for kind in kinds:
        if kind == "command":
            found += _commands(count, chance)
            continue
        for _ in range(count):
            given = search_file(chance) if kind == "file" else text(chance)
            if kind == "notation":
                name = chance.choice(NAMES)
                found.append(attempt(
                    kind, given, lambda n=name, g=given: read_notation(n, g)))  # type: ignore[misc]
            else:
                read = {"network": read_network, "constraint": read_constraint,
                        "file": read_file}[kind]
                found.append(attempt(kind, given,
                                     lambda r=read, g=given: r(g)))  # type: ignore[misc]
    return [fault for fault in found if fault is not None]


def _commands(count: int, chance: random.Random) -> list[Fault | None]:
    import os

    from tests.support import ring_rows, ring_workspace, write_csv

    found: list[Fault | None] = []
    with tempfile.TemporaryDirectory(prefix="axiarch-fuzz-") as place:
        folder, before = Path(place), Path.cwd()
        ring_workspace(folder / "w")
        write_csv(folder / "table.csv", ["x", "y", "side", "place"], ring_rows(60))
        (folder / "s.toml").write_text('data = "nothing"\n[vary]\nwidth = "4 | 8"\n')
        (folder / "folder").mkdir()
        os.chdir(folder)
        try:
            for _ in range(count):
                words = command_line(chance)
                # Writing all demo data is work that was asked for, and not a text that takes long
                # to read.
                seconds = 10 * SECONDS if "demo-files" in words else SECONDS
                found.append(
                    attempt(
                        "command",
                        repr(words),
                        lambda w=words: run_command(w, folder),  # type: ignore[misc]
                        seconds))
        finally:
            os.chdir(before)
    return found


def main(arguments: list[str]) -> int:
    """Try as many of each kind as the arguments say; print what broke."""
    count = int(arguments[0]) if arguments else 1000
    seed = int(arguments[1]) if len(arguments) > 1 else 1
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    started = time.perf_counter()
    found = faults(count, seed)
    for fault in found[:40]:
        print(f"{fault.kind}: {fault.text[:160]!r}\n  {fault.what[-700:]}\n")
    grown = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024
    print(
        f"{count} of each kind in {time.perf_counter() - started:.0f} s, {grown:.0f} MiB more "
        f"memory: {len(found)} faults")
    return 1 if found or grown > MEMORY / 2**20 else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
