"""Every format there is, and which one a bundle is of."""

from greyheron.core.progress import Progress, unwatched
from greyheron.formats.bundle import Bundle
from greyheron.formats.format import Brought, Format, Writing
from greyheron.formats.lists_csv import ListsTable
from greyheron.formats.machines import Machines
from greyheron.formats.workspace import Workspace
from greyheron.formats.yang import Yang, YangXml
from greyheron.model.problems import DocumentError, Problem

READ: tuple[Format, ...] = (Machines(), Yang(), Workspace())
"""In the order in which they are asked whether they recognise a bundle."""
WRITTEN: tuple[Writing, ...] = (Workspace(), Yang(), YangXml(), ListsTable())


def format_of(bundle: Bundle) -> Format:
    """The format of a bundle. Raises DocumentError where none is recognised."""
    for each in READ:
        if each.recognises(bundle):
            return each
    known = " nor ".join(each.title for each in READ)
    raise DocumentError([Problem(bundle.name, f"this is neither {known}: nothing in it is known here")])


def bring(bundle: Bundle, progress: Progress = unwatched) -> tuple[Format, Brought]:
    """What a bundle holds, and as which format it was read. Raises DocumentError, Cancelled."""
    if bundle.cut:
        message = "it is compressed, and breaks off: what is missing is not known, so nothing is taken of it"
        raise DocumentError([Problem(path, message) for path in sorted(bundle.cut)])
    found = format_of(bundle)
    return found, found.read(bundle, progress)
