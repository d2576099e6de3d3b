"""The documents that ship: pictures that exist, examples that can be read."""

import re
from pathlib import Path

from greyheron.formats.workspace import read_workspace

ROOT = Path(__file__).parents[2]


def test_every_link_of_the_readme_leads_somewhere() -> None:
    links = re.findall(r"\]\(([^)#]+)\)", (ROOT / "README.md").read_text())
    assert len(links) >= 10
    assert [link for link in links if not (ROOT / link).is_file()] == []


def test_every_main_view_has_a_picture_that_the_readme_shows() -> None:
    shots = sorted(file.name for file in (ROOT / "docs" / "screenshots").iterdir())
    shown = sorted(re.findall(r"docs/screenshots/([a-z-]+\.png)", (ROOT / "README.md").read_text()))
    assert shots == shown
    assert 5 <= len(shots) < 20
    assert all((ROOT / "docs" / "screenshots" / shot).read_bytes().startswith(b"\x89PNG") for shot in shots)


def test_the_example_of_the_file_format_can_be_read() -> None:
    example = re.search(r"```yaml\n(.*?)```", (ROOT / "docs" / "file-format.md").read_text(), re.DOTALL)
    assert example is not None
    assert read_workspace(example[1]).name == "Two rooms"
