"""The exercise that *After the storm* is: thirteen faults, each told by a test flow that it makes fail."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Fault:
    """A planted fault. `test`: the flow that tells it;  `about`: what it is about, without the answer."""

    test: str
    about: str


FAULTS = (
    Fault("t2", "a list of denials"),
    Fault("t6", "a mask and its inverse"),
    Fault("t9", "which management line"),
    Fault("t10", "a service that moved"),
    Fault("t11", "what a camera may put on the wire"),
    Fault("t14", "a host's gateway"),
    Fault("t16", "the order of entries"),
    Fault("t22", "a direction, and neighbours that are looked for"),
    Fault("t26", "a name that nobody can ask for"),
    Fault("t27", "day and night"),
    Fault("s1", "routers that no longer speak to each other"),
    Fault("s4", "a device with more than one address"),
    Fault("s5", "a list that does nothing"),
)
