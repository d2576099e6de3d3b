"""Linux machines as they are: what their own commands print, collected by a script that only reads."""

from importlib.resources import files

from greyheron.core.progress import Progress
from greyheron.formats.bundle import Bundle
from greyheron.formats.format import Brought
from greyheron.formats.machines.collection import is_machine, machines_in
from greyheron.formats.machines.network import network_of


class Machines:
    """Files of the collecting script, one for each machine."""

    name = "machines"
    title = "machines as they are"

    def recognises(self, bundle: Bundle) -> bool:
        return any(map(is_machine, bundle.files.values()))

    def read(self, bundle: Bundle, progress: Progress) -> Brought:
        machines, notices = machines_in(bundle.files)
        return network_of(bundle.name.partition(".")[0], machines, notices, progress)


def collecting_script() -> str:
    """What is run on each machine, as root; it prints one file."""
    return files(__name__).joinpath("collect.sh").read_text("utf-8")
