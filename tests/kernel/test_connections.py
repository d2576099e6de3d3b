"""A real connection table says the same in every form that it is printed in."""

from ipaddress import ip_address
from shutil import which
from typing import Any

import pytest

from greyheron.analysis.traffic.folding import SeenTraffic, fold
from greyheron.formats.bundle import Bundle
from greyheron.formats.traffic import read_traffic
from greyheron.rehearsal.runner import missing
from tests.kernel.connections import FORMS, WATCHED
from tests.kernel.held import in_namespaces
from tests.kernel.small import ADDRESSES

LACKING = [*missing(), *([] if which("conntrack") else ["conntrack is not here"])]
pytestmark = pytest.mark.skipif(bool(LACKING), reason=" ".join(LACKING) or "a table can be had")


@pytest.fixture(scope="module")
def forms() -> Any:
    return in_namespaces("tests.kernel.connections")


def told(seen: SeenTraffic) -> list[tuple[str, str, int, int, int, int, bool]]:
    ends = [str(ip_address(value.to_bytes(16 if six else 4, "big"))) for six, value in seen.addresses]
    return sorted(
        (ends[row[0]], ends[row[1]], *row[2:])
        for row in zip(
            *(each.tolist() for each in (seen.source, seen.destination, seen.protocol, seen.port)),
            *(each.tolist() for each in (seen.packets, seen.octets, seen.answered)),
            strict=True,
        )
    )


def test_every_form_says_who_talked_how_much_and_whether_an_answer_came(forms: Any) -> None:
    read = {name: read_traffic(Bundle("x", {name: text.encode()})) for name, text in forms.items()}
    assert set(read) == {*FORMS, *WATCHED}
    said = {name: told(fold(records)) for name, (records, _, _) in read.items()}
    table, events = said["text"], said["events"]
    assert said["extended"] == said["xml"] == table
    assert said["xml-events"] == events
    refused = [each for each in events if each[3] == 81]  # forgotten at once: no table has it
    assert [each for each in events if each not in refused] == table
    assert [each[4:] for each in refused] == [(2, 100, True), (2, 140, True)]
    for number, icmp in ((0, (1, 8)), (1, (58, 128))):
        ends = ADDRESSES["pc"][number], ADDRESSES["server"][number]
        talked = {row[2:4]: row[4:] for row in table if row[:2] == ends}
        assert set(talked) == {(6, 80), (17, 53), icmp}
        assert all(answered for _, _, answered in talked.values())
        assert talked[17, 53][:2] == (2, 2 * (len("heron") + (28, 48)[number]))
    left = {name: [notice.message for notice in notices] for name, (_, notices, _) in read.items()}
    assert left["text"] == left["extended"] == left["events"] == []
    assert left["xml"] == ["2 conversations of ICMP do not tell its type: taken for echoes"]
