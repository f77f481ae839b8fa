"""Look-up tables in the .cube text form: one- and three-dimensional ones, read and written.

The form has no public standard; this follows its common description (LUT_1D_SIZE, LUT_3D_SIZE, DOMAIN_MIN,
DOMAIN_MAX, TITLE; red runs fastest): common practice, no source.
"""

import re
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from tanner.core.errors import TannerError

F32 = NDArray[np.float32]


class CubeError(TannerError):
    """A .cube file that cannot be used, with the line and the reason."""


@dataclass(frozen=True)
class Cube:
    """A table.

    Attributes:
        table: float32; (n, 3) for one dimension, (n, n, n, 3) indexed red, green, blue for three.
        low, high: the domain of the input.
    """

    title: str
    table: F32
    low: tuple[float, float, float] = (0.0, 0.0, 0.0)
    high: tuple[float, float, float] = (1.0, 1.0, 1.0)


def read_cube(text: str, where: str) -> Cube:
    """Parse a .cube file.

    Raises:
        CubeError: with the file's name, the line and what is wrong.
    """
    title, size, dimensions = "", 0, 0
    low, high = (0.0, 0.0, 0.0), (1.0, 1.0, 1.0)
    rows: list[list[float]] = []
    for number, raw in enumerate(text.splitlines(), 1):
        line = raw.split("#")[0].strip()
        if not line:
            continue
        word, _, rest = line.partition(" ")

        def values(rest: str = rest, number: int = number) -> tuple[float, float, float]:
            try:
                found = [float(v) for v in rest.split()]
            except ValueError:
                found = []
            if len(found) != 3 or not np.isfinite(found).all():
                raise CubeError(f"{where}, line {number}: three numbers are wanted.")
            return found[0], found[1], found[2]

        if word == "TITLE":
            title = rest.strip().strip('"')[:80]
        elif word in ("LUT_1D_SIZE", "LUT_3D_SIZE"):
            dimensions = int(word[4])
            most = 65536 if dimensions == 1 else 129
            if not rest.strip().isdigit() or not 2 <= int(rest) <= most:
                raise CubeError(f"{where}, line {number}: a size from 2 to {most} is wanted.")
            size = int(rest)
        elif word == "DOMAIN_MIN":
            low = values()
        elif word == "DOMAIN_MAX":
            high = values()
        elif word in ("LUT_1D_INPUT_RANGE", "LUT_3D_INPUT_RANGE"):
            pair = rest.split()
            if len(pair) != 2 or not all(re.fullmatch(r"[-+.\deE]+", p) for p in pair):
                raise CubeError(f"{where}, line {number}: two numbers are wanted.")
            low, high = (float(pair[0]),) * 3, (float(pair[1]),) * 3
        elif re.match(r"[-+.\d]", word):
            rows.append(list(values(line)))
        else:
            raise CubeError(f"{where}, line {number}: {word[:20]} is not known.")
    wanted = size if dimensions == 1 else size**3
    if not dimensions:
        raise CubeError(f"{where} says no size (LUT_1D_SIZE or LUT_3D_SIZE).")
    if len(rows) != wanted:
        raise CubeError(f"{where} has {len(rows)} rows; its size asks for {wanted}.")
    if any(b <= a for a, b in zip(low, high, strict=True)):
        raise CubeError(f"{where}: its domain is empty.")
    table = np.array(rows, dtype=np.float32)
    if dimensions == 3:
        table = np.ascontiguousarray(table.reshape(size, size, size, 3).transpose(2, 1, 0, 3))
    return Cube(title or where, table, low, high)


def write_cube(cube: Cube, comments: list[str]) -> str:
    """A three-dimensional table as text."""
    n = cube.table.shape[0]
    rows = cube.table.transpose(2, 1, 0, 3).reshape(-1, 3)
    head = [f"# {c}" for c in comments] + [f'TITLE "{cube.title}"', f"LUT_3D_SIZE {n}"]
    return "\n".join([*head, *(f"{r:.6f} {g:.6f} {b:.6f}" for r, g, b in rows)]) + "\n"
