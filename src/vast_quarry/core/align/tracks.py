"""Tracks: the same place seen in several photos, as connected components of matches.

A component that holds two features of one photo has gone astray there; that photo's features leave the track.

References
----------
Moulon, P., Monasse, P. (2012). Unordered feature tracking made fast and easy. CVMP.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

Ints = NDArray[np.int64]


@dataclass
class Tracks:
    """Observations sorted by track.

    Attributes
    ----------
    start : (T + 1,) int
        Observations of track t are ``start[t]:start[t + 1]``.
    photo, feature : (M,) int
        Photo and feature number of each observation.
    """

    start: Ints
    photo: Ints
    feature: Ints

    def __len__(self) -> int:
        return len(self.start) - 1

    @property
    def track_of(self) -> Ints:
        """Track of each observation (M,)."""
        return np.repeat(np.arange(len(self)), np.diff(self.start))


def build_tracks(counts: list[int], matches: dict[tuple[int, int], NDArray[np.int32]]) -> Tracks:
    """Tracks of at least two photos.

    Parameters
    ----------
    counts : list of int
        Number of features of each photo.
    matches : dict
        ``(i, j)`` to an array (K, 2) of feature numbers in photos i and j.
    """
    offset = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
    empty = Tracks(np.zeros(1, np.int64), np.zeros(0, np.int64), np.zeros(0, np.int64))
    left = [m[:, 0].astype(np.int64) + offset[i] for (i, j), m in matches.items() if len(m)]
    right = [m[:, 1].astype(np.int64) + offset[j] for (i, j), m in matches.items() if len(m)]
    if not left:
        return empty
    a, b = np.concatenate(left), np.concatenate(right)
    total = int(offset[-1])
    graph = coo_matrix((np.ones(len(a), np.int8), (a, b)), shape=(total, total))
    _, label = connected_components(graph, directed=False)
    nodes = np.unique(np.concatenate([a, b]))
    photo = np.searchsorted(offset, nodes, side="right") - 1
    track = label[nodes]
    # features of a photo that occurs twice in a track leave it
    key = track.astype(np.int64) * len(counts) + photo
    _, inverse, times = np.unique(key, return_inverse=True, return_counts=True)
    single = times[inverse] == 1
    nodes, photo, track = nodes[single], photo[single], track[single]
    _, track, length = np.unique(track, return_inverse=True, return_counts=True)
    long_enough = length[track] >= 2
    nodes, photo, track = nodes[long_enough], photo[long_enough], track[long_enough]
    if not len(nodes):
        return empty
    order = np.lexsort((photo, track))
    nodes, photo, track = nodes[order], photo[order], track[order]
    _, first = np.unique(track, return_index=True)
    return Tracks(np.append(first, len(track)).astype(np.int64), photo.astype(np.int64), nodes - offset[photo])
