"""Bundles: archives, folders and single files, all of them hostile."""

import bz2
import gzip
import io
import lzma
import tarfile
import zipfile
from collections.abc import Callable
from pathlib import Path
from random import Random
from typing import Literal

import pytest
import zstandard

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


PACKED: dict[str, Callable[[bytes], bytes]] = {
    "gz": gzip.compress,
    "xz": lzma.compress,
    "zst": zstandard.compress,
    "bz2": bz2.compress,
}


@pytest.mark.parametrize("suffix", PACKED)
def test_compressed_files_are_opened_alone_and_among_others(suffix: str) -> None:
    text = b"1 2 3\n" * 5000
    packed = PACKED[suffix](text)
    assert bundle_of(f"a.pcap.{suffix}", packed).files == {"a.pcap": text}
    assert bundle_of(f"a.{suffix}", packed + packed).files == {"a": text + text}
    among = bundle_of("all.zip", zipped((f"in/a.{suffix}", packed), ("b", b"2")))
    assert among.files == {"in/a": text, "b": b"2"}
    cut = bundle_of(f"a.pcap.{suffix}", PACKED[suffix](Random(1).randbytes(2_000_000))[:-50])
    assert cut.cut == {"a.pcap"}
    tar = bundle_of(f"x.tar.{suffix}", PACKED[suffix](tarred("w:", *FILES)))
    assert tar.files == dict(FILES)
    with pytest.raises(DocumentError, match="it is compressed, and breaks off"):
        bring(cut)


@pytest.mark.parametrize("suffix", PACKED)
def test_what_compressed_files_grow_to_is_bounded(suffix: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(bundle, "LARGEST", 1 << 16)
    with pytest.raises(DocumentError, match="holds more than"):
        bundle_of("x", PACKED[suffix](b"\0" * 30_000_000))


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
