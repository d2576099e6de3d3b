"""Names that cannot be asked for: a list stops the query, and what would follow it gets through (§13)."""

from collections.abc import Iterator

from msgspec.structs import replace

from greyheron.analysis.findings.finding import Finding, SearchGround, Severity
from greyheron.analysis.findings.repairs import letting_through
from greyheron.analysis.presentation.steps import ending_words
from greyheron.core.walk.addressing import FlowError
from greyheron.core.walk.conversation import converse
from greyheron.core.walk.dns import is_name, known_addresses
from greyheron.core.walk.verdicts import Query, Verdict
from greyheron.model.flow import FlowEnd
from greyheron.model.notation.flows import write_expected_flow, write_flow


def stopped_queries(ground: SearchGround) -> Iterator[Finding]:
    """Test flows to a name whose query is blocked by a list, while the conversation itself is let through."""
    for test in ground.network.tests:
        flow = test.flow.flow
        if not is_name(ground.world.topology, flow.destination):
            continue
        try:
            resolution = converse(ground.world, flow).resolution
        except FlowError:
            continue
        if resolution is None or resolution.address is not None:
            continue
        blocked = next((each for each in resolution.queries if each.result.verdict is Verdict.BLOCKED), None)
        address = next(known_addresses(ground.world.topology, resolution.name, resolution.family), None)
        if blocked is None or address is None or not _by_a_list(blocked):
            continue
        direct = replace(
            flow, destination=FlowEnd(None, resolution.family.text(address)), family=resolution.family
        )
        if converse(ground.world, direct).verdict is not Verdict.PASSES:
            continue
        exchange = next(each for each in blocked.result.exchanges if each.verdict is Verdict.BLOCKED)
        denial = exchange.decider.path.denial
        assert denial is not None
        asked = blocked.resolver.family.text(blocked.resolver.address)
        yield Finding(
            "query for a name blocked",
            Severity.WARNING,
            f"{test.id} {denial.list_name}",
            f"{denial.list_name} {denial.point} stops the query for {resolution.name} to {asked}: "
            f"{write_expected_flow(test.flow)} would get through, but never starts.",
            (f"the query is {ending_words(exchange)}", f"{write_flow(direct)}: passes"),
            (denial.point.device,),
            (denial.list_name,),
            write_flow(flow),
            letting_through(
                ground.network, denial, [f"permit udp from any to {asked} port domain"], "questions for names"
            ),
        )


def _by_a_list(query: Query) -> bool:
    return any(each.decider.path.denial is not None for each in query.result.exchanges)
