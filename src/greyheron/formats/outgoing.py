"""Text that goes out: what names and notes may not do to whoever shows or opens it."""

import re

_MOVES = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ud800-\udfff]")
"""What moves the cursor, colours, hides or turns text around on a terminal (ECMA-48, UAX #9)."""
_NO_XML = re.compile("[^\t\n\r\u0020-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
"""What no XML may hold, however it is written (XML 1.0, 2.2)."""
_FORMULA = re.compile(r"'*[=+\-@\t\r]")
"""What a spreadsheet takes for a formula, and what stands for that."""
_MEANT = re.compile(r"'+[=+\-@\t\r]")


def for_terminal(text: str) -> str:
    """As it can be shown: line ends and tabs stay, any other control is written as what it is."""
    return _MOVES.sub(lambda found: found[0].encode("unicode_escape").decode("ascii"), text)


def for_xml(text: str) -> str:
    """As XML can hold it: what it cannot is replaced by the sign for that (U+FFFD)."""
    return _NO_XML.sub("\ufffd", text)


def for_table(text: str) -> str:
    """As a field that no spreadsheet works out: what would be a formula begins with an apostrophe."""
    return f"'{text}" if _FORMULA.match(text) else text


def from_table(text: str) -> str:
    """What `for_table` was given."""
    return text[1:] if _MEANT.match(text) else text
