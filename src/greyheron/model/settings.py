"""Settings of a device: how it does what devices do differently, a line for each.

All that a device of its kind can be set to stands there; one that is taken out is as usual again.
"""

from collections.abc import Callable, Iterable
from typing import Any

from msgspec import Struct

from greyheron.model.device import Device
from greyheron.model.notation.line import NotationLine, Option
from greyheron.model.traits import TRACKED, Traits
from greyheron.model.values import DenialAnswer, Logged, LoginAnswer, Sees

NOTHING = "nothing"


class SetTo(Struct, frozen=True):
    """A setting, by its word, and what it is set to: a value, or several."""

    word: str
    values: tuple[str, ...]


class _Setting(Struct, frozen=True):
    """One line: `denied reset`, `logs zones,sessions`, `inbound-lists after translation`.

    choices:  the words that can follow, with what they mean;  several:  whether some may stand together
    of:  what a device is set to;  put:  the fields of a device that is set so, None where that is as usual
    behind:  a word behind the value, for the sake of the sentence
    """

    explains: str
    choices: dict[str, str]
    fits: Callable[[Traits], bool]
    of: Callable[[Device], tuple[str, ...]]
    put: Callable[[tuple[str, ...]], dict[str, Any]]
    usual: Callable[[Device], tuple[str, ...]]
    several: bool = False
    behind: str = ""


def _announced(device: Device) -> tuple[str, ...]:
    given = {"default": device.announces_default, "static": device.announces_static}
    return tuple(word for word, announces in given.items() if announces)


def _own_packets(device: Device) -> tuple[str, ...]:
    return ("filtered" if device.sends_through else "unfiltered",)


_SETTINGS: dict[str, _Setting] = {
    "denied": _Setting(
        "what it says of packets that a list at an interface or a zone denies",
        {
            DenialAnswer.PROHIBITED: "administratively prohibited, by ICMP",
            DenialAnswer.HOST_UNREACHABLE: "host unreachable, by ICMP",
            DenialAnswer.NETWORK_UNREACHABLE: "network unreachable, by ICMP",
            DenialAnswer.PORT_UNREACHABLE: "port unreachable, by ICMP, whatever it was",
            DenialAnswer.RESET: "as if nobody listened: a reset for TCP, port unreachable for all else",
            DenialAnswer.NOTHING: "nothing: the sender waits until it gives up",
        },
        lambda traits: traits.takes_lists,
        lambda device: (device.denial_answer,),
        lambda values: {"answers_denied": DenialAnswer(values[0])},
        lambda device: (device.traits.answers_denied,),
    ),
    "denied-logins": _Setting(
        "what it says of logins that a management line denies",
        {
            LoginAnswer.RESET: "a reset, as if nobody listened",
            LoginAnswer.NOTHING: "nothing: the sender waits until it gives up",
        },
        lambda traits: traits.forwards,
        lambda device: (device.answers_logins,),
        lambda values: {"answers_logins": LoginAnswer(values[0])},
        lambda _device: (LoginAnswer.RESET,),
    ),
    "inbound-lists": _Setting(
        "which addresses inbound lists see, where it translates",
        {
            Sees.BEFORE: "destinations as they come in: the outside address of a published host",
            Sees.AFTER: "destinations as they go on: the inside address of a published host",
        },
        lambda traits: traits.forwards,
        lambda device: (device.inbound_sees,),
        lambda values: {"inbound_sees": Sees(values[0])},
        lambda _device: (Sees.BEFORE,),
        behind="translation",
    ),
    "outbound-lists": _Setting(
        "which addresses outbound lists see, where it translates",
        {
            Sees.BEFORE: "sources as they are inside",
            Sees.AFTER: "sources as they are outside",
        },
        lambda traits: traits.forwards,
        lambda device: (device.outbound_sees,),
        lambda values: {"outbound_sees": Sees(values[0])},
        lambda _device: (Sees.AFTER,),
        behind="translation",
    ),
    "own-packets": _Setting(
        "whether its outbound lists see what it sends itself",
        {"filtered": "they do", "unfiltered": "they do not"},
        lambda traits: traits.takes_lists,
        _own_packets,
        lambda values: {"filters_own_traffic": values[0] == "filtered"},
        lambda device: ("filtered" if device.traits.filters_own_traffic else "unfiltered",),
    ),
    "tracks": _Setting(
        "the protocols whose sessions it follows",
        {each: f"sessions of {each}" for each in TRACKED},
        lambda traits: traits.takes_lists,
        lambda device: device.tracked,
        lambda values: {"tracks": values},
        lambda device: device.traits.tracks,
        several=True,
    ),
    "same-zone": _Setting(
        "what comes from a zone and goes to the same one",
        {"passes": "unless a list denies it", "denied": "unless an inbound list permits it"},
        lambda traits: traits.zoned,
        lambda device: ("passes" if device.same_zone else "denied",),
        lambda values: {"same_zone": values[0] == "passes"},
        lambda _device: ("denied",),
    ),
    "logs": _Setting(
        "denials by no entry that it writes to the log",
        {
            Logged.IMPLICIT_END: "the implicit end of a list",
            Logged.ZONES: "zones",
            Logged.SESSIONS: "packets that belong to no session",
            Logged.TRANSLATIONS: "inside addresses that are not let in",
        },
        lambda traits: traits.takes_lists,
        lambda device: device.logs,
        lambda values: {"logs": tuple(map(Logged, values))},
        lambda _device: (),
        several=True,
    ),
    "announces": _Setting(
        "what it tells its OSPF neighbours beside its prefixes",
        {"default": "a default route", "static": "its static routes"},
        lambda traits: traits.forwards,
        _announced,
        lambda values: {
            "announces_default": "default" in values,
            "announces_static": "static" in values,
        },
        lambda _device: (),
        several=True,
    ),
}
_BY_KIND = ("denied", "own-packets", "tracks")
"""Settings that a document leaves out where they are usual for the kind."""


SETTING_FIELDS = frozenset(
    field
    for word, each in _SETTINGS.items()
    for field in each.put(() if each.several else (next(iter(each.choices)),))
)
"""The fields of a device that settings are kept in."""


def read_setting(line: NotationLine, device: Device) -> SetTo:
    fitting = {word: each for word, each in _SETTINGS.items() if each.fits(device.traits)}
    word = line.choose({word: each.explains for word, each in fitting.items()})
    setting = fitting[word]
    if setting.several:
        options = [Option(each, explains) for each, explains in setting.choices.items()]
        values = line.value(lambda given: _several(given, setting), *options, Option(NOTHING, "none of them"))
    else:
        values = (line.choose(setting.choices),)
    if setting.behind and line.word is not None and not line.take(setting.behind, "as a reminder"):
        raise line.error()
    line.end()
    return SetTo(word, values)


def _several(given: str, setting: _Setting) -> tuple[str, ...]:
    words = given.lower().split(",")
    if words == [NOTHING]:
        return ()
    for word in words:
        if word not in setting.choices:
            raise ValueError(
                f"“{word}” does not fit here: expected some of {', '.join(setting.choices)} with commas, "
                f"or {NOTHING}"
            )
    return tuple(word for word in setting.choices if word in words)


def write_setting(setting: SetTo) -> str:
    behind = _SETTINGS[setting.word].behind
    return " ".join([setting.word, ",".join(setting.values) or NOTHING, *([behind] if behind else [])])


def settings_of(device: Device) -> tuple[SetTo, ...]:
    """Everything that a device can be set to, as it is."""
    return tuple(
        SetTo(word, tuple(map(str, each.of(device))))
        for word, each in _SETTINGS.items()
        if each.fits(device.traits)
    )


def unusual_settings(device: Device) -> tuple[SetTo, ...]:
    """Those that are not as is usual for its kind."""
    return tuple(
        each
        for each in settings_of(device)
        if each.values != tuple(map(str, _SETTINGS[each.word].usual(device)))
    )


def with_settings(device: Device, settings: Iterable[SetTo]) -> Device:
    """`device` set so, and as usual where nothing is said; of two for the same the last one stands."""
    said = {each.word: each.values for each in settings}
    fields: dict[str, Any] = {}
    for word, setting in _SETTINGS.items():
        if not setting.fits(device.traits):
            continue
        usual = tuple(map(str, setting.usual(device)))
        values = said.get(word, usual)
        put = setting.put(values)
        fields |= dict.fromkeys(put) if word in _BY_KIND and values == usual else put
    return device.model_copy(update=fields)
