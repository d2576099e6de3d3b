"""Who a requirement speaks of: addresses of devices, of the outside, and of hosts that could be there."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from ipaddress import ip_network
from weakref import WeakKeyDictionary

from msgspec import Struct
from msgspec.structs import replace

from greyheron.core.intervals import Region, Sorted, common, meet, minus, parts_by
from greyheron.core.lists.resolved import Names
from greyheron.core.network.addresses import block_of, is_link_local
from greyheron.core.network.answered_addresses import answered_addresses
from greyheron.core.network.possible_hosts import reserved
from greyheron.core.network.topology import Topology
from greyheron.core.walk.dns import known_addresses
from greyheron.core.world import World
from greyheron.model.device import Device
from greyheron.model.document import Network
from greyheron.model.entry import AddressBlock, NamedAddresses
from greyheron.model.item import family_of
from greyheron.model.requirement import KIND_WORDS, Side, Term, TermKind
from greyheron.model.values import Family


class Endpoint(Struct, frozen=True):
    """Addresses that packets leave from or go to, and the device that sends or answers there.

    drawn:  whether the device is in the network, and no stand-in for hosts that could be there
    translated:  whether they are outside addresses by which another device is reached: only sent to
    itself:  whether they are the own addresses of a router or firewall where hosts are spoken of
    """

    device: str
    region: Region
    drawn: bool = True
    translated: bool = False
    itself: bool = False


class _Everyone(Struct, frozen=True):
    """Everyone in a topology who has an address of one family, whatever lists there are.

    own:  the addresses of each drawn device;  translated:  outside addresses that lead inside
    prefixes:  those of segments;  answered:  addresses that translation rules answer for
    """

    own: Mapping[str, Region]
    every: tuple[Endpoint, ...]
    translated: tuple[Endpoint, ...]
    prefixes: Region
    answered: Region


class _Search:
    """For everyone in a topology with possible hosts."""

    def __init__(self, topology: Topology, devices: Sequence[Device], family: Family) -> None:
        """devices:  those that are drawn"""
        self._topology, self._devices, self.family = topology, devices, family
        self._answered = [
            block for device in devices for _, block in answered_addresses(device) if block.family is family
        ]
        drawn = {device.name for device in devices}
        self._own = {name: self._addresses(name) for name in topology.devices if name in drawn}

    def everyone(self) -> _Everyone:
        held = [block for region in self._own.values() for block in region]
        every = (*self._drawn(), *self._possible(held), *self._outside(held))
        translated, prefixes = tuple(self._translated()), tuple(self._segment_prefixes())
        return _Everyone(self._own, every, translated, prefixes, tuple(self._answered))

    def _addresses(self, name: str) -> Region:
        return tuple(
            AddressBlock(self.family, address, self.family.every_bit)
            for address in dict.fromkeys(self._topology.addresses(name, self.family))
            if not is_link_local(self.family, address)
        )

    def _drawn(self) -> Iterator[Endpoint]:
        for name, region in self._own.items():
            for block in region:
                yield Endpoint(name, (block,))

    def _possible(self, held: list[AddressBlock]) -> Iterator[Endpoint]:
        """Longer prefixes come first: an address stands on the segment with the longest."""
        stand_ins = [
            (name, block_of(device.prefixes[0]))
            for name, device in self._topology.devices.items()
            if name not in self._own
        ]
        own = sorted(
            ((name, block) for name, block in stand_ins if block.family is self.family),
            key=lambda each: -each[1].mask.bit_count(),
        )
        held_addresses = Sorted([region.value for region in held])
        for number, (name, block) in enumerate(own):
            closer = [other for _, other in own[:number] if block.holds(other.value)]
            taken = [held[index] for index in held_addresses.within(block.first, block.last)]
            nobody = [AddressBlock(self.family, region, self.family.every_bit) for region in reserved(block)]
            answered = [region for region in self._answered if block.holds(region.value)]
            region = minus((block,), [*closer, *taken, *nobody, *answered])
            if region:
                yield Endpoint(name, region, drawn=False)

    def _outside(self, held: list[AddressBlock]) -> Iterator[Endpoint]:
        """What nobody else has; of two outside networks the first has an address."""
        segments = self._segment_prefixes()
        before: list[AddressBlock] = []
        for device in self._devices:
            for prefix in device.prefixes:
                if family_of(prefix) is self.family:
                    block = block_of(prefix)
                    taken = [each for each in (*segments, *held, *self._answered) if meet(each, block)]
                    region = minus((block,), [*taken, *before])
                    before.append(block)
                    if region:
                        yield Endpoint(device.name, region)

    def _segment_prefixes(self) -> list[AddressBlock]:
        found = {
            each.prefix: None
            for port in self._topology.segments.of
            for each in self._topology.held(port, self.family)
            if not is_link_local(self.family, each.address)
        }
        return list(found)

    def _translated(self) -> Iterator[Endpoint]:
        """Outside addresses that static rules lead from to devices inside."""
        for device in self._devices:
            for rule in device.translations:
                if rule.kind != "static" or rule.to is None or family_of(rule.to) is not self.family:
                    continue
                inside, outside = block_of(rule.source), block_of(rule.to)
                for name, region in self._own.items():
                    for block in region:
                        if inside.holds(block.value):
                            address = outside.value + block.value - inside.value
                            moved = AddressBlock(self.family, address, self.family.every_bit)
                            yield Endpoint(name, (moved,), translated=True)


_everyone: WeakKeyDictionary[Topology, dict[Family, _Everyone]] = WeakKeyDictionary()
"""An edit of lists leaves the topology as it is: who is in it is found once for all of its worlds."""


class Endpoints:
    """Every address of one family in a world with everyone in it who could be there.

    Link-local addresses are left out: nothing sent to or from one leaves its segment.
    """

    def __init__(self, world: World, network: Network, family: Family) -> None:
        self._world, self._names, self.family = world, Names(network), family
        self._sets = {group.name for group in network.address_sets}
        self._with_hosts: dict[Term, bool] = {}
        known = _everyone.setdefault(world.topology, {})
        if family not in known:
            known[family] = _Search(world.topology, network.devices, family).everyone()
        found = known[family]
        self._own, self.every, self.translated = found.own, found.every, found.translated
        self._prefixes, self._answered = found.prefixes, found.answered

    def of(self, side: Side, translated: bool = False, strict: bool = False) -> tuple[Endpoint, ...]:
        """Everyone whom `side` speaks of, each address once; devices themselves told apart.

        translated:  with the outside addresses by which they are reached
        strict:  devices are not told apart from hosts
        """
        every = (*self.every, *self.translated) if translated else self.every
        found: list[Endpoint] = []
        for endpoint in every:
            named: Region = ()
            meant: Region = ()
            for term in side:
                left = replace(endpoint, region=minus(endpoint.region, named)) if named else endpoint
                named = (*named, *(self._within(term, left) if left.region else ()))
                if not strict and self._is_device(endpoint):
                    meant = (*meant, *self._meant(term, endpoint))
            itself = minus(named, meant) if not strict and self._is_device(endpoint) else ()
            if itself:
                found.append(replace(endpoint, region=itself, itself=True))
                named = minus(named, itself)
            if named:
                found.append(replace(endpoint, region=named))
        return tuple(found)

    def published(self, side: Side) -> Iterator[Endpoint]:
        """The outside addresses that `side` names one by one, each as one of the device that it leads to."""
        named = [block for term in side for block in self._one_by_one(term)]
        for endpoint in self.translated:
            region = common(endpoint.region, named)
            if region:
                yield replace(endpoint, region=region)

    def _is_device(self, endpoint: Endpoint) -> bool:
        """Whether it is a router or firewall, which passes on what hosts send."""
        return self._world.topology.devices[endpoint.device].traits.forwards

    def _meant(self, term: Term, endpoint: Endpoint) -> Region:
        """What of a device itself a term means, and does not only cover: what it names, or all by its word.

        A term that covers no host speaks of the devices that it covers.
        """
        if term.devices or term.kind is TermKind.INTERFACE or not self._covers_hosts(term):
            return endpoint.region
        if term.kind is TermKind.NAMED and term.name not in self._sets:
            return endpoint.region
        return self._one_by_one(term)

    def _one_by_one(self, term: Term) -> Region:
        """The single addresses that a term names, by itself or as a set."""
        blocks: Iterable[AddressBlock] = ()
        if term.kind is TermKind.PREFIX:
            blocks = self._blocks(term.name)
        elif term.kind is TermKind.NAMED and term.name in self._sets:
            blocks = self._names.addresses(NamedAddresses(term.name), self.family) or ()
        return tuple(block for block in blocks if block.size == 1)

    def _covers_hosts(self, term: Term) -> bool:
        if term not in self._with_hosts:
            hosts = (endpoint for endpoint in self.every if not self._is_device(endpoint))
            self._with_hosts[term] = any(self._within(term, host) for host in hosts)
        return self._with_hosts[term]

    def filled(self, region: Region) -> Region:
        """`region` in whole prefixes of segments where all else that is in them is nobody's."""
        for prefix in self._prefixes:
            left = minus((prefix,), region) if common(region, (prefix,)) else ()
            taken = (endpoint.region for endpoint in (*self.every, *self.translated))
            if left and not any(common(left, each) for each in (*taken, self._answered)):
                region = (*minus(region, (prefix,)), prefix)
        return region

    def others(self, side: Side) -> tuple[Endpoint, ...]:
        """Everyone else."""
        own: dict[tuple[str, bool], Region] = {}
        for endpoint in self.of(side):
            key = endpoint.device, endpoint.drawn
            own[key] = (*own.get(key, ()), *endpoint.region)
        left = (
            Endpoint(
                endpoint.device,
                minus(endpoint.region, own.get((endpoint.device, endpoint.drawn), ())),
                endpoint.drawn,
            )
            for endpoint in self.every
        )
        return tuple(endpoint for endpoint in left if endpoint.region)

    def _within(self, term: Term, endpoint: Endpoint) -> Region:
        """What of `endpoint` a term speaks of."""
        match term.kind:
            case TermKind.ANY:
                return endpoint.region
            case TermKind.NAMED:
                return self._named(term.name, endpoint)
            case TermKind.PREFIX:
                return common(endpoint.region, self._blocks(term.name))
            case TermKind.INTERFACE:
                held = self._world.topology.held((term.name, term.at), self.family)
                own = [AddressBlock(self.family, each.address, self.family.every_bit) for each in held]
                return common(endpoint.region, own) if endpoint.device == term.name else ()
            case TermKind.SEGMENT:
                return self._on_segment(term, endpoint)
            case TermKind.ZONE:
                return self._in_zone(term, endpoint)

    def _blocks(self, prefix: str) -> list[AddressBlock]:
        block = block_of(ip_network(prefix))
        return [block] if block.family is self.family else []

    def _named(self, name: str, endpoint: Endpoint) -> Region:
        if name in self._sets:
            return common(endpoint.region, self._names.addresses(NamedAddresses(name), self.family) or ())
        if name in self._own:
            return endpoint.region if endpoint.device == name else ()
        if name not in KIND_WORDS:  # a domain name: what the records say that it stands for
            addresses = known_addresses(self._world.topology, name, self.family)
            blocks = [AddressBlock(self.family, each, self.family.every_bit) for each in addresses]
            return common(endpoint.region, blocks)
        device = self._world.topology.devices[endpoint.device]
        return endpoint.region if endpoint.drawn and device.kind is KIND_WORDS[name] else ()

    def _on_segment(self, term: Term, endpoint: Endpoint) -> Region:
        """The addresses on a segment, of those that are attached to it and of those that could be."""
        world = self._world
        if term.at:
            numbers = {world.topology.segments.of.get((term.name, term.at))}
        else:
            block = self._blocks(term.name)
            numbers = {
                number
                for port, number in world.topology.segments.of.items()
                if any(address.prefix in block for address in world.topology.held(port, self.family))
            }
        device = world.topology.devices[endpoint.device]
        if not endpoint.drawn:
            return (
                endpoint.region
                if world.topology.segments.of[device.name, device.interfaces[0].name] in numbers
                else ()
            )
        own = [
            AddressBlock(self.family, own.address, self.family.every_bit)
            for interface in device.interfaces
            if world.topology.segments.of.get((device.name, interface.name)) in numbers - {None}
            for own in world.topology.held((device.name, interface.name), self.family)
        ]
        return common(endpoint.region, own)

    def _in_zone(self, term: Term, endpoint: Endpoint) -> Region:
        """The addresses that the firewall's routes lead to by the zone's interfaces."""
        firewall = self._world.topology.devices[term.name]
        if endpoint.device == firewall.name:
            return ()
        zone = next(zone for zone in firewall.zones if zone.name == term.at)
        routes = {route.prefix for route in self._world.table(term.name, self.family).routes}
        pieces = parts_by(endpoint.region, [(prefix,) for prefix in routes])
        return tuple(
            block for piece in pieces if self._leads_to(firewall, piece, zone.interfaces) for block in piece
        )

    def _leads_to(self, firewall: Device, piece: Region, interfaces: Iterable[str]) -> bool:
        hops = self._world.lookup(firewall.name, self.family, piece[0].first).hops
        return any(hop.interface in interfaces for hop in hops)
