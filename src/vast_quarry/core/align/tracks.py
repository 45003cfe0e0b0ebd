"""Tracks: the same place seen in several photos, merged from matches, the surest first.

A false match would join two tracks, and then two places pass for one. So matches are taken in the order of how sure they
are, and one that would put two features of one photo into a track is refused. Sure is first of all a match whose two
features are both matched to a third photo's same feature (the match closes triangles; a false one hardly ever does), then
one of a pair of photos that share much.

References
----------
Moulon, P., Monasse, P. (2012). Unordered feature tracking made fast and easy. CVMP (tracks as components of matches).
Zach, C., Klopschitz, M., Pollefeys, M. (2010). Disambiguating visual relations using loop constraints. CVPR.
"""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

Ints = NDArray[np.int64]
#: whole numbers that need no more than 32 bits
Counts = NDArray[np.int32]


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


def no_tracks() -> Tracks:
    """None at all."""
    return Tracks(np.zeros(1, np.int64), np.zeros(0, np.int64), np.zeros(0, np.int64))


@dataclass
class MatchGraph:
    """Matches as edges between features.

    Attributes
    ----------
    photo, feature : (N,) int
        Of each feature that is matched, sorted by photo.
    a, b : (E,) int
        Features that each match joins.
    shared : (E,) int
        How many matches the pair of photos has that it is of.
    begin, near : (N + 1,), (2 E,) int
        Features that each feature is matched to, in rising order.
    """

    photo: Ints
    feature: Ints
    a: Counts
    b: Counts
    shared: Counts
    begin: Ints
    near: Counts


def match_graph(counts: list[int], matches: dict[tuple[int, int], NDArray[np.int32]]) -> MatchGraph:
    """The graph of matches between photos of so many features (arguments as :func:`build_tracks`); pairs in turn."""
    offset = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
    # features that are matched, numbered anew: a table instead of sorting all ends of matches, which takes five times the memory
    used = np.zeros(offset[-1], np.bool_)
    for (i, j), m in matches.items():
        used[offset[i] + m[:, 0]] = True
        used[offset[j] + m[:, 1]] = True
    number = np.cumsum(used, dtype=np.int32) - 1
    a = np.concatenate([number[offset[i] + m[:, 0]] for (i, _), m in matches.items()])
    b = np.concatenate([number[offset[j] + m[:, 1]] for (_, j), m in matches.items()])
    sizes = np.array([len(m) for m in matches.values()], np.int32)
    nodes = np.flatnonzero(used)
    photo = np.searchsorted(offset, nodes, side="right") - 1
    # one number for both ends, by which they sort: the end that counts above, the other below
    ends = np.empty(2 * len(a), np.int64)
    ends[: len(a)], ends[len(a) :] = (a.astype(np.int64) << 32) + b, (b.astype(np.int64) << 32) + a
    ends.sort()
    begin = np.searchsorted(ends, np.arange(len(nodes) + 1) << 32)
    near = (ends & 0xFFFFFFFF).astype(np.int32)
    return MatchGraph(photo, nodes - offset[photo], a, b, np.repeat(sizes, sizes), begin, near)


@njit(error_model="numpy", cache=True)
def loops(begin, near, photo, place, a, b, off):
    """Loops through a third photo that each match closes, and that it breaks.

    A loop is broken where both ends of a match are matched to a third photo, but to different places of it.

    Parameters
    ----------
    begin, near, photo, a, b : int arrays
        The graph (:class:`MatchGraph`).
    place : (N, 2) float
        Pixel of each feature.
    off : float
        Pixels from which places differ: one place may have two features.

    Returns
    -------
    closed, broken : (E,) int
    """
    closed = np.zeros(a.shape[0], np.int64)
    broken = np.zeros(a.shape[0], np.int64)
    for e in range(a.shape[0]):
        i, j = begin[a[e]], begin[b[e]]
        last_i, last_j = begin[a[e] + 1], begin[b[e] + 1]
        while i < last_i and j < last_j:
            u, v = near[i], near[j]
            if photo[u] == photo[v]:
                if u == v:
                    closed[e] += 1
                elif abs(place[u, 0] - place[v, 0]) + abs(place[u, 1] - place[v, 1]) > off:
                    broken[e] += 1
                i += 1
                j += 1
            elif photo[u] < photo[v]:
                i += 1
            else:
                j += 1
    return closed, broken


@njit(error_model="numpy", cache=True)
def _merge(order, a, b, photo, photos):
    """Track label of each feature: matches taken in order, refused where a photo would occur twice.

    Members of a track form a ring through ``follow``; two rings become one by exchanging a successor of each.
    """
    n = photo.shape[0]
    label = np.arange(n)
    size = np.ones(n, np.int64)
    follow = np.arange(n)
    stamp = np.full(photos, -1, np.int64)
    for token in range(order.shape[0]):
        u = a[order[token]]
        v = b[order[token]]
        if label[u] == label[v]:
            continue
        if size[label[u]] < size[label[v]]:
            u, v = v, u
        k = v
        while True:
            stamp[photo[k]] = token
            k = follow[k]
            if k == v:
                break
        twice = False
        k = u
        while True:
            if stamp[photo[k]] == token:
                twice = True
                break
            k = follow[k]
            if k == u:
                break
        if twice:
            continue
        into = label[u]
        size[into] += size[label[v]]
        k = v
        while True:
            label[k] = into
            k = follow[k]
            if k == v:
                break
        follow[u], follow[v] = follow[v], follow[u]
    return label


def build_tracks(counts: list[int], matches: dict[tuple[int, int], NDArray[np.int32]]) -> Tracks:
    """Tracks of at least two photos, no photo twice in one.

    Parameters
    ----------
    counts : list of int
        Number of features of each photo.
    matches : dict
        ``(i, j)`` to an array (K, 2) of feature numbers in photos i and j.
    """
    some = {k: m for k, m in matches.items() if len(m)}
    if not some:
        return no_tracks()
    g = match_graph(counts, some)
    sure, _ = loops(g.begin, g.near, g.photo, np.zeros((len(g.photo), 2), np.float32), g.a, g.b, 0.0)
    order = np.lexsort((-g.shared, -sure))
    return _sorted_tracks(_merge(order, g.a, g.b, g.photo, len(counts)), g.photo, g.feature)


def _sorted_tracks(label: Ints, photo: Ints, feature: Ints) -> Tracks:
    """Tracks from a label of each feature; those of one photo only are dropped."""
    _, label, length = np.unique(label, return_inverse=True, return_counts=True)
    keep = length[label] >= 2
    label, photo, feature = label[keep], photo[keep], feature[keep]
    if not len(label):
        return no_tracks()
    order = np.lexsort((photo, label))
    label, photo, feature = label[order], photo[order], feature[order]
    _, first = np.unique(label, return_index=True)
    return Tracks(np.append(first, len(label)).astype(np.int64), photo.astype(np.int64), feature.astype(np.int64))


def split_tracks(tracks: Tracks, astray: NDArray[np.bool_]) -> tuple[Tracks, Ints]:
    """Tracks whose observations that went astray (M,) are taken out into tracks of their own.

    Returns
    -------
    tracks : Tracks
    origin : (M',) int
        Which old observation each new one is; those that are left alone in their track are gone.
    """
    label = 2 * tracks.track_of + astray
    _, number, length = np.unique(label, return_inverse=True, return_counts=True)
    kept = np.flatnonzero(length[number] >= 2)
    order = kept[np.lexsort((tracks.photo[kept], label[kept]))]
    if not len(order):
        return no_tracks(), order
    _, first = np.unique(label[order], return_index=True)
    start = np.append(first, len(order)).astype(np.int64)
    return Tracks(start, tracks.photo[order], tracks.feature[order]), order


#: cells along each side of a photo that places are shared out over when some tracks stand for all
CELLS = 8
#: tracks of so many photos are as good as longer ones; and of how much of one must still be wanted, in turn
LONG, WANTED = 30, (0.8, 0.6, 0.4, 0.2, 0.0)
#: up to so many photos time does not count: a short arc filmed by hand determines its focal length worse by the fewer tracks
FEW = 120


@njit(error_model="numpy", cache=True)
def _picked(order, start, cell, quota, share, room, out):
    """Take tracks in ``order`` at least so much of which (``share``) lies in cells of photos that still have ``room``.

    ``cell`` (M,) is negative for observations that do not count; ``room`` counts what each cell holds, ``out`` (T,) what is taken.
    """
    for t in order:
        if out[t]:
            continue
        free = length = 0
        for m in range(start[t], start[t + 1]):
            if cell[m] >= 0:
                length += 1
                free += room[cell[m]] < quota
        if free > 0 and free >= share * length:
            out[t] = True
            for m in range(start[t], start[t + 1]):
                if cell[m] >= 0:
                    room[cell[m]] += 1


def some_tracks(
    tracks: Tracks, xy: NDArray[np.float64], sizes: Ints, use: NDArray[np.bool_], per_photo: int
) -> NDArray[np.bool_]:
    """Tracks (T,) that stand for all in an adjustment: long ones first, spread over every photo.

    Of many photos first those that are wanted nearly everywhere they are seen, then those that still are in some photo: a track
    takes time as the square of its length, and one that lies where others are already adds little. Of few photos all that are
    wanted anywhere.

    Parameters
    ----------
    xy : (M, 2) pixel, use : (M,) bool
        Of the observations, and which of them count.
    sizes : (n, 2) int
        Width and height of the photos.
    per_photo : int
        Observations that each photo is to have at least, where it has so many.
    """
    place = np.floor(xy / sizes[tracks.photo] * CELLS).astype(np.int64).clip(0, CELLS - 1)
    cell = np.where(use, tracks.photo * CELLS**2 + place[:, 0] * CELLS + place[:, 1], -1)
    length = np.bincount(tracks.track_of[use], minlength=len(tracks))
    many = len(sizes) > FEW
    order = np.argsort(-np.minimum(length, LONG) if many else -length, kind="stable")
    order = order[length[order] >= 2]
    room, out = np.zeros(len(sizes) * CELLS**2, np.int64), np.zeros(len(tracks), np.bool_)
    for share in WANTED if many else WANTED[-1:]:
        _picked(order, tracks.start, cell, max(1, per_photo // CELLS**2), share, room, out)
    return out
