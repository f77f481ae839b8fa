"""Colour spaces: the linear working space, the output spaces, their matrices and ICC profiles.

Working space: ROMM primaries, linear, D50 (source: iso22028-2). Matrices act on column vectors.
"""

import struct
from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.typing import NDArray

Matrix = NDArray[np.float64]

D50_XYZ = np.array([0.9642, 1.0, 0.8249])
"""The profile connection space's white, as ICC.1 rounds it (source: icc2010)."""
D65_XY = (0.3127, 0.3290)
D50_XY = (0.3457, 0.3585)
BRADFORD = np.array([[0.8951, 0.2664, -0.1614], [-0.7502, 1.7135, 0.0367], [0.0389, -0.0685, 1.0296]])


def xy_to_xyz(xy: tuple[float, float]) -> NDArray[np.float64]:
    """XYZ with Y = 1 of a chromaticity."""
    x, y = xy
    return np.array([x / y, 1.0, (1 - x - y) / y])


def adaptation(source: NDArray[np.float64], target: NDArray[np.float64]) -> Matrix:
    """Bradford adaptation from one white (XYZ) to another (source: lam1985)."""
    gain = (BRADFORD @ target) / (BRADFORD @ source)
    matrix: Matrix = np.linalg.inv(BRADFORD) @ np.diag(gain) @ BRADFORD
    return matrix


@dataclass(frozen=True)
class Space:
    """An RGB space: primaries and white as xy, and its encoding curve.

    Attributes:
        curve: "srgb", "romm" or a plain exponent.
    """

    name: str
    title: str
    primaries: tuple[tuple[float, float], ...]
    white: tuple[float, float]
    curve: str | float

    def to_pcs(self) -> Matrix:
        """Linear RGB to XYZ relative to D50 (Bradford)."""
        columns = np.stack([xy_to_xyz(p) for p in self.primaries], axis=1)
        white = xy_to_xyz(self.white)
        scaled = columns * np.linalg.solve(columns, white)
        matrix: Matrix = adaptation(white, D50_XYZ) @ scaled
        return matrix

    def encode(self, linear: NDArray[np.float64]) -> NDArray[np.float64]:
        """Linear 0 to 1 to encoded 0 to 1."""
        x = np.clip(linear, 0, 1)
        if self.curve == "srgb":
            return np.where(x <= 0.0031308, 12.92 * x, 1.055 * np.maximum(x, 1e-9) ** (1 / 2.4) - 0.055)
        if self.curve == "romm":
            return np.where(x < 1 / 512, 16 * x, np.maximum(x, 1e-9) ** (1 / 1.8))
        return np.asarray(x ** (1 / float(self.curve)))

    def decode(self, encoded: NDArray[np.float64]) -> NDArray[np.float64]:
        """The inverse of `encode`."""
        e = np.clip(encoded, 0, 1)
        if self.curve == "srgb":
            return np.where(e <= 0.04045, e / 12.92, ((e + 0.055) / 1.055) ** 2.4)
        if self.curve == "romm":
            return np.where(e < 16 / 512, e / 16, e**1.8)
        return np.asarray(e ** float(self.curve))


_P1998 = ((0.64, 0.33), (0.21, 0.71), (0.15, 0.06))
_PROMM = ((0.734699, 0.265301), (0.159597, 0.840403), (0.036598, 0.000105))
SPACES: dict[str, Space] = {
    s.name: s
    for s in (
        Space("srgb", "sRGB", ((0.64, 0.33), (0.30, 0.60), (0.15, 0.06)), D65_XY, "srgb"),
        Space("p3", "Display P3", ((0.680, 0.320), (0.265, 0.690), (0.150, 0.060)), D65_XY, "srgb"),
        Space("widegamut1998", "Wide gamut 1998", _P1998, D65_XY, 563 / 256),
        Space("prophoto", "ProPhoto / ROMM", _PROMM, D50_XY, "romm"),
    )
}


@cache
def _working_to_pcs() -> Matrix:
    matrix = SPACES["prophoto"].to_pcs()
    matrix.setflags(write=False)
    return matrix


def pcs_to_working() -> Matrix:
    return np.asarray(np.linalg.inv(_working_to_pcs()), dtype=np.float64)


def working_to(space: Space) -> Matrix:
    """Linear working space to a linear output space."""
    matrix: Matrix = np.linalg.inv(space.to_pcs()) @ _working_to_pcs()
    return matrix


def luminance_weights() -> NDArray[np.float64]:
    """Y of the working space's primaries: weights that sum to 1."""
    return _working_to_pcs()[1] / _working_to_pcs()[1].sum()


_OKLAB_CONES = np.array(
    [
        [0.8189330101, 0.3618667424, -0.1288597137],
        [0.0329845436, 0.9293118715, 0.0361456387],
        [0.0482003018, 0.2643662691, 0.6338517070],
    ]
)
"""XYZ under D65 to the cone responses of Oklab (source: ottosson2020)."""


def oklab_cones(space: Space) -> NDArray[np.float64]:
    """Linear values of a space to Oklab's cone responses, and back, (2, 3, 3); D50 goes to D65 by Bradford."""
    to = _OKLAB_CONES @ adaptation(D50_XYZ, xy_to_xyz(D65_XY)) @ space.to_pcs()
    return np.stack([to, np.linalg.inv(to)])


OKLAB_AXES = np.array(
    [
        [0.2104542553, 0.7936177850, -0.0040720468],
        [1.9779984951, -2.4285922050, 0.4505937099],
        [0.0259040371, 0.7827717662, -0.8086757660],
    ]
)
"""Roots of the cone responses to Oklab (source: ottosson2020)."""


@cache
def neutral_cones() -> NDArray[np.float64]:
    """Working space to the cone responses of Oklab and back, (2, 3, 3), so that its white gives three equal ones.

    By the published figures white is 0.0001 of chroma off grey; greys would get a colour when colours are made stronger.
    """
    to = oklab_cones(SPACES["prophoto"])[0]
    to = to / to.sum(axis=1, keepdims=True)
    return np.stack([to, np.linalg.inv(to)])


def oklab(working: NDArray[np.float64]) -> NDArray[np.float64]:
    """Oklab (..., 3) of linear working values; greys have no chroma."""
    return np.asarray(np.cbrt(working @ neutral_cones()[0].T) @ OKLAB_AXES.T)


def from_oklab(lab: NDArray[np.float64]) -> NDArray[np.float64]:
    """The inverse of `oklab`."""
    return np.asarray((lab @ np.linalg.inv(OKLAB_AXES).T) ** 3 @ neutral_cones()[1].T)


def outside(working: NDArray[np.float32], name: str, tolerance: float = 0.002) -> NDArray[np.bool_]:
    """Where linear working values (..., 3) lie outside an output space: a channel below 0, or all of it too colourful.

    Values whose only fault is that they are brighter than white are clipped, which is another mark's matter.
    """
    linear = working @ working_to(SPACES[name]).T.astype(np.float32)
    top = np.maximum(linear.max(axis=-1), 1e-6)
    return np.asarray((linear.min(axis=-1) < -tolerance * top) | ((top > 1 + tolerance) & (working.max(axis=-1) <= 1)))


# --- ICC profiles -----------------------------------------------------------------------------


def _fixed(values: NDArray[np.float64] | list[float]) -> bytes:
    return b"".join(struct.pack(">i", round(float(v) * 65536)) for v in values)


def _text(text: str) -> bytes:
    data = text.encode("utf-16-be")
    return b"mluc" + struct.pack(">IIIHHII", 0, 1, 12, 0x656E, 0x4742, len(data), 28) + data


def _curve(space: Space, version: int) -> bytes:
    if not isinstance(space.curve, str):
        return b"curv\0\0\0\0" + struct.pack(">IH", 1, round(float(space.curve) * 256))
    if version == 2:  # no formula there: the curve in 1,024 steps
        steps = np.rint(space.decode(np.linspace(0, 1, 1024)) * 65535).astype(">u2")
        return b"curv\0\0\0\0" + struct.pack(">I", len(steps)) + steps.tobytes()
    if space.curve == "srgb":
        return b"para\0\0\0\0" + struct.pack(">HH", 3, 0) + _fixed([2.4, 1 / 1.055, 0.055 / 1.055, 1 / 12.92, 0.04045])
    return b"para\0\0\0\0" + struct.pack(">HH", 3, 0) + _fixed([1.8, 1.0, 0.0, 1 / 16, 16 / 512])


def _plain_text(text: str, kind: bytes) -> bytes:
    """Version 2's text: a description, or the copyright."""
    data = text.encode("ascii") + b"\0"
    if kind == b"text":
        return b"text\0\0\0\0" + data
    return b"desc\0\0\0\0" + struct.pack(">I", len(data)) + data + b"\0" * (4 + 4 + 2 + 1 + 67)


@cache
def icc_profile(name: str, version: int = 4) -> bytes:
    """A small matrix and curve profile of one of SPACES (source: icc2010), of version 4 or 2."""
    space = SPACES[name]
    matrix = space.to_pcs()
    chad = adaptation(xy_to_xyz(space.white), D50_XYZ)
    xyz = [b"XYZ \0\0\0\0" + _fixed(matrix[:, i]) for i in range(3)]
    curve = _curve(space, version)
    title = f"Tanner {space.title}"
    tags = [
        (b"desc", _text(title) if version == 4 else _plain_text(title, b"desc")),
        (b"cprt", _text("CC0") if version == 4 else _plain_text("CC0", b"text")),
        (b"wtpt", b"XYZ \0\0\0\0" + _fixed(D50_XYZ)),
        (b"chad", b"sf32\0\0\0\0" + _fixed(chad.ravel())),
        (b"rXYZ", xyz[0]),
        (b"gXYZ", xyz[1]),
        (b"bXYZ", xyz[2]),
        (b"rTRC", curve),
        (b"gTRC", curve),
        (b"bTRC", curve),
    ]
    offset = 128 + 4 + 12 * len(tags)
    table, body, placed = b"", b"", dict[bytes, int]()
    for signature, data in tags:
        if data not in placed:
            placed[data] = offset + len(body)
            body += data + b"\0" * (-len(data) % 4)
        table += signature + struct.pack(">II", placed[data], len(data))
    size = offset + len(body)
    header = struct.pack(
        ">I4sI4s4s4s", size, b"\0" * 4, 0x04400000 if version == 4 else 0x02400000, b"mntr", b"RGB ", b"XYZ "
    )
    header += struct.pack(">6H", 2026, 1, 1, 0, 0, 0) + b"acsp" + b"\0" * 4 + struct.pack(">I", 0)
    header += b"\0" * 8 + b"\0" * 8 + struct.pack(">I", 0) + _fixed(D50_XYZ)
    return header.ljust(128, b"\0") + struct.pack(">I", len(tags)) + table + body
