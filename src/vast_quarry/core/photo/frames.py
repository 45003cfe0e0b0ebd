"""Looking through a video: how the picture moves, how sharp it is; frames by step, rate or count; laps; edges that stand still.

Between following frames the subject moves by some share of its width (tracked corners that move).

References
----------
Lucas, B., Kanade, T. (1981). An iterative image registration technique. Shi, J., Tomasi, C. (1994). Good features to track.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

import cv2
import numpy as np
import scipy.fft
from numpy.typing import NDArray

from vast_quarry.core.photo.turning import TurnMeter
from vast_quarry.core.photo.video import Seen

Array = NDArray[np.float64]
By = Literal["motion", "step", "rate", "count"]

#: longer side of the frames that are looked through, and of those that are compared with each other
SIDE, SMALL = 320, 64
#: shares of the picture that moves less than this from frame to frame stand still
STILL = 4e-4
#: least likeness of a frame with itself one turn later, and how much a stretch of steady turning may vary
BACK, STEADY = 0.72, 0.6


@dataclass(frozen=True)
class Scan:
    """What a look through a video gives, a row for each frame looked at.

    Attributes
    ----------
    number, time : (n,)
        Frame number and seconds.
    move : (n, 2)
        How far the picture moved since the row before, as a share of the width of what moves in it.
    growth : (n,)
        How much larger it became since then (0 when it kept its size): the camera came nearer.
    sharp : (n,)
        Strength of the finest detail, to compare with neighbours.
    small : (n, SMALL * SMALL)
        The picture made tiny, without its brightness and contrast.
    still : (H, W)
        Share of rows in which each place of the small picture did not change though the picture moved.
    shown : (m,), optional
        Seconds of all frames by number, also of those that were not looked at.
    turned : (n,), optional
        Degrees gained about the subject since the row before, NaN where unknown (see :mod:`.turning`).
    """

    number: NDArray[np.int64]
    time: Array
    move: Array
    growth: Array
    sharp: Array
    small: NDArray[np.float32]
    still: NDArray[np.float32]
    shown: Array | None = None
    turned: Array | None = None

    def part(self, rows: NDArray[np.int64]) -> Scan:
        """Only some rows, as if nothing else had been looked at."""
        turned = None if self.turned is None else self.turned[rows]
        return Scan(
            self.number[rows], self.time[rows], self.move[rows], self.growth[rows], self.sharp[rows], self.small[rows], self.still,
            turned=turned,
        )  # fmt: skip

    @property
    def gap(self) -> NDArray[np.int64]:
        """Frames since the row before."""
        return _gaps(self.number)

    @property
    def all_frames(self) -> tuple[NDArray[np.int64], Array]:
        """Numbers and times of all frames, looked at or not."""
        return (self.number, self.time) if self.shown is None else (np.arange(len(self.shown)), self.shown)


def scan(frames: Iterable[Seen]) -> Scan:
    """Look through frames."""
    numbers, times, moves, growths, sharps, smalls = [], [], [], [], [], []
    before: NDArray[np.uint8] | None = None
    still: NDArray[np.float32] | None = None
    moving = 0
    meter = TurnMeter()
    for seen in frames:
        g = seen.grey
        meter.tell(g)
        if before is not None and before.shape != g.shape:  # the size of the pictures may change within a file
            before = None
        move, growth = (np.zeros(2), 0.0) if before is None else _moved(before, g)
        if before is not None and np.linalg.norm(move) > 3 * STILL:
            changed = cv2.absdiff(before, g)
            if still is None or still.shape != g.shape:
                still, moving = np.zeros(g.shape, np.float32), 0
            still += changed <= 3
            moving += 1
        tiny = cv2.resize(g, (SMALL, SMALL), interpolation=cv2.INTER_AREA).astype(np.float32)
        numbers.append(seen.number)
        times.append(seen.time)
        moves.append(move)
        growths.append(growth)
        sharps.append(_detail(g))
        smalls.append(((tiny - tiny.mean()) / max(float(tiny.std()), 1e-3)).ravel())
        before = g
    if still is None:
        still = np.zeros((1, 1), np.float32)
    number = np.array(numbers, np.int64)
    return Scan(
        number, np.array(times, float), _bridged(number, np.array(moves, float).reshape(-1, 2)), np.array(growths, float),
        np.array(sharps, float), np.array(smalls, np.float32).reshape(len(numbers), -1), np.asarray(still / max(moving, 1), np.float32),
        turned=meter.degrees(),
    )  # fmt: skip


def _gaps(number: NDArray[np.int64]) -> NDArray[np.int64]:
    """Frames since the row before (n,); the first row counts like the second."""
    apart = np.diff(number)
    return np.maximum(np.concatenate([apart[:1] if len(apart) else np.ones(len(number), np.int64), apart]), 1)


def _bridged(number: NDArray[np.int64], move: Array) -> Array:
    """Moves (n, 2) where, over frames that were not looked at, what could not be followed goes on as before and after."""
    gap = _gaps(number)
    if not len(gap) or gap.max() == gap.min():
        return move
    near = gap == gap.min()
    out = move.copy()
    for k in np.flatnonzero(gap > 2 * gap.min()):
        about = np.arange(max(0, int(k) - 4), min(len(gap), int(k) + 5))
        about = about[near[about] & (about > 0)]
        if not len(about):
            continue
        expected = (move[about] / gap[about, None]).mean(0) * gap[k]
        far, found = float(np.linalg.norm(expected)), float(np.linalg.norm(move[k]))
        if far > STILL * gap[k] and not 0.6 * far < found < 1.7 * far:
            out[k] = expected
    return out


def _detail(g: NDArray[np.uint8]) -> float:
    """Strength of the finest detail: 90th hundredth of the gradient."""
    gx, gy = cv2.Sobel(g, cv2.CV_16S, 1, 0), cv2.Sobel(g, cv2.CV_16S, 0, 1)
    return float(np.percentile(np.abs(gx) + np.abs(gy), 90))


def _moved(a: NDArray[np.uint8], b: NDArray[np.uint8]) -> tuple[Array, float]:
    """Shift of tracked corners as a share of the width of what moves, and by how much they spread."""
    corners = cv2.goodFeaturesToTrack(a, 120, 0.01, 7)
    if corners is None or len(corners) < 8:
        return np.zeros(2), 0.0
    there, ok, _ = cv2.calcOpticalFlowPyrLK(a, b, corners, None, winSize=(15, 15), maxLevel=3)
    good = ok.ravel() > 0
    if good.sum() < 8:
        return np.zeros(2), 0.0
    p, q = corners.reshape(-1, 2)[good].astype(float), there.reshape(-1, 2)[good].astype(float)
    step = q - p
    length = np.linalg.norm(step, axis=1)
    # a still backdrop says nothing of the subject that turns before it
    moving = length > 0.15
    if moving.sum() >= max(8, 0.15 * len(step)):
        p, q, step = p[moving], q[moving], step[moving]
    shift = np.median(step, axis=0)
    c = np.median(p, axis=0)
    r0, r1 = np.linalg.norm(p - c, axis=1), np.linalg.norm(q - c - shift, axis=1)
    far = r0 > np.median(r0)
    growth = float(np.median(r1[far] / np.maximum(r0[far], 1e-6)) - 1) if far.any() else 0.0
    # a turning subject moves fastest in its middle: the length of the quicker ones, against how wide what moves is
    size = float(np.percentile(np.linalg.norm(step, axis=1), 75))
    extent = max(float(np.percentile(p[:, 0], 97) - np.percentile(p[:, 0], 3)), 0.1 * a.shape[1])
    direction = shift / max(float(np.linalg.norm(shift)), 1e-9)
    return direction * size / extent, growth


def by_step(s: Scan, step: int) -> list[int]:
    """Every n-th frame."""
    number, _ = s.all_frames
    first = int(number[0]) if len(number) else 0
    return [int(n) for n in number if (n - first) % step == 0]


def by_rate(s: Scan, per_second: float) -> list[int]:
    """So many frames a second, by their times."""
    out: list[int] = []
    due = -np.inf
    for n, t in zip(*s.all_frames):
        if t >= due - 1e-9:
            out.append(int(n))
            due = (t if not out[:-1] else due) + 1.0 / per_second
    return out


def by_count(s: Scan, count: int) -> list[int]:
    """So many frames, spread evenly."""
    number, _ = s.all_frames
    rows = np.unique(np.round(np.linspace(0, len(number) - 1, min(count, len(number)))).astype(int))
    return [int(number[r]) for r in rows]


def steady_stretches(s: Scan, least: int = 24) -> list[tuple[int, int]]:
    """Rows (first, last) of stretches in which the picture moves on evenly one way: the subject turns or is walked round.

    What lies between, where the camera or a hand was moved in, is dropped.
    """
    if len(s.number) < least:
        return []
    kernel = np.ones(7) / 7
    gap = s.gap
    step = s.move / gap[:, None]
    dx = np.convolve(step[:, 0], kernel, "same")
    speed = np.convolve(np.linalg.norm(step, axis=1), kernel, "same")
    usual = float(np.median(speed[speed > STILL])) if (speed > STILL).any() else 0.0
    side = np.sign(np.median(dx[np.abs(dx) > STILL])) if (np.abs(dx) > STILL).any() else 0.0
    growing = np.abs(np.convolve(s.growth / gap, kernel, "same")) > 0.006
    good = (np.sign(dx) == side) & (np.abs(speed - usual) < STEADY * usual) & ~growing
    # a few odd rows do not end a stretch
    good = np.convolve(good.astype(float), np.ones(9) / 9, "same") > 0.55
    edges = np.flatnonzero(np.diff(np.concatenate([[0], good.astype(int), [0]])))
    return [(int(a), int(b) - 1) for a, b in zip(edges[::2], edges[1::2]) if b - a >= least]


def laps(s: Scan) -> list[tuple[int, int]]:
    """Rows (first, last) of laps, each exactly one turn: up to where the picture comes back to itself."""
    stretches = steady_stretches(s)
    found = [_turn_length(s, a, b) for a, b in stretches]
    known = [t for t in found if t is not None]
    out = []
    for (a, b), turn in zip(stretches, found):
        if turn is None:
            # hardly more than one turn: it cannot be seen to come back, but it turns as fast as the others
            turn = int(np.median(known)) if known else 0
        start = a
        unit = int(s.gap.min())
        while turn and s.number[start] + turn - unit <= s.number[b]:
            # rows that were not looked at: the nearest one
            last = int(np.argmin(np.abs(s.number[a : b + 1] - (s.number[start] + turn - unit)))) + a
            out.append((start, last))
            start = last + 1
            if start > b:
                break
    return out


def _turn_length(s: Scan, a: int, b: int) -> int | None:
    """Frames after which the pictures of rows a to b come back to themselves; None when they do not."""
    number = s.number[a : b + 1]
    unit = int(s.gap.min())
    n = int((number[-1] - number[0]) // unit) + 1
    if n < 24:
        return None
    # what never changes, like the backdrop, says nothing of where the subject has turned to
    x = s.small[a : b + 1] - s.small[a : b + 1].mean(0)
    x /= np.maximum(np.linalg.norm(x, axis=1, keepdims=True), 1e-6)
    at = (number - number[0]) // unit
    lags = np.arange(12, n - 1)
    likeness = _likeness(x, at, n)[lags]
    known = np.flatnonzero(np.isfinite(likeness))
    if len(known) < 12:
        return None
    likeness = np.interp(np.arange(len(lags)), known, likeness[known])
    floor = float(np.median(likeness))
    peaks = [
        k for k in range(1, len(lags) - 1)
        if likeness[k] >= likeness[k - 1] and likeness[k] >= likeness[k + 1] and likeness[k] > max(BACK, floor + 0.3 * (1 - floor))
    ]  # fmt: skip
    if not peaks:
        return None
    # the first turn, not two of them
    best = max(likeness[k] for k in peaks)
    first = next(k for k in peaks if likeness[k] > best - 0.15 * (best - floor))
    return int(lags[first]) * unit


def _likeness(x: NDArray[np.float32], at: NDArray[np.int64], n: int) -> Array:
    """Mean inner product of all rows of x (m, d) that lie so far apart (n,), where row k stands at place at[k] of n; NaN for no pair.

    By fast Fourier transform (Wiener-Khinchin): all distances at once instead of one after the other.
    """
    size = scipy.fft.next_fast_len(2 * n, real=True)
    power = np.zeros(size // 2 + 1)
    for some in np.array_split(np.arange(x.shape[1]), max(1, size * x.shape[1] // 4_000_000)):
        spread = np.zeros((len(some), size))
        spread[:, at] = x[:, some].T
        power += (np.abs(scipy.fft.rfft(spread)) ** 2).sum(0)
    there = np.zeros(size)
    there[at] = 1.0
    pairs = np.rint(scipy.fft.irfft(np.abs(scipy.fft.rfft(there)) ** 2, size)[:n])
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.asarray(np.where(pairs > 0, scipy.fft.irfft(power, size)[:n] / pairs, np.nan))


def still_edges(s: Scan, width: int, height: int, share: float = 0.9) -> tuple[int, int, int, int]:
    """Pixels at the left, top, right and bottom edge of a video that do not move with the subject (black bars, a frame)."""
    h, w = s.still.shape
    if h < 16:
        return 0, 0, 0, 0
    columns, rows = np.median(s.still, axis=0) > share, np.median(s.still, axis=1) > share

    def run(line: NDArray[np.bool_]) -> int:
        return int(np.argmin(line)) if not line.all() else 0

    x, y = width / w, height / h
    left, right, top, bottom = run(columns), run(columns[::-1]), run(rows), run(rows[::-1])
    return tuple(int(np.ceil(k * f)) if k else 0 for k, f in ((left, x), (top, y), (right, x), (bottom, y)))  # type: ignore[return-value]
