"""Splitting, collapsing and turning edges of a triangle mesh in place.

Half-edge 3 f + k of face f runs from its corner k to the next; ``twin`` names the one that runs the other way in the face beside, -1
at a border. A face that is gone has -1 for corners. ``line`` marks half-edges that are to stay: borders and sharp edges; ``kind`` of a
vertex is 0 within, 1 on one such line, 2 where lines end or meet.
"""

# mypy: disable-error-code="no-untyped-def"
from __future__ import annotations

import numpy as np
from numba import njit

#: faces about a vertex at most
_RING = 256


@njit(error_model="numpy", cache=True)
def _next(h):
    return h + 1 if h % 3 < 2 else h - 2


@njit(error_model="numpy", cache=True)
def _before(h):
    return h - 1 if h % 3 > 0 else h + 2


@njit(error_model="numpy", cache=True)
def ring(v, faces, twin, out, buffer):
    """Half-edges that begin at a vertex, into ``buffer``; how many, -1 when there are more than it holds."""
    start = out[v]
    if start < 0:
        return 0
    n, h = 0, start
    while True:
        if n >= len(buffer):
            return -1
        buffer[n] = h
        n += 1
        h = twin[_before(h)]
        if h == start:
            return n
        if h < 0:
            break
    h = start
    while True:
        t = twin[h]
        if t < 0:
            return n
        h = _next(t)
        if n >= len(buffer):
            return -1
        buffer[n] = h
        n += 1


@njit(error_model="numpy", cache=True)
def _cross(v, a, b, c):
    ux, uy, uz = v[b, 0] - v[a, 0], v[b, 1] - v[a, 1], v[b, 2] - v[a, 2]
    wx, wy, wz = v[c, 0] - v[a, 0], v[c, 1] - v[a, 1], v[c, 2] - v[a, 2]
    return uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx


@njit(error_model="numpy", cache=True)
def _length(v, a, b):
    return np.sqrt((v[a, 0] - v[b, 0]) ** 2 + (v[a, 1] - v[b, 1]) ** 2 + (v[a, 2] - v[b, 2]) ** 2)


@njit(error_model="numpy", cache=True)
def _link(twin, a, b):
    if a >= 0:
        twin[a] = b
    if b >= 0:
        twin[b] = a


@njit(error_model="numpy", cache=True)
def _close(twin, line, x, y):
    """Join what lies beyond two half-edges of a face that goes, and what those are, -1 at a border."""
    tx, ty = twin[x], twin[y]
    stays = line[x] or line[y]
    _link(twin, tx, ty)
    if tx >= 0:
        line[tx] = stays or ty < 0
    if ty >= 0:
        line[ty] = stays or tx < 0
    return tx, ty


@njit(error_model="numpy", cache=True)
def split_long(v, faces, twin, line, kind, out, wanted, count, longer):
    """Split edges ``longer`` times what is wanted at their ends; ``count`` (2,) is how many vertices and faces there are.

    How many were split, and whether arrays were full before the end.
    """
    done = 0
    for h in range(3 * count[1]):
        f, k = h // 3, h % 3
        if faces[f, 0] < 0:
            continue
        t = twin[h]
        if t > h:
            continue
        a, b, c = faces[f, k], faces[f, (k + 1) % 3], faces[f, (k + 2) % 3]
        far = _length(v, a, b)
        if far <= longer * 0.5 * (wanted[a] + wanted[b]):
            continue
        # only the longest of the faces beside: others would leave splinters, more with each pass
        most = max(_length(v, b, c), _length(v, c, a))
        if t >= 0:
            across = faces[t // 3, (t % 3 + 2) % 3]
            most = max(most, _length(v, a, across), _length(v, b, across))
        if far < 0.999 * most:
            continue
        if count[0] + 1 > len(v) or count[1] + 2 > len(faces):
            return done, True
        m, f2 = count[0], count[1]
        count[0] += 1
        count[1] += 1
        for x in range(3):
            v[m, x] = 0.5 * (v[a, x] + v[b, x])
        wanted[m] = 0.5 * (wanted[a] + wanted[b])
        kind[m] = 1 if line[h] else 0
        n1 = _next(h)
        beyond, was = twin[n1], line[n1]
        faces[f, (k + 1) % 3] = m
        faces[f2, k], faces[f2, (k + 1) % 3], faces[f2, (k + 2) % 3] = m, b, c
        h2 = 3 * f2 + k
        b1, b2 = _next(h2), _before(h2)
        _link(twin, b1, beyond)
        _link(twin, n1, b2)
        line[h2], line[b1], line[b2], line[n1] = line[h], was, False, False
        twin[h2] = -1
        out[m], out[b] = h2, b1
        if t >= 0:
            g, j, g2 = t // 3, t % 3, count[1]
            count[1] += 1
            d = faces[g, (j + 2) % 3]
            p = _before(t)
            beyond, was = twin[p], line[p]
            faces[g, j] = m
            faces[g2, j], faces[g2, (j + 1) % 3], faces[g2, (j + 2) % 3] = b, m, d
            t2 = 3 * g2 + j
            _link(twin, _before(t2), beyond)
            _link(twin, p, _next(t2))
            _link(twin, h2, t2)
            line[t2], line[_before(t2)], line[_next(t2)], line[p] = line[t], was, False, False
        done += 1
    return done, False


@njit(error_model="numpy", cache=True)
def collapse_short(v, faces, twin, line, kind, out, wanted, count, shorter, longer, turn):
    """Collapse edges ``shorter`` times what is wanted where that leaves none longer than ``longer`` times it and turns no face further
    than ``turn`` (cosine); how many."""
    ra, rb = np.empty(_RING, np.int64), np.empty(_RING, np.int64)
    near = np.full(len(v), -1, np.int64)
    place = np.empty(3)
    done = 0
    for h in range(3 * count[1]):
        f, k = h // 3, h % 3
        if faces[f, 0] < 0 or twin[h] > h:
            continue
        a, b = faces[f, k], faces[f, (k + 1) % 3]
        if _length(v, a, b) >= shorter * 0.5 * (wanted[a] + wanted[b]):
            continue
        # the one that goes is b: it may be no more than a is
        e = h
        if kind[b] > kind[a]:
            a, b = b, a
        if kind[b] == 2 or (kind[b] == 1 and not line[h]):
            continue
        if faces[f, k] != a and twin[h] >= 0:
            e = twin[h]
        if faces[e // 3, e % 3] != a:
            continue  # a border edge whose end has to stay: its neighbour along the border will be taken
        na, nb = ring(a, faces, twin, out, ra), ring(b, faces, twin, out, rb)
        if (na < 3 and kind[a] == 0) or na <= 0 or nb <= 0:
            continue
        t = twin[e]
        c = faces[e // 3, (e % 3 + 2) % 3]
        d = faces[t // 3, (t % 3 + 2) % 3] if t >= 0 else -1
        if c == d:
            continue
        # ends share no neighbour but the two across: else a sheet would fold onto itself
        for i in range(na):
            near[faces[ra[i] // 3, (ra[i] % 3 + 1) % 3]] = h
            near[faces[ra[i] // 3, (ra[i] % 3 + 2) % 3]] = h
        common, border_a, border_b = 0, False, False
        for i in range(na):
            border_a |= twin[ra[i]] < 0 or twin[_before(ra[i])] < 0
        for i in range(nb):
            border_b |= twin[rb[i]] < 0 or twin[_before(rb[i])] < 0
            w = faces[rb[i] // 3, (rb[i] % 3 + 1) % 3]
            if near[w] == h and w != a:
                common += 1
                near[w] = -1
            w = faces[rb[i] // 3, (rb[i] % 3 + 2) % 3]
            if near[w] == h and w != a:
                common += 1
                near[w] = -1
        if common != (2 if t >= 0 else 1) or (t >= 0 and border_a and border_b):
            continue
        if na + nb - (4 if t >= 0 else 2) < (3 if not border_a and not border_b else 1):
            continue
        x, y = _next(e), _before(e)
        if twin[x] < 0 and twin[y] < 0:
            continue
        if t >= 0 and twin[_next(t)] < 0 and twin[_before(t)] < 0:
            continue
        half = 0.5 if kind[a] == 0 else 0.0
        for i in range(3):
            place[i] = v[a, i] + half * (v[b, i] - v[a, i])
        ok = True
        for side in range(2):
            r, n, w = (ra, na, a) if side == 0 else (rb, nb, b)
            for i in range(n):
                g = r[i] // 3
                if g == e // 3 or (t >= 0 and g == t // 3):
                    continue
                p, q = faces[g, (r[i] % 3 + 1) % 3], faces[g, (r[i] % 3 + 2) % 3]
                far = np.sqrt((v[p, 0] - place[0]) ** 2 + (v[p, 1] - place[1]) ** 2 + (v[p, 2] - place[2]) ** 2)
                if far > longer * 0.5 * (wanted[a] + wanted[p]):
                    ok = False
                    break
                ox, oy, oz = _cross(v, w, p, q)
                ux, uy, uz = v[p, 0] - place[0], v[p, 1] - place[1], v[p, 2] - place[2]
                wx, wy, wz = v[q, 0] - place[0], v[q, 1] - place[1], v[q, 2] - place[2]
                nx, ny, nz = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
                old, new = ox * ox + oy * oy + oz * oz, nx * nx + ny * ny + nz * nz
                if ox * nx + oy * ny + oz * nz <= turn * np.sqrt(old * new) or new < 1e-12 * wanted[a] ** 4:
                    ok = False
                    break
            if not ok:
                break
        if not ok:
            continue
        for i in range(nb):
            faces[rb[i] // 3, rb[i] % 3] = a
        for i in range(3):
            v[a, i] = place[i]
        tx, ty = _close(twin, line, x, y)
        out[c] = _next(ty) if ty >= 0 else tx
        faces[e // 3, 0] = -1
        if t >= 0:
            x, y = _next(t), _before(t)
            tx, ty = _close(twin, line, x, y)
            out[d] = tx if tx >= 0 else _next(ty)
            faces[t // 3, 0] = -1
        out[b] = -1
        out[a] = -1
        for i in range(na):
            if faces[ra[i] // 3, 0] >= 0:
                out[a] = ra[i]
        if out[a] < 0:
            for i in range(nb):
                if faces[rb[i] // 3, 0] >= 0:
                    out[a] = rb[i]
        done += 1
    return done


@njit(error_model="numpy", cache=True)
def turn_edges(v, faces, twin, line, kind, out, count, turn):
    """Turn edges where corners then have nearer to six neighbours (four on a line), and no face turns further than ``turn``; how many."""
    degree = np.zeros(len(v), np.int64)
    for f in range(count[1]):
        if faces[f, 0] < 0:
            continue
        for k in range(3):
            degree[faces[f, k]] += 1
            if twin[3 * f + k] < 0:
                degree[faces[f, (k + 1) % 3]] += 1
    buffer = np.empty(_RING, np.int64)
    done = 0
    for h in range(3 * count[1]):
        f, k = h // 3, h % 3
        t = twin[h]
        if faces[f, 0] < 0 or t < 0 or t > h or line[h]:
            continue
        g, j = t // 3, t % 3
        a, b, c, d = faces[f, k], faces[f, (k + 1) % 3], faces[f, (k + 2) % 3], faces[g, (j + 2) % 3]
        if c == d:
            continue
        before, after = 0, 0
        for w, change in ((a, -1), (b, -1), (c, 1), (d, 1)):
            best = 6 if kind[w] == 0 else 4
            before += (degree[w] - best) ** 2
            after += (degree[w] + change - best) ** 2
        if after >= before or degree[a] <= 3 or degree[b] <= 3:
            continue
        ax, ay, az = _cross(v, a, b, c)
        bx, by, bz = _cross(v, b, a, d)
        px, py, pz = _cross(v, a, d, c)
        qx, qy, qz = _cross(v, d, b, c)
        one, two = np.sqrt(ax * ax + ay * ay + az * az), np.sqrt(bx * bx + by * by + bz * bz)
        p, q = np.sqrt(px * px + py * py + pz * pz), np.sqrt(qx * qx + qy * qy + qz * qz)
        least = 0.05 * (one + two)
        if p < least or q < least:
            continue
        sx, sy, sz = ax + bx, ay + by, az + bz
        both = np.sqrt(sx * sx + sy * sy + sz * sz)
        if sx * px + sy * py + sz * pz < turn * both * p or sx * qx + sy * qy + sz * qz < turn * both * q:
            continue
        n = ring(c, faces, twin, out, buffer)
        meets = n < 0
        for i in range(n):
            face, corner = buffer[i] // 3, buffer[i] % 3
            if faces[face, (corner + 1) % 3] == d or faces[face, (corner + 2) % 3] == d:
                meets = True
        if meets:
            continue
        bc, ca, ad, db = _next(h), _before(h), _next(t), _before(t)
        t_bc, t_ca, t_ad, t_db = twin[bc], twin[ca], twin[ad], twin[db]
        l_bc, l_ca, l_ad, l_db = line[bc], line[ca], line[ad], line[db]
        faces[f, 0], faces[f, 1], faces[f, 2] = a, d, c
        faces[g, 0], faces[g, 1], faces[g, 2] = d, b, c
        twin[3 * f] = twin[3 * f + 2] = twin[3 * g] = twin[3 * g + 1] = -1
        _link(twin, 3 * f, t_ad)
        _link(twin, 3 * f + 1, 3 * g + 2)
        _link(twin, 3 * f + 2, t_ca)
        _link(twin, 3 * g, t_db)
        _link(twin, 3 * g + 1, t_bc)
        line[3 * f], line[3 * f + 1], line[3 * f + 2] = l_ad, False, l_ca
        line[3 * g], line[3 * g + 1], line[3 * g + 2] = l_db, l_bc, False
        out[a], out[d], out[c], out[b] = 3 * f, 3 * f + 1, 3 * f + 2, 3 * g + 1
        degree[a] -= 1
        degree[b] -= 1
        degree[c] += 1
        degree[d] += 1
        done += 1
    return done
