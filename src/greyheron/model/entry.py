"""Entries of access lists, as values (§3)."""

from collections.abc import Iterable
from dataclasses import dataclass, field

from msgspec import Struct

from greyheron.model.header import DscpTerms, FlagsMatch
from greyheron.model.period import IF_DENIED, IF_PERMITTED, SUPPOSITIONS, During
from greyheron.model.values import Action, Family, ListKind

EVERY_MAC_BIT = (1 << 48) - 1


class AddressBlock(Struct, frozen=True):
    """The addresses that equal `value` in every bit that is set in `mask`.

    One address has every bit set in `mask`, a prefix its leading bits, a wildcard any bits.
    """

    family: Family
    value: int
    mask: int

    @classmethod
    def prefix(cls, family: Family, address: int, length: int) -> "AddressBlock":
        """The block of `length` leading bits of `address`."""
        mask = family.every_bit ^ (family.every_bit >> length)
        return cls(family, address & mask, mask)

    @property
    def length(self) -> int | None:
        """Prefix length in bits, or None when the bits that matter are not the leading ones."""
        return self.family.lengths.get(self.mask)

    @property
    def first(self) -> int:
        return self.value

    @property
    def last(self) -> int:
        return self.value | (self.mask ^ self.family.every_bit)

    @property
    def size(self) -> int:
        """How many addresses the block holds."""
        return 1 << (self.family.bits - self.mask.bit_count())

    def holds(self, address: int) -> bool:
        return address & self.mask == self.value

    def __str__(self) -> str:
        address = self.family.text(self.value)
        if self.length is None:
            return f"{address}~{self.family.text(self.mask ^ self.family.every_bit)}"
        return address if self.length == self.family.bits else f"{address}/{self.length}"


class NamedAddresses(Struct, frozen=True):
    """`@name`: an address set, else every address of a device."""

    name: str

    def __str__(self) -> str:
        return f"@{self.name}"


AddressTerm = AddressBlock | NamedAddresses
"""What an entry says of an address; None stands for any."""


@dataclass(frozen=True, slots=True)
class PortSpan:
    """Ports from `low` to `high`, both included; `word` is how the user named a single one."""

    low: int
    high: int
    word: str | None = field(default=None, compare=False)

    def __str__(self) -> str:
        if self.low == self.high:
            return self.word or str(self.low)
        if self.high == 65535:
            return f">={self.low}"
        return f"<={self.high}" if self.low == 0 else f"{self.low}-{self.high}"


@dataclass(frozen=True, slots=True)
class NotPort:
    """Every port but one."""

    port: int
    word: str | None = field(default=None, compare=False)

    def __str__(self) -> str:
        return f"!={self.word or self.port}"


class NamedPorts(Struct, frozen=True):
    """`@name`: a port set."""

    name: str

    def __str__(self) -> str:
        return f"@{self.name}"


PortTerm = PortSpan | NotPort | NamedPorts


class IcmpMatch(Struct, frozen=True):
    """An ICMP type, and a code unless any will do."""

    type: int
    code: int | None = None


class MacBlock(Struct, frozen=True):
    """The MAC addresses that equal `value` in every bit that is set in `mask`."""

    value: int
    mask: int = EVERY_MAC_BIT

    def holds(self, address: int) -> bool:
        return address & self.mask == self.value

    def __str__(self) -> str:
        wildcard = self.mask ^ EVERY_MAC_BIT
        return mac_text(self.value) + (f"~{mac_text(wildcard)}" if wildcard else "")


def mac_text(address: int) -> str:
    """“02:1a:00:00:4c:07”."""
    return address.to_bytes(6, "big").hex(":")


class FrameMatch(Struct, frozen=True):
    """What an entry of a frame list asks for; None for any (§14)."""

    ether_type: int | None = None
    source: MacBlock | None = None
    destination: MacBlock | None = None


class Entry(Struct, frozen=True):
    """One numbered permit or deny.

    protocol:  IANA number, or None for any
    source, destination:  None for any address
    source_ports, destination_ports:  alternatives; empty for any port
    fragment:  only fragments that are not the first
    frame:  what it asks of a frame, in a frame list
    during:  when the entry is there; None: always
    maybe:  whether nobody knows that it is there: it stands for what could not be read (§3)
    silent:  a deny that is not answered
    note:  what stands behind `#` on the entry's own line
    remarks:  the remark lines above it
    """

    number: int
    action: Action
    protocol: int | None = None
    source: AddressTerm | None = None
    destination: AddressTerm | None = None
    source_ports: tuple[PortTerm, ...] = ()
    destination_ports: tuple[PortTerm, ...] = ()
    icmp: IcmpMatch | None = None
    established: bool = False
    flags: FlagsMatch | None = None
    fragment: bool = False
    dscp: DscpTerms | None = None
    frame: FrameMatch | None = None
    during: During | None = None
    log: bool = False
    silent: bool = False
    note: str | None = None
    remarks: tuple[str, ...] = ()
    maybe: bool = False

    def there(self, active: frozenset[str]) -> bool:
        """Whether it is there while those periods are on, and what is not known is as it says among them."""
        if self.during is not None and not self.during.holds(active):
            return False
        supposed = IF_PERMITTED if self.action is Action.PERMIT else IF_DENIED
        return not self.maybe or supposed in active


@dataclass(frozen=True, slots=True)
class ListBody:
    """The entries of a list by rising number, and the remarks below the last of them.

    periods:  those that some entry speaks of, and SUPPOSITIONS where it may not be there
    texts:  how it is written, by family and kind, once it was: most lists are as before at every edit
    """

    entries: tuple[Entry, ...] = ()
    closing_remarks: tuple[str, ...] = ()
    periods: frozenset[str] = field(init=False, repr=False, compare=False)
    texts: dict[tuple[Family | None, ListKind], str] = field(
        default_factory=dict, init=False, repr=False, compare=False
    )

    def __post_init__(self) -> None:
        said = (entry.during for entry in self.entries)
        periods = frozenset(during.period for during in said if during is not None)
        if any(entry.maybe for entry in self.entries):
            periods |= frozenset(SUPPOSITIONS)
        object.__setattr__(self, "periods", periods)

    def with_entries(self, entries: Iterable[Entry]) -> "ListBody":
        return ListBody(tuple(entries), self.closing_remarks)
