"""What workers elsewhere answer: plain data, read by what was asked for, and nothing else."""

from collections.abc import Callable
from typing import Any

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as some

from greyheron.analysis.reach.question import ReachQuestion
from greyheron.compute.derived import DerivedState
from greyheron.compute.documents import RunningAndDraft
from greyheron.compute.plain import (
    NotPlain,
    WentWrong,
    error_of,
    findings_of,
    packed_findings,
    packed_result,
    result_of,
)
from greyheron.core.progress import Cancelled, unwatched
from greyheron.core.walk.conversation import FlowError
from greyheron.demo.networks import saltmarsh, storm
from greyheron.model.problems import DocumentError, Problem
from greyheron.model.values import Family

BOTH = RunningAndDraft(saltmarsh(), storm())
RESULTS: dict[str, Callable[[DerivedState], Any]] = {
    "book": lambda state: state.book(BOTH, None),
    "policy": lambda state: state.policy(BOTH, None, unwatched),
    "proofs": lambda state: state.proofs(BOTH, "draft", None, unwatched),
    "findings": lambda state: state.findings(BOTH, None, unwatched),
    "advice": lambda state: state.advice(BOTH, BOTH.draft.requirements[0].statement, None, unwatched),
    "reach_change": lambda state: state.reach_change(BOTH, BOTH.running, None),
}


@pytest.fixture(scope="module")
def state() -> DerivedState:
    return DerivedState()


@pytest.mark.parametrize("method", RESULTS)
def test_a_result_comes_as_it_was(method: str, state: DerivedState) -> None:
    found = RESULTS[method](state)
    assert found
    assert result_of(method, packed_result(found)) == found


def test_a_matrix_comes_as_it_was(state: DerivedState) -> None:
    found = state.reach(BOTH, ReachQuestion(("services", "ping"), Family.IPV4), None, unwatched)
    back = result_of("reach", packed_result(found))
    assert (back.axis, back.running_axis) == (found.axis, found.running_axis)
    for mine, its in ((back.running, found.running), (back.draft, found.draft)):
        assert mine.dtype == its.dtype
        assert np.array_equal(mine, its)
        mine[0, 0] = 1  # what is worked with later may be written to


def test_what_is_found_on_the_way_comes_as_it_was(state: DerivedState) -> None:
    found = RESULTS["findings"](state)
    assert tuple(findings_of("findings", packed_findings(found))) == found


@pytest.mark.parametrize(
    "error",
    [Cancelled(), FlowError("there is no device “stilt”"), DocumentError([Problem("device r1", "odd")])],
    ids=lambda error: type(error).__name__,
)
def test_an_error_that_is_known_is_raised_as_it_was(error: Exception) -> None:
    back = error_of(packed_result(WentWrong.of(error)))
    assert type(back) is type(error)
    assert str(back) == str(error)


def test_an_error_that_is_not_known_is_words() -> None:
    back = error_of(packed_result(WentWrong.of(ZeroDivisionError("by nothing"))))
    assert (type(back), str(back)) == (RuntimeError, "ZeroDivisionError: by nothing")


@pytest.mark.parametrize("method", [*RESULTS, "reach", "traffic"])
@given(data=some.binary(max_size=60))
def test_whatever_else_comes_is_no_result(method: str, data: bytes) -> None:
    for read in (result_of, findings_of) if method in ("findings", "policy", "advice") else (result_of,):
        try:
            found = read(method, data)
        except NotPlain:
            continue
        assert packed_result(found) is not None


@pytest.mark.parametrize(
    ("written", "shape", "content"),
    [
        ("<i8", [2], b"\0" * 8),
        ("<i8", [-1], b""),
        ("<i8", [1 << 40], b"\0" * 8),
        ("|O", [1], b"\0" * 8),
        ("<f8", [1], b"\0" * 8),
    ],
)
def test_an_array_is_what_it_says(written: str, shape: list[int], content: bytes) -> None:
    said = {
        "verdict": (written, shape, content),
        "points": [],
        "names": [],
        "point": ("<i8", [0], b""),
        "entry": ("<i8", [0], b""),
    }
    with pytest.raises(NotPlain, match=r"an array of|Expected"):
        result_of("traffic", msgspec.msgpack.encode([said]))
