"""Writes docs/settings.md from the settings' own declarations; ``--check`` fails when it is stale."""

from __future__ import annotations

import sys
from pathlib import Path

from vast_quarry.pipeline.grades import Grade
from vast_quarry.pipeline.registry import STEPS
from vast_quarry.pipeline.settings import SettingInfo, settings_of, value_in

TARGET = Path(__file__).parents[1] / "docs" / "settings.md"
HEAD = """# Settings

Every setting of every layer, as the page and `vast-quarry settings` tell them. On the command line:
`vast-quarry build PHOTOS --out FOLDER --set points.least_views=4 --set surface.closed=on`.
This page is made by `scripts/settings.py` from the declarations in `pipeline/steps/`; do not edit it.
"""


def _row(layer: str, s: SettingInfo) -> str:
    grades = [value_in(g, layer, s) for g in Grade]
    value = grades[0] if len(set(grades)) == 1 else " / ".join(grades)
    usual = f"{s.usual[0]:g} to {s.usual[1]:g}" if s.usual else ""
    title = f"**{s.title}**" if s.main else s.title
    cells = (f"{title}<br>`{layer}.{s.name}`", f"{s.description} {s.cost}".strip(), value, s.unit, usual, s.possible)
    return "| " + " | ".join(cells) + " |"


def text() -> str:
    """The page."""
    parts = [HEAD]
    for step in STEPS:
        listed = settings_of(step)
        if listed:
            parts.append(f"## {step.title}\n")
            parts.append("| Setting | What it does | Value (Rough / Dressed / Polished) | Unit | Usual | Possible |")
            parts.append("| --- | --- | --- | --- | --- | --- |")
            parts += [_row(step.layer, s) for s in listed]
            parts.append("")
    return "\n".join(parts) + "Those in bold are shown at once; the others under *More settings*.\n"


def main() -> int:
    """Write or check."""
    if "--check" in sys.argv:
        if not TARGET.exists() or TARGET.read_text("utf-8") != text():
            print("docs/settings.md is stale: run scripts/settings.py")
            return 1
        return 0
    TARGET.write_text(text(), "utf-8")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
