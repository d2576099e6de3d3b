"""What people type from habit is refused with the way that the notation has for it."""

import pytest

from greyheron.model.notation.line import NotationError
from greyheron.model.notation.lists import read_body
from greyheron.model.values import Family, ListKind


@pytest.mark.parametrize(
    ("typed", "way"),
    [
        ("permit any from 172.20.7.9 0.0.0.255 to any", "write 172.20.7.0/24 or 172.20.7.0~0.0.0.255"),
        ("permit any from 172.20.7.0 255.255.255.0 to any", "write 172.20.7.0/24 or"),
        ("permit any from 172.20.0.3 0.0.4.0 to any", "write 172.20.0.3~0.0.4.0"),
        ("deny icmp ping from any to any", "write that"),
        ("deny ping from any to any", "icmp echo-request"),
        ("permit tcp from 172.20.1.1,172.20.1.2 to any", "a set, @name, or an entry for each"),
        ("10 remark the kiosks", "write # the kiosks"),
        ("remark", "write #"),
    ],
)
def test_the_way_is_said(typed: str, way: str) -> None:
    with pytest.raises(NotationError) as refused:
        read_body(typed, Family.IPV4, ListKind.EXTENDED)
    assert way in str(refused.value)
