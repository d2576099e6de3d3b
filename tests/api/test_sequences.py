"""A server that is killed, moved, restored and without room: what it acknowledged is there afterwards."""

from pathlib import Path
from random import Random

import pytest

from tests.keeping import Sequence


@pytest.mark.long
@pytest.mark.parametrize("seed", [1, 2])
def test_what_was_acknowledged_is_there(seed: int, tmp_path: Path) -> None:
    sequence = Sequence(Random(seed), tmp_path)
    sequence.run(6)
    assert sequence.done.total() == 6
