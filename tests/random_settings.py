"""Settings in which real devices differ, given to the devices of random networks (§4, §5, §8)."""

from random import Random
from typing import Any

from greyheron.model.values import DenialAnswer, Logged, LoginAnswer, Sees

Data = dict[str, Any]
RANGES = (("1-2", "3-8"), ("0-3", "4-4", "5-9"))


def add_settings(data: Data, chance: Random) -> None:
    """Some devices answer otherwise, show lists other addresses, log more, or have several remote lines."""
    for device in data["devices"]:
        if device["kind"] not in ("router", "firewall", "host"):
            continue
        if chance.random() < 0.3:
            device["answers_denied"] = chance.choice(list(DenialAnswer)).value
        if chance.random() < 0.3:
            device["logs"] = [each.value for each in Logged if chance.random() < 0.5]
        if device["kind"] == "host":
            continue
        if chance.random() < 0.3:
            device["answers_logins"] = chance.choice(list(LoginAnswer)).value
        if device.get("translations"):
            device["inbound_sees"] = chance.choice(list(Sees)).value
            device["outbound_sees"] = chance.choice(list(Sees)).value
        if chance.random() < 0.25:
            _several_lines(data, device, chance)


def _several_lines(data: Data, device: Data, chance: Random) -> None:
    ranges = chance.choice(RANGES)
    offered = [["ssh"], ["ssh"], ["telnet"], ["ssh", "telnet"]]
    device["lines"] = [
        {"name": "remote", "numbers": numbers, "transports": chance.choice(offered)} for numbers in ranges
    ] + [{"name": "console"}]
    for placed in data["placements"]:
        if (placed["device"], placed["at"]) == (device["name"], "remote"):
            placed["at"] = f"remote/{chance.choice(ranges)}"
    taken = {(placed["device"], placed["at"]) for placed in data["placements"]}
    lists = [each["name"] for each in data["lists"] if each["kind"] != "frame"]
    for numbers in ranges:
        at = f"remote/{numbers}"
        if lists and (device["name"], at) not in taken and chance.random() < 0.4:
            data["placements"].append(
                {"list": chance.choice(lists), "device": device["name"], "at": at, "direction": "in"}
            )
