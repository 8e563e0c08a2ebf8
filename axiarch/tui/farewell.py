"""What is said where the application ends because of an internal error."""

from __future__ import annotations

import traceback

from rich.text import Text

from axiarch.text import shown

#: Lines of the traceback, the last ones, and characters of each.
_LINES, _WIDTH = 30, 200


def last_words(error: BaseException | None) -> Text:
    """Return what to say of an exception that nothing has handled."""
    lines = "".join(traceback.format_exception(error)).splitlines()[-_LINES:]
    return Text("\n".join([
        "Axiarch ended because of an internal error. Nothing is lost: a search continues without "
        "this screen, axiarch status says how far it is, and axiarch opens the workspace again. "
        "To report the error, copy what follows.", "", *(shown(line, _WIDTH) for line in lines)]))
