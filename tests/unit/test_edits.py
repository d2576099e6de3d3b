"""An edited network answers as a fresh one does, whatever is kept from the draft before."""

import pytest

from tests.edits import disagreeing


@pytest.mark.parametrize("seed", range(6))
def test_what_is_kept_answers_as_what_is_worked_out_afresh(seed: int) -> None:
    assert list(disagreeing(seed, edits=4)) == []
