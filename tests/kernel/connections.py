"""A gate that follows conversations, and its connection table in every form: run first in namespaces."""

import json
import subprocess
import time

from greyheron.rehearsal.kernel import Namespace
from greyheron.rehearsal.stage import own_files
from tests.kernel.small import ADDRESSES, BASE, FORWARDS, NAMES, PORTS
from tests.kernel.wires import attempt, carry_out, listen, make_space, run_in, switch_on

ACCOUNTING = ("net/netfilter/nf_conntrack_acct", "net/netfilter/nf_conntrack_timestamp")
RULES = "table inet f {\n chain c { type filter hook forward priority 0\n ct state new accept\n }\n}\n"
FORMS = {"text": (), "extended": ("-o", "extended,id"), "xml": ("-o", "xml,ktimestamp")}
WATCHED = {"events": ("-o", "timestamp"), "xml-events": ("-o", "xml")}
TALK = ("tcp/80", "tcp/81", "udp/53", "ping")


def main() -> None:
    own_files()
    spaces = {name: make_space(name) for name in NAMES}
    for line in BASE.strip().splitlines():
        carry_out(spaces, line.split())
    gate = spaces["gate"]
    switch_on(gate, *FORWARDS, *ACCOUNTING)
    run_in(gate, "nft", "-f", "-", given=RULES)
    for protocol, port in PORTS:
        listen(spaces["server"], protocol, port)
    watchers = {name: _watching(gate, *options) for name, options in WATCHED.items()}
    time.sleep(1)
    for number in (0, 1):
        for service in TALK:
            attempt(spaces["pc"], ADDRESSES["pc"][number], ADDRESSES["server"][number], service)
    forms = {name: run_in(gate, "conntrack", "-L", *options) for name, options in FORMS.items()}
    run_in(gate, "conntrack", "-F")
    time.sleep(1)
    for name, watcher in watchers.items():
        watcher.terminate()
        forms[name] = watcher.communicate()[0]
    print(json.dumps(forms))


def _watching(gate: Namespace, *options: str) -> "subprocess.Popen[str]":
    with gate.entered():
        return subprocess.Popen(["conntrack", "-E", *options], stdout=subprocess.PIPE, text=True)


if __name__ == "__main__":
    main()
