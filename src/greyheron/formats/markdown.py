"""A comparison as Markdown (CommonMark), short enough to stand under a proposed change."""

import re

from greyheron.analysis.network.comparison import Comparison, sections, sentence
from greyheron.formats.outgoing import for_terminal

_MEANS = re.compile(r"([\\`*_\[\]<>#|~&])|^([-+]|\d+[.)])")
"""What may begin markup: emphasis, links, code, HTML, tables, and at the beginning lists."""
_MOST_LINES = 60
"""So many of a section are shown: it is to be read, and the command shows all of them."""


def write_markdown(title: str, compared: Comparison) -> str:
    """The sections as lists; whatever names and notes say is text."""
    lines = [f"### {_text(title)}", "", _text(f"{sentence(compared)}.")]
    for section in sections(compared):
        lines += ["", f"**{section.title}**", ""]
        for line in section.lines[:_MOST_LINES]:
            words = _code(line.text) if line.written else _text(line.text)
            lines.append(f"{'  ' * line.depth}- {words}")
        if len(section.lines) > _MOST_LINES:
            lines.append(f"- and {len(section.lines) - _MOST_LINES} more lines")
    return "\n".join(lines) + "\n"


def _text(text: str) -> str:
    """As text. Where people's names are linked, one in it would call them: that is said as code."""
    if "@" in text:
        return _code(text)
    return _MEANS.sub(lambda found: f"\\{found[0]}", _one_line(text))


def _code(text: str) -> str:
    """In a code span, fenced by more grave accents than there are in it."""
    line = _one_line(text)
    fence = "`" * (1 + max((len(run) for run in re.findall("`+", line)), default=0))
    return f"{fence} {line} {fence}" if "`" in line else f"{fence}{line}{fence}"


def _one_line(text: str) -> str:
    return for_terminal(" ".join(text.split()))
