"""The documents that ship: pictures that exist, examples that can be read."""

import ast
import re
from collections import defaultdict
from collections.abc import Iterator
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


def test_every_section_that_is_cited_is_in_the_semantics() -> None:
    text = (ROOT / "docs" / "semantics.md").read_text()
    sections = re.findall(r"^## (\d+) ", text, re.MULTILINE)
    assert sections == [str(number) for number in range(1, 16)]
    here = Path(__file__)
    cited = {
        (str(file.relative_to(ROOT)), section)
        for folder in ("src", "tests", "scripts", "bench", "docs", "ui/src")
        for file in (ROOT / folder).rglob("*.*")
        if file.suffix in {".py", ".md", ".ts", ".tsx", ".yaml"} and file != here
        for section in re.findall(r"§(\d+)", file.read_text())
    }
    assert len(cited) > 60
    assert [each for each in sorted(cited) if each[1] not in sections] == []


def test_no_two_modules_of_a_layer_have_one_name() -> None:
    found = defaultdict(list)
    for file in sorted((ROOT / "src" / "greyheron").glob("*/**/*.py")):
        place = file.relative_to(ROOT / "src" / "greyheron")
        if file.stem != "__init__" and "migrations" not in place.parts:
            found[place.parts[0], file.stem].append(str(place))
    assert len(found) > 250
    assert [files for files in found.values() if len(files) > 1] == []


def test_every_module_that_the_docs_name_is_there() -> None:
    """By its path from a folder that has it, or by its name alone."""
    modules = ["/" + str(file.relative_to(ROOT)) for file in _python_files()]
    named = {
        (str(file.relative_to(ROOT)), module)
        for file in [*(ROOT / "docs").glob("*.md"), ROOT / "CONTRIBUTING.md", ROOT / "README.md"]
        for module in re.findall(r"[\w/]*\w\.py\b", file.read_text())
    }
    assert len(named) > 40
    assert [each for each in sorted(named) if not any(file.endswith(f"/{each[1]}") for file in modules)] == []


def _python_files() -> Iterator[Path]:
    for folder in ("src", "tests", "scripts", "bench"):
        yield from (ROOT / folder).rglob("*.py")


def test_a_type_name_means_one_thing() -> None:
    """A name of a class or a type alias is given in one module; the others import it."""
    found = defaultdict(list)
    for file in sorted((ROOT / "src").rglob("*.py")):
        tree = ast.parse(file.read_text())
        for name in _types(tree):
            found[name.strip("_")].append(str(file.relative_to(ROOT)))
    assert len(found) > 300
    assert {name: files for name, files in found.items() if len(files) > 1} == {}


def _types(tree: ast.Module) -> Iterator[str]:
    yield from (node.name for node in ast.walk(tree) if isinstance(node, ast.ClassDef))
    for node in tree.body:
        match node:
            case ast.Assign(targets=[ast.Name(name)]) if name.strip("_")[:1].isupper() and not name.isupper():
                yield name
