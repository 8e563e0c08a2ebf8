"""A recipe: one complete, immutable configuration of a training."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator, Mapping
from functools import cached_property

from axiarch.errors import RecipeError
from axiarch.recipes.conditions import Value, written
from axiarch.recipes.fields import FIELDS, field_named
from axiarch.recipes.layers import Layer
from axiarch.recipes.network import layers_of


class Recipe(Mapping[str, Value]):
    """All values of one training, checked; those that have no effect carry their default.

    Parameters
    ----------
    values : mapping of str to Value
        Only what differs from the defaults need be given.

    Raises
    ------
    RecipeError
        On an unknown name or a value out of bounds.
    """

    def __init__(self, values: Mapping[str, object] | None = None) -> None:
        given = {}
        for name, value in (values or {}).items():
            known = field_named(name)
            given[known.name] = known.check(value)
        full = {name: given.get(name, field.default) for name, field in FIELDS.items()}
        for name, field in FIELDS.items():
            if field.needs is not None and not field.needs.holds(full):
                full[name] = field.default
        self._values = full

    def __getitem__(self, name: str) -> Value:
        return self._values[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._values)

    def __len__(self) -> int:
        return len(self._values)

    def __hash__(self) -> int:
        return self._hash

    @cached_property
    def _hash(self) -> int:
        return hash(tuple(self._values.items()))

    def __eq__(self, other: object) -> bool:
        return self is other or (isinstance(other, Recipe) and self._values == other._values)

    def __repr__(self) -> str:
        return f"Recipe({self.changed_values()!r})"

    def real(self, name: str) -> float:
        """Return a number of the recipe."""
        value = self._values[name]
        if isinstance(value, str):
            raise RecipeError(f"{value!r} is not a number", name)
        return float(value)

    def whole(self, name: str) -> int:
        """Return a whole number of the recipe."""
        return int(self.real(name))

    def word(self, name: str) -> str:
        """Return a choice of the recipe."""
        return str(self._values[name])

    def steps(self, rows: int) -> int:
        """Return the steps of the optimiser in an epoch over `rows` training rows."""
        size = self.whole("batch_size")
        batches = rows // size if self.word("last_batch") == "drop" and rows >= size else -(-rows //
                                                                                            size)
        return -(-batches // self.whole("gradient_accumulation"))

    @cached_property
    def fingerprint(self) -> str:
        """Sixteen hexadecimal digits that are equal only for equal recipes."""
        text = json.dumps({name: written(value) for name, value in self._values.items()},
                          sort_keys=True)
        return hashlib.sha256(text.encode()).hexdigest()[:16]

    def applies(self, name: str) -> bool:
        """Say whether the value called `name` has any effect in this recipe."""
        needs = FIELDS[name].needs
        return needs is None or needs.holds(self)

    @cached_property
    def essence(self) -> tuple[tuple[str, Value], ...]:
        """The values that have an effect: recipes of equal essence are one recipe."""
        return tuple((name, value) for name, value in self._values.items() if self.applies(name))

    def changed(self, values: Mapping[str, object]) -> Recipe:
        """Return a copy with some values replaced."""
        return Recipe({**self._values, **values})

    def changed_values(self) -> dict[str, Value]:
        """Return the values that differ from the defaults."""
        return {
            name: value for name, value in self._values.items() if value != FIELDS[name].default
        }

    def difference(self, other: Mapping[str, Value]) -> dict[str, Value]:
        """Return this recipe's values where they differ from `other`'s, leaving out those of no
        effect here.
        """
        return {name: value for name, value in self._values.items()
                if value != other[name] and self.applies(name)}

    @cached_property
    def layers(self) -> tuple[Layer, ...]:
        """The hidden layers, first to last."""
        return layers_of(self)


def describe(values: Mapping[str, Value]) -> str:
    """Return values as one line of text, at most four significant digits: ``learning rate 0.01,
    optimiser sgd``.
    """
    return ", ".join(f"{FIELDS[name].label} {short(value)}" for name, value in values.items())


def short(value: Value) -> str:
    """Return a value in at most four significant digits."""
    return written(float(f"{value:.4g}")) if isinstance(value, float) else str(value)
