"""A model as one HTML file that shows it without a network: model, picture and viewer inside."""

from __future__ import annotations

import base64
import html
import tempfile
from pathlib import Path

from vast_quarry.core.errors import PlainError
from vast_quarry.core.finish.unwrapping import with_coordinates
from vast_quarry.core.formats.atomic import atomic_write
from vast_quarry.core.formats.models import Model
from vast_quarry.core.formats.packed_glb import write_packed_glb
from vast_quarry.core.formats.saving import picture_bytes

#: where the built viewer is: shipped in the package, or in the working copy
_PLACES = (
    Path(__file__).parents[1] / "server" / "page" / "viewer.js", Path(__file__).parents[3] / "web" / "dist" / "viewer.js"
)  # fmt: skip

_PAGE = """<!doctype html>
<html lang="en">
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; script-src 'unsafe-inline' 'wasm-unsafe-eval' blob:; style-src 'unsafe-inline'; img-src blob: data:; connect-src blob: data:">
<title>{title}</title>
<style>
html, body {{ margin: 0; height: 100%; overflow: hidden; font: 15px system-ui, sans-serif; color: #2d2a26; background: #eeece6; }}
canvas {{ position: absolute; inset: 0; width: 100%; height: 100%; touch-action: none; outline-offset: -3px; }}
#bar {{ position: absolute; left: 12px; bottom: 12px; display: flex; flex-wrap: wrap; gap: 8px; align-items: center; }}
#bar button, #bar label {{ font: inherit; min-height: 34px; padding: 4px 12px; border: 1px solid #8d867a; border-radius: 4px; background: #fbfaf7; color: inherit; display: flex; align-items: center; gap: 6px; }}
#bar button[aria-pressed=true] {{ background: #3d5a4c; border-color: #3d5a4c; color: #fff; }}
#head {{ position: absolute; left: 12px; top: 10px; pointer-events: none; }}
h1 {{ font-size: 17px; margin: 0 0 2px; }}
#said {{ margin: 0; }}
#line {{ position: absolute; top: 0; bottom: 0; width: 14px; margin-left: -7px; cursor: col-resize; touch-action: none; background: linear-gradient(#3d5a4c, #3d5a4c) center / 2px 100% no-repeat; }}
#line[hidden] {{ display: none; }}
</style>
<body data-scale="{scale}">
<canvas tabindex="0" aria-label="{title}"></canvas>
<div id="line" hidden role="separator" aria-orientation="vertical" tabindex="0"></div>
<div id="head"><h1>{title}</h1><p id="said" role="status"></p></div>
<div id="bar"></div>
<script id="model" type="application/octet-stream">{model}</script>
<script>{script}</script>
</body>
</html>
"""


def viewer_script() -> str:
    """The built viewer.

    Raises
    ------
    PlainError
        When it was not built.
    """
    found = next((p for p in _PLACES if p.is_file()), None)
    if found is None:
        raise PlainError("The viewer has not been built.", "Run make web.")
    return found.read_text(encoding="utf-8")


def write_viewer(out: Path, model: Model, title: str, to_scale: bool = True) -> None:
    """Write a model as an HTML file; ``to_scale``: its lengths are told in mm.

    Raises
    ------
    PlainError
        When the viewer was not built, or the file cannot be written.
    """
    script = viewer_script().replace("</script", "<\\/script")
    with tempfile.TemporaryDirectory() as work:
        glb = Path(work) / "model.glb"
        # what has no coordinates gets some: the packed form knows no mesh without
        model, _ = with_coordinates(model, 1024)
        assert model.uv is not None
        write_packed_glb(glb, model.vertices, model.normals, model.uv, model.faces, picture_bytes(model, deep=False))
        data = base64.b64encode(glb.read_bytes()).decode()
    page = _PAGE.format(title=html.escape(title), scale="m" if to_scale else "none", model=data, script=script)
    out.parent.mkdir(parents=True, exist_ok=True)
    with atomic_write(out) as f:
        f.write(page.encode())
