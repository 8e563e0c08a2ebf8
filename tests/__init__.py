"""Tests, in rooms that mirror the package's."""
