"""What is one of a closed set is known wherever all must be: a new one is an error there, not silence."""

import ast
import re
from pathlib import Path
from typing import Any, get_args

import pytest
from msgspec import Struct

from greyheron.analysis.presentation.steps import step_words
from greyheron.core.bulk.tracer import OUTCOMES
from greyheron.core.walk.icmp_errors import ICMP_ERRORS, Seen
from greyheron.core.walk.steps import Outcome, Step
from greyheron.core.walk.verdicts import VERDICTS
from greyheron.model.changes import ITEM_TYPES
from greyheron.model.device import Device
from greyheron.model.document import Network
from greyheron.model.item import Item
from greyheron.model.settings import SETTING_FIELDS
from greyheron.model.traits import TRAITS, Traits
from greyheron.model.values import DenialAnswer, DeviceKind, Family, Logged
from greyheron.rehearsal.rulebook import denying

SOURCES = Path(__file__).parents[2] / "src" / "greyheron"


class Dummy(Struct, frozen=True):
    """A step that nobody knows."""


def test_a_step_without_words_is_an_error() -> None:
    with pytest.raises(AssertionError):
        step_words(Dummy(), Family.IPV4)  # type: ignore[arg-type]


def test_every_step_has_its_own_words() -> None:
    named = set(re.findall(r"case (\w+)\(", (SOURCES / "analysis/presentation/steps.py").read_text()))
    assert {step.__name__ for step in get_args(Step)} <= named


def test_every_outcome_has_a_verdict_and_a_number() -> None:
    assert set(VERDICTS) == set(Outcome) == set(OUTCOMES)


def test_every_icmp_answer_has_its_numbers_in_both_families() -> None:
    assert set(ICMP_ERRORS) == set(Seen) - {Seen.REPLY, Seen.RESET, Seen.NOTHING}
    assert all(set(numbers) == set(Family) for numbers in ICMP_ERRORS.values())


def test_every_kind_of_device_has_traits_and_every_trait_is_asked_for() -> None:
    assert set(TRAITS) == set(DeviceKind)
    asked = {
        node.attr
        for file in SOURCES.rglob("*.py")
        if file.name != "traits.py"
        for node in ast.walk(ast.parse(file.read_text()))
        if isinstance(node, ast.Attribute)
    }
    assert [trait for trait in Traits.__struct_fields__ if trait not in asked] == []


def test_every_collection_of_a_document_can_be_changed() -> None:
    def holds_items(annotation: Any) -> bool:
        inner = get_args(annotation)[:1]
        return bool(inner) and isinstance(inner[0], type) and issubclass(inner[0], Item)

    collections = {name for name, field in Network.model_fields.items() if holds_items(field.annotation)}
    assert collections == set(ITEM_TYPES)
    assert len(collections) > 8


def test_every_answer_to_a_denial_can_be_said_to_a_kernel() -> None:
    assert len({repr(denying(answer)) for answer in DenialAnswer}) == len(DenialAnswer)


def test_every_kind_of_denial_without_an_entry_is_found_in_a_step() -> None:
    sending = (SOURCES / "analysis/testing/sending.py").read_text()
    assert [each for each in Logged if f"Logged.{each.name}" not in sending] == []


def test_every_setting_is_kept_in_a_field_of_devices() -> None:
    assert set(Device.model_fields) >= SETTING_FIELDS
