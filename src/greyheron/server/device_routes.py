"""Devices: what they know, their parts as lines that are read as they are typed, and other names."""

from fastapi import APIRouter

from greyheron.analysis.network.facts import DeviceFacts, facts_of
from greyheron.model.changes import Change, ChangeError, putting
from greyheron.model.device import Device
from greyheron.model.device_table import table_changes
from greyheron.model.document import Network
from greyheron.model.intents import JoinDevices
from greyheron.model.joining import would_do
from greyheron.model.notation.line import NotationError
from greyheron.model.parts import PARTS, Section, lines_of, read_new_device, with_part, without_part
from greyheron.model.problems import DocumentError, Problem, misread
from greyheron.model.read import edited
from greyheron.model.renaming import renaming
from greyheron.model.set_lines import NamedSet, SetCollection, read_set
from greyheron.model.values import State
from greyheron.server.dependencies import PROBLEMS, At, Derived, Store
from greyheron.server.problems import ProblemItem, Refusal, problem_items
from greyheron.server.schemas import (
    CouldJoin,
    DevicesReading,
    FlowText,
    ItemReading,
    NewName,
    PartLines,
    PartText,
    Renaming,
    SetText,
    TableText,
)

router = APIRouter(prefix="/api", responses=PROBLEMS)


@router.post("/networks/{network_id}/devices/read")
def read_device_text(network_id: str, text: FlowText, store: Store) -> ItemReading:
    """What a line such as `router sluice 172.20.32.1/24` means as a new device of the draft."""
    draft = store.get(network_id).draft
    try:
        made = read_new_device(text.text)
    except NotationError as error:
        return ItemReading(problems=problem_items(misread(error, "text")), change=None)
    device = made.device
    if any(each.name == device.name for each in draft.devices):
        message = f"there is a device {device.name} already: give this one another name"
        return ItemReading(problems=[ProblemItem(where="text", message=message)], change=None)
    links = [JoinDevices(do="link", one=device.name, other=other) for other in made.to]
    reading = reading_of(draft, putting("devices", device))
    if reading.change is not None and links:
        try:
            after = edited(draft, [reading.change])
            for link in links:
                after = edited(after, link.changes(after))
        except ChangeError as error:
            return ItemReading(problems=[ProblemItem(where="text", message=str(error))], change=None)
    return reading.model_copy(update={"to": list(made.to)})


@router.get("/networks/{network_id}/devices/{name}")
def device_facts(
    network_id: str, name: str, store: Store, derived: Derived, at: At, state: State = State.DRAFT
) -> DeviceFacts:
    """What a device knows in one state: routes, and OSPF neighbours with those that lists cut off."""
    world = derived.of(network_id).timeline_in(store.get(network_id), state, at).first
    if name not in world.topology.devices:
        raise Refusal(404, f"There is no device “{name}” in this network.")
    return facts_of(world, name)


@router.get("/networks/{network_id}/devices/{name}/parts")
def device_parts(network_id: str, name: str, store: Store) -> list[PartLines]:
    """The parts of a device in the draft, by section, as far as its kind has them."""
    device = device_in(store.get(network_id).draft, name)
    return [
        PartLines(section=section, lines=list(lines_of(device, section)))
        for section, kind in PARTS.items()
        if kind.fits(device.traits)
    ]


@router.post("/networks/{network_id}/devices/{name}/parts/{section}")
def read_part_text(network_id: str, name: str, section: Section, part: PartText, store: Store) -> ItemReading:
    """What a part's text means in the draft: instead of the one at `place`, or behind the others."""
    draft = store.get(network_id).draft
    device = device_in(draft, name)
    if part.place is not None and part.place >= len(lines_of(device, section)):
        raise Refusal(404, f"{name} has no such part any more: look at it again.")
    try:
        if part.text is not None:
            changed = with_part(device, section, part.text, part.place)
        elif part.place is not None:
            changed = without_part(device, section, part.place)
        else:
            raise Refusal(422, "Say which part is to be taken out: send its place.")
    except NotationError as error:
        return ItemReading(problems=problem_items(misread(error, "text")), change=None)
    return reading_of(draft, putting("devices", changed))


@router.get("/networks/{network_id}/joining")
def could_join(network_id: str, one: str, other: str, store: Store) -> CouldJoin:
    """Which interfaces a link could take between two devices, each by name or as `device:interface`."""
    draft = store.get(network_id).draft
    for end in (one, other):
        device_in(draft, end.partition(":")[0])
    near, far = would_do(draft, one, other)
    return CouldJoin(one=list(near), other=list(far))


@router.post("/networks/{network_id}/devices/table")
def read_devices(network_id: str, table: TableText, store: Store) -> DevicesReading:
    """What a table of devices (device, interface, address, neighbour) would add to the draft."""
    draft = store.get(network_id).draft
    try:
        changes = table_changes(table.text, draft)
        edited(draft, changes)
    except NotationError as error:
        return DevicesReading(problems=problem_items(misread(error, "text")), changes=[])
    except (DocumentError, ChangeError) as error:
        problems = error.problems if isinstance(error, DocumentError) else [Problem("text", str(error))]
        return DevicesReading(problems=problem_items(problems), changes=[])
    return DevicesReading(problems=[], changes=changes)


@router.post("/networks/{network_id}/sets/{collection}")
def read_set_text(network_id: str, collection: SetCollection, line: SetText, store: Store) -> ItemReading:
    """What a line means as a set or a period of the draft; without text the one at `key` is taken out."""
    draft = store.get(network_id).draft
    if line.text is None:
        if line.key is None:
            raise Refusal(422, "Say which set is to be taken out: send its key.")
        return reading_of(draft, Change(collection=collection, key=line.key))
    try:
        made = read_set(line.text, collection)
    except NotationError as error:
        return ItemReading(problems=problem_items(misread(error, "text")), change=None)
    if line.key is not None:
        before = _set_in(draft, collection, line.key)
        made = made.model_copy(update={"note": before.note})
        if made.name != before.name:
            message = f"the name stays {before.name} here: write it in front, or make a set of its own"
            return ItemReading(problems=[ProblemItem(where="text", message=message)], change=None)
    elif any(each.name == made.name for each in getattr(draft, collection)):
        message = f"there is a {made.name} already: give this one another name"
        return ItemReading(problems=[ProblemItem(where="text", message=message)], change=None)
    return reading_of(draft, putting(collection, made))


@router.post("/networks/{network_id}/rename")
def rename(network_id: str, asked: NewName, store: Store) -> Renaming:
    """What calling a device, list or set otherwise would change."""
    draft = store.get(network_id).draft
    try:
        changes = renaming(draft, asked.collection, asked.key, asked.name.strip())
        edited(draft, changes)
    except DocumentError as error:
        return Renaming(problems=problem_items(error.problems), changes=[])
    return Renaming(problems=[], changes=changes)


def _set_in(draft: Network, collection: SetCollection, key: str) -> NamedSet:
    """The set of that name. Raises Refusal."""
    found: NamedSet | None = next((each for each in getattr(draft, collection) if each.name == key), None)
    if found is None:
        raise Refusal(404, f"There is no “{key}” in this network.")
    return found


def device_in(draft: Network, name: str) -> Device:
    """The device of that name. Raises Refusal."""
    device = next((each for each in draft.devices if each.name == name), None)
    if device is None:
        raise Refusal(404, f"There is no device “{name}” in this network.")
    return device


def reading_of(draft: Network, change: Change) -> ItemReading:
    """The change if the draft is sound with it, else what is wrong."""
    try:
        edited(draft, [change])
    except DocumentError as error:
        return ItemReading(problems=problem_items(error.problems), change=None)
    return ItemReading(problems=[], change=change)
