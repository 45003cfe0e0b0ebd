"""How different two colours look: CIEDE2000.

References
----------
CIE 142:2001; ISO/CIE 11664-6:2014.
Sharma, G., Wu, W., Dalal, E. (2005). The CIEDE2000 color-difference formula: implementation notes, supplementary test data,
and mathematical observations. Color Research and Application 30(1).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray


def ciede2000(one: ArrayLike, other: ArrayLike, lightness: float = 1.0) -> NDArray[np.float64]:
    """Difference of L*a*b* colours (..., 3), which broadcast.

    Parameters
    ----------
    lightness : float
        Weight of differences in lightness (1 over the formula's k_L): less than 1 where light is uneven.
    """
    a, b = np.asarray(one, np.float64), np.asarray(other, np.float64)
    l1, a1, b1 = a[..., 0], a[..., 1], a[..., 2]
    l2, a2, b2 = b[..., 0], b[..., 1], b[..., 2]
    mean7 = ((np.hypot(a1, b1) + np.hypot(a2, b2)) / 2) ** 7
    g = 0.5 * (1 - np.sqrt(mean7 / (mean7 + 25.0**7)))
    a1, a2 = a1 * (1 + g), a2 * (1 + g)
    c1, c2 = np.hypot(a1, b1), np.hypot(a2, b2)
    h1, h2 = np.degrees(np.arctan2(b1, a1)) % 360, np.degrees(np.arctan2(b2, a2)) % 360
    grey = c1 * c2 == 0
    dh = np.where(grey, 0.0, (h2 - h1 + 180) % 360 - 180)
    d_l, d_c = l2 - l1, c2 - c1
    d_h = 2 * np.sqrt(c1 * c2) * np.sin(np.radians(dh) / 2)
    l_m, c_m = (l1 + l2) / 2, (c1 + c2) / 2
    h_m = np.where(grey, h1 + h2, np.where(np.abs(h1 - h2) <= 180, (h1 + h2) / 2, ((h1 + h2 + 360) / 2) % 360))
    cos = lambda degrees: np.cos(np.radians(degrees))  # noqa: E731
    t = 1 - 0.17 * cos(h_m - 30) + 0.24 * cos(2 * h_m) + 0.32 * cos(3 * h_m + 6) - 0.20 * cos(4 * h_m - 63)
    s_l = 1 + 0.015 * (l_m - 50) ** 2 / np.sqrt(20 + (l_m - 50) ** 2)
    s_c, s_h = 1 + 0.045 * c_m, 1 + 0.015 * c_m * t
    turn = 2 * np.sqrt(c_m**7 / (c_m**7 + 25.0**7)) * np.sin(np.radians(60 * np.exp(-(((h_m - 275) / 25) ** 2))))
    x, y, z = lightness * d_l / s_l, d_c / s_c, d_h / s_h
    return np.asarray(np.sqrt(np.maximum(x * x + y * y + z * z - turn * y * z, 0.0)))
