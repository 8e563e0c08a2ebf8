"""Print the table of a recipe's values that docs/search-files.md holds; a test compares the two."""

from __future__ import annotations

from axiarch.recipes.conditions import written
from axiarch.recipes.fields import FIELDS


def rows() -> list[str]:
    """Return the table, a line each."""
    out = ["| group | value | default | |", "|---|---|---|---|"]
    group = ""
    for name, field in FIELDS.items():
        parts = [field.summary]
        if field.choices:
            parts[0] += ": " + ", ".join(field.choices)
        if field.needs is not None and len(field.needs.values) < len(
                FIELDS[field.needs.name].choices or "x" * 99):
            parts.append(f"where {field.needs}")
        text = "; ".join(parts).replace("|", "\\|")
        head = field.group if field.group != group else ""
        group = field.group
        out.append(f"| {head} | `{name}` | {written(field.default)} | {text} |")
    return out


if __name__ == "__main__":
    print("\n".join(rows()))
