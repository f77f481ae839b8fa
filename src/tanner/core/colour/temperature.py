"""Correlated colour temperature and tint by Robertson's isotemperature lines.

Tint counts the distance from the Planckian locus in CIE 1960 uv times 3000. It is positive where the light
is greener than the locus, so that the picture is rendered towards magenta: the sign and scale of the DNG
specification's reference code (source: dng17), whose own factor is -3000 along the other direction.
"""

import numpy as np

# Reciprocal megakelvin, u, v, slope of the isotemperature line (source: robertson1968, in the table of
# wyszecki2000; line 325 as corrected by Lindbloom).
_LINES = np.array(
    [
        (0, 0.18006, 0.26352, -0.24341), (10, 0.18066, 0.26589, -0.25479), (20, 0.18133, 0.26846, -0.26876),
        (30, 0.18208, 0.27119, -0.28539), (40, 0.18293, 0.27407, -0.3047), (50, 0.18388, 0.27709, -0.32675),
        (60, 0.18494, 0.28021, -0.35156), (70, 0.18611, 0.28342, -0.37915), (80, 0.1874, 0.28668, -0.40955),
        (90, 0.1888, 0.28997, -0.44278), (100, 0.19032, 0.29326, -0.47888), (125, 0.19462, 0.30141, -0.58204),
        (150, 0.19962, 0.30921, -0.70471), (175, 0.20525, 0.31647, -0.84901), (200, 0.21142, 0.32312, -1.0182),
        (225, 0.21807, 0.32909, -1.2168), (250, 0.22511, 0.33439, -1.4512), (275, 0.23247, 0.33904, -1.7298),
        (300, 0.2401, 0.34308, -2.0637), (325, 0.24792, 0.34655, -2.4681), (350, 0.25591, 0.34951, -2.9641),
        (375, 0.264, 0.352, -3.5814), (400, 0.27218, 0.35407, -4.3633), (425, 0.28039, 0.35577, -5.3762),
        (450, 0.28863, 0.35714, -6.7262), (475, 0.29685, 0.35823, -8.5955), (500, 0.30505, 0.35907, -11.324),
        (525, 0.3132, 0.35968, -15.628), (550, 0.32129, 0.36011, -23.325), (575, 0.32931, 0.36038, -40.77),
        (600, 0.33724, 0.36051, -116.45),
    ]
)  # fmt: skip
_MIRED, _U, _V, _T = _LINES.T
_DU = 1 / np.hypot(1, _T)
_DV = _T * _DU
TINT_SCALE = -3000.0


def xy_to_temperature(xy: tuple[float, float]) -> tuple[float, float]:
    """Chromaticity to (kelvin, tint); clipped to 1,667 K and above."""
    x, y = xy
    u, v = 2 * x / (1.5 - x + 6 * y), 3 * y / (1.5 - x + 6 * y)
    distance = -(u - _U) * _DV + (v - _V) * _DU
    below = np.nonzero(distance[1:] <= 0)[0]
    i = int(below[0]) + 1 if below.size else len(_U) - 1
    here, before = max(0.0, -distance[i]), max(0.0, distance[i - 1])
    f = here / (here + before) if here + before > 0 else 0.0
    mired = _MIRED[i - 1] * f + _MIRED[i] * (1 - f)
    du, dv = _DU[i - 1] * f + _DU[i] * (1 - f), _DV[i - 1] * f + _DV[i] * (1 - f)
    length = np.hypot(du, dv)
    off_u = u - (_U[i - 1] * f + _U[i] * (1 - f))
    off_v = v - (_V[i - 1] * f + _V[i] * (1 - f))
    tint = (off_u * du + off_v * dv) / length * TINT_SCALE
    return float(1e6 / max(mired, 1.0)), float(tint)


def temperature_to_xy(kelvin: float, tint: float = 0.0) -> tuple[float, float]:
    """(kelvin, tint) to chromaticity, the inverse of `xy_to_temperature`."""
    mired = min(max(1e6 / kelvin, 0.0), 599.999)
    i = int(np.searchsorted(_MIRED, mired, side="right"))
    f = (_MIRED[i] - mired) / (_MIRED[i] - _MIRED[i - 1])
    u, v = _U[i - 1] * f + _U[i] * (1 - f), _V[i - 1] * f + _V[i] * (1 - f)
    du, dv = _DU[i - 1] * f + _DU[i] * (1 - f), _DV[i - 1] * f + _DV[i] * (1 - f)
    length = np.hypot(du, dv)
    u, v = u + du / length * tint / TINT_SCALE, v + dv / length * tint / TINT_SCALE
    bottom = u - 4 * v + 2
    return float(1.5 * u / bottom), float(v / bottom)


def mired_shift(kelvin: float, mired: float) -> float:
    """A temperature moved by mired, kept between 2,000 and 50,000 K."""
    return float(1e6 / min(max(1e6 / kelvin + mired, 20.0), 500.0))
