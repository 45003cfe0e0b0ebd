"""What an alignment that failed tells the user: what is the matter, which photos show it, what to do."""

from __future__ import annotations

from vast_quarry.core.align.trouble import Cause, Trouble
from vast_quarry.core.errors import PlainError

_WORDS: dict[Cause, tuple[str, str]] = {
    "nothing moves": (
        "All photos show the subject from one and the same place, so there is no depth to tell",
        "Walk round the subject and take photos from many sides, or turn it on a turntable and mask it.",
    ),
    "turned on the spot": (
        "The camera was turned on the spot like for a panorama: that shows all round, but no depth",
        "Move sideways by a step between photos, keeping the camera on the subject.",
    ),
    "still backdrop": (
        "The background stands still while the subject moves before it, so the two cannot be told apart as one scene",
        "Mask the subject in all photos (Masks), or walk round it with everything about it at rest.",
    ),
    "too few matches": (
        "Too few places of the photos can be found again in others",
        "Take photos that overlap by 60 % or more, sharp, of a subject with texture, moving sideways by a step between them.",
    ),
    "no parallax": (
        "The photos match, but no two of them were taken from far enough apart to tell depth",
        "Move further sideways between photos: for an object at least once halfway round it.",
    ),
}


def told(trouble: Trouble, names: list[str]) -> PlainError:
    """The trouble as an error in the user's words; ``names`` are those of all photos."""
    what, remedy = _WORDS[trouble.cause]
    shown = [names[k] for k in trouble.photos[:4]]
    return PlainError(f"{what} (seen for instance in {', '.join(shown)})." if shown else f"{what}.", remedy)
