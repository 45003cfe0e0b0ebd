"""What is said of a run when it is over: not "done" alone where something is missing."""

from __future__ import annotations

from vast_quarry.core.words import Said, say
from vast_quarry.pipeline.registry import step_of
from vast_quarry.pipeline.run import RunResult


def end_of_run(done: RunResult) -> Said:
    """What a run made, what it could not, and where to look."""
    fresh = [s for s in done.steps if not s["reused"]]
    if not fresh:
        return Said("Everything was there already.")
    made = [say("{layer} {number}", layer=Said(step_of(s["layer"]).title), number=s["version"]) for s in fresh]
    layers = [s["layer"] for s in fresh]
    figures = done.versions["cameras"].figures if "cameras" in layers else {}
    count = int(figures.get("photos") or 0)
    missing = count - int(figures.get("placed") or 0) - int(figures.get("weak") or 0)
    if missing > 0:
        return say(
            "Done, but {missing} of {count, plural, one {# photo} other {# photos}} could not be placed. Open Cameras. Made: {what}.",
            missing=missing,
            count=count,
            what=made,
        )
    with_findings = [Said(step_of(layer).title) for layer in layers if done.versions[layer].findings]
    if with_findings:
        return say("Done. There are findings in {layers}. Made: {what}.", layers=with_findings, what=made)
    return say("Done. Made: {what}.", what=made)
