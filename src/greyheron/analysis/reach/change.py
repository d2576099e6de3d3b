"""Two matrices of one question, and how they differ."""

from dataclasses import dataclass

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from greyheron.analysis.reach.axis import Axis
from greyheron.analysis.reach.matrix import Cells
from greyheron.analysis.reach.question import ReachQuestion
from greyheron.core.bulk.engine import VERDICT_ORDER
from greyheron.core.walk.verdicts import Verdict
from greyheron.model.values import Family


class ReachFound(Struct, frozen=True):
    """A matrix as running and on the draft, whose devices may differ."""

    running_axis: Axis
    axis: Axis
    running: Cells
    draft: Cells

    def __or__(self, other: "ReachFound") -> "ReachFound":
        """Of two shares of one matrix."""
        return replace(self, running=self.running | other.running, draft=self.draft | other.draft)

    def running_on_draft_axis(self) -> Cells:
        """The running cells in the order of the draft's devices; 0 for those that are new."""
        index = {device: number for number, device in enumerate(self.running_axis.devices)}
        here = [number for number, device in enumerate(self.axis.devices) if device in index]
        there = [index[self.axis.devices[number]] for number in here]
        cells = np.zeros_like(self.draft)
        cells[np.ix_(here, here)] = self.running[np.ix_(there, there)]
        return cells


@dataclass(frozen=True, slots=True)
class ReachChange:
    """How many cells of a matrix change, and of those how many lose or gain what passes.

    families:  those looked at; each has a matrix of its own, and a cell of each counts
    """

    services: tuple[str, ...]
    families: tuple[Family, ...]
    changed: int
    lose: int
    gain: int

    def __add__(self, other: "ReachChange") -> "ReachChange":
        """Of two shares of one matrix, or of two matrices."""
        return ReachChange(
            self.services,
            tuple(each for each in Family if each in self.families + other.families),
            self.changed + other.changed,
            self.lose + other.lose,
            self.gain + other.gain,
        )


def change_of(question: ReachQuestion, before: Cells, after: Cells) -> ReachChange:
    passes = 1 << VERDICT_ORDER.index(Verdict.PASSES)
    changed = before != after
    whole = before == passes
    lose = changed & whole | changed & (before & passes > 0) & (after & passes == 0)
    gain = changed & (after == passes) | changed & (before & passes == 0) & (after & passes > 0)
    return ReachChange(
        question.services, (question.family,), int(changed.sum()), int(lose.sum()), int(gain.sum())
    )
