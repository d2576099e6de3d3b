"""Matrices that an analysis reads again and again, brought up to date instead of worked out anew."""

from operator import is_

from greyheron.analysis.reach.axis import Axis, axis_of
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
        self._axes: dict[ReachQuestion, tuple[tuple[object, ...], Axis]] = {}

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
        axis, engine = self._axis(world, network, question), engines(world)
        known = self._found.get(question, like)
        if known is not None and known.axis == axis and known.fits(engine):
            found = known.again(world, engine)
        else:
            self._found.pop(question, None)  # the two together may be large
            found = Reach(world, engine, axis, question, progress)
        self._found[question] = found
        return found

    def _axis(self, world: World, network: Network, question: ReachQuestion) -> Axis:
        """Its devices and groups, which rest on who is there, and not on lists."""
        rests_on = world.topology, network.address_sets
        before, axis = self._axes.get(question, ((), None))
        if axis is None or not all(map(is_, before, rests_on)):
            axis = axis_of(world, network, question)
            self._axes[question] = rests_on, axis
        return axis
