"""What makes a subject difficult, and what helps: plain words (common practice, no source)."""

from __future__ import annotations

from typing import Literal

from vast_quarry.core.words import Said

Skin = Literal["matt", "satin", "shiny", "transparent", "plain", "hairy", "living"]
Way = Literal["walk", "turntable"]

_SKIN: dict[str, list[str]] = {
    "matt": [],
    "satin": ["Soft sheen moves with the camera: use large soft lights or an overcast sky, and no bare lamp."],
    "shiny": [
        "Shiny surfaces show their surroundings instead of themselves. Dull them: a spray that rubs off or one that evaporates by "
        "itself, flour, water-based paint, or tape. Ask first whether the thing may be touched."
    ],
    "transparent": [
        "What can be seen through cannot be matched. Cover it: a spray that rubs off or one that evaporates by itself, flour, "
        "water-based paint."
    ],
    "plain": [
        "A plain surface gives the matching nothing to hold on to. Put something on it: stickers, scribbles or a projected "
        "pattern. Drawn lines may show as faint relief.",
        "Lay it on a ground that never repeats, such as a newspaper or a marker mat, and put numbered notes around it.",
    ],
    "hairy": [
        "Hair, twigs and thin wires come out as lumps. Take more photos than planned, from nearer, without wind."
    ],
    "living": [
        "Whoever lives moves. Use several cameras at once or a short lap, have the subject look at a fixed point, and begin with the face."
    ],
}


def advice(skin: Skin, way: Way, holes: bool, recesses: bool, underside: bool, turnable: bool) -> list[Said]:
    """Warnings with remedies for a subject.

    Parameters
    ----------
    skin : str
    way : str
        Walked round, or turned before a camera that stands still.
    holes, recesses : bool
        Whether it has holes through it, or deep recesses.
    underside : bool
        Whether its underside is wanted.
    turnable : bool
        Whether it can be turned over.
    """
    out = [Said(s) for s in _SKIN[skin]]
    if way == "turntable":
        out.append(
            Said(
                "Before a camera that stands still the backdrop must not count: choose one of a colour far from the subject's own, far "
                "behind it, and mask it out."
            )
        )
        if skin == "living":
            out.append(Said("A living subject does not hold still on a turntable."))
    if holes:
        out.append(
            Said("Through a hole both rims have to be seen: add shots that look straight through it, from both sides.")
        )
    if recesses:
        out.append(
            Said("Deep recesses need light and shots along their axis: light them from near the camera, and go closer.")
        )
    if underside and turnable:
        out.append(
            Said(
                "For the underside turn it over and shoot a second set; what is loose on it shifts, so fix it first. Join the two sets "
                "by masks."
            )
        )
    elif underside:
        out.append(
            Said(
                "For the underside raise it, spear it, or shoot through glass: glass reflects and bends what is seen at a slant."
            )
        )
    return out
