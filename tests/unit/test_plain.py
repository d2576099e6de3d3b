"""What workers elsewhere answer: plain data, read by what was asked for, and nothing else."""

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
from greyheron.compute.questions.advice import AdviceQuestion
from greyheron.compute.questions.all_holding import AllHoldingQuestion
from greyheron.compute.questions.book import BookQuestion
from greyheron.compute.questions.findings import FindingsQuestion
from greyheron.compute.questions.packets import PacketsQuestion
from greyheron.compute.questions.policy import PolicyQuestion, ProofsQuestion
from greyheron.compute.questions.question import Question
from greyheron.compute.questions.reach import MatrixQuestion, ReachChangeQuestion
from greyheron.compute.questions.tidy import TidyQuestion
from greyheron.compute.questions.traffic import TrafficQuestion
from greyheron.core.progress import Cancelled
from greyheron.core.walk.addressing import FlowError
from greyheron.demo.networks import saltmarsh, storm
from greyheron.model.problems import DocumentError, Problem
from greyheron.model.values import Family

BOTH = RunningAndDraft(saltmarsh(), storm())
QUESTIONS: tuple[Question[Any], ...] = (
    BookQuestion(),
    PolicyQuestion(),
    ProofsQuestion(),
    FindingsQuestion(),
    AdviceQuestion(statement=BOTH.draft.requirements[0].statement),
    ReachChangeQuestion(),
    TidyQuestion(),
    PacketsQuestion(),
    AllHoldingQuestion(),
)
KINDS = (*map(type, QUESTIONS), MatrixQuestion, TrafficQuestion)


@pytest.fixture(scope="module")
def state() -> DerivedState:
    return DerivedState()


@pytest.mark.long
@pytest.mark.parametrize("question", QUESTIONS, ids=lambda question: type(question).__name__)
def test_an_answer_comes_as_it_was(question: Question[Any], state: DerivedState) -> None:
    answer = state.ask(question, BOTH)
    assert answer
    assert result_of(type(question), packed_result(answer)) == answer


def test_a_matrix_comes_as_it_was(state: DerivedState) -> None:
    found = state.ask(MatrixQuestion(asked=ReachQuestion(("services", "ping"), Family.IPV4)), BOTH)
    back = result_of(MatrixQuestion, packed_result(found))
    assert (back.axis, back.running_axis) == (found.axis, found.running_axis)
    for mine, its in ((back.running, found.running), (back.draft, found.draft)):
        assert mine.dtype == its.dtype
        assert np.array_equal(mine, its)
        mine[0, 0] = 1  # what is worked with later may be written to


def test_what_is_found_on_the_way_comes_as_it_was(state: DerivedState) -> None:
    found = state.ask(FindingsQuestion(), BOTH)
    assert tuple(findings_of(FindingsQuestion, packed_findings(found))) == found


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


def test_these_are_all_questions() -> None:
    assert set(KINDS) == set(Question.__subclasses__())


@pytest.mark.parametrize("kind", KINDS)
@given(data=some.binary(max_size=60))
def test_whatever_else_comes_is_no_answer(kind: type[Question[Any]], data: bytes) -> None:
    for read in (result_of, findings_of):
        try:
            found = read(kind, data)
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
        result_of(TrafficQuestion, msgspec.msgpack.encode([said]))
