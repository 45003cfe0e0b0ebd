"""What photos of a set have in common: which pairs are worth comparing, and the features that both show."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import cv2
import numpy as np
import poselib
from numpy.typing import NDArray

from vast_quarry.core.match.matching import match_mutual, unit_descriptors
from vast_quarry.core.photo.looks import SHARED
from vast_quarry.pipeline.glances import Glance, load_glance

#: a match's distance over that of the second best, at most
RATIO = 0.8
#: so many matches are no chance
SURE = 60
#: pairs, and features of each, that are used to see what the lens darkens
LOOKED_AT, SAMPLED = 1500, 150
#: photos up to which all pairs are compared; beyond, neighbours and those that look alike
ALL_PAIRS, NEIGHBOURS, ALIKE = 24, 4, 8
#: photos that share little with these are compared with so many more before it is said that they share nothing
MORE_ALIKE = 48
#: pairs that are compared in one piece of work
PIECE = 60

Pairs = list[tuple[int, int]]
#: compares pairs, told which of them are looked at for what the lens darkens
Compare = Callable[[Pairs, Pairs], Iterable["Shared"]]


@dataclass
class Shared:
    """What pairs (i, j) of photos have in common.

    Attributes
    ----------
    count : dict
        Features they share.
    brighter : dict
        Stops that i has them brighter than j, median of each channel (3,).
    each, far : dict
        The same for single features (K,), and how far each lies from the middle of i and j (K, 2).
    """

    count: dict[tuple[int, int], int] = field(default_factory=dict)
    brighter: dict[tuple[int, int], NDArray[np.float64]] = field(default_factory=dict)
    each: dict[tuple[int, int], NDArray[np.float64]] = field(default_factory=dict)
    far: dict[tuple[int, int], NDArray[np.float64]] = field(default_factory=dict)

    def add(self, other: Shared) -> None:
        """Take in what other pairs have in common."""
        for mine, theirs in zip(
            (self.count, self.brighter, self.each, self.far), (other.count, other.brighter, other.each, other.far)
        ):
            mine.update(theirs)  # type: ignore[attr-defined]


def likeness(descriptors: Sequence[NDArray]) -> NDArray[np.float64]:
    """How alike photos look (n, n), by the commonest kinds of their features."""
    n = len(descriptors)
    rng = np.random.default_rng(0)
    sample = np.concatenate([d[rng.choice(len(d), min(60, len(d)), replace=False)] for d in descriptors if len(d)])
    words = min(128, len(sample))
    _, _, centers = cv2.kmeans(
        sample.astype(np.float32), words, np.zeros(0), (cv2.TERM_CRITERIA_MAX_ITER, 12, 0), 1, cv2.KMEANS_PP_CENTERS
    )
    # histograms of the commonest kinds of features, rare kinds counting more
    counts = np.zeros((n, words))
    for k, d in enumerate(descriptors):
        if len(d):
            nearest = np.argmin((centers**2).sum(1)[None] - 2 * d.astype(np.float32) @ centers.T, axis=1)
            counts[k] = np.bincount(nearest, minlength=words)
    weight = np.log(n / np.maximum((counts > 0).sum(0), 1))
    h = np.sqrt(counts / np.maximum(counts.sum(1, keepdims=True), 1)) * (0.2 + weight)
    h /= np.maximum(np.linalg.norm(h, axis=1, keepdims=True), 1e-9)
    return np.asarray(h @ h.T)


def candidates(n: int, alike: NDArray[np.float64] | None) -> Pairs:
    """Pairs of n photos worth comparing first: all of a few; of many neighbours by name, and those that look most alike."""
    if alike is None:
        return [(i, j) for i in range(n) for j in range(i + 1, n)]
    pairs = {(i, j) for i in range(n) for j in range(i + 1, min(n, i + 1 + NEIGHBOURS))}
    pairs |= _most_alike(alike, range(n), ALIKE)
    return sorted(pairs)


def _most_alike(alike: NDArray[np.float64], rows: Iterable[int], most: int) -> set[tuple[int, int]]:
    out = set()
    for i in rows:
        for j in np.argsort(-alike[i])[: most + 1]:
            if i != j:
                out.add((min(i, int(j)), max(i, int(j))))
    return out


def compare(pairs: Pairs, glances: dict[int, Glance], looked: set[tuple[int, int]]) -> Shared:
    """What pairs of photos have in common, and for those in ``looked`` how bright each shows single features."""
    unit = {k: unit_descriptors(g.descriptors) for k, g in glances.items()}
    light = {k: np.log2(np.maximum(g.colors, 2e-3)) for k, g in glances.items()}
    out = Shared()
    for i, j in pairs:
        if not len(unit[i]) or not len(unit[j]):
            continue
        m = match_mutual(unit[i], unit[j], RATIO)
        if len(m) < SHARED:  # that is nothing, whatever geometry says of it
            out.count[i, j] = len(m)
            continue
        # few matches may be chance: only those count that two views of one thing allow
        fits = None if len(m) >= SURE else possible(glances[i].xy[m[:, 0]], glances[j].xy[m[:, 1]])
        if fits is not None:
            m = m[fits]
        a, b = m[:, 0], m[:, 1]
        out.count[i, j] = len(m)
        if len(m) < SHARED:
            continue
        out.brighter[i, j] = np.median(light[i][a] - light[j][b], axis=0)
        if (i, j) in looked:
            # a wrong match says that being near the middle or far from it makes no difference
            true = np.ones(len(m), bool) if fits is not None else possible(glances[i].xy[a], glances[j].xy[b])
            out.each[i, j] = (glances[i].wide[a] - glances[j].wide[b])[true][:SAMPLED]
            out.far[i, j] = np.stack([glances[i].far[a], glances[j].far[b]], axis=1)[true][:SAMPLED]
    return out


def compare_kept(pairs: Pairs, files: dict[int, Path], looked: set[tuple[int, int]]) -> Shared:
    """Unit of work: the same from glances that were kept in files."""
    return compare(pairs, {k: load_glance(f) for k, f in files.items()}, looked)


def shared_features(glances: Sequence[Glance], work: Compare | None = None) -> Shared:
    """Features that pairs of photos share, and how bright each has them.

    Parameters
    ----------
    glances : sequence of Glance
        All of which went well.
    work : callable, optional
        Compares pairs, in several processes for instance.
    """
    n = len(glances)
    everyone = dict(enumerate(glances))
    run: Compare = work or (lambda pairs, looked: [compare(pairs, everyone, set(looked))])
    known = sum(len(g.descriptors) > 0 for g in glances)
    alike = likeness([g.descriptors for g in glances]) if n > ALL_PAIRS and known else None
    pairs = candidates(n, alike)
    out = Shared()
    for found in run(pairs, pairs[:: max(1, len(pairs) // LOOKED_AT)]):
        out.add(found)
    if alike is not None:
        best = np.zeros(n, int)
        for (i, j), m in out.count.items():
            best[i], best[j] = max(best[i], m), max(best[j], m)
        more = _most_alike(alike, np.flatnonzero(best < SURE).tolist(), MORE_ALIKE) - set(pairs)
        for found in run(sorted(more), []):
            out.add(found)
    return out


def possible(a: NDArray[np.float32], b: NDArray[np.float32]) -> NDArray[np.bool_]:
    """Which matches (K, 2) fit one geometry of two views: a fundamental matrix."""
    if len(a) < 9:
        return np.zeros(len(a), bool)
    diagonal = float(np.ptp(a, axis=0).max() + 1)
    error = 0.003 * diagonal
    _, info = poselib.estimate_fundamental(
        a.astype(np.float64), b.astype(np.float64), {"max_epipolar_error": error, "max_iterations": 2000}, {}
    )
    return np.asarray(info["inliers"], bool)
