"""Networks with very many equal ways: seconds and peak memory of a proof about all hosts.

python bench/shapes.py [SHAPE ...]   each shape in a process of its own, with 12 GiB at most
"""

import resource
import sys
import time
from collections.abc import Callable
from functools import partial
from multiprocessing import get_context
from multiprocessing.connection import Connection

from rich.console import Console
from rich.table import Table
from tests.equal_ways import Shape, chain, grid, ladder, layers, mesh

from greyheron.analysis.proof.prover import Prover
from greyheron.core.bulk.engines import engines
from greyheron.core.world import build_world
from greyheron.model.notation.requirements import read_requirement

GIB = 1 << 30
MOST = 12 * GIB
SHAPES: dict[str, Callable[[], Shape]] = {
    "chain-8": partial(chain, 8),
    "chain-25": partial(chain, 25),
    "chain-6-by-16": partial(chain, 6, 16),
    "ladder-20": partial(ladder, 20),
    "grid-6": partial(grid, 6),
    "mesh-16": partial(mesh, 16),
    "rows-4-of-6": partial(layers, 6, 4),
}


def proved(shape: str, told: Connection) -> None:
    """Prove in this process, and tell the answer, the seconds and the peak of memory in MiB."""
    resource.setrlimit(resource.RLIMIT_AS, (MOST, MOST))
    network = SHAPES[shape]().network()
    begun = time.perf_counter()
    try:
        world = build_world(network)
        statement = read_requirement("allow any → any any")
        answer = Prover(engines()).prove(statement, world, network).proof.answer.value
    except MemoryError:
        answer = "no memory"
    taken = time.perf_counter() - begun
    told.send((answer, taken, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024))


def main() -> None:
    table = Table("shape", "answer", "seconds", "MiB")
    for shape in sys.argv[1:] or SHAPES:
        context = get_context("spawn")
        mine, its = context.Pipe()
        process = context.Process(target=proved, args=(shape, its))
        process.start()
        its.close()
        try:
            answer, taken, peak = mine.recv()
            table.add_row(shape, answer, f"{taken:.1f}", f"{peak:.0f}")
        except EOFError:
            table.add_row(shape, "ended by the system", "", "")
        process.join()
    Console().print(table)


if __name__ == "__main__":
    main()
