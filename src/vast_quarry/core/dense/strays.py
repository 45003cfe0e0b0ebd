"""Strays of a dense cloud: single points, and small clumps that hang together with nothing.

A point is single when few others lie within some spacings of it. What is left falls into pieces that hang together from cell to
cell; pieces much smaller than the largest go.

References
----------
Rusu, R., et al. (2008). Towards 3D point cloud based object maps for household environments. Robotics and Autonomous Systems
56(11) (statistical removal of outliers).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from vast_quarry.core.dense.fusion import Cloud

#: side of a cell in spacings of the points, and how many points it and its 26 neighbours hold at least for a point to stay:
#: a surface puts thirty or more there
CELL, COMPANY = 3.0, 8
#: share of the largest piece that a piece has to have, in cells
PIECE = 0.004


def piece_of_cells(cells: NDArray[np.int64]) -> NDArray[np.int64]:
    """Which piece each cell (N, 3) belongs to, of cells that touch, if only at a corner (N,)."""
    key, stride = cell_keys(cells)
    order = np.argsort(key, kind="stable")
    ranked = key[order]
    rows, columns = [], []
    for dx in (-1, 0, 1):
        for dy in (-1, 0, 1):
            for dz in (-1, 0, 1):
                step = dx * stride[0] + dy * stride[1] + dz
                if step <= 0:
                    continue  # each two once
                at = np.searchsorted(ranked, ranked + step).clip(0, len(key) - 1)
                near = ranked[at] == ranked + step
                rows.append(order[near])
                columns.append(order[at[near]])
    a, b = np.concatenate(rows), np.concatenate(columns)
    graph = coo_matrix((np.ones(len(a), np.int8), (a, b)), shape=(len(key), len(key)))
    return np.asarray(connected_components(graph, directed=False)[1])


def cell_keys(cells: NDArray[np.int64]) -> tuple[NDArray[np.int64], tuple[int, int]]:
    """One number for each cell, with a margin of one cell so that neighbours never wrap round."""
    low = cells.min(0) - 1
    span = cells.max(0) - low + 2
    stride = (int(span[1] * span[2]), int(span[2]))
    c = cells - low
    return c[:, 0] * stride[0] + c[:, 1] * stride[1] + c[:, 2], stride


def company(cells: NDArray[np.int64], count: NDArray[np.int64]) -> NDArray[np.int64]:
    """Points in each cell (N, 3) that holds ``count`` and in the 26 about it (N,)."""
    key, stride = cell_keys(cells)
    order = np.argsort(key, kind="stable")
    ranked, in_order = key[order], count[order]
    total = np.zeros(len(key), np.int64)
    for dx in (-1, 0, 1):
        for dy in (-1, 0, 1):
            for dz in (-1, 0, 1):
                other = ranked + dx * stride[0] + dy * stride[1] + dz
                at = np.searchsorted(ranked, other).clip(0, len(key) - 1)
                near = ranked[at] == other
                total[near] += in_order[at[near]]
    out = np.empty_like(total)
    out[order] = total
    return out


def lost_cells(cells: NDArray[np.int64], count: NDArray[np.int64], least: int, share: float) -> NDArray[np.bool_]:
    """Which cells (N, 3) that hold ``count`` points are thin of company or in a small piece (N,).

    Parameters
    ----------
    least : int
        Points that a cell and those about it hold at least.
    share : float
        Cells that a piece has at least, of those of the largest.
    """
    lost = company(cells, count) < least
    if not lost.all():
        kept = ~lost
        piece = piece_of_cells(cells[kept])
        size = np.bincount(piece)
        lost[kept] = (size < share * size.max())[piece]
    return lost


def stray(points: NDArray[np.float64], spacing: float) -> NDArray[np.bool_]:
    """Which points (N, 3) are strays of a cloud whose points lie about ``spacing`` apart."""
    out = np.zeros(len(points), bool)
    if len(points) < 100 or spacing <= 0:
        return out
    cell = np.floor((points - points.min(0)) / (CELL * spacing)).astype(np.int64)
    cells, of, count = np.unique(cell, axis=0, return_inverse=True, return_counts=True)
    of = of.reshape(-1)
    lost = lost_cells(cells, count, COMPANY, PIECE)
    return out if lost.all() else lost[of]


def without_strays(cloud: Cloud) -> Cloud:
    """A cloud without its strays."""
    keep = ~stray(cloud.points, float(np.median(cloud.gsd)) if len(cloud.gsd) else 0.0)
    return cloud.only(keep)
