"""Looking through a video: every frame where that is quick, else the first part of each group, and closely where it matters.

Decoding takes most of the time of looking through large pictures. Where groups are short (phones and cameras begin one every
half or whole second: common practice, no source), the first part of each tells how quickly the subject moves and has frames
to choose from. Groups are looked at whole where the picture moves so far between that frames are due there, and where a lap
begins or ends, which is to be cut at the very frame.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from itertools import groupby
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.photo.frames import SIDE, Scan, laps, scan
from vast_quarry.core.photo.packets import LEAST, Packets, list_packets
from vast_quarry.core.photo.video import Seen, VideoInfo, ahead, each_frame

#: pixels of a picture from which decoding is what takes time, and the longest groups (s) of which only a part is looked at
LARGE, LONGEST = 3_000_000, 1.6
#: the part of each group that is looked at
PART = 0.2
#: a gap over which the picture moves further than this, as a share of the width (some ten degrees), is looked at
FAR = 0.085

Watch = Callable[[Seen], None]


def look_step(info: VideoInfo) -> int:
    """Every how many frames are looked at: at high rates every second one."""
    return 2 if info.rate > 45 else 1


def look_over(path: Path, info: VideoInfo, watch: Watch, colored: int = 0) -> Scan:
    """Look through a video.

    Parameters
    ----------
    path : Path
    info : VideoInfo
    watch : callable
        Told each frame that is looked at, in order, then those of a second look; what it raises ends the look.
    colored : int
        Every so manieth frame comes with a small colour picture; 0: none.
    """
    packets = list_packets(path)
    every = look_step(info)
    part = _part(packets, info)

    def looked(wanted: NDArray[np.bool_] | None, colors: int) -> Iterator[Seen]:
        for seen in ahead(each_frame(path, every, SIDE, packets, wanted, colors, info.aspect)):
            watch(seen)
            yield seen

    if packets is None:
        return scan(looked(None, colored))
    shown = np.sort(packets.seconds)
    if part is None:
        return replace(scan(looked(None, colored)), shown=shown)
    found = replace(scan(looked(part, max(1, round(colored * PART)) if colored else 0)), shown=shown)
    runs = _runs(groups_to_see(found, packets))
    if runs:
        wanted = np.zeros(len(packets.key), bool)
        begins = packets.begins
        for first, last in runs:
            # and the picture that follows, to see how far it moved since
            wanted[begins[first] : min(begins[last + 1] + 1, len(wanted))] = True
        starts = np.sort(packets.number[packets.key])[[first for first, _ in runs]]
        for _, stretch in groupby(looked(wanted, 0), lambda seen: int(np.searchsorted(starts, seen.number, "right"))):
            found = merged(found, scan(stretch))
    return found


def _part(packets: Packets | None, info: VideoInfo) -> NDArray[np.bool_] | None:
    """Which packets to look at first; None for all."""
    if packets is None or info.width * info.height < LARGE or packets.group_seconds() > LONGEST:
        return None
    if np.median(np.diff(packets.begins)) < 2 * LEAST:
        return None
    return packets.first_of_groups(PART)


def groups_to_see(s: Scan, packets: Packets) -> list[int]:
    """Groups that are to be looked at whole."""
    starts = np.sort(packets.number[packets.key])
    group = np.searchsorted(starts, s.number, "right") - 1
    out = {int(group[k - 1]) for k in np.flatnonzero(np.linalg.norm(s.move, axis=1) > FAR) if s.gap[k] > s.gap.min()}
    for first, last in laps(s):
        for row in (first, last):
            # one turn is known to within a gap, so the end may lie in a group beside it
            out |= {int(group[row]) + d for d in (-1, 0, 1)}
    return sorted(g for g in out if 0 <= g < len(starts))


def _runs(groups: list[int]) -> list[tuple[int, int]]:
    """Neighbouring groups together: first and last of each run."""
    out: list[tuple[int, int]] = []
    for g in groups:
        if out and g == out[-1][1] + 1:
            out[-1] = (out[-1][0], g)
        else:
            out.append((g, g))
    return out


def merged(s: Scan, closer: Scan) -> Scan:
    """A scan with a stretch of it looked at closer; the stretch's first frame keeps what was known of how it came there."""
    if not len(closer.number):
        return s
    first, last = closer.number[0], closer.number[-1]
    before, after = s.number < first, s.number > last
    move, growth = closer.move.copy(), closer.growth.copy()
    known = np.flatnonzero(s.number == first)
    turned = None if s.turned is None or closer.turned is None else closer.turned.copy()
    if len(known):
        move[0], growth[0] = s.move[known[0]], s.growth[known[0]]
        if turned is not None and s.turned is not None:
            turned[0] = s.turned[known[0]]

    def join(a: NDArray, b: NDArray) -> NDArray:
        return np.concatenate([a[before], b, a[after]])

    return Scan(
        join(s.number, closer.number), join(s.time, closer.time), join(s.move, move), join(s.growth, growth),
        join(s.sharp, closer.sharp), join(s.small, closer.small), s.still, s.shown,
        None if turned is None or s.turned is None else join(s.turned, turned),
    )  # fmt: skip
