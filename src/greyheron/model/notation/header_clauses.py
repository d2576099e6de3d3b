"""TCP flags, fragments and code points as they are written and read (§11)."""

from greyheron.model.header import DSCP, MOST_DSCP, DscpSpan, DscpTerms, FlagsMatch, HeaderTerms, TcpFlags
from greyheron.model.names import TCP
from greyheron.model.notation.line import NotationLine, Option

FLAGS_WORDS = "only TCP packets with these flags set, and those with ! clear"
FRAGMENT_WORDS = "only fragments that are not the first of their packet"
DSCP_WORDS = "only packets with one of these code points"
_FLAGS = {name.lower(): flag for flag in TcpFlags if (name := flag.name)}
FLAGS_OPTIONS = (
    Option("syn,!ack", "SYN set and ACK clear", literal=False),
    *(Option(name, f"{name.upper()} set") for name in _FLAGS),
)
DSCP_OPTIONS = (
    *(Option(name, f"code point {number}") for name, number in DSCP.items()),
    Option("8-10,46", "code points by number, 0 to 63", literal=False),
)


def read_header_terms(line: NotationLine, protocol: int | None, bare: bool) -> HeaderTerms:
    """What a line says of flags, fragments and code points. Raises LineError.

    protocol:  that flags are read for, TCP only
    bare:  whether nothing was said yet that a fragment lacks, such as a port
    """
    flags = None
    if protocol == TCP and line.take("flags", FLAGS_WORDS):
        flags = line.value(read_flags_match, *FLAGS_OPTIONS)
    fragment = take_fragment(line, bare and flags is None)
    dscp = line.value(read_dscp, *DSCP_OPTIONS) if line.take("dscp", DSCP_WORDS) else None
    return HeaderTerms(flags, fragment, dscp)


def take_fragment(line: NotationLine, bare: bool) -> bool:
    """Whether it is about fragments, which have no ports, ICMP type or flags. Raises LineError."""
    if not line.take("fragment", FRAGMENT_WORDS):
        return False
    if not bare:
        raise line.error(
            "a fragment that is not the first has no ports, ICMP type or flags: leave these out",
            line.at - 1,
        )
    return True


def read_flags_match(text: str) -> FlagsMatch:
    """Flags with commas, ! before such as must be clear. Raises ValueError with a sentence."""
    on = off = TcpFlags.NONE
    for part in text.lower().split(","):
        flag = _flag(part.removeprefix("!"))
        if flag & (on | off):
            raise ValueError(f"“{part}” stands there twice: a flag is set, clear, or not named")
        on, off = (on, off | flag) if part.startswith("!") else (on | flag, off)
    return FlagsMatch(on, off)


def read_flags(text: str) -> TcpFlags:
    """The flags of one packet, with commas; `none` for none. Raises ValueError with a sentence."""
    found = TcpFlags.NONE
    for part in () if text.lower() == "none" else text.lower().split(","):
        found |= _flag(part)
    return found


def _flag(name: str) -> TcpFlags:
    if name not in _FLAGS:
        raise ValueError(f"“{name}” is no TCP flag: expected {', '.join(_FLAGS)}")
    return _FLAGS[name]


def read_dscp(text: str) -> DscpTerms:
    """Code points by name or number, and ranges, with commas. Raises ValueError with a sentence."""
    return tuple(_dscp_span(part) for part in text.lower().split(","))


def read_code_point(text: str) -> DscpSpan:
    """One code point. Raises ValueError with a sentence."""
    text = text.lower()
    if text in DSCP:
        return DscpSpan(DSCP[text], DSCP[text], text)
    if not (text.isascii() and text.isdigit() and len(text) < 4 and int(text) <= MOST_DSCP):
        raise ValueError(f"“{text}” is no code point: expected a name such as ef, or 0 to {MOST_DSCP}")
    return DscpSpan(int(text), int(text))


def _dscp_span(part: str) -> DscpSpan:
    if "-" not in part or part in DSCP:
        return read_code_point(part)
    low, high = (read_code_point(end).low for end in part.split("-", 1))
    if low > high:
        raise ValueError(f"the range {part} runs backwards")
    return DscpSpan(low, high)


def write_header_terms(terms: HeaderTerms) -> list[str]:
    """The words that `read_header_terms` reads as `terms`."""
    words = [] if terms.flags is None else ["flags", str(terms.flags)]
    words += ["fragment"] if terms.fragment else []
    return words + ([] if terms.dscp is None else ["dscp", ",".join(map(str, terms.dscp))])
