"""Names and numbers from the IANA registries that people write in lists and test flows."""

from greyheron.model.values import Family

PROTOCOLS: dict[str, int] = {
    "icmp": 1,
    "igmp": 2,
    "tcp": 6,
    "udp": 17,
    "gre": 47,
    "esp": 50,
    "ah": 51,
    "ipv6-icmp": 58,
    "ospf": 89,
    "pim": 103,
    "vrrp": 112,
    "sctp": 132,
}
ETHER_TYPES: dict[str, int] = {
    "ipv4": 0x0800,
    "arp": 0x0806,
    "ipv6": 0x86DD,
    "mac-control": 0x8808,
    "mpls": 0x8847,
    "mpls-multicast": 0x8848,
    "pppoe-discovery": 0x8863,
    "pppoe-session": 0x8864,
    "eapol": 0x888E,
    "macsec": 0x88E5,
    "lldp": 0x88CC,
    "ptp": 0x88F7,
}
"""What a frame carries (IEEE 802 numbers, as IANA lists them)."""
LEAST_ETHER_TYPE = 0x0600
"""Smaller numbers are the lengths of frames (IEEE 802.3)."""
TCP = PROTOCOLS["tcp"]
UDP = PROTOCOLS["udp"]
WITH_PORTS = frozenset({TCP, UDP})

PORTS: dict[str, int] = {
    "ftp-data": 20,
    "ftp": 21,
    "ssh": 22,
    "telnet": 23,
    "smtp": 25,
    "domain": 53,
    "tftp": 69,
    "http": 80,
    "pop3": 110,
    "ntp": 123,
    "imap": 143,
    "snmp": 161,
    "snmptrap": 162,
    "bgp": 179,
    "ldap": 389,
    "https": 443,
    "syslog": 514,
    "submission": 587,
    "ldaps": 636,
    "imaps": 993,
    "pop3s": 995,
    "radius": 1812,
    "ldp": 646,
    "rtsp": 554,
    "sip": 5060,
    "mqtt": 1883,
}
"""Port numbers by IANA service name. The transport is the entry's own."""

UDP_SERVICES = frozenset({"domain", "tftp", "ntp", "snmp", "snmptrap", "syslog", "radius"})
"""Services that a test flow reaches over UDP when it names them without a protocol."""

ICMP_TYPES: dict[Family, dict[str, tuple[int, int | None]]] = {
    Family.IPV4: {
        "echo-reply": (0, None),
        "unreachable": (3, None),
        "network-unreachable": (3, 0),
        "host-unreachable": (3, 1),
        "port-unreachable": (3, 3),
        "fragmentation-needed": (3, 4),
        "prohibited": (3, 13),
        "redirect": (5, None),
        "echo-request": (8, None),
        "router-advertisement": (9, None),
        "router-solicitation": (10, None),
        "time-exceeded": (11, None),
        "parameter-problem": (12, None),
        "timestamp-request": (13, None),
        "timestamp-reply": (14, None),
    },
    Family.IPV6: {
        "unreachable": (1, None),
        "no-route": (1, 0),
        "prohibited": (1, 1),
        "address-unreachable": (1, 3),
        "port-unreachable": (1, 4),
        "packet-too-big": (2, None),
        "time-exceeded": (3, None),
        "parameter-problem": (4, None),
        "echo-request": (128, None),
        "echo-reply": (129, None),
        "router-solicitation": (133, None),
        "router-advertisement": (134, None),
        "neighbour-solicitation": (135, None),
        "neighbour-advertisement": (136, None),
        "redirect": (137, None),
    },
}

_PROTOCOL_NAMES = {number: name for name, number in PROTOCOLS.items()}
_PORT_NAMES = {number: name for name, number in PORTS.items()}
_ICMP_NAMES = {family: {value: name for name, value in names.items()} for family, names in ICMP_TYPES.items()}


def protocol_name(number: int, family: Family) -> str:
    """The word that the notation uses for protocol `number`; `icmp` is the family's own."""
    if number == family.icmp:
        return "icmp"
    if number in (1, 58):  # the other family's ICMP has no word of its own here
        return str(number)
    return _PROTOCOL_NAMES.get(number, str(number))


def port_name(port: int) -> str | None:
    """The IANA service name of `port`, if it is one we know."""
    return _PORT_NAMES.get(port)


def icmp_name(family: Family, icmp_type: int, code: int | None) -> str | None:
    """The name of an ICMP type, or of a type and code, if it has one."""
    return _ICMP_NAMES[family].get((icmp_type, code))


def ether_type_name(number: int) -> str:
    """Its name, else the number as it is written: `0x9100`."""
    return next((name for name, known in ETHER_TYPES.items() if known == number), f"{number:#06x}")
