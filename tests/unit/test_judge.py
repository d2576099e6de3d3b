"""Expectations (§8): what holds, what fails and what proves nothing."""

import pytest

from greyheron.analysis.testing.judge import judge
from greyheron.core.walk.verdicts import Verdict
from greyheron.model.values import Expectation

CASES = [
    ("pass", "passes", "passes", "holds", ""),
    ("pass", "blocked", "passes", "fails", ""),
    ("pass", "unreachable", "unreachable", "fails", "No list is to blame"),
    ("pass", "refused", "refused", "fails", "No list is to blame"),
    ("pass", "blocked", "refused", "fails", "two causes"),
    ("pass", "blocked", "blocked", "fails", "a list would have to let it through"),
    ("pass", "mixed", "passes", "fails", ""),
    ("block", "blocked", "passes", "holds", ""),
    ("block", "blocked", "mixed", "holds", ""),
    ("block", "passes", "passes", "fails", ""),
    ("block", "mixed", "passes", "fails", ""),
    ("block", "unreachable", "unreachable", "inconclusive", "would have failed anyway"),
    ("block", "refused", "refused", "fails", "nobody listens there today"),
    ("block", "refused", "passes", "fails", "nobody listens there today"),
    ("block", "blocked", "unreachable", "inconclusive", "would have failed anyway"),
    ("block", "blocked", "refused", "holds", ""),
    ("block", "unreachable", "passes", "inconclusive", "no list did that"),
]


@pytest.mark.parametrize(("expect", "verdict", "baseline", "standing", "reason"), CASES)
def test_judge(expect: str, verdict: str, baseline: str, standing: str, reason: str) -> None:
    found = judge(Expectation(expect), Verdict(verdict), Verdict(baseline))
    assert found.standing == standing
    assert reason in found.reason
    assert bool(found.reason) == bool(reason)
