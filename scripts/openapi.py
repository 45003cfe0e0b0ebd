"""Writes the OpenAPI document, from which the page's client is typed; ``--check`` fails when it is stale."""

from __future__ import annotations

import json
import sys
import tempfile
from pathlib import Path

from vast_quarry.server.app import make_app

TARGET = Path(__file__).parents[1] / "docs" / "openapi.json"


def main() -> int:
    """Write or check."""
    with tempfile.TemporaryDirectory() as folder:
        text = json.dumps(make_app(Path(folder)).openapi(), indent=1, sort_keys=True) + "\n"
    if "--check" in sys.argv:
        if not TARGET.exists() or TARGET.read_text() != text:
            print("docs/openapi.json is stale: run scripts/openapi.py and `npm run api` in web/")
            return 1
        return 0
    TARGET.write_text(text)
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
