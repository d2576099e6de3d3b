"""Findings in links and addresses: VLANs that do not meet, and addresses that two could answer for."""

from collections.abc import Iterator

from greyheron.analysis.findings.finding import Finding, SearchGround, Severity
from greyheron.core.network.addresses import block_of, is_link_local
from greyheron.model.device import Device, Interface
from greyheron.model.entry import AddressBlock
from greyheron.model.values import Family

_DEFAULT = 1


def in_wiring(ground: SearchGround) -> Iterator[Finding]:
    """They rest on devices and links, and not on lists."""
    rests_on = ground.network.devices, ground.network.links
    yield from ground.kept.of("wiring", rests_on, lambda: tuple(_in_wiring(ground)))


def _in_wiring(ground: SearchGround) -> Iterator[Finding]:
    yield from _vlans(ground)
    yield from _prefixes(ground)
    yield from _local_addresses(ground)
    yield from _translated(ground)


def _vlans(ground: SearchGround) -> Iterator[Finding]:
    devices = {device.name: device for device in ground.network.devices}
    for link in ground.network.links:
        ends = [end.split(":", 1) for end in link.ends]
        found = [(devices[name], _interface(devices[name], port)) for name, port in ends]
        tags = [_tags(device, interface) for device, interface in found]
        if tags[0] is None or tags[1] is None:
            continue
        words = " – ".join(link.ends)
        if not tags[0].keys() & tags[1].keys():
            yield _mismatch(words, "nothing that one end sends is taken by the other", tags, link.ends)
        elif all(device.traits.bridges for device, _ in found):
            apart = [tag for tag in tags[0].keys() & tags[1].keys() if tags[0][tag] != tags[1][tag]]
            if apart:
                text = f"frames change from VLAN {tags[0][apart[0]]} to {tags[1][apart[0]]} on it"
                yield _mismatch(words, text, tags, link.ends)
            elif tags[0].keys() != tags[1].keys():
                lone = sorted(str(tag) for tag in tags[0].keys() ^ tags[1].keys() if tag is not None)
                if lone:
                    text = f"VLAN {', '.join(lone)} is carried by one end only"
                    yield _mismatch(words, text, tags, link.ends)


def _mismatch(
    words: str, text: str, tags: list[dict[int | None, int] | None], ends: tuple[str, str]
) -> Finding:
    evidence = tuple(
        f"{end}: "
        f"{', '.join(f'VLAN {vlan}' + (' untagged' * (tag is None)) for tag, vlan in (each or {}).items())}"
        for end, each in zip(ends, tags, strict=True)
    )
    devices = tuple(end.split(":")[0] for end in ends)
    return Finding(
        "VLAN mismatch",
        Severity.FAULT,
        words,
        f"The VLANs of {words} do not agree: {text}.",
        evidence,
        devices,
    )


def _interface(device: Device, name: str) -> Interface:
    return next(each for each in device.interfaces if each.name == name)


def _tags(device: Device, interface: Interface) -> dict[int | None, int] | None:
    """The VLAN of frames with each tag (None: without one); None where every frame is taken."""
    if not device.traits.bridges:
        subs = {sub.vlan: sub.vlan or 0 for sub in device.interfaces if sub.parent == interface.name}
        return {None: _DEFAULT, **subs} if subs and interface.addresses else (dict(subs) or None)
    if not interface.trunk and interface.untagged is None:
        return {None: interface.access or _DEFAULT}
    tags: dict[int | None, int] = {vlan: vlan for vlan in interface.trunk if vlan != interface.untagged}
    return tags if interface.untagged is None else {**tags, None: interface.untagged}


def _prefixes(ground: SearchGround) -> Iterator[Finding]:
    """One prefix on two segments: half of its addresses cannot be reached from the other half."""
    segments: dict[AddressBlock, dict[int, str]] = {}
    for port, number in ground.world.topology.segments.of.items():
        for family in Family:
            for each in ground.world.topology.held(port, family):
                if not is_link_local(family, each.address) and each.prefix.size > 1:
                    segments.setdefault(each.prefix, {}).setdefault(number, ":".join(port))
    for prefix, places in segments.items():
        if len(places) > 1:
            ports = tuple(places.values())
            yield Finding(
                "prefix on two segments",
                Severity.FAULT,
                str(prefix),
                f"{prefix} is on {len(places)} segments that nothing joins: {', '.join(ports)}.",
                devices=tuple(port.split(":")[0] for port in ports),
            )


def _local_addresses(ground: SearchGround) -> Iterator[Finding]:
    for members in ground.world.topology.segments.members:
        held: dict[int, str] = {}
        for port in members:
            for each in ground.world.topology.held(port, Family.IPV6):
                if is_link_local(Family.IPV6, each.address):
                    other = held.setdefault(each.address, ":".join(port))
                    if other != ":".join(port):
                        text = Family.IPV6.text(each.address)
                        yield Finding(
                            "duplicate address",
                            Severity.FAULT,
                            f"{text} {other}",
                            f"{other} and {':'.join(port)} are on one segment and both have {text}.",
                            devices=(other.split(":")[0], port[0]),
                        )


def _translated(ground: SearchGround) -> Iterator[Finding]:
    """Outside addresses of rules that somebody else has."""
    for device in ground.network.devices:
        for rule in device.translations:
            if rule.to is None:
                continue
            block = block_of(rule.to)
            for other in ground.network.devices:
                for interface in other.interfaces:
                    for address in interface.addresses:
                        if address.version == rule.to.version and block.holds(int(address.ip)):
                            yield Finding(
                                "duplicate address",
                                Severity.FAULT,
                                f"{address.ip} {device.name}",
                                f"{device.name} answers for {rule.to} on {rule.outside}, and {other.name} "
                                f"{interface.name} has {address.ip}.",
                                devices=(device.name, other.name),
                            )
