"""Colour charts: which patches stand where, and what they are by publication or by measurement."""

import re
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from tanner.core.colour import spectra
from tanner.core.colour.spaces import D50_XYZ, adaptation, xy_to_xyz
from tanner.core.errors import TannerError

F64 = NDArray[np.float64]


class ChartError(TannerError):
    """A chart or a picture of one that cannot be used, with the reason."""


@dataclass(frozen=True)
class Chart:
    """A chart of rows x columns patches in reading order.

    Attributes:
        reflectance: (N, wavelengths) of `spectra.WAVELENGTHS`, or None where only colours are known.
        xyz: (N, 3) relative to D50, for charts without reflectances.
        source: where the values come from.
    """

    name: str
    rows: int
    columns: int
    patches: tuple[str, ...]
    source: str
    reflectance: F64 | None = None
    xyz: F64 | None = None

    def under(self, lit: F64 | None) -> F64:
        """What an ideal observer sees under a light, adapted to D50 by Bradford: XYZ (N, 3)."""
        if self.reflectance is None or lit is None:
            if self.xyz is None:
                lit = spectra.light("D50")[0]
            else:
                return self.xyz
        assert self.reflectance is not None
        white = spectra.xyz_of(np.ones_like(lit), lit)
        seen = np.stack([spectra.xyz_of(r, lit) for r in self.reflectance])
        return seen @ adaptation(white, D50_XYZ).T

    def greys(self) -> NDArray[np.intp]:
        """Patches that are nearly neutral under D50, lightest first: chroma below 5, lightness above 20."""
        from tanner.core.measure import xyz_to_lab

        lab = xyz_to_lab(self.under(None))
        found = np.flatnonzero((np.hypot(lab[:, 1], lab[:, 2]) < 5) & (lab[:, 0] > 20))
        return found[np.argsort(-lab[found, 0])]


SETS: dict[str, tuple[str, str]] = {
    "ohta": ("24 patches, Ohta 1997", "ColorChecker N Ohta"),
    "average": ("24 patches, mean of thirty charts, 2012", "BabelColor Average"),
    "iso": ("24 patches, ISO 17321-1", "ISO 17321-1"),
    "1976": ("24 patches, published 1976", "ColorChecker 1976"),
    "2005": ("24 patches, published 2005", "ColorChecker 2005"),
    "before-2014": ("24 patches, made before November 2014", "ColorChecker24 - Before November 2014"),
    "after-2014": ("24 patches, made since November 2014", "ColorChecker24 - After November 2014"),
}
"""Every published set of the common chart's 24 patches that colour-science carries: title, and its name there. The first
three are reflectances, the others colours."""


@cache
def published24(key: str = "ohta") -> Chart:
    """The common chart of 24 patches by one of `SETS` (source: ohta97 and others, through colour-science).

    Raises:
        ChartError: no such set.
    """
    if key not in SETS:
        raise ChartError(f"There is no set {key} of the 24 patches: {', '.join(SETS)}.")
    title, name = SETS[key]
    colour = spectra.library()
    if name in colour.SDS_COLOURCHECKERS:
        patches = colour.SDS_COLOURCHECKERS[name]
        values = np.stack([spectra.aligned(p) for p in patches.values()])
        return Chart(title, 4, 6, tuple(patches), f"{title}, as shipped with colour-science", reflectance=values)
    found = colour.CCS_COLOURCHECKERS[name]
    xyz = np.stack([np.array(v) for v in found.data.values()])
    xyz = (
        np.column_stack([xyz[:, 0] / xyz[:, 1], np.ones(len(xyz)), (1 - xyz[:, 0] - xyz[:, 1]) / xyz[:, 1]])
        * xyz[:, 2:]
    )
    xyz = xyz @ adaptation(xy_to_xyz(tuple(found.illuminant)), D50_XYZ).T
    return Chart(title, 4, 6, tuple(found.data), f"{title}, as shipped with colour-science", xyz=xyz)


def read_cgats(path: Path, *, laid_out: bool = True) -> Chart:
    """A chart from a CGATS.17 text file (source: cgats17): spectra, XYZ or Lab (D50, 2 degrees).

    Layout: LGOROWLENGTH (patches in a row), else sample names such as A1 to F4 (letter: column, number: row).

    Args:
        laid_out: off for a list of colours, whose patches need not lie anywhere: they come in the file's order.

    Raises:
        ChartError: what is missing or wrong.
    """
    try:
        text = path.read_text(encoding="utf-8", errors="replace")
    except OSError as error:
        raise ChartError(f"{path.name} cannot be opened ({error.strerror or error}).") from None
    fields = re.search(r"BEGIN_DATA_FORMAT\s(.*?)END_DATA_FORMAT", text, re.S)
    data = re.search(r"BEGIN_DATA\s(.*?)END_DATA(?!_)", text, re.S)
    if not fields or not data:
        raise ChartError(f"{path.name} is no CGATS.17 file: it has no data format or no data.")
    names = fields.group(1).split()
    cells = [re.findall(r'"[^"]*"|\S+', line) for line in data.group(1).strip().splitlines() if line.strip()]
    if not cells or any(len(row) != len(names) for row in cells):
        raise ChartError(f"{path.name}: a line of data does not have the {len(names)} values that the format names.")
    column = {n.upper(): i for i, n in enumerate(names)}
    label = next((column[n] for n in ("SAMPLE_NAME", "SAMPLE_ID", "SAMPLE_LOC") if n in column), None)
    patches = tuple(row[label].strip('"') if label is not None else str(i + 1) for i, row in enumerate(cells))

    def numbers(wanted: list[str]) -> F64:
        try:
            return np.array([[float(row[column[w]]) for w in wanted] for row in cells])
        except ValueError as error:
            raise ChartError(f"{path.name}: {error}.") from None

    reflectance = xyz = None
    bands = sorted(
        (float(m.group(1)), n) for n in column if (m := re.fullmatch(r"(?:SPECTRAL_)?(?:NM_?)?(\d{3}(?:\.\d+)?)", n))
    )
    if len(bands) >= 16:
        values = numbers([n for _, n in bands])
        values = values / 100 if values.max() > 2 else values
        reflectance = np.stack([np.interp(spectra.WAVELENGTHS, [b for b, _ in bands], row) for row in values])
    elif {"XYZ_X", "XYZ_Y", "XYZ_Z"} <= set(column):
        xyz = numbers(["XYZ_X", "XYZ_Y", "XYZ_Z"])
        xyz = xyz / 100 if xyz.max() > 2 else xyz
    elif {"LAB_L", "LAB_A", "LAB_B"} <= set(column):
        from tanner.core.measure import lab_to_xyz

        xyz = lab_to_xyz(numbers(["LAB_L", "LAB_A", "LAB_B"]))
    else:
        raise ChartError(f"{path.name} holds neither spectra nor XYZ nor Lab.")
    rows, columns, order = _layout(path, text, patches) if laid_out else (len(patches), 1, list(range(len(patches))))
    return Chart(
        path.stem, rows, columns, tuple(patches[i] for i in order), path.name,
        reflectance[order] if reflectance is not None else None, xyz[order] if xyz is not None else None,
    )  # fmt: skip


def _layout(path: Path, text: str, patches: tuple[str, ...]) -> tuple[int, int, list[int]]:
    length = re.search(r'LGOROWLENGTH\s+"?(\d+)"?', text)
    if length:
        rows = int(length.group(1))
        if rows < 1 or len(patches) % rows:
            raise ChartError(f"{path.name}: LGOROWLENGTH {rows} does not divide {len(patches)} patches.")
        columns = len(patches) // rows
        # Samples run down the columns, as in the files of the trade (common practice, no source).
        return rows, columns, [c * rows + r for r in range(rows) for c in range(columns)]
    places = [re.fullmatch(r"([A-Za-z]{1,2})0*(\d+)", p) for p in patches]
    if not all(places):
        raise ChartError(f"{path.name} does not say how its patches lie: it needs LGOROWLENGTH or names such as A1.")
    at = {(int(m.group(2)), m.group(1).upper()): i for i, m in enumerate(places) if m}
    letters, digits = sorted({k[1] for k in at}, key=lambda s: (len(s), s)), sorted({k[0] for k in at})
    if len(at) != len(letters) * len(digits):
        raise ChartError(f"{path.name}: its names do not fill a grid of rows and columns.")
    return len(digits), len(letters), [at[d, c] for d in digits for c in letters]
