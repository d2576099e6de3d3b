"""Writes to a draft, revisions, and how they are told to whoever made them."""

from collections.abc import Sequence
from typing import Annotated, Any

from fastapi import APIRouter, Depends, Header, Path, Response

from greyheron.model.changes import Change
from greyheron.model.intents import AnyIntent
from greyheron.server.dependencies import PROBLEMS, Author, Store, Version
from greyheron.server.schemas import ApplyNote, Edit, NetworkPatch, OpenNetwork, RevisionItem
from greyheron.store.errors import VersionConflict
from greyheron.store.stored import Stored

router = APIRouter(prefix="/api", responses=PROBLEMS)


def opened(stored: Stored, status: int = 200, made: Sequence[Change] = ()) -> Response:
    """A network as it stands, written in one go: large ones would take long otherwise."""
    headers = {"ETag": f'"{stored.version}"', "Cache-Control": "no-cache"}
    written = OpenNetwork.of(stored, made).model_dump_json(by_alias=True)
    return Response(written, status, headers, media_type="application/json")


class _DraftWrite:
    """A write to a draft: the network as it was, and how its answer goes out.

    A client that says `Prefer: return=minimal` (RFC 7240) is told what differs only.
    """

    def __init__(
        self,
        network_id: str,
        store: Store,
        version: Version,
        prefer: Annotated[str | None, Header(max_length=200)] = None,
    ) -> None:
        self.before, self.version = store.get(network_id), version
        self._minimal = "return=minimal" in (prefer or "").replace(" ", "").lower()

    def answer(self, after: Stored, made: Sequence[Change] = ()) -> Response:
        based = self.before.version == self.version
        patch = NetworkPatch.of(self.before, after, made) if self._minimal and based else None
        if patch is None:
            return opened(after, made=made)
        headers = {"ETag": f'"{after.version}"', "Preference-Applied": "return=minimal"}
        return Response(patch.model_dump_json(by_alias=True), 200, headers, media_type="application/json")


Write = Annotated[_DraftWrite, Depends()]
_WRITTEN: Any = OpenNetwork | NetworkPatch


@router.post("/networks/{network_id}/draft/edits", response_model=_WRITTEN)
def edit_draft(network_id: str, edit: Edit, store: Store, writing: Write, author: Author) -> Response:
    """Make changes to the draft, all or none."""
    return writing.answer(store.edit(network_id, writing.version, edit.label, edit.changes, author))


@router.post("/networks/{network_id}/draft/intents", response_model=_WRITTEN)
def carry_out(network_id: str, intent: AnyIntent, store: Store, writing: Write, author: Author) -> Response:
    """Do what is wanted to the draft; what it took is worked out here, and told as `made`."""
    if writing.before.version != writing.version:
        raise VersionConflict(writing.version, writing.before.version)
    draft, made = writing.before.draft, intent.changes(writing.before.draft)
    after = store.edit(network_id, writing.version, intent.called(draft)[:200], made, author)
    return writing.answer(after, made)


@router.post("/networks/{network_id}/draft/undo", response_model=_WRITTEN)
def undo(network_id: str, store: Store, writing: Write, author: Author) -> Response:
    """Take the last edit back."""
    return writing.answer(store.undo(network_id, writing.version, author))


@router.post("/networks/{network_id}/draft/redo", response_model=_WRITTEN)
def redo(network_id: str, store: Store, writing: Write, author: Author) -> Response:
    """Make the edit again that was undone last."""
    return writing.answer(store.redo(network_id, writing.version, author))


@router.post("/networks/{network_id}/draft/discard", response_model=_WRITTEN)
def discard(network_id: str, store: Store, writing: Write, author: Author) -> Response:
    """Make the draft what is running; it can be undone."""
    return writing.answer(store.discard(network_id, writing.version, author))


@router.post("/networks/{network_id}/draft/apply", response_model=_WRITTEN)
def apply_draft(network_id: str, note: ApplyNote, store: Store, writing: Write, author: Author) -> Response:
    """Put the draft in force and keep a revision."""
    return writing.answer(store.apply(network_id, writing.version, note.note, author))


@router.get("/networks/{network_id}/revisions")
def revisions(network_id: str, store: Store) -> list[RevisionItem]:
    """Every state that was in force, newest first."""
    return [RevisionItem.of(revision) for revision in store.revisions(network_id)]


@router.post("/networks/{network_id}/revisions/{number}/restore", response_model=_WRITTEN)
def restore(
    network_id: str,
    number: Annotated[int, Path(ge=1, le=2**31)],
    store: Store,
    writing: Write,
    author: Author,
) -> Response:
    """Make the draft what a revision was; it can be undone."""
    return writing.answer(store.restore(network_id, writing.version, number, author))
