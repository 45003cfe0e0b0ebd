"""Outlines as drawings in millimetres: SVG 1.1 (W3C 2011) and DXF (by ezdxf)."""

from __future__ import annotations

import io
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from vast_quarry.core.errors import PlainError

#: room about a drawing (mm)
_ROOM = 5.0


def as_svg(lines: Sequence[NDArray], closed: Sequence[bool], to_mm: float = 1000.0) -> bytes:
    """Lines (K, 2), y up, as an SVG of true size."""
    mm = [np.asarray(line) * to_mm for line in lines]
    if not mm:
        raise PlainError("There is nothing to draw.", "Move the plane.")
    every = np.concatenate(mm)
    low, high = every.min(0) - _ROOM, every.max(0) + _ROOM
    width, height = high - low
    paths = []
    for line, shut in zip(mm, closed):
        # rows of a picture run down
        d = " ".join(f"{x - low[0]:.4f},{high[1] - y:.4f}" for x, y in line)
        paths.append(f'<path d="M {d}{" Z" if shut else ""}"/>')
    text = (
        f'<svg xmlns="http://www.w3.org/2000/svg" version="1.1" width="{width:.4f}mm" height="{height:.4f}mm" '
        f'viewBox="0 0 {width:.4f} {height:.4f}">\n'
        f'<g fill="none" stroke="black" stroke-width="0.25" stroke-linejoin="round">\n{chr(10).join(paths)}\n</g>\n</svg>\n'
    )
    return text.encode()


def as_dxf(lines: Sequence[NDArray], closed: Sequence[bool], to_mm: float = 1000.0) -> bytes:
    """Lines (K, 2) as light polylines of a DXF in millimetres."""
    import ezdxf
    from ezdxf import units

    if not lines:
        raise PlainError("There is nothing to draw.", "Move the plane.")
    document = ezdxf.new("R2010")
    document.units = units.MM
    space = document.modelspace()
    for line, shut in zip(lines, closed):
        space.add_lwpolyline([tuple(map(float, p)) for p in np.asarray(line) * to_mm], close=bool(shut))
    out = io.StringIO()
    document.write(out)
    return out.getvalue().encode()
