"""What starting brings in: libraries that take long to load are loaded by who needs them."""

import subprocess
import sys

import pytest

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
            SELDOM | {"dask", "distributed"},
        ),
        ("import tanner.jobs.tasks", SELDOM | {"fastapi", "sqlalchemy"}),
    ],
)
def test_a_bare_import_brings_in_no_heavy_library(statement: str, without: set[str]) -> None:
    assert not _brought_in(statement) & without
