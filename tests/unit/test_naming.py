"""§13: records, resolvers, the query before the conversation, and what names mean in requirements."""

import pytest

from greyheron.analysis.findings.finder import find_in_time
from greyheron.analysis.findings.finding_cache import KeptFindings
from greyheron.analysis.network.completion import complete_flow
from greyheron.analysis.proof.answers import Answer
from greyheron.analysis.proof.prover import Prover
from greyheron.analysis.testing.book import points_met
from greyheron.analysis.testing.sending import sending_of
from greyheron.core.bulk.engines import engines
from greyheron.core.timeline import Timeline
from greyheron.core.walk.addressing import FlowError
from greyheron.core.walk.conversation import converse
from greyheron.core.world import build_world
from greyheron.model.notation.flows import read_bare_flow
from greyheron.model.notation.requirements import read_requirement
from greyheron.model.parts import lines_of, with_part
from greyheron.model.problems import DocumentError
from tests.cases import Case, all_of, check, traced
from tests.lab import Lab

PAGE = "page.lab.example"


def named(lab: Lab) -> Lab:
    """left asks right, then spare; right knows where the page is: at itself, and at mate's over IPv6."""
    lab.device("left")["resolvers"] = ["172.20.3.10"]
    lab.device("right")["records"] = [
        {"name": PAGE, "addresses": ["172.20.3.10"]},
        {"name": "six.lab.example", "addresses": ["2001:db8::7"]},
    ]
    return lab


def second(lab: Lab) -> None:
    """spare answers too, and differently."""
    lab.device("left")["resolvers"] = ["172.20.3.10", "172.20.3.11"]
    lab.device("spare")["services"] = [{"name": "names", "protocol": "udp", "port": 53}]
    lab.device("spare")["records"] = [{"name": PAGE, "addresses": ["172.20.1.11"]}]


CASES = {
    "a name is asked for, and then the conversation is begun": Case(
        f"left → {PAGE} tcp/443", "passes", sees="reply from 172.20.3.10"
    ),
    "capitals do not count": Case("left → Page.Lab.Example tcp/443", "passes"),
    "a name that nobody knows": Case(
        "left → other.lab.example tcp/443",
        "unreachable",
        "the name other.lab.example was not resolved, because 172.20.3.10 knows no such name",
    ),
    "none in that family": Case(
        f"left → {PAGE} tcp/443 ipv6", "unreachable", "172.20.3.10 has no IPv6 address for it"
    ),
    "a query that a list stops": Case(
        f"left → {PAGE} tcp/443",
        "blocked",
        "because the query to 172.20.3.10 is blocked entering r2 by wan0: list denies, entry 10",
        lambda lab: lab.place("r2 wan0 in", "deny udp to any port domain\npermit any"),
        sees="administratively prohibited",
    ),
    "one whose answer is stopped": Case(
        f"left → {PAGE} tcp/443",
        "blocked",
        "the query to 172.20.3.10 is blocked on the way home",
        lambda lab: lab.place("r2 wan1 in", "deny udp from any port domain\npermit any"),
    ),
    "one that nobody listens to": Case(
        f"left → {PAGE} tcp/443",
        "refused",
        "the query to 172.20.3.11 is refused by spare",
        lambda lab: lab.device("left").update(resolvers=["172.20.3.11"]),
    ),
    "the next one is asked then": Case(
        f"left → {PAGE} web",
        "passes",
        change=all_of(second, lambda lab: lab.place("r2 wan0 in", "deny udp to 172.20.3.10\npermit any")),
        sees="reply from 172.20.1.11",
    ),
    "and not where the first one answers that there is none": Case(
        f"left → {PAGE} web",
        "unreachable",
        "172.20.3.10 knows no such name",
        all_of(second, lambda lab: lab.device("right").update(records=[])),
    ),
    "what follows can be blocked by itself": Case(
        f"left → {PAGE} tcp/443",
        "blocked",
        "blocked entering r2 by wan0: list denies, entry 10",
        lambda lab: lab.place("r2 wan0 in", "deny tcp\npermit any"),
    ),
}


@pytest.mark.parametrize("case", CASES.values(), ids=CASES.keys())
def test_naming(case: Case) -> None:
    check(named(Lab()), case)


def test_who_has_no_resolver_cannot_ask() -> None:
    with pytest.raises(FlowError, match="mate has no resolver: it cannot ask for page"):
        converse(build_world(named(Lab()).network()), read_bare_flow(f"mate → {PAGE} tcp/443"))


def test_a_device_with_a_dot_in_its_name_is_a_device() -> None:
    lab = named(Lab())
    lab.device("mate")["name"] = "mate.lab"
    lab.data["links"][1]["ends"] = ["mate.lab:eth0", "sw:p2"]
    assert traced(lab, "left → mate.lab web").verdict == "passes"


def test_the_query_is_part_of_the_trace_the_counters_and_what_is_met() -> None:
    lab = named(Lab()).place("r2 wan0 in", "permit udp log\npermit any")
    found = traced(lab, f"left → {PAGE} tcp/443")
    (query,) = found.queries
    assert (query.name, query.resolver, query.verdict) == (PAGE, "172.20.3.10", "passes")
    assert query.exchange.out.hops[0].steps[0].text == "sends udp/53 to 172.20.3.10"
    assert found.exchanges[0].out.hops[0].steps[0].text == "sends tcp/443 SYN to 172.20.3.10"
    world = build_world(lab.network())
    result = converse(world, read_bare_flow(f"left → {PAGE} tcp/443"))
    sent = sending_of(result, 1, world.topology.devices)
    counts = {place.entry: count for place, count in sent.counts.items()}
    assert counts == {10: 1, 20: 2}
    assert ("r2", "wan0") in {(point.device, point.at) for point in points_met(result)}


@pytest.mark.parametrize(
    ("text", "entries", "answer"),
    [
        (f"allow left → {PAGE} tcp/443 ipv4", "permit any", Answer.PROVED),
        (f"allow left → {PAGE} tcp/443 ipv4", "deny tcp\npermit any", Answer.VIOLATED),
        (f"block left → {PAGE} tcp/443 ipv4", "deny tcp to 172.20.3.10\npermit any", Answer.PROVED),
    ],
)
def test_a_requirement_speaks_of_what_the_records_say(text: str, entries: str, answer: Answer) -> None:
    network = named(Lab()).place("r2 wan0 in", entries).network()
    proof = Prover(engines()).prove(read_requirement(text), build_world(network), network).proof
    assert proof.answer is answer


def test_a_requirement_about_a_name_that_nobody_knows_is_a_problem() -> None:
    lab = named(Lab())
    lab.data["requirements"] = [{"id": "r1", "statement": "allow left → pages.lab.example tcp/443"}]
    with pytest.raises(DocumentError, match=r"pages\.lab\.example"):
        lab.network()


def test_a_list_that_stops_the_query_only_is_found() -> None:
    def kinds(entries: str) -> list[str]:
        lab = named(Lab()).place("r2 wan0 in", entries)
        lab.data["tests"] = [{"id": "t1", "flow": f"left → {PAGE} tcp/443 pass"}]
        found = find_in_time(Timeline.build(lab.network()), engines(), KeptFindings())
        return [each.text for each in found if each.kind == "query for a name blocked"]

    (text,) = kinds("deny udp to any port domain\npermit any")
    assert text == (
        "list entering r2 by wan0 stops the query for page.lab.example to 172.20.3.10: "
        "left → page.lab.example tcp/443 pass would get through, but never starts."
    )
    assert kinds("deny udp to any port domain\ndeny tcp\npermit any") == []
    assert kinds("permit any") == []


def test_records_are_for_who_runs_the_domain_service() -> None:
    lab = Lab()
    lab.device("left")["records"] = [{"name": PAGE, "addresses": ["172.20.3.10"]}]
    with pytest.raises(DocumentError, match="does not run the domain service"):
        lab.network()


def test_records_and_resolvers_are_parts_that_can_be_typed() -> None:
    device = next(each for each in named(Lab()).network().devices if each.name == "right")
    assert lines_of(device, "records") == (f"{PAGE} 172.20.3.10", "six.lab.example 2001:db8::7")
    more = with_part(device, "records", "new.lab.example 172.20.1.11 2001:db8::9", None)
    assert lines_of(more, "records")[-1] == "new.lab.example 172.20.1.11 2001:db8::9"
    asking = with_part(more, "resolvers", "172.20.3.10", None)
    assert lines_of(asking, "resolvers") == ("172.20.3.10",)


def test_names_are_offered_where_a_destination_stands() -> None:
    _, options = complete_flow("left → ", named(Lab()).network())
    assert PAGE in {option.text for option in options}
    _, options = complete_flow("lef", named(Lab()).network())
    assert PAGE not in {option.text for option in options}
