"""What is known of one photo before its shoot is judged, and what is then proposed for it."""

from __future__ import annotations

from dataclasses import dataclass, field

import cv2
import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.photo.exif import Exif
from vast_quarry.core.photo.quality import Quality
from vast_quarry.core.words import Said

#: features that two photos share at least, to be said to share any
SHARED = 14


@dataclass(frozen=True)
class Look:
    """What is known of one photo before the set is judged."""

    path: str
    quality: Quality
    exif: Exif
    width: int
    height: int
    focal: float
    focal_source: str
    sha: str
    hash: int
    small: NDArray[np.float32]
    #: ``"automatic"`` or ``"by hand"``; None where the photo does not say
    focus: str | None = None


@dataclass
class Verdict:
    """What is proposed for a photo."""

    proposal: str = "keep"
    reasons: list[str] = field(default_factory=list)
    notes: list[Said] = field(default_factory=list)
    duplicate_of: str | None = None
    ev_offset: float = 0.0
    wb_offset: float = 0.0
    set: int = 0
    shared: int = 0
    #: of figures, what is remarked on beyond
    limits: dict[str, float] = field(default_factory=dict)

    def mark(self, proposal: str, reason: str, note: Said) -> None:
        """Add a reason; the worst proposal stands."""
        order = ("keep", "doubtful", "leave out")
        self.proposal = max(self.proposal, proposal, key=order.index)
        self.reasons.append(reason)
        self.notes.append(note)


def small_picture(gray: NDArray[np.uint8]) -> NDArray[np.float32]:
    """A photo of 48 x 48 without its brightness and contrast, to compare with others."""
    s = cv2.resize(gray, (48, 48), interpolation=cv2.INTER_AREA).astype(np.float32)
    return (s - s.mean()) / max(float(s.std()), 1e-3)


def picture_hash(gray: NDArray[np.uint8]) -> int:
    """64 bits that hardly change with size, compression or brightness: signs of the lowest cosine waves."""
    s = cv2.resize(gray, (32, 32), interpolation=cv2.INTER_AREA).astype(np.float32)
    low = cv2.dct(s)[:8, :8].ravel()
    bits = low > np.median(low[1:])
    return int(sum(1 << k for k, b in enumerate(bits) if b))
