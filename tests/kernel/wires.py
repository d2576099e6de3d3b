"""Machines in namespaces: made, collected as anybody would, and talked between for real."""

import errno
import json
import os
import socket
import struct
import subprocess
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from greyheron.formats.machines import collecting_script
from greyheron.rehearsal.kernel import Namespace

PATIENCE = 0.6


def make_space(name: str) -> Namespace:
    subprocess.run(["ip", "netns", "add", name], check=True)
    space = Namespace(name, os.open(f"/run/netns/{name}", os.O_RDONLY))
    run_in(space, "ip", "link", "set", "lo", "up")
    with space.entered():
        for where in ("all", "default"):
            Path(f"/proc/sys/net/ipv6/conf/{where}/accept_dad").write_text("0")
        Path("/proc/sys/net/ipv4/ping_group_range").write_text("0 0")
        for each in ("net/ipv4/icmp_ratelimit", "net/ipv6/icmp/ratelimit"):
            Path("/proc/sys", each).write_text("0")
    return space


def carry_out(spaces: dict[str, Namespace], words: list[str]) -> None:
    verb, *rest = words
    if verb == "link":
        one, port, other, far = rest
        run_in(spaces[one], "ip", *f"link add name {port} type veth peer name {far} netns {other}".split())
        for name, each in ((one, port), (other, far)):
            run_in(spaces[name], "ip", "link", "set", "dev", each, "up")
    elif verb == "address":
        for address in rest[2:]:
            nodad = ["nodad"] if ":" in address else []
            run_in(spaces[rest[0]], "ip", "addr", "add", address, "dev", rest[1], *nodad)
    else:
        run_in(spaces[rest[0]], *rest[1:])


def run_in(space: Namespace, *command: str, given: str = "") -> str:
    with space.entered():
        done = subprocess.run(command, input=given, capture_output=True, text=True)
    if done.returncode:
        raise RuntimeError(f"{space.device}: {' '.join(command)}: {done.stderr}\n{given}")
    return done.stdout


def switch_on(space: Namespace, *settings: str) -> None:
    with space.entered():
        for each in settings:
            Path("/proc/sys", each).write_text("1")


def collected_in(space: Namespace, name: str) -> str:
    """As the script prints it; all of them share one host name here."""
    found = json.loads(run_in(space, "sh", given=collecting_script()))
    return json.dumps(found | {"machine": name}, separators=(",", ":"))


def listen(space: Namespace, protocol: str, port: int) -> None:
    for family, whole in ((socket.AF_INET, "0.0.0.0"), (socket.AF_INET6, "::")):
        with space.entered():
            it = socket.socket(family, socket.SOCK_STREAM if protocol == "tcp" else socket.SOCK_DGRAM)
        if family == socket.AF_INET6:
            it.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
        it.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        it.bind((whole, port))
        if protocol == "tcp":
            it.listen()
        answer: Callable[[socket.socket], None] = _accept if protocol == "tcp" else _echo
        threading.Thread(target=answer, args=(it,), daemon=True).start()


def _accept(it: socket.socket) -> None:
    while True:
        it.accept()[0].close()


def _echo(it: socket.socket) -> None:
    while True:
        said, whom = it.recvfrom(2048)
        it.sendto(said, whom)


@contextmanager
def _socket(space: Namespace, address: str, kind: int, protocol: int = 0) -> Iterator[socket.socket]:
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    with space.entered():
        it = socket.socket(family, kind, protocol)
    it.settimeout(PATIENCE)
    it.bind((address, 0))
    with it:
        yield it


def attempt(space: Namespace, source: str, destination: str, service: str) -> str:
    """What the sender sees: reply, refused, prohibited, nothing."""
    protocol, _, port = service.partition("/")
    try:
        if protocol == "ping":
            six = ":" in destination
            with _socket(space, source, socket.SOCK_DGRAM, 58 if six else 1) as it:
                it.connect((destination, 0))
                it.send(struct.pack("!BBHHH", 128 if six else 8, 0, 0, 0, 1) + b"heron")
                it.recv(2048)
            return "reply"
        with _socket(space, source, socket.SOCK_STREAM if protocol == "tcp" else socket.SOCK_DGRAM) as it:
            it.connect((destination, int(port)))
            if protocol == "udp":
                it.send(b"heron")
                it.recv(2048)
            return "reply"
    except TimeoutError:
        return "nothing"
    except OSError as error:
        return {
            errno.ECONNREFUSED: "refused",
            errno.EHOSTUNREACH: "prohibited",
            errno.EACCES: "prohibited",
            errno.ENETUNREACH: "unreachable",
            errno.EINVAL: "unreachable",  # its own route discards it
        }[error.errno or 0]
