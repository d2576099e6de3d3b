"""One line of notation, read word by word."""

import re
from collections import defaultdict
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from difflib import get_close_matches
from functools import cache
from typing import TypeVar

from msgspec import Struct

from greyheron.model.errors import GreyHeronError
from greyheron.model.notation.habits import way_of

_WORD = re.compile(r"\S+")
MOST_SHOWN = 10
"""So many of the words that could stand there are named in an error."""
T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Option:
    """Something that could stand at a place in a line.

    text: the word itself, or an example of a value
    explains: one line on what it means
    literal: whether `text` can be inserted as it is
    """

    text: str
    explains: str
    literal: bool = True


_option = cache(Option)
"""The same words are offered for every entry of every list."""


class Misreading(Struct, frozen=True):
    """A word that does not fit: where it stands and what could stand there.

    line, column, end: counted from 1; `end` is the column behind the word
    """

    line: int
    column: int
    end: int
    message: str

    def __str__(self) -> str:
        return f"line {self.line}, column {self.column}: {self.message}"


class NotationError(GreyHeronError, ValueError):
    """Text that is not in the notation, with every misreading in it."""

    def __init__(self, misreadings: Iterable[Misreading]) -> None:
        self.misreadings = tuple(misreadings)
        super().__init__("; ".join(str(misreading) for misreading in self.misreadings))


class LineError(Exception):
    """Raised by a reader of one line at the first word that does not fit."""

    def __init__(self, misreading: Misreading) -> None:
        self.misreading = misreading
        super().__init__(str(misreading))


class NotationLine:
    """The words of one line and how far they have been read.

    options: for each word's index, everything the reader was ready to take there
    note: the text behind `#`, if there is one
    """

    def __init__(self, text: str, number: int = 1) -> None:
        self.number = number
        body, hash_sign, note = _cut_note(text)
        self.note = note.strip() or None if hash_sign else None
        self.words = [(match.group(), match.start() + 1) for match in _WORD.finditer(body)]
        self.options: defaultdict[int, list[Option]] = defaultdict(list)
        self.at = 0
        self._end = len(body.rstrip()) + 2 if body.strip() else 1

    @property
    def word(self) -> str | None:
        """The word to be read next, or None at the end of the line."""
        return self.words[self.at][0] if self.at < len(self.words) else None

    def offer(self, *options: Option) -> None:
        """Record that each of `options` could stand here."""
        self.options[self.at].extend(options)

    def take(self, text: str, explains: str) -> bool:
        """Read the word `text` if it stands here."""
        self.options[self.at].append(_option(text, explains))
        if self.word is None or self.word.lower() != text:
            return False
        self.at += 1
        return True

    def choose(self, choices: dict[str, str]) -> str:
        """Read one of the words in `choices` (word to explanation). Raises LineError if none stands here."""
        for text, explains in choices.items():
            if self.take(text, explains):
                return text
        raise self.error()

    def value(self, read: Callable[[str], T], *examples: Option) -> T:
        """Read one word with `read`, which raises ValueError with a sentence when it does not fit.

        Raises LineError.
        """
        self.offer(*examples)
        if self.word is None:
            raise self.error()
        try:
            result = read(self.word)
        except ValueError as error:
            raise self.error(str(error)) from None
        self.at += 1
        return result

    def end(self) -> None:
        """Require that nothing is left to read. Raises LineError."""
        if self.word is not None:
            raise self.error()

    def error(self, message: str | None = None, at: int | None = None) -> LineError:
        """A LineError for the word at index `at` (the next one unless given)."""
        index = self.at if at is None else at
        if index < len(self.words):
            word, column = self.words[index]
        else:
            word, column = "", self._end
        if message is None:
            message = self._expected(index, word)
        return LineError(Misreading(self.number, column, column + max(len(word), 1), message))

    def _expected(self, index: int, word: str) -> str:
        options = self.options.get(index, [])
        found = f"“{word}” does not fit here" if word else "the line ends too early"
        way = way_of([each for each, _ in self.words], index) if word else ""
        if way:
            return f"{found}: {way}"
        if not options:
            return f"{found}: nothing more can follow"
        near = _near(word, [option.text for option in options if option.literal])
        if near:
            return f"{found}: did you mean {near}?"
        texts = list(dict.fromkeys(option.text for option in options))
        shown = ", ".join(texts[:MOST_SHOWN]) + (", …" if len(texts) > MOST_SHOWN else "")
        return f"{found}: expected {shown}"


def _near(word: str, literals: list[str]) -> str:
    """What was meant by `word`, perhaps: what begins with it, else what looks like it."""
    if not word:
        return ""
    meant = [text for text in literals if text.startswith(word)] or get_close_matches(word, literals, 1)
    return " or ".join(f"“{text}”" for text in dict.fromkeys(meant[:3]))


def _cut_note(text: str) -> tuple[str, str, str]:
    """`text` before a `#` that begins a word, the sign, and what follows it."""
    match = re.search(r"(?:^|\s)#", text)
    if match is None:
        return text, "", ""
    cut = match.end() - 1
    return text[:cut], "#", text[cut + 1 :]
