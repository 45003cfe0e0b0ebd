"""What an alignment tells the user in words: what is the matter, which photos show it, what to do."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from vast_quarry.core.align.growth import AlignInput
from vast_quarry.core.align.model import Join
from vast_quarry.core.align.plausible import Doubt
from vast_quarry.core.align.trouble import Cause, Trouble
from vast_quarry.core.align.zoom import Refocused
from vast_quarry.core.errors import PlainError
from vast_quarry.core.words import Said, say, together
from vast_quarry.core.words import pattern as as_pattern
from vast_quarry.pipeline.figures import LensFigures
from vast_quarry.pipeline.solution import Solution
from vast_quarry.pipeline.steps.photos import Photo, clean_name

#: what is the matter, and what to do
_WORDS: dict[Cause, tuple[str, str]] = {
    "nothing moves": (
        "All photos show the subject from one and the same place, so there is no depth to tell.",
        "Walk round the subject and take photos from many sides, or turn it on a turntable and mask it.",
    ),
    "turned on the spot": (
        "The camera was turned on the spot like for a panorama: that shows all round, but no depth.",
        "Move sideways by a step between photos, keeping the camera on the subject.",
    ),
    "still backdrop": (
        "The background stands still while the subject moves before it, so the two cannot be told apart as one scene.",
        "Mask the subject in all photos (Masks), or walk round it with everything about it at rest.",
    ),
    "too few matches": (
        "No two photos share enough places that can be told from others.",
        "Take photos that overlap by 60 % or more, sharp, of a subject with texture, moving sideways by a step between them.",
    ),
    "no parallax": (
        "The photos match, but no two of them were taken from far enough apart to tell depth.",
        "Move further sideways between photos: for an object at least once halfway round it.",
    ),
}
#: why photos are loose
_FLIPPED = as_pattern(
    "{photos} could not be placed ({count} of {all}): flipped like in a mirror; turn back what was flipped."
)
_APART = as_pattern(
    "{photos} could not be placed ({count} of {all}): they match each other, but nothing of the rest; another subject, or a "
    "side with no photos between."
)
_NOWHERE = as_pattern("{photos} could not be placed ({count} of {all}): nothing in them was found in another photo.")
_FEW = as_pattern("{photos} could not be placed ({count} of {all}): too few of their places were found in the others.")


def told(trouble: Trouble, names: list[str]) -> PlainError:
    """The trouble as an error in the user's words; ``names`` are those of all photos."""
    what, remedy = _WORDS[trouble.cause]
    shown = [names[k] for k in trouble.photos[:4]]
    seen = [say("Seen for instance in {photos}.", photos=", ".join(shown))] if shown else []
    return PlainError(together([what, *seen]), remedy)


def _listed(names: Sequence[str], most: int = 4) -> Said | list[str]:
    """Names for a sentence, the first few of many."""
    if len(names) <= most:
        return list(names)
    return say("{photos} and {more} more", photos=", ".join(names[:most]), more=len(names) - most)


def findings(
    photos: list[Photo], solution: Solution, data: AlignInput, mirrored: list[int],
    groups: Mapping[int, Sequence[int]] | None = None,
) -> list[Said]:  # fmt: skip
    """Sentences about photos that are weakly placed or loose, one for each kind with how many it is about.

    ``groups`` are rows of photos that stand by themselves, by the number of the group, without the one that is ``solution``.
    """
    groups = groups or {}
    names = [clean_name(p.path) for p in photos]
    out = []
    weak = [names[n] for n, s in enumerate(solution.states) if s == "weak"]
    if weak:
        pattern = (
            "{photos} {count, plural, one {is} other {are}} tied in by few points; photos between them and their neighbours "
            "would help."
        )
        out.append(say(pattern, photos=_listed(weak), count=len(weak)))
    for number, group in groups.items():
        a, b = between(solution, group, data)
        out.append(
            say(
                "{photos} see only each other ({count} of {all}): they are kept as group {group}. Take two or three photos "
                "between {a} and {b}, or pick three places that both show, and all can be joined.",
                photos=_listed([names[n] for n in group]), count=len(group), all=len(photos), group=number,
                a=names[a], b=names[b],
            )
        )  # fmt: skip
    loose = [n for n, s in enumerate(solution.states) if s == "loose"]
    partners = np.bincount(np.array(list(data.matches)).reshape(-1), minlength=len(photos))
    kinds = [(mirrored, _FLIPPED), *[(group, _APART) for group in other_groups(loose, data)]]
    told = {n for rows, _ in kinds for n in rows}
    kinds.append(([n for n in loose if n not in told and not partners[n]], _NOWHERE))
    kinds.append(([n for n in loose if n not in told and partners[n]], _FEW))
    for rows, pattern in kinds:
        if rows:
            out.append(say(pattern, photos=_listed([names[n] for n in rows]), count=len(rows), all=len(photos)))
    loose += [n for group in groups.values() for n in group]
    if len(loose) > 0.4 * len(photos):
        pattern = (
            "Only {placed} of {all} photos could be placed. Take more photos between those that are apart; on a turntable "
            "before a still backdrop, mask the subject."
        )
        out.append(say(pattern, placed=len(photos) - len(loose), all=len(photos)))
    return out


def doubt_sentences(photos: list[Photo], doubted: Sequence[Doubt]) -> list[Said]:
    """Photos that can hardly stand where they were placed, with the evidence."""
    names = [clean_name(p.path) for p in photos]
    out = []
    for d in doubted:
        evidence = [
            say("{percent} % of its good matches, as with {photos}, are impossible from there",
                percent=round(100 * d.denied), photos=", ".join(names[n] for n in d.against))
        ]  # fmt: skip
        if d.off_path:
            evidence.append(Said("it is far from the photos taken just before and after"))
        out.append(
            say(
                "{photo} can hardly stand where it was placed: {evidence}. It is shown, but nothing is built on it; leave it "
                "out, or take two photos between it and its neighbours.",
                photo=names[d.photo], evidence=evidence,
            )
        )  # fmt: skip
    return out


def spot_sentences(photos: list[Photo], runs: Sequence[Sequence[int]]) -> list[Said]:
    """Runs of photos that were placed on one spot although what they show moves."""
    names = [clean_name(p.path) for p in photos]
    return [
        say(
            "{first} to {last} ({count} photos) were all placed on one spot, although what they show moves: they follow a backdrop "
            "that stands still, or the camera was turned there. Mask the subject in them, or leave them out.",
            first=names[run[0]], last=names[run[-1]], count=len(run),
        )
        for run in runs
    ]  # fmt: skip


def join_sentences(photos: list[Photo], joins: Sequence[Join], sets: Mapping[str, str]) -> list[Said]:
    """How parts that were aligned by themselves were joined, and what solving all afresh was worth."""
    out = []
    for join in joins:
        paths = [photos[n].path for n in join.photos]
        names = sorted({sets[p] for p in paths if p in sets})
        out.append(
            say(
                "{what} {count, plural, one {(# photo)} other {(# photos)}} joined by {points} common points. Their error was "
                "{before} px once laid together, and is {after} px since all cameras were solved afresh.",
                what=names or _listed([clean_name(p) for p in paths], 3), count=len(paths), points=join.points,
                before=round(join.laid_px, 2), after=round(join.solved_px, 2),
            )
        )  # fmt: skip
    return out


#: share by which a focal length has to differ from what the photos say to be told
FOCAL_OFF = 0.05


def focal_sentences(photos: list[Photo], refocused: Sequence[Refocused], lenses: Sequence[LensFigures]) -> list[Said]:
    """Focal lengths that turned out to be others than the photos say, and zooms that were changed on the way."""
    out = []
    by_said: dict[float, list[Refocused]] = {}
    for r in refocused:
        by_said.setdefault(r.said, []).append(r)
    for lens in lenses:
        said, px = lens.get("focal_said_px"), lens["focal_px"]
        # that of photos that were zoomed is told below
        zoomed = any(abs(r.found / px - 1) < FOCAL_OFF for same in by_said.values() if len(same) > 1 for r in same)
        if said and abs(px / said - 1) > FOCAL_OFF and not zoomed:
            out.append(
                say(
                    "The focal length differs by {percent} % from what the photos say: {found} px were found, not {said}.",
                    percent=round(100 * abs(px / said - 1)), found=round(px), said=round(said),
                )
            )  # fmt: skip
    for same in by_said.values():
        first, *others = sorted(same, key=lambda r: -len(r.photos))
        for other in others:
            names = [clean_name(photos[n].path) for n in other.photos]
            out.append(
                say(
                    "{photos} {count, plural, one {has} other {have}} another focal length than the rest, {found} px against "
                    "{usual}: the zoom was changed, or they were cropped. They have a lens of their own now.",
                    photos=_listed(names), count=len(names), found=round(other.found), usual=round(first.found),
                )
            )  # fmt: skip
    return out


def between(solution: Solution, group: Sequence[int], data: AlignInput) -> tuple[int, int]:
    """A placed photo and one of a group that photos between would join: those that share most, or follow each other."""
    placed = set(solution.aligned.tolist())
    theirs = set(group)
    shared = [
        (-len(m), i, j) if i in placed else (-len(m), j, i)
        for (i, j), m in data.matches.items()
        if (i in placed and j in theirs) or (j in placed and i in theirs)
    ]
    if shared:
        return min(shared)[1:]
    return min(((p, n) for p in placed for n in group), key=lambda pair: (abs(pair[0] - pair[1]), pair))


def other_groups(loose: list[int], data: AlignInput, least: int = 3) -> list[list[int]]:
    """Loose photos that hang together among themselves and share next to nothing with those that are placed."""
    index = {n: k for k, n in enumerate(loose)}
    pairs = [(i, j) for i, j in data.matches if i in index and j in index]
    if not pairs:
        return []
    a, b = np.array([index[i] for i, _ in pairs]), np.array([index[j] for _, j in pairs])
    graph = coo_matrix((np.ones(len(a)), (a, b)), shape=(len(loose), len(loose)))
    count, label = connected_components(graph, directed=False)
    within, across = np.zeros(count), np.zeros(count)
    for (i, j), m in data.matches.items():
        for n in {i, j} & set(index):
            (within if i in index and j in index else across)[label[index[n]]] += len(m)
    return [
        [loose[k] for k in np.flatnonzero(label == g)]
        for g in range(count)
        if (label == g).sum() >= least and across[g] < 0.1 * within[g]
    ]


#: unknowns of a lens in words
_UNKNOWNS = {"f": "focal length", "cx": "axis", "k1": "k1", "k2": "k2", "k3": "k3", "p1": "decentring"}


def lens_sentences(lenses: list[LensFigures], noise: float | None) -> list[Said]:
    """What was solved of each lens, what was held because the photos do not say it, and how precisely features lie."""
    out = []
    for lens in lenses:
        solved, held = ([Said(_UNKNOWNS[u]) for u in lens[kind] if u in _UNKNOWNS] for kind in ("solved", "held"))
        px, size = round(lens["focal_px"]), lens["size"]
        parts = [
            say("The lens has a focal length of {px} px.", px=px)
            if len(lenses) == 1
            else say(
                "The lens of {count, plural, one {# photo} other {# photos}} ({width} x {height}) has a focal length of {px} px.",
                count=lens["photos"], width=size[0], height=size[1], px=px,
            )
        ]  # fmt: skip
        if lens["focal_from"] == "guessed" and "f" in lens["solved"]:
            parts.append(Said("Nothing was known of it."))
        parts.append(
            say("Solved from the photos: {what}.", what=solved) if solved else Said("Nothing of it was solved.")
        )
        if held:
            parts.append(say("Held, since the photos do not determine it: {what}.", what=held))
        out.append(together(parts))
    if noise is not None and out:
        out[-1] = together([out[-1], say("Features lie within about {px} px.", px=round(noise, 2))])
    return out
