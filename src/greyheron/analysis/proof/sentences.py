"""Answers to requirements in sentences."""

from collections.abc import Iterator, Sequence

from greyheron.analysis.presentation.steps import joined
from greyheron.analysis.proof.answers import Answer, Proof, Violation
from greyheron.core.walk.verdicts import Verdict
from greyheron.model.notation.flows import write_flow
from greyheron.model.values import Expectation

MOST_DEVICES = 3
_REMAINS = {
    (Expectation.BLOCK, True): ("gets through", "get through"),
    (Expectation.BLOCK, False): ("can be reached", "can be reached"),
    (Expectation.PASS, True): ("does not get through", "do not get through"),
    (Expectation.PASS, False): ("cannot be reached", "cannot be reached"),
}


def remains(violations: Sequence[Violation]) -> str:
    """“centre-gw itself (172.20.16.1) gets through”: devices that do otherwise than hosts, if any."""
    clauses = []
    for (expect, sends), (one, several) in _REMAINS.items():
        addresses: dict[str, dict[str, None]] = {}
        for violation in violations:
            for box in violation.boxes if violation.expect is expect else ():
                sending = any(party.itself for party in box.sources)
                for party in (box.sources if sends else box.destinations) if sending is sends else ():
                    if party.itself:
                        own = addresses.setdefault(party.device, {})
                        own.update(dict.fromkeys(str(block) for block in party.region))
        named = [f"{device} itself ({', '.join(own)})" for device, own in addresses.items()]
        if len(named) > MOST_DEVICES:
            named = [*named[: MOST_DEVICES - 1], f"{len(named) - MOST_DEVICES + 1} more devices themselves"]
        if named:
            clauses.append(f"{joined(named)} {several if len(addresses) > 1 else one}")
    return ", and ".join(clauses)


def sentence(proof: Proof) -> str:
    """The answer, what remains, and what else is to be said."""
    return " ".join(filter(None, (_answer(proof), *_notes(proof))))


def _notes(proof: Proof) -> Iterator[str]:
    """What is to be said beside the answer."""
    if proof.answers is not None and proof.answer is Answer.PROVED:
        flow = write_flow(proof.answers.flow)
        yield f"Some of its packets arrive: of {flow} only the answer is stopped."
    if proof.offered:
        each = [f"{device} has {joined(list(has))}" for device, has in proof.offered[:MOST_DEVICES]]
        more = len(proof.offered) - MOST_DEVICES
        yield "; ".join(each) + f"; and {more} more devices" * (more > 0) + "."


def _answer(proof: Proof) -> str:
    left = remains(proof.remaining)
    if proof.answer is Answer.PROVED:
        return f"Proved for every host; {left}." if left else "Proved, for every packet it speaks of."
    if proof.answer is Answer.INCONCLUSIVE:
        return f"Inconclusive. {proof.reason}" + f" {left}." * bool(left)
    example = proof.counterexample
    assert example is not None
    if example.verdict is Verdict.REFUSED and example.expect is Expectation.BLOCK:
        goal = example.flow.destination
        what = f"reaches {goal.device or goal.at}, where nobody listens today, and should not"
    else:
        wanted = example.expect is Expectation.PASS
        what = "does not get through" if wanted else "gets through, and should not"
    ending = f": it is {example.verdict}" if example.expect is Expectation.PASS else ""
    more = " There are too many kinds of address to list all that violates it." if proof.kinds else ""
    return f"Violated. {write_flow(example.flow)} {what}{ending}.{more}"


def covered(proof: Proof) -> str:
    """What an answer covers."""
    met = f"meeting {', '.join(proof.lists)}" if proof.lists else "meeting no list"
    classes = (
        "1 class of packets stands" if proof.classes == 1 else f"{proof.classes:,} classes of packets stand"
    )
    ways = "1 way" if proof.paths == 1 else f"{proof.paths:,} different ways"
    return (
        f"{classes} for {_many(proof.conversations)} conversations, over {ways} through the network, {met}."
    )


def _many(count: int) -> str:
    """A number in digits, or as a power of ten where there would be too many."""
    if count < 10**9:
        return f"{count:,}"
    power = len(str(count)) - 1
    return f"{count / 10**power:.1f}·10^{power}"
