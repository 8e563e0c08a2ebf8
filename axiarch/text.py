"""Plain text: numbers people can read, and text from files made harmless.

Every front end and every exported file uses these, so that a value looks the same everywhere.
"""

from __future__ import annotations

import math
import unicodedata

#: Categories of characters that a terminal or a spreadsheet could act on instead of showing.
_ACTIVE = frozenset({"Cc", "Cf", "Cs", "Co", "Zl", "Zp"})

#: First characters that make a spreadsheet read a cell as a formula.
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def shown(text: object, limit: int | None = None) -> str:
    """Return `text` with control characters drawn as symbols, cut to `limit` characters with an
    ellipsis.
    """
    safe = "".join(_symbol(c) if unicodedata.category(c) in _ACTIVE else c for c in str(text))
    if limit is not None and len(safe) > limit:
        return safe[: max(limit - 1, 0)] + "…"
    return safe


def _symbol(character: str) -> str:
    code = ord(character)
    if code < 0x20:
        return chr(0x2400 + code)
    return "␡" if code == 0x7F else "�"


def cell(text: str) -> str:
    """Return `text` so that a spreadsheet shows it and never runs it as a formula."""
    safe = shown(text)
    if safe.startswith(_FORMULA) and not _is_number(safe):
        return "'" + safe
    return safe


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True


def number(value: float | None, digits: int = 4) -> str:
    """Return `value` with at most `digits` significant digits, in the shortest usual form."""
    if value is None:
        return "–"
    if not math.isfinite(value):
        return "not finite"
    if isinstance(value, int) or (float(value).is_integer() and abs(value) < 10**digits):
        return f"{int(value):,}".replace(",", " ") if abs(value) >= 10_000 else str(int(value))
    rounded = float(f"{value:.{digits}g}")
    if abs(value) >= 1e-3 and abs(rounded) < 10**digits:
        return f"{value:.{digits}g}"
    if 1 <= abs(rounded) < 1e6:
        return number(int(rounded), digits)
    return _scientific(value, digits)


def _scientific(value: float, digits: int) -> str:
    mantissa, exponent = f"{value:.{digits - 1}e}".split("e")
    mantissa = mantissa.rstrip("0").rstrip(".") if "." in mantissa else mantissa
    return f"{mantissa}e{int(exponent)}"


def count(n: int, one: str, many: str = "") -> str:
    """Return ``1 run``, ``2 runs``, ``12 000 runs``."""
    return f"{number(n)} {one if n == 1 else many or one + 's'}"


def loss(value: float | None) -> str:
    """Return a loss with four decimals, four digits where it is large, or in scientific form
    where those hide it.
    """
    if value is None:
        return "–"
    if not math.isfinite(value):
        return "not finite"
    if 10 <= abs(value) < 9999.5:
        return f"{value:.{3 - math.floor(math.log10(abs(value)))}f}"
    return f"{value:.4f}" if 5e-3 <= abs(value) < 10 or value == 0 else _scientific(value, 3)


def measured(metric: str, value: float) -> str:
    """Return the value of a metric: an accuracy as a percentage, R² with three decimals,
    anything else as a number.
    """
    if not math.isfinite(value):
        return "not finite"
    if metric.endswith("accuracy"):
        return share(value)
    return f"{round(value, 3) + 0.0:.3f}" if metric == "R²" else number(value)


def share(value: float | None) -> str:
    """Return a share between 0 and 1 as a percentage."""
    return "–" if value is None else f"{round(100 * value, 1) + 0.0:.1f} %"


def duration(seconds: float | None) -> str:
    """Return a time span in the unit people would use for it."""
    if seconds is None or not math.isfinite(seconds):
        return "unknown"
    if seconds < 0.95:
        return f"{max(seconds, 0) * 1000:.0f} ms"
    if seconds < 90:
        return f"{seconds:.0f} s"
    minutes = seconds / 60
    if minutes < 90:
        return f"{minutes:.0f} min"
    hours = minutes / 60
    return f"{hours:.1f} h" if hours < 48 else f"{hours / 24:.1f} days"


def time_left(seconds: float | None) -> str:
    """Return how long something will still take, no finer than anybody waits."""
    if seconds is None:
        return "time left not known yet"
    return f"about {duration(max(seconds, 1.0))} left"


def moment(seconds: float) -> str:
    """Return a time of day in seconds since 1970 as people here write it."""
    from datetime import datetime

    try:
        return datetime.fromtimestamp(seconds).astimezone().isoformat(" ", "seconds")
    except (OverflowError, ValueError, OSError):
        return "at an unknown time"


def span(low: float, high: float) -> str:
    """Return from when to when something may take."""
    if low < 1:
        return f"up to about {duration(high)}"
    return f"about {duration(low)} to {duration(high)}"


def seconds_text(seconds: float) -> str:
    """Return a short time with its unit, in at most three significant digits: ``12 ms``, ``1.3
    s``.
    """
    if seconds < 1e-3:
        return f"{seconds * 1e6:.3g} µs"
    return f"{seconds * 1e3:.3g} ms" if seconds < 1 else f"{seconds:.3g} s"


def memory(n_bytes: float) -> str:
    """Return a number of bytes in binary units."""
    size = float(n_bytes)
    for unit in ("B", "KiB", "MiB"):
        if size < 1024:
            return f"{size:.0f} {unit}"
        size /= 1024
    return f"{size:.1f} GiB"


def step_text(step: str, done: float, seconds: float) -> str:
    """Return how far a step is, and how long it still takes where that can be told."""
    left = ""
    if 0.02 < done < 1 and seconds > 0.5:
        left = f", about {duration(seconds * (1 - done) / done)} left"
    return f"{shown(step)} {100 * done:.0f} %{left}" if done else shown(step)
