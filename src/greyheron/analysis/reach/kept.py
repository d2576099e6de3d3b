"""Matrices that an analysis reads again and again, brought up to date instead of worked out anew."""

from greyheron.analysis.reach.axis import axis_of
from greyheron.analysis.reach.matrix import Reach
from greyheron.analysis.reach.question import ReachQuestion
from greyheron.core.bulk.engines import Engines
from greyheron.core.progress import Progress, unwatched
from greyheron.core.world import World
from greyheron.model.document import Network


class KeptReaches:
    """The matrix of each question in the world that was asked about last."""

    def __init__(self) -> None:
        self._found: dict[ReachQuestion, Reach] = {}

    @property
    def nbytes(self) -> int:
        """About how much memory they take."""
        return sum(reach.nbytes for reach in list(self._found.values()))

    def of(
        self,
        world: World,
        network: Network,
        engines: Engines,
        question: ReachQuestion,
        progress: Progress = unwatched,
        like: Reach | None = None,
    ) -> Reach:
        """The matrix of a question in `world`: only what other lists may have changed is looked at again.

        like:  the same matrix in another world, to begin with.  Raises Cancelled.
        """
        axis, engine = axis_of(world, network, question), engines(world)
        known = self._found.get(question, like)
        if known is not None and known.axis == axis and known.fits(engine):
            found = known.again(world, engine)
        else:
            self._found.pop(question, None)  # the two together may be large
            found = Reach(world, engine, axis, question, progress)
        self._found[question] = found
        return found
