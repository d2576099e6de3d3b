"""A network is taken out: in which formats, what each would lose, and the files."""

import io
import zipfile
from typing import Literal

from fastapi import APIRouter, Response
from pydantic import BaseModel

from greyheron.formats.format import Taken, Writing
from greyheron.formats.known import WRITTEN
from greyheron.model.document import Network
from greyheron.server.dependencies import PROBLEMS, Store
from greyheron.server.problems import Refusal
from greyheron.server.schemas import NoticeItem, notices_told

router = APIRouter(prefix="/api", responses=PROBLEMS)
_ARCHIVE = "application/zip"


class WayOut(BaseModel):
    """A format that a network can be taken out in.

    loses:  what it cannot carry, whatever the network;  left_out:  what it does not say of this one
    """

    format: str
    title: str
    loses: list[str]
    left_out: list[NoticeItem]
    left_out_count: int


@router.get("/networks/{network_id}/out")
def ways_out(network_id: str, store: Store) -> list[WayOut]:
    """Every format, and what of the draft it would not say."""
    draft = store.get(network_id).draft
    found = []
    for each in WRITTEN:
        left_out, count = notices_told(each.write(draft).left_out)
        found.append(
            WayOut(
                format=each.name,
                title=each.title,
                loses=list(each.loses),
                left_out=left_out,
                left_out_count=count,
            )
        )
    return found


@router.get("/networks/{network_id}/out/{format_name}", response_class=Response)
def take_out(
    network_id: str, format_name: str, store: Store, state: Literal["draft", "running"] = "draft"
) -> Response:
    """The network in a format: a file, or an archive where it takes several."""
    writing = next((each for each in WRITTEN if each.name == format_name), None)
    if writing is None:
        known = ", ".join(each.name for each in WRITTEN)
        raise Refusal(404, f"There is no format “{format_name}” to take a network out in: {known}.")
    stored = store.get(network_id)
    return _file(network_id, writing, stored.draft if state == "draft" else stored.running)


def _file(name: str, writing: Writing, network: Network) -> Response:
    taken = writing.write(network)
    content, media_type = _packed(taken, writing)
    headers = {"Content-Disposition": f'attachment; filename="{name}{writing.suffix}"'}
    return Response(content, media_type=media_type, headers=headers)


def _packed(taken: Taken, writing: Writing) -> tuple[bytes, str]:
    if len(taken.files) == 1 and writing.suffix != ".zip":
        (content,) = taken.files.values()
        return content, writing.media_type
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
        for path, content in taken.files.items():
            archive.writestr(path, content)
    return packed.getvalue(), _ARCHIVE
