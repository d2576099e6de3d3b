"""Addresses on the two sides of translation rules, and entries that name them (§7)."""

from collections.abc import Iterator, Sequence

from msgspec import Struct
from msgspec.structs import replace

from greyheron.core.intervals import Blocks, meet
from greyheron.core.lists.rules import Rule
from greyheron.core.network.addresses import block_of
from greyheron.model.device import Translation
from greyheron.model.document import Network
from greyheron.model.entry import AddressBlock
from greyheron.model.item import family_of
from greyheron.model.values import Family


class AsTranslated(Struct, frozen=True):
    """A rule that looks for the addresses on the other side of a translation.

    named, meant:  the addresses of the side that is another: as it was, and as it is now
    of_source:  which side that is
    """

    rule: Rule
    named: Blocks
    meant: Blocks
    of_source: bool
    translation: Translation


def translations_of(network: Network, family: Family) -> tuple[Translation, ...]:
    """Every rule of a family, of whichever device."""
    return tuple(
        rule for device in network.devices for rule in device.translations if family_of(rule.source) is family
    )


def translated_blocks(network: Network, family: Family) -> list[AddressBlock]:
    """All addresses, inside and outside, that rules speak of."""
    rules = translations_of(network, family)
    outside = [block_of(rule.to) for rule in rules if rule.to is not None]
    return [*(block_of(rule.source) for rule in rules), *outside]


def translated_with(address: int, blocks: Sequence[AddressBlock]) -> AddressBlock:
    """Whoever is translated like `address`: the least of `blocks` that has it, else it alone."""
    holding = [block for block in blocks if block.holds(address)]
    alone = AddressBlock(blocks[0].family, address, blocks[0].family.every_bit)
    return min(holding, key=lambda block: block.size, default=alone)


def as_translated(rule: Rule, translations: Sequence[Translation]) -> Iterator[AsTranslated]:
    """`rule` with what each static translation makes of its addresses, either way, on one of its sides."""
    for translation in translations:
        if translation.kind != "static" or translation.to is None:
            continue
        inside, outside = block_of(translation.source), block_of(translation.to)
        for here, there in ((inside, outside), (outside, inside)):
            if rule.sources and (moved := _moved(rule.sources, here, there)):
                other = replace(rule, sources=moved)
                yield AsTranslated(other, rule.sources, moved, True, translation)
            if rule.destinations and (moved := _moved(rule.destinations, here, there)):
                other = replace(rule, destinations=moved)
                yield AsTranslated(other, rule.destinations, moved, False, translation)


def _moved(blocks: Blocks, here: AddressBlock, there: AddressBlock) -> Blocks | None:
    """`blocks` on the other side; None if some of them is not translated, or not whole."""
    if any(meet(block, here) != block for block in blocks):
        return None
    return Blocks(
        AddressBlock(block.family, block.value - here.value + there.value, block.mask) for block in blocks
    )
