"""What could stand at the cursor, with a line of explanation each."""

from collections.abc import Callable
from contextlib import suppress

from greyheron.model.notation.line import LineError, NotationLine, Option


def options_at(read: Callable[[NotationLine], object], text: str) -> tuple[str, list[Option]]:
    """The word that `text` ends in, and what `read` would take in its place.

    `text` is one line up to the cursor. Returns an empty word behind a space.
    """
    words = text.split()
    started = bool(words) and not text[-1].isspace()
    line = NotationLine(" ".join(words[: -1 if started else None]))
    with suppress(LineError):
        read(line)
    options = line.options.get(len(line.words), [])
    return (words[-1] if started else "", list(dict.fromkeys(options)))
