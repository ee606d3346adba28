"""The Gallowdrove Mill world as one function: rays and a time in, scene-linear radiance (BT.709 primaries) and depth out.

Metres; x to the right, y away from the standing place at the origin, z up; seconds. A white diffuser in the board's
light has radiance 1. The dark of the tarred door and the sun's disc lie more than 14 stops apart. The board's patches
are lit evenly, so that radiance equals reflectance; the cartwheel is exactly round.
"""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor

import numba
import numpy as np
from numpy.typing import NDArray

jit = numba.njit(nogil=True, cache=True, error_model="numpy")

# --- ground truth -------------------------------------------------------------------------------------------------
BOARD_Y, BOARD_X, BOARD_Z, PATCH = 12.0, (-3.6, -0.6), (0.55, 2.05), 0.5
GREYS = (0.90, 0.59, 0.36, 0.18, 0.09, 0.031)  # bottom row, from the left
COLOURS = (
    ((0.40, 0.05, 0.04), (0.10, 0.30, 0.08), (0.04, 0.06, 0.33), (0.60, 0.48, 0.05), (0.42, 0.08, 0.30), (0.06, 0.33, 0.38)),
    ((0.45, 0.28, 0.19), (0.12, 0.09, 0.06), (0.15, 0.20, 0.33), (0.10, 0.15, 0.06), (0.50, 0.20, 0.04), (0.25, 0.50, 0.30)),
)  # fmt: skip
WHITE_CARD_X, WHITE_CARD_Z, WHITE_CARD = (-0.4, 0.3), (0.55, 1.45), 0.90
WHEEL_Y, WHEEL_X, WHEEL_Z, WHEEL_R = 12.5, 4.3, 1.25, 1.2
MILL_X, MILL_Y, MILL_H, MILL_R0, MILL_R1 = 6.0, 38.0, 12.5, 4.2, 2.7
HUB_Y, HUB_Z, SAIL_LENGTH, SAIL_SPEED = 33.6, 12.6, 9.4, 0.55
SUN = np.array([-0.42, 0.88, 0.26]) / np.linalg.norm([-0.42, 0.88, 0.26])
SUN_RADIANCE, SUN_COS = 900.0, math.cos(math.radians(0.6))
DOOR_RADIANCE = 0.004

_BOARD_TABLE = np.array([*COLOURS, tuple((g, g, g) for g in GREYS)], dtype=np.float64)


@jit
def _hash(ix, iy):
    h = (ix * 374761393 + iy * 668265263) & 0xFFFFFFFF
    h = ((h ^ (h >> 13)) * 1274126177) & 0xFFFFFFFF
    return ((h ^ (h >> 16)) & 0xFFFF) / 65535.0


@jit
def _noise(x, y):
    ix, iy = math.floor(x), math.floor(y)
    fx, fy = x - ix, y - iy
    fx, fy = fx * fx * (3 - 2 * fx), fy * fy * (3 - 2 * fy)
    i, j = int(ix), int(iy)
    a = _hash(i, j) + fx * (_hash(i + 1, j) - _hash(i, j))
    b = _hash(i, j + 1) + fx * (_hash(i + 1, j + 1) - _hash(i, j + 1))
    return a + fy * (b - a)


@jit
def _fbm(x, y, octaves):
    total, weight = 0.0, 0.5
    for _ in range(octaves):
        total += weight * _noise(x, y)
        x, y, weight = 2.03 * x + 17.1, 2.03 * y - 9.7, weight * 0.5
    return total


@jit
def _sky(dx, dy, dz, t):
    """Gradient, low sun with its glow, drifting clouds."""
    up = max(dz, 0.0)
    k = math.exp(-4.0 * up)
    r, g, b = 0.13 + 0.58 * k, 0.27 + 0.45 * k, 0.62 + 0.10 * k
    c = dx * SUN[0] + dy * SUN[1] + dz * SUN[2]
    glow = math.exp(-max(1.0 - c, 0.0) * 22.0)
    wide = math.exp(-max(1.0 - c, 0.0) * 5.0)
    r, g, b = r + 1.6 * glow + 0.22 * wide, g + 1.0 * glow + 0.12 * wide, b + 0.45 * glow
    if dz > 0.015:
        s = 1.0 / dz
        density = _fbm(0.55 * dx * s + 0.02 * t + 3.0, 0.55 * dy * s + 8.0, 5)
        cover = min(max((density - 0.47) * 5.0, 0.0), 1.0) * min(dz * 9.0, 1.0)
        lit = 0.82 + 1.5 * glow - 0.35 * min(max((density - 0.6) * 4.0, 0.0), 1.0)
        r, g, b = r + cover * (lit - r), g + cover * (lit * 0.97 - g), b + cover * (lit * 0.95 - b)
    if c > SUN_COS:
        r, g, b = SUN_RADIANCE, SUN_RADIANCE * 0.92, SUN_RADIANCE * 0.78
    return r, g, b


@jit
def _ground(x, y, t):
    """Grass, path and canal; returns r, g, b and whether it is water."""
    canal = -7.0 + 0.05 * y + 1.2 * math.sin(0.07 * y)
    half = 2.6 + 0.4 * math.sin(0.21 * y)
    if abs(x - canal) < half:
        return 0.02, 0.03, 0.03, True
    rough = _fbm(x * 1.7, y * 1.7, 4)
    blades = _noise(x * 23.0, y * 9.0)
    shade = 0.22 + 2.2 * rough * rough + 0.5 * blades
    dry = _fbm(x * 0.25 + 40, y * 0.25, 3)
    r = (0.045 + 0.11 * dry) * shade
    g = (0.070 + 0.065 * dry) * shade
    b = 0.020 * shade
    if abs(x - canal) < half + 0.35:
        return 0.09 * shade, 0.065 * shade, 0.04 * shade, False
    return r, g, b, False


@jit
def _brick(u, z, lit):
    """Tarred over brick: courses of 75 mm, stretchers of 225 mm; the tar has worn off in places."""
    row = math.floor(z / 0.30)
    shift = 0.5 * (int(row) & 1)
    fu, fz = u / 0.9 + shift - math.floor(u / 0.9 + shift), z / 0.30 - row
    mortar = fu < 0.05 or fz < 0.12
    tone = 0.75 + 0.5 * _hash(int(math.floor(u / 0.9 + shift)), int(row))
    tar = min(max((_fbm(u * 0.8, z * 0.5, 4) - 0.36) * 9.0, 0.0), 1.0)
    r, g, b = 0.21 * tone, 0.085 * tone, 0.055 * tone
    if mortar:
        r, g, b = 0.27, 0.25, 0.22
    r, g, b = r + tar * (0.020 - r), g + tar * (0.019 - g), b + tar * (0.021 - b)
    return r * lit, g * lit, b * lit


@jit
def trace_ray(ox, oy, oz, dx, dy, dz, t):
    """Radiance (r, g, b) and depth along one unit ray; depth is infinite in the sky."""
    depth = np.inf
    r, g, b = _sky(dx, dy, dz, t)
    # ground
    if dz < -1e-6:
        s = -oz / dz
        if s > 0:
            x, y = ox + s * dx, oy + s * dy
            gr, gg, gb, water = _ground(x, y, t)
            if water:
                wave = 0.05 * (_noise(x * 1.5 + 0.7 * t, y * 0.45 - 0.4 * t) - 0.5)
                fresnel = 0.15 + 0.75 * math.exp(-3.5 * abs(dz))
                sr, sg, sb = _sky(dx + wave * 0.3, dy, abs(dz) + abs(wave) + 0.02, t)
                gr, gg, gb = gr + fresnel * min(sr, 3.0), gg + fresnel * min(sg, 3.0), gb + fresnel * min(sb, 3.0)
            haze = 1.0 - math.exp(-s / 420.0)
            r, g, b = gr + haze * (0.70 - gr), gg + haze * (0.72 - gg), gb + haze * (0.72 - gb)
            depth = s
    # mill: a cone frustum, r(z) = R0 + k z
    k = (MILL_R1 - MILL_R0) / MILL_H
    px, py = ox - MILL_X, oy - MILL_Y
    rz = MILL_R0 + k * oz
    qa = dx * dx + dy * dy - k * k * dz * dz
    qb = px * dx + py * dy - rz * k * dz
    qc = px * px + py * py - rz * rz
    disc = qb * qb - qa * qc
    if disc > 0 and qa > 0:
        s = (-qb - math.sqrt(disc)) / qa
        z = oz + s * dz
        if 0 < s < depth and 0 <= z <= MILL_H:
            nx, ny = (px + s * dx) / (MILL_R0 + k * z), (py + s * dy) / (MILL_R0 + k * z)
            lit = 0.42 + 1.0 * max(-0.80 * nx - 0.35 * ny, 0.0)
            angle = math.atan2(nx, -ny)
            u = angle * 4.0
            r, g, b = _brick(u + 40.0, z, lit)
            if abs(u + 0.2) < 0.75 and z < 2.3:
                r, g, b = DOOR_RADIANCE, DOOR_RADIANCE * 0.95, DOOR_RADIANCE * 1.05
            elif abs(u + 0.2) < 0.9 and z < 2.5:
                r, g, b = 0.55 * lit, 0.53 * lit, 0.48 * lit
            elif abs(u + 0.2) < 0.45 and (abs(z - 5.2) < 0.55 or abs(z - 8.6) < 0.5):
                frame = abs(u + 0.2) > 0.36 or abs(abs(z - 5.2) - 0.27) < 0.04 or abs(u + 0.2) < 0.03
                r, g, b = (0.6, 0.58, 0.55) if frame else (0.03, 0.04, 0.055)
            depth = s
    # cap: a sphere standing on the tower
    cz, cr = MILL_H + 0.2, MILL_R1 + 0.35
    qx, qy, qz = ox - MILL_X, oy - MILL_Y, (oz - cz) / 0.85
    ez = dz / 0.85
    qa = dx * dx + dy * dy + ez * ez
    qb = qx * dx + qy * dy + qz * ez
    disc = qb * qb - qa * (qx * qx + qy * qy + qz * qz - cr * cr)
    if disc > 0:
        s = (-qb - math.sqrt(disc)) / qa
        if 0 < s < depth and oz + s * dz > MILL_H - 0.25:
            nx, nz = (qx + s * dx) / cr, (qz + s * ez) / cr
            board = 0.9 + 0.1 * (math.sin(math.atan2(nx, 0.6) * 60.0) > -0.7)
            lit = (0.48 + 0.5 * max(-0.6 * nx + 0.5 * nz, 0.0)) * board
            r, g, b = 0.80 * lit, 0.77 * lit, 0.70 * lit
            depth = s
    if dy > 1e-6:
        # sails: a plane across the line of sight
        s = (HUB_Y - oy) / dy
        x, z = ox + s * dx - MILL_X, oz + s * dz - HUB_Z
        rho = math.sqrt(x * x + z * z)
        if 0 < s < depth and rho < SAIL_LENGTH + 0.2:
            phi = math.atan2(z, x) - SAIL_SPEED * t - 0.35
            quarter = phi / (0.5 * math.pi)
            turn = (quarter - math.floor(quarter + 0.5)) * 0.5 * math.pi
            along, across = rho * math.cos(turn), rho * math.sin(turn)
            if rho < 0.42:
                r, g, b = 0.10, 0.085, 0.07
                depth = s
            elif along < SAIL_LENGTH and abs(across) < 0.13:
                r, g, b = 0.30, 0.22, 0.14
                depth = s
            elif 1.7 < along < SAIL_LENGTH and 0.0 < across < 1.65:
                cell = along / 0.62 - math.floor(along / 0.62)
                if cell < 0.14 or across > 1.52 or abs(across - 0.82) < 0.05:
                    r, g, b = 0.34, 0.25, 0.16
                else:
                    cloth = 0.62 + 0.12 * _noise(along * 3.0, across * 3.0)
                    r, g, b = cloth * 1.0, cloth * 0.94, cloth * 0.80
                depth = s
        # pennant on its pole
        s = (20.0 - oy) / dy
        x, z = ox + s * dx + 4.6, oz + s * dz
        if 0 < s < depth:
            if abs(x) < 0.05 and 0 < z < 7.2:
                r, g, b = 0.5, 0.48, 0.44
                depth = s
            elif 0 < x < 2.6:
                wave = 0.22 * math.sin(2.6 * x - 5.0 * t) * min(x, 1.0)
                if abs(z - 6.5 - wave) < 0.55 * (1 - x / 2.6):
                    shade = 0.8 + 0.35 * math.cos(2.6 * x - 5.0 * t)
                    r, g, b = 0.55 * shade, 0.10 * shade, 0.06 * shade
                    depth = s
        # kite, far and high
        s = (60.0 - oy) / dy
        x = ox + s * dx + 15.0 - 2.5 * math.sin(0.5 * t)
        z = oz + s * dz - 27.0 - 1.5 * math.cos(0.7 * t)
        if 0 < s < depth and abs(x) / 1.5 + abs(z + 0.4) / 2.1 < 1.0:
            if (x > 0) == (z > 0.0):
                r, g, b = 0.75, 0.14, 0.05
            else:
                r, g, b = 0.80, 0.60, 0.10
            depth = s
        # board and white card
        s = (BOARD_Y - oy) / dy
        x, z = ox + s * dx, oz + s * dz
        if 0 < s < depth:
            if BOARD_X[0] - 0.08 < x < BOARD_X[1] + 0.08 and BOARD_Z[0] - 0.08 < z < BOARD_Z[1] + 0.08:
                r = g = b = 0.045
                if BOARD_X[0] < x < BOARD_X[1] and BOARD_Z[0] < z < BOARD_Z[1]:
                    u, v = (x - BOARD_X[0]) / PATCH, (z - BOARD_Z[0]) / PATCH
                    i, j = int(u), int(v)
                    if min(u - i, i + 1 - u, v - j, j + 1 - v) > 0.04:
                        r, g, b = _BOARD_TABLE[2 - j, i, 0], _BOARD_TABLE[2 - j, i, 1], _BOARD_TABLE[2 - j, i, 2]
                depth = s
            elif WHITE_CARD_X[0] < x < WHITE_CARD_X[1] and WHITE_CARD_Z[0] < z < WHITE_CARD_Z[1]:
                r = g = b = WHITE_CARD
                depth = s
            elif 0 <= z < 0.6 and (abs(x + 3.3) < 0.04 or abs(x + 0.9) < 0.04):
                r, g, b = 0.20, 0.14, 0.09
                depth = s
        # cartwheel
        s = (WHEEL_Y - oy) / dy
        x, z = ox + s * dx - WHEEL_X, oz + s * dz - WHEEL_Z
        rho = math.sqrt(x * x + z * z)
        if 0 < s < depth and rho < WHEEL_R:
            spoke = math.atan2(z, x) * 10.0 / (2 * math.pi)
            off = (spoke - math.floor(spoke + 0.5)) * 2 * math.pi / 10.0 * rho
            if rho > WHEEL_R - 0.05:
                r, g, b = 0.015, 0.014, 0.013
                depth = s
            elif rho > WHEEL_R - 0.22 or rho < 0.2 or abs(off) < 0.05:
                grain = 0.8 + 0.4 * _noise(x * 9.0, z * 30.0)
                r, g, b = 0.30 * grain, 0.15 * grain, 0.08 * grain
                depth = s
        # reeds along the near bank: blades in three rows
        for row in range(3):
            s = (7.0 + 1.6 * row - oy) / dy
            x, z = ox + s * dx, oz + s * dz
            if 0 < s < depth and 0 < z < 1.6 and x < -3.25:
                u = x * 11.0 + 3.7 * row
                for cell in range(int(math.floor(u)) - 1, int(math.floor(u)) + 2):
                    seed = _hash(cell, row * 7 + 1)
                    tall = 0.5 + 1.0 * seed * min(max((-2.2 - x) * 0.8, 0.35), 1.0)
                    lean = (seed - 0.5) * 1.2 + 0.25 * math.sin(1.3 * t + 6.0 * seed + 0.4 * x)
                    if z < tall and abs(u - cell - 0.5 - lean * z * z) < 0.22 * (1.0 - z / tall) + 0.03:
                        shade = 0.5 + 0.7 * _hash(cell, 99)
                        r, g, b = 0.13 * shade, 0.125 * shade, 0.035 * shade
                        if z > tall - 0.14:
                            r, g, b = 0.16 * shade, 0.09 * shade, 0.045 * shade
                        depth = s
    return r, g, b, depth


@jit
def _trace(origins, directions, times, radiance, depths):
    for i in range(directions.shape[0]):
        o, d = origins[i], directions[i]
        r, g, b, s = trace_ray(o[0], o[1], o[2], d[0], d[1], d[2], times[i])
        radiance[i, 0], radiance[i, 1], radiance[i, 2] = r, g, b
        depths[i] = s


def trace(
    origins: NDArray[np.float64], directions: NDArray[np.float64], times: NDArray[np.float64] | float, threads: int = 2
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Radiance (n, 3) and depth (n,) of unit rays.

    origins (3,) or (n, 3) metres; directions (n, 3) unit; times (n,) or one number, seconds.
    """
    n = len(directions)
    origins = np.broadcast_to(np.asarray(origins, np.float64), (n, 3))
    stamps = np.ascontiguousarray(np.broadcast_to(np.asarray(times, np.float64), (n,)))
    origins = np.ascontiguousarray(origins)
    radiance, depth = np.empty((n, 3)), np.empty(n)
    cuts = np.linspace(0, n, threads * 4 + 1).astype(int)
    with ThreadPoolExecutor(threads) as pool:
        list(pool.map(
            lambda i: _trace(origins[i[0]:i[1]], directions[i[0]:i[1]], stamps[i[0]:i[1]], radiance[i[0]:i[1]], depth[i[0]:i[1]]),
            zip(cuts[:-1], cuts[1:], strict=True),
        ))  # fmt: skip
    return radiance, depth
