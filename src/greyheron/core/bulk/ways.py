"""All ways of very many packets at once, however many there are: as places, and steps between them.

Where ways meet again at one place, knowing the same, they are one from there on. So equal ways that follow
one another add up, where the paths that they make multiply. No list decides anything here (see `tracing`).
"""

from collections.abc import Iterator, Sequence

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from greyheron.core.bulk.forwarding import ForwardingIndex
from greyheron.core.bulk.knowledge import MOST_KNOWLEDGE, KnowledgeTable
from greyheron.core.bulk.tracer import (
    ARRIVED,
    HOP_LIMIT,
    LOST,
    NO_NEIGHBOUR,
    NO_ROUTE,
    NO_SESSION,
    ON_ITS_WAY,
    REFUSED,
    SPECIAL,
    ZONE,
    Batch,
    Deliver,
    TooMuchAtOnce,
)
from greyheron.core.headers import NONE, Addresses, Bools, Ints, within_spans
from greyheron.core.packet import FIRST_HOP_LIMIT

_NOTHING = np.zeros(0, dtype=np.int64)


MOST_STEPS = 1 << 20
"""So many steps are found at once, some 100 bytes each."""


class Ways(Struct, frozen=True):
    """Where the packets of a leg go. Each step leads to a later place; the first places are the rows'.

    row, device, knowledge:  of each place
    outcome:  how a packet ends there, as an index in OUTCOMES; ON_ITS_WAY where it goes on
    before, after:  places of each step;  met:  (steps, 2) codes it comes to in between, in order, or NONE
    layers:  where the steps of each hop begin, and where the last ends
    winding:  rows whose packets may come to a device a second time
    special:  rows whose packets come to a device that translates, or has several lines for such a login
    """

    row: Ints
    device: Ints
    knowledge: Ints
    outcome: Ints
    before: Ints
    after: Ints
    met: NDArray[np.int32]
    layers: tuple[int, ...]
    winding: Ints
    special: Ints

    @property
    def nbytes(self) -> int:
        """How much memory they take."""
        arrays = self.row, self.device, self.knowledge, self.outcome, self.before, self.after, self.met
        return sum(each.nbytes for each in arrays)

    def reached(self, begin: Bools, passes: Bools) -> Bools:
        """The places to which a packet comes from those in `begin`, by steps that it `passes`."""
        found = begin.copy()
        for first, end in self._hops():
            taken = passes[first:end] & found[self.before[first:end]]
            found[self.after[first:end][taken]] = True
        return found

    def leading(self, goals: Bools, passes: Bools) -> Bools:
        """The places from which a packet comes to one of `goals`, by steps that it `passes`."""
        found = goals.copy()
        for first, end in reversed([*self._hops()]):
            taken = passes[first:end] & found[self.after[first:end]]
            found[self.before[first:end][taken]] = True
        return found

    def counts(self, begin: Ints) -> Ints:
        """How many ways lead to each place, as far as that can be counted."""
        found = np.zeros(len(self.row), dtype=np.float64)
        found[begin] = 1
        for first, end in self._hops():
            np.add.at(found, self.after[first:end], found[self.before[first:end]])
        return np.minimum(found, float(1 << 53)).astype(np.int64)

    def _hops(self) -> Iterator[tuple[int, int]]:
        return zip(self.layers[:-1], self.layers[1:], strict=True)


def ways_of(
    forwarding: ForwardingIndex,
    leg: Batch,
    addresses: Addresses,
    deliver: Deliver,
    known: KnowledgeTable,
    knowledge: Ints,
) -> Ways:
    """Follow every row of `leg` all its ways. Raises TooMuchAtOnce.

    known, knowledge:  what each row begins with; the table is added to
    """
    return _Follower(forwarding, leg, addresses, deliver, known, knowledge).run()


class _Follower:
    """The packets of a leg, moved one device at a time. Places are numbered as they are found."""

    def __init__(
        self,
        forwarding: ForwardingIndex,
        leg: Batch,
        addresses: Addresses,
        deliver: Deliver,
        known: KnowledgeTable,
        knowledge: Ints,
    ) -> None:
        self._net, self._leg, self._addresses, self._deliver = forwarding, leg, addresses, deliver
        self._known, self._devices = known, len(forwarding.devices)
        self._row = [np.arange(len(leg.device))]
        self._device, self._knowledge = [leg.device], [knowledge]
        self._outcome = [np.full(len(leg.device), ON_ITS_WAY, dtype=np.int64)]
        self._places, self._steps = len(leg.device), 0
        self._before: list[Ints] = []
        self._after: list[Ints] = []
        self._met: list[NDArray[np.int32]] = []
        self._layers = [0]
        self._special: list[Ints] = []
        self._moves: list[Ints] = []

    def run(self) -> Ways:
        here = _Here(
            np.arange(self._places),
            self._row[0],
            self._device[0],
            np.full(self._places, NONE, dtype=np.int64),
            self._knowledge[0],
        )
        here = self._made(here)
        for hops in range(FIRST_HOP_LIMIT):
            if len(here.place) == 0:
                break
            here = self._depart(self._arrived(here, hops))
        return Ways(
            row=_joined(self._row),
            device=_joined(self._device),
            knowledge=_joined(self._knowledge),
            outcome=_joined(self._outcome),
            before=_joined(self._before),
            after=_joined(self._after),
            met=np.concatenate([np.zeros((0, 2), dtype=np.int32), *self._met]),
            layers=tuple(self._layers),
            winding=self._winding(),
            special=np.unique(_joined(self._special)),
        )

    def _made(self, here: "_Here") -> "_Here":
        """The packets at the devices that make them."""
        net, leg = self._net, self._leg
        own = net.owner[leg.towards[here.row]] == here.device
        tracked = self._tracks(here)[1]
        self._come_home(here.take(own), tracked[own], np.full(int(own.sum()), NONE))
        here, tracked = here.take(~own), tracked[~own]
        steps = net.made_steps(here.device, leg.towards[here.row], leg.source[here.row], self._addresses)
        return self._leave(here, steps, tracked, made=True)

    def _arrived(self, here: "_Here", hops: int) -> "_Here":
        """Steps 1 to 4 of the semantics, for packets that have just come in; where they are after those."""
        net, leg = self._net, self._leg
        here = here.take(self._followed(here, net.translates[here.device]))
        self._moves.append(np.stack([here.row, here.device]))
        here = here.knowing(self._known.seen_at(here.knowledge, here.device))
        tracks, known = self._tracks(here)
        own = net.owner[leg.towards[here.row]] == here.device
        fragment = leg.fragment[here.row]
        waits = tracks & fragment & own
        stray = tracks & ~known & ~leg.opens[here.row] & ~waits
        tracked = known | waits
        nothing = np.full(len(here.place), NONE, dtype=np.int64)
        self._end(here.take(stray), NO_SESSION, nothing[stray])
        here, tracked, own = here.take(~stray), tracked[~stray], own[~stray]
        listed = np.where(tracked, NONE, 2 * here.port)
        self._come_home(here.take(own), tracked[own], listed[own])
        here, listed = here.take(~own), listed[~own]
        lost = ~net.forwards[here.device]
        self._end(here.take(lost), LOST, listed[lost])
        here, listed = here.take(~lost), listed[~lost]
        if hops >= FIRST_HOP_LIMIT - 1:
            self._end(here, HOP_LIMIT, listed)
            return here.take(np.zeros(len(here.place), dtype=np.bool_))
        # Where no zone asks how a packet came in, it is the same by whichever port it did.
        port = np.where(net.firewall[here.device], here.port, NONE)
        at, index = self._placed(here.row, here.device, port, here.knowledge)
        self._step(here.place, at.place[index], listed)
        self._next_layer()
        return at

    def _depart(self, here: "_Here") -> "_Here":
        known = self._tracks(here)[1]
        return self._leave(here, self._net.steps(here.device, self._leg.towards[here.row]), known, made=False)

    def _leave(self, here: "_Here", steps: Ints, tracked: Bools, made: bool) -> "_Here":
        """Steps 5 to 8: by each equal next hop, past zones and the outbound list, to the neighbour."""
        net = self._net
        first, counts = net.spans[steps].T
        lost = counts == 0
        self._end(here.take(lost), NO_ROUTE, np.full(int(lost.sum()), NONE))
        here, tracked, first, counts = here.take(~lost), tracked[~lost], first[~lost], counts[~lost]
        self._bound(int(counts.sum()))
        origin, branch = within_spans(first, counts)
        here, tracked = here.at(origin), tracked[origin]
        egress, ingress, solicitation = net.branches[branch].T
        if made:
            listed = np.where(net.own_filtered[here.device] & ~tracked, 2 * egress + 1, NONE)
        else:
            ends = self._denied_by_zone(here, egress, tracked)
            self._end(here.take(ends), ZONE, np.full(int(ends.sum()), NONE))
            here, tracked = here.take(~ends), tracked[~ends]
            egress, ingress, solicitation = egress[~ends], ingress[~ends], solicitation[~ends]
            listed = np.where(tracked, NONE, 2 * egress + 1)
        here = self._admitted(here, tracked)
        nobody = ingress == NONE
        self._end(here.take(nobody), NO_NEIGHBOUR, listed[nobody])
        here, listed, ingress = here.take(~nobody), listed[~nobody], ingress[~nobody]
        asked = solicitation[~nobody] if net.solicits else np.full(len(ingress), NONE)
        found, index = self._placed(here.row, net.of_port[ingress], ingress, here.knowledge)
        self._step(here.place, found.place[index], listed, asked)
        self._next_layer()
        return found

    def _come_home(self, here: "_Here", tracked: Bools, listed: Ints) -> None:
        """The packets are for the devices they are at."""
        if len(here.place) == 0:
            return
        outcome, lines = self._deliver(here.row, here.device)
        followed = self._followed(here, outcome == SPECIAL)
        here, tracked, listed = here.take(followed), tracked[followed], listed[followed]
        outcome, lines = outcome[followed], lines[followed]
        taken = np.isin(outcome, (ARRIVED, REFUSED))
        knowledge = here.knowledge.copy()
        knowledge[taken] = self._admitted(here.take(taken), tracked[taken]).knowledge
        self._end(here.knowing(knowledge), outcome, listed, lines)

    def _followed(self, here: "_Here", special: Bools) -> Bools:
        """Which packets are followed further: all but the `special` ones, whose rows are put down."""
        self._special.append(here.row[special])
        return ~special

    def _tracks(self, here: "_Here") -> tuple[Bools, Bools]:
        """Whether each device tracks the packet's protocol, and whether it knows the session."""
        tracks = self._net.tracks[here.device, self._leg.protocol[here.row]]
        if not tracks.any():
            return tracks, tracks
        return tracks, tracks & self._known.knows(here.knowledge, here.device)

    def _admitted(self, here: "_Here", tracked: Bools) -> "_Here":
        """The devices that track the packet, and did not know it, keep its session now."""
        new = self._net.tracks[here.device, self._leg.protocol[here.row]]
        new = new & ~tracked & self._leg.opens[here.row]
        if not new.any():
            return here
        knowledge = here.knowledge.copy()
        knowledge[new] = self._known.with_session(knowledge[new], here.device[new])
        return here.knowing(knowledge)

    def _denied_by_zone(self, here: "_Here", egress: Ints, tracked: Bools) -> Bools:
        net = self._net
        asked: Bools = net.firewall[here.device]
        if not asked.any():
            return asked
        return asked & ~tracked & ~net.passes_zones(here.device, here.port, egress)

    def _placed(self, row: Ints, device: Ints, port: Ints, knowledge: Ints) -> tuple["_Here", Ints]:
        """New places, each once, and which of them each one that was asked for is."""
        ports, codes = len(self._net.ports) + 1, len(self._known.values)
        keys = ((row * self._devices + device) * ports + port + 1) * codes + knowledge
        _, first, index = np.unique(keys, return_index=True, return_inverse=True)
        place = np.arange(self._places, self._places + len(first))
        found = _Here(place, row[first], device[first], port[first], knowledge[first])
        self._add(found, np.full(len(first), ON_ITS_WAY, dtype=np.int64))
        return found, index

    def _end(self, here: "_Here", outcome: int | Ints, first: Ints, second: Ints | None = None) -> None:
        """A packet comes to `first` and `second` and ends there."""
        if len(here.place) == 0:
            return
        place = np.arange(self._places, self._places + len(here.place))
        self._add(here, np.broadcast_to(np.asarray(outcome, dtype=np.int64), place.shape))
        self._step(here.place, place, first, second)

    def _add(self, here: "_Here", outcome: Ints) -> None:
        for columns, of in (
            (self._row, here.row),
            (self._device, here.device),
            (self._knowledge, here.knowledge),
            (self._outcome, outcome),
        ):
            columns.append(of)
        self._places += len(here.row)

    def _step(self, before: Ints, after: Ints, first: Ints, second: Ints | None = None) -> None:
        self._before.append(before)
        self._after.append(after)
        second = np.full(len(before), NONE) if second is None else second
        self._met.append(np.stack([first, second], axis=1).astype(np.int32))
        self._steps += len(before)

    def _next_layer(self) -> None:
        self._layers.append(self._steps)

    def _bound(self, more: int) -> None:
        if self._steps + more > MOST_STEPS or len(self._known.values) > MOST_KNOWLEDGE:
            raise TooMuchAtOnce

    def _winding(self) -> Ints:
        """Rows that may come to a device a second time.

        Only those come into question that are at one device after different numbers of hops. Ways of
        different lengths do that too: of those nothing is left when all that nothing leads to is taken away,
        again and again.
        """
        row, device = np.concatenate([np.zeros((2, 0), dtype=np.int64), *self._moves], axis=1)
        hops = np.repeat(np.arange(len(self._moves)), [each.shape[1] for each in self._moves])
        once, index = np.unique(row * self._devices + device, return_inverse=True)
        low, high = np.full(len(once), len(self._moves)), np.full(len(once), NONE)
        np.minimum.at(low, index, hops)
        np.maximum.at(high, index, hops)
        asked = np.zeros(len(self._leg.device), dtype=np.bool_)
        asked[once[low < high] // self._devices] = True
        if not asked.any():
            return np.zeros(0, dtype=np.int64)
        row, device = _joined(self._row), _joined(self._device)
        before, after = _joined(self._before), _joined(self._after)
        moving = np.flatnonzero(asked[row[before]] & (device[before] != device[after]))
        codes = row * self._devices + device
        pairs = np.unique(np.stack([codes[before[moving]], codes[after[moving]]]), axis=1)
        left = -1
        while pairs.shape[1] != left:
            left = pairs.shape[1]
            pairs = pairs[:, np.isin(pairs[0], pairs[1])]
        return np.unique(pairs[0] // self._devices)


def _joined(parts: Sequence[Ints]) -> Ints:
    return np.concatenate([_NOTHING, *parts])


class _Here(Struct, frozen=True):
    """Packets at places, in arrays of one length. port: by which each came in, or NONE"""

    place: Ints
    row: Ints
    device: Ints
    port: Ints
    knowledge: Ints

    def take(self, which: Bools) -> "_Here":
        """Those that are marked: mostly all, and nothing is copied."""
        return self if which.all() else self.at(np.flatnonzero(which))

    def at(self, indices: Ints) -> "_Here":
        return _Here(
            self.place[indices],
            self.row[indices],
            self.device[indices],
            self.port[indices],
            self.knowledge[indices],
        )

    def knowing(self, knowledge: Ints) -> "_Here":
        return _Here(self.place, self.row, self.device, self.port, knowledge)
