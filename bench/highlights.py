"""Clipped places against the truth, beside LibRaw's ways: `python -m bench.highlights` prints the table of docs/colour.md.

Eight pictures that ship with scikit-image, one and two stops too bright, CIEDE2000 to the truth when brought back, by how
many channels were clipped. Pictures with less than 0.5 % of such px are left out of a column.
"""

import sys
import tempfile
from collections.abc import Sequence
from pathlib import Path

import numpy as np
import rawpy

from bench.noise import pictures
from tanner.core.adjust.registry import develop
from tanner.core.colour.difference import ciede2000
from tanner.core.colour.spaces import SPACES, xy_to_xyz
from tanner.core.measure import xyz_to_lab
from tanner.core.raw.dng import DngTags, write_bayer_dng
from tanner.core.raw.reader import read
from tanner.core.render import make_plan, render_planes
from tanner.core.tone.clipped import rebuild_row

NEUTRAL = np.array([0.5, 1.0, 0.6])
MATRIX = np.diag(NEUTRAL) @ np.linalg.inv(SPACES["srgb"].to_pcs())
BLACK, WHITE = 512, 16383
NAMES = tuple(name for name, _ in pictures(False))
WAYS = {"clip": 0, "LibRaw 2": 2, "LibRaw 5": 5, "ours": -1}
LEAST = 0.005


def _file(bright: np.ndarray, path: Path) -> None:
    camera = np.minimum(bright * NEUTRAL, 1)
    mosaic = camera[..., 1].copy()
    mosaic[0::2, 0::2], mosaic[1::2, 1::2] = camera[0::2, 0::2, 0], camera[1::2, 1::2, 2]
    white = MATRIX @ xy_to_xyz((0.3457, 0.3585))
    tags = DngTags("Maker", "Model", BLACK, WHITE, (0, 1, 1, 2), tuple(white / white.max()), (MATRIX,), (23,))
    path.write_bytes(write_bayer_dng(np.rint(mosaic * (WHITE - BLACK) + BLACK).astype(np.uint16), tags, compress=False))


def _libraw(path: Path, mode: int, bright: np.ndarray, dark: np.ndarray) -> np.ndarray:
    with rawpy.imread(str(path)) as raw:
        rgb = raw.postprocess(
            demosaic_algorithm=rawpy.DemosaicAlgorithm.AHD, user_wb=[2.0, 1.0, 1 / 0.6, 1.0], gamma=(1, 1),
            no_auto_bright=True, output_bps=16, output_color=rawpy.ColorSpace.raw, adjust_maximum_thr=0.0,
            highlight_mode=rawpy.HighlightMode(mode),
        )  # fmt: skip
    found = rgb / 65535.0
    # Each mode has a scale of its own: that of the px which are not clipped.
    return found / np.median((found / np.maximum(bright, 1e-6))[dark])


def _ours(path: Path) -> np.ndarray:
    source = read(path)
    plan = make_plan(source, develop({}), source.size)
    planes = render_planes(plan.linear)
    camera = plan.parameters.camera
    clipped, near = camera.clipped._replace(hold=np.float32(0)), np.empty(planes.shape[2], np.float32)
    for y in range(planes.shape[1]):
        rebuild_row(*planes[:, y], clipped, camera.gains, y, 0, planes.shape[2], near)
    return np.moveaxis(planes * camera.gains[:, None, None], 0, -1)


def scores(names: Sequence[str], ev: int, path: Path) -> dict[str, np.ndarray]:
    """For each way the mean over pictures of CIEDE2000 at px with 1, 2 and 3 clipped channels; NaN where there are none."""
    found: dict[str, list[list[float]]] = {way: [] for way in WAYS}
    to_xyz = SPACES["srgb"].to_pcs().T
    for name, linear in pictures(False):
        if name not in names:
            continue
        truth = linear.astype(np.float64)
        bright = truth * 2**ev
        many = (bright * NEUTRAL >= 1).sum(axis=-1)
        dark = (many == 0) & (bright.min(axis=-1) > 0.03)
        _file(bright, path)
        lab = xyz_to_lab(truth @ to_xyz)
        for way, mode in WAYS.items():
            got = _ours(path) if mode < 0 else _libraw(path, mode, bright, dark)
            off = ciede2000(xyz_to_lab(np.maximum(got / 2**ev, 0) @ to_xyz), lab)
            found[way].append(
                [float(off[many == k].mean()) if (many == k).mean() > LEAST else np.nan for k in (1, 2, 3)]
            )
    with np.errstate(invalid="ignore"):
        return {
            way: np.array([np.nan if np.isnan(c).all() else np.nanmean(c) for c in np.array(rows).T])
            for way, rows in found.items()
        }


def main() -> int:
    print("| | +1 EV, 1 | 2 | 3 | +2 EV, 1 | 2 | 3 |\n|---|---|---|---|---|---|---|")
    with tempfile.TemporaryDirectory() as folder:
        both = [scores(NAMES, ev, Path(folder) / "x.dng") for ev in (1, 2)]
    for way in WAYS:
        figures = np.concatenate([b[way] for b in both])
        print(f"| {way} | " + " | ".join("" if np.isnan(v) else f"{v:.2f}" for v in figures) + " |")
    return 0


if __name__ == "__main__":
    sys.exit(main())
