"""Whether a verdict is what a test flow expects (§8)."""

from dataclasses import dataclass
from enum import StrEnum

from greyheron.core.walk.verdicts import Verdict
from greyheron.model.values import Expectation


class Standing(StrEnum):
    HOLDS = "holds"
    FAILS = "fails"
    INCONCLUSIVE = "inconclusive"


@dataclass(frozen=True, slots=True)
class Judgement:
    """What came of an expectation. `reason` is one sentence, empty where the verdict says it all."""

    standing: Standing
    reason: str = ""


def judge(expect: Expectation, verdict: Verdict, baseline: Verdict, whole: bool = True) -> Judgement:
    """Compare `verdict` with what was expected, knowing what came of the flow with no lists.

    whole:  whether it is known what becomes of the flow on all its ways
    """
    found = _judged(expect, verdict, baseline)
    if whole or found.standing is not Standing.HOLDS:
        return found
    return Judgement(
        Standing.INCONCLUSIVE, "It has more equal ways than can be followed: this is so on those that were."
    )


def _judged(expect: Expectation, verdict: Verdict, baseline: Verdict) -> Judgement:
    if expect is Expectation.PASS:
        if verdict is Verdict.PASSES:
            return Judgement(Standing.HOLDS)
        return Judgement(Standing.FAILS, _blame(verdict, baseline))
    if verdict is Verdict.REFUSED:
        return Judgement(Standing.FAILS, "It arrives: nobody listens there today, and no list stops it.")
    if verdict in (Verdict.PASSES, Verdict.MIXED):
        return Judgement(Standing.FAILS)
    if baseline is Verdict.UNREACHABLE:
        return Judgement(
            Standing.INCONCLUSIVE,
            f"It proves nothing: with no lists it is {baseline}, so it would have failed anyway.",
        )
    if verdict is not Verdict.BLOCKED:
        return Judgement(Standing.INCONCLUSIVE, f"It proves nothing: it is {verdict}, and no list did that.")
    return Judgement(Standing.HOLDS)


def _blame(verdict: Verdict, baseline: Verdict) -> str:
    """What the baseline says of who is to blame for a flow that should pass."""
    if baseline is Verdict.PASSES:
        return ""
    if baseline is Verdict.BLOCKED:
        return "With no lists it is blocked too: a list would have to let it through."
    if verdict is Verdict.BLOCKED:
        return f"There are two causes: a list denies it, and with no lists it is {baseline}."
    return f"No list is to blame: with no lists it is {baseline} too."
