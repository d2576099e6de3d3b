"""Translation as rules of the packet filter (§7): what comes in by the outside, and what leaves by it."""

from collections.abc import Iterator
from typing import Any

from greyheron.core.network.answered_addresses import answered_addresses
from greyheron.model.device import Translation
from greyheron.model.item import Prefix, family_of
from greyheron.model.names import TCP, UDP
from greyheron.model.values import Family
from greyheron.rehearsal.expressions import Expression, either, match, meta, of_family, payload
from greyheron.rehearsal.rulebook import NEIGHBOURS, RuleBook

MOST_MAPPED = 1024
"""Prefixes of a static translation are mapped address by address, up to so many."""


def add_translations(book: RuleBook) -> None:
    """The rules of a device that translates."""
    device = book.device
    if not device.translations:
        return
    marks = {name: 1 + number for number, name in enumerate(book.ports)}
    came = book.chain("came", "forward", -30)
    for name, port in book.ports.items():
        book.rule(came, match(meta("iifname"), port), {"mangle": {"key": meta("mark"), "value": marks[name]}})
    inside = book.chain("inside", "prerouting", -120)
    enter = book.chain("enter", "prerouting", -100, "nat")
    depart = book.chain("depart", "postrouting", 100, "nat")
    for rule in sorted(device.translations, key=lambda rule: rule.kind != "static"):
        outside = book.ports.get(rule.outside)
        if outside is None:
            continue
        family = family_of(rule.source)
        ip = "ip" if family is Family.IPV4 else "ip6"
        by = [marks[name] for name in rule.inside if name in marks]
        leaving = [
            match(meta("oifname"), outside),
            match(meta("mark"), either(by or [0xFFFF])),
            of_family(family),
        ]
        arriving = [match(meta("iifname"), outside), of_family(family)]
        if rule.kind == "static" and rule.to is not None:
            if rule.source.num_addresses > MOST_MAPPED:
                book.left_out.append(f"the translation of {rule.source} in {device.name}: it is too large")
                continue
            for mine, theirs in zip(rule.source, rule.to, strict=True):
                to_port = rule.to_port or rule.port
                book.rule(
                    enter,
                    *arriving,
                    match(payload(ip, "daddr"), str(theirs)),
                    *_service(rule, "dport", to_port),
                    {
                        "dnat": {
                            "family": ip,
                            "addr": str(mine),
                            **({"port": rule.port} if rule.port else {}),
                        }
                    },
                )
                if rule.inward:
                    continue
                book.rule(
                    depart,
                    *leaving,
                    match(payload(ip, "saddr"), str(mine)),
                    *_service(rule, "sport", rule.port),
                    {
                        "snat": {
                            "family": ip,
                            "addr": str(theirs),
                            **({"port": to_port} if rule.port else {}),
                        }
                    },
                )
            new = match({"ct": {"key": "state"}}, "new", "in")
            within = match(payload(ip, "daddr"), _prefix_of(rule.source))
            if not rule.inward:
                book.rule(inside, *arriving, new, within, *_service(rule, "dport", rule.port), {"drop": None})
        else:
            _dynamic(book, rule, family, depart, leaving)


def _dynamic(
    book: RuleBook, rule: Translation, family: Family, chain: str, leaving: list[Expression]
) -> None:
    ip = "ip" if family is Family.IPV4 else "ip6"
    own = book.world.topology.held((book.device.name, rule.outside), family)
    source = payload(ip, "saddr")
    conditions = [*leaving, *_service(rule, "sport", rule.port)]
    within = match(source, _prefix_of(rule.source))
    if rule.to is None:
        if own:
            book.rule(
                chain, *conditions, within, {"snat": {"family": ip, "addr": family.text(own[0].address)}}
            )
        return
    # One inside address keeps to one of the pool, counted from its first; pools are powers of two.
    for number, address in zip(range(MOST_MAPPED), rule.to, strict=False):
        low = rule.to.num_addresses - 1
        same = match(
            {"&": [source, family.text(low)]},
            family.text((int(rule.source.network_address) + number) & low),
        )
        book.rule(chain, *conditions, within, same, {"snat": {"family": ip, "addr": str(address)}})


def add_neighbours(book: RuleBook) -> None:
    """The device answers for translated addresses on the segment itself, and for nobody else (§7)."""
    device = book.device
    answered: dict[str, list[Any]] = {}
    for outside, block in answered_addresses(device):
        if outside in book.ports and block.family is Family.IPV4:
            answered.setdefault(outside, []).append(
                {"prefix": {"addr": block.family.text(block.value), "len": block.length}}
            )
    if not answered:
        return
    chain = {"family": NEIGHBOURS["family"], "table": NEIGHBOURS["name"], "name": "asked"}
    hooked = {**chain, "type": "filter", "hook": "input", "prio": 0, "policy": "accept"}
    book.commands += [{"add": {"table": dict(NEIGHBOURS)}}, {"add": {"chain": hooked}}]
    for outside, prefixes in answered.items():
        own = [
            Family.IPV4.text(each.address)
            for each in book.world.topology.held((device.name, outside), Family.IPV4)
        ]
        request = match(payload("arp", "operation"), "request")
        for target in (*own, *prefixes):
            asked = match(payload("arp", "daddr ip"), target)
            book.rule(
                "asked",
                match(meta("iifname"), book.ports[outside]),
                request,
                asked,
                {"accept": None},
                table=NEIGHBOURS,
            )
        book.rule(
            "asked",
            match(meta("iifname"), book.ports[outside]),
            request,
            {"drop": None},
            table=NEIGHBOURS,
        )


def _service(rule: Translation, side: str, port: int | None) -> Iterator[Expression]:
    """What limits a rule to a protocol, and to one port."""
    if rule.protocol is None:
        return
    yield match(meta("l4proto"), TCP if rule.protocol == "tcp" else UDP)
    if rule.port is not None:
        yield match(payload(rule.protocol, side), port)


def _prefix_of(prefix: Prefix) -> Any:
    return {"prefix": {"addr": str(prefix.network_address), "len": prefix.prefixlen}}
