"""The cheapest choice that covers all needs: a covering problem, given to HiGHS (integer programming)."""

from collections.abc import Iterable, Mapping
from typing import TypeVar

import numpy as np

Use = TypeVar("Use")
Site = TypeVar("Site")


def cheapest_cover(
    needs: Iterable[frozenset[Use]],
    costs: Mapping[Use, float],
    sites: Mapping[Use, Site],
    site_costs: Mapping[Site, float],
) -> frozenset[Use] | None:
    """The uses that have one of each need, at the least cost in all; None where there are none.

    needs:  of each some use must be taken: those without a cost cannot be
    sites:  where each use is: a site is paid once, whatever is taken there
    """
    wanted = [[use for use in need if use in costs] for need in dict.fromkeys(needs)]
    if not all(wanted):
        return None
    if not wanted:
        return frozenset()
    from scipy.optimize import Bounds, LinearConstraint, milp  # takes half a second: who asks waits
    from scipy.sparse import coo_array

    used = sorted({use for need in wanted for use in need}, key=repr)  # the same answer every time
    paid = sorted({sites[use] for use in used}, key=repr)
    column = {use: index for index, use in enumerate(used)}
    column_of_site = {site: len(used) + index for index, site in enumerate(paid)}
    rows = [[(column[use], 1.0) for use in need] for need in wanted]
    rows += [[(column_of_site[sites[use]], 1.0), (column[use], -1.0)] for use in used]
    entries = [(row, at, value) for row, cells in enumerate(rows) for at, value in cells]
    row, at, value = (np.array(each) for each in zip(*entries, strict=True))
    width = len(used) + len(paid)
    least = np.array([1.0] * len(wanted) + [0.0] * len(used))
    found = milp(
        np.array([costs[use] for use in used] + [site_costs[site] for site in paid]),
        integrality=np.ones(width),
        bounds=Bounds(0, 1),
        constraints=LinearConstraint(coo_array((value, (row, at)), shape=(len(rows), width)).tocsr(), least),
    )
    if found.x is None:
        return None
    return frozenset(use for use in used if found.x[column[use]] > 0.5)
