"""What holds for most of a shoot: said once, instead of on each photo; and what its sets are called."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from vast_quarry.core.photo.looks import Look, Verdict
from vast_quarry.core.words import Said, say

#: what may be so with all photos, by its reason
_COMMON = {
    "slow shutter": (
        "{count} of {all} photos were exposed for longer than is safe by hand. Where they are not sharp, use a tripod, more "
        "light or a higher ISO."
    ),
    "high ISO": "{count} of {all} photos were taken at a high ISO, which adds noise. Use more light or a tripod.",
    "no focal length": "{count} of {all} photos say nothing of their focal length: it is guessed, then solved.",
}
#: fewer photos than this are told one by one
FEW = 4


def said_once(verdicts: Sequence[Verdict]) -> list[Said]:
    """Take notes that more than half of the photos have from them; the sentences that say it of the whole shoot.

    The reasons stay with each photo, for those who sort by them.
    """
    often = Counter(r for v in verdicts for r in v.reasons if r in _COMMON)
    told = [r for r in _COMMON if often[r] >= FEW and often[r] > len(verdicts) / 2]
    for v in verdicts:
        v.notes = [note for reason, note in zip(v.reasons, v.notes) if reason not in told]
    return [say(_COMMON[r], count=often[r], all=len(verdicts)) for r in told]


def names_of_sets(looks: Sequence[Look], verdicts: Sequence[Verdict]) -> dict[int, str]:
    """What each set is, by its number: its camera, or that it has no EXIF, or shows something else; alike ones numbered."""
    found: dict[int, str] = {}
    for look, v in zip(looks, verdicts):
        lone = "unrelated" in v.reasons
        found.setdefault(v.set, "not the subject" if lone else look.exif.model or "no EXIF")
    often, seen = Counter(found.values()), Counter[str]()
    for number in sorted(found):
        name = found[number]
        seen[name] += 1
        if often[name] > 1:
            found[number] = f"{name} {seen[name]}"
    return found
