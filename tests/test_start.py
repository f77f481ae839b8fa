"""What starting brings in: libraries that take long to load are loaded by who needs them."""

import os
import subprocess
import sys
import time

import pytest

from tanner.cli.apart import Apart
from tanner.core.errors import TannerError, UnreadableFile
from tanner.core.raw.reader import read_known

SELDOM = {"scipy.optimize", "scipy.interpolate", "scipy.ndimage", "onnxruntime", "skimage", "colour"}


def _brought_in(statement: str) -> set[str]:
    said = f"{statement}\nimport sys\nprint(*sys.modules)"
    done = subprocess.run([sys.executable, "-c", said], capture_output=True, text=True, check=True)
    return set(done.stdout.split())


@pytest.mark.parametrize(
    ("statement", "without"),
    [
        ("import tanner.cli", {"numpy", "cv2", "numba", "scipy", "sqlalchemy", "fastapi", "onnxruntime", "PIL"}),
        (
            "import tanner.web.serving.serve",
            SELDOM
            | {"numba", "llvmlite.binding", "dask", "distributed", "markdown_it", "rapidfuzz", "PIL", "tifffile"},
        ),
        (
            "import tanner.core.raw.reader, tanner.cli.adjustments, tanner.cli.apart",
            SELDOM | {"cv2", "numba", "fastapi", "sqlalchemy"},
        ),
        ("import tanner.jobs.tasks", SELDOM | {"numba", "fastapi", "sqlalchemy"}),
    ],
)
def test_a_bare_import_brings_in_no_heavy_library(statement: str, without: set[str]) -> None:
    assert not _brought_in(statement) & without


def test_a_file_that_ends_its_process_is_one_files_error() -> None:
    """What `tanner info` reads with: the next file is read by a fresh process."""
    with Apart() as apart:
        first = apart.run(os.getpid, within_s=30)
        assert first != os.getpid() and apart.run(os.getpid, within_s=30) == first
        with pytest.raises(TannerError, match="crashed"):
            apart.run(os._exit, 3, within_s=30)
        assert apart.run(os.getpid, within_s=30) != first
        with pytest.raises(TannerError, match="given up after 0 s"):
            apart.run(time.sleep, 60, within_s=0.05)
        with pytest.raises(TannerError, match=r"GB.*worker_gigabytes"):
            apart.run(bytearray, 64 << 30, within_s=30)
        with pytest.raises(TannerError, match=r"cannot be read .ZeroDivisionError"):
            apart.run(divmod, 1, 0, within_s=30)
        with pytest.raises(UnreadableFile, match="cannot be opened"):
            apart.run(read_known, "/nothing/here.dng", within_s=30)
