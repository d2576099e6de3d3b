"""Bundles: archives, folders and single files, all of them hostile."""

import io
import tarfile
import zipfile
from pathlib import Path
from typing import Literal

import pytest

from greyheron.formats import bundle
from greyheron.formats.bundle import bundle_in, bundle_of
from greyheron.formats.known import bring
from greyheron.model.problems import DocumentError


def zipped(*files: tuple[str, bytes]) -> bytes:
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in files:
            archive.writestr(name, content)
    return made.getvalue()


def tarred(mode: Literal["w:", "w:gz"], *files: tuple[str, bytes]) -> bytes:
    made = io.BytesIO()
    with tarfile.open(fileobj=made, mode=mode) as archive:
        for name, content in files:
            entry = tarfile.TarInfo(name)
            entry.size = len(content)
            archive.addfile(entry, io.BytesIO(content))
        link = tarfile.TarInfo("link")
        link.type, link.linkname = tarfile.SYMTYPE, "/etc/passwd"
        archive.addfile(link)
    return made.getvalue()


FILES = (("a/one.json", b"1"), ("b.json", b"2"))


@pytest.mark.parametrize(
    "content",
    [zipped(*FILES), tarred("w:", *FILES), tarred("w:gz", *FILES)],
    ids=["zip", "tar", "gzip"],  # they hold the time, which differs from one process to the next
)
def test_archives_are_opened(content: bytes) -> None:
    assert bundle_of("x.zip", content).files == dict(FILES)


def test_folders_are_read_without_what_they_only_point_to(tmp_path: Path) -> None:
    for name, content in FILES:
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_bytes(content)
    (tmp_path / "link").symlink_to("/etc/passwd")
    assert bundle_in(tmp_path).files == dict(FILES)
    assert bundle_in(tmp_path / "b.json").only == ("b.json", b"2")


@pytest.mark.parametrize(
    ("content", "why"),
    [
        (zipped(("../one.json", b"1")), "leads out of the bundle"),
        (zipped(("/one.json", b"1")), "leads out of the bundle"),
        (zipped(("a\\..\\..\\one.json", b"1")), "leads out of the bundle"),
        (tarred("w:gz", ("../../one", b"1")), "leads out of the bundle"),
        (zipped(("one", b"1"), ("./one", b"2")), "is in it twice"),
        (zipped(("one", b"0" * 5000)), "holds more than"),
        (tarred("w:gz", ("one", b"0" * 5000)), "holds more than"),
        (zipped(*((f"{number}", b"") for number in range(40))), "more than 30 files"),
        (zipped(*FILES)[:-30], "neither"),
        (tarred("w:gz", *FILES)[:40], "cannot be opened"),
        (b"\x1f\x8bnothing", "cannot be opened"),
        (b"x" * 5000, "larger than"),
    ],
    ids=range(12),
)
def test_tricks_and_ruins_are_refused(content: bytes, why: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(bundle, "LARGEST", 4096)
    monkeypatch.setattr(bundle, "MOST_FILES", 30)
    with pytest.raises(DocumentError, match=why):
        bring(bundle_of("it", content))


def test_an_archive_that_lies_about_its_sizes_is_bounded(monkeypatch: pytest.MonkeyPatch) -> None:
    """A million zeros pack into a kilobyte; what the archive says of its size is not believed."""
    monkeypatch.setattr(bundle, "LARGEST", 1 << 16)
    content = bytearray(zipped(("one", b"\0" * 1_000_000)))
    for at in range(len(content) - 4):
        if content[at : at + 4] == (1_000_000).to_bytes(4, "little"):
            content[at : at + 4] = (10).to_bytes(4, "little")
    with pytest.raises(DocumentError):
        bundle_of("it", bytes(content))
