"""Phrases that people stumbled over stay away from everything a user reads."""

from __future__ import annotations

import ast
import re
import unittest
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).parents[1]

#: What a native technical writer would not write, each with what to write instead.
BANNED = {
    r"let (it|them|this|that|\w+) (go|train|stand|be)\b": "keep training it; leave it",
    r"\b(goes|go|going|went) on from\b": "continue from",
    r"\bgo(es)? on\b": "continue, keep running",
    r"what is said of|what .{1,20} say(s)? of": "what is reported about",
    r"\bas (it|they|you|X|the \w+) says?\b": "according to",
    r"\botherwise\b": "or else; change",
    r"\bso many\b": "this many; a number of",
    r"\bone an? (core|row|run|fold)\b": "one per core",
    r"\bh[eo]ld against\b": "compare with",
    r"\bforetold\b": "expected",
    r"\btold\b": "given, observed",
    r"\b(made|make|makes) anew\b|\banew\b": "rebuild; again",
    r"\bafresh\b": "from scratch",
    r"\bstands? there\b": "is listed",
    r"\bby heart\b": "overfits, memorises",
    r"\bnothing is said\b": "default",
    r"\bdear(er|est)?\b": "expensive",
    r"\bfound out\b": "detected",
    r"\btakes? (it|that|this) (back|in)\b": "undo; add",
    r"\bgives? (it|that) up\b": "cancel",
    r"\bis said to be\b": "predicted",
    r"\bsays nothing of\b": "unknown option",
    r"\bthis is no\b|\bit is no\b|\bare no results\b": "is not a",
    r"\bthrice\b": "three times",
    r"\bwhat it takes them for\b": "predicted class",
    r"\bnot told apart\b": "statistically tied",
    r"\bturn(s|ed)? (decisions|between)\b": "switch between",
    r"\bcannot be:": "cannot be built",
    r"\bsee to\b": "check",
    r"\bchances\b": "random numbers",
    r"\blook(s|ed)? (at )?how\b": "check",
    r"\bas things stand\b": "with the present values",
    r"\bno longer\)": "or undo it",
    r"\bmend\b": "fix",
    r"\bbeside it stands\b": "beside it you see",
}
#: A call whose text is not for people: logging of our own, SQL.
_SQL = re.compile(r"^\s*(SELECT|INSERT|CREATE|UPDATE|DELETE|PRAGMA|ALTER)\b", re.IGNORECASE)


def read_strings(path: Path) -> Iterator[tuple[int, str]]:
    """Yield line and text of every string of a module that is no docstring and has several
    words.
    """
    tree = ast.parse(path.read_text(encoding="utf-8"))
    hidden = set()
    for node in ast.walk(tree):
        body = getattr(node, "body", None)
        if isinstance(body, list):
            hidden |= {id(each.value) for each in body if isinstance(each, ast.Expr)}
        if isinstance(node, ast.JoinedStr):
            hidden |= {id(each) for each in node.values}
    for node in ast.walk(tree):
        if id(node) in hidden:
            continue
        if isinstance(node, ast.JoinedStr):
            text = "".join(str(each.value) if isinstance(each, ast.Constant) else "{}"
                           for each in node.values)
        elif isinstance(node, ast.Constant) and isinstance(node.value, str):
            text = node.value
        else:
            continue
        if " " in text.strip() and not _SQL.match(text):
            yield node.lineno, text


def stumbles(text: str) -> list[str]:
    """Return the banned phrases in a text."""
    return [match.group(0) for pattern in BANNED
            for match in [re.search(pattern, text, re.IGNORECASE)] if match]


class Language(unittest.TestCase):
    """Strings of the program, the README and the guide."""

    def test_strings(self) -> None:
        found = [f"{path.relative_to(ROOT)}:{line}: {phrase!r} in {text[:90]!r}"
                 for path in sorted((ROOT / "axiarch").rglob("*.py"))
                 for line, text in read_strings(path) for phrase in stumbles(text)]
        self.assertEqual([], found, "\n" + "\n".join(found))

    def test_docs(self) -> None:
        pages = [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))]
        found = []
        for page in pages:
            text = re.sub(r"```.*?```", lambda m: "\n" * m[0].count("\n"), page.read_text("utf-8"),
                          flags=re.DOTALL)
            found += [f"{page.relative_to(ROOT)}:{i}: {phrase!r} in {line[:100]!r}"
                      for i, line in enumerate(text.splitlines(), 1) for phrase in stumbles(line)]
        self.assertEqual([], found, "\n" + "\n".join(found))

    def test_the_check_can_fail(self) -> None:
        self.assertEqual(["go on", "so many"], stumbles("Workers go on with so many runs."))
        self.assertEqual([], stumbles("Workers continue with several runs."))


if __name__ == "__main__":
    unittest.main()
