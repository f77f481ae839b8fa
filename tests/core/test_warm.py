"""What was compiled from older files is made anew."""

import os
import subprocess
import sys
from pathlib import Path

from tanner.core.warm import forget_stale


def test_what_was_compiled_before_a_kernel_changed_is_forgotten(tmp_path: Path) -> None:
    kept = tmp_path / "a" / "__pycache__"
    kept.mkdir(parents=True)
    times = {
        tmp_path / "a" / "loops.py": ("@kernel\ndef f(): ...", 100),
        tmp_path / "lanes.py": ("from llvmlite import ir", 200),
        tmp_path / "a" / "other.py": ("nothing that is compiled", 400),
        kept / "loops.f-1.nbi": ("", 150),
        kept / "loops.f-1.1.nbc": ("", 250),
        kept / "other.cpython.pyc": ("", 50),
    }
    for path, (text, changed) in times.items():
        path.write_text(text)
        os.utime(path, (changed, changed))
    assert forget_stale(tmp_path) == 1
    assert sorted(p.name for p in kept.iterdir()) == ["loops.f-1.1.nbc", "other.cpython.pyc"]
    (tmp_path / "a" / "loops.py").touch()
    assert forget_stale(tmp_path) == 1 and forget_stale(tmp_path) == 0


def test_kernels_are_told_of_the_vectors() -> None:
    """numba reads what the processor has when it is first imported: nothing of ours may import it before `jit` has said it."""
    script = (
        "import sys, tanner.core.render, tanner.core.stages.path, tanner.web.serving.serve, tanner.jobs.tasks\n"
        "assert 'numba' not in sys.modules\n"
        "import tanner.core.areas.matting, numba, os\n"
        "print(numba.config.CPU_FEATURES == os.environ.get('NUMBA_CPU_FEATURES'))"
    )
    assert subprocess.run([sys.executable, "-c", script], capture_output=True, check=True, text=True).stdout == "True\n"


def test_the_path_with_areas_is_compiled_at_set_up() -> None:
    """The first area that a user draws waits for no compiler."""
    from tanner.core.stages.path import develop_block, develop_block_with_areas

    for kernel in (develop_block, develop_block_with_areas):
        kept = Path(kernel.made._cache._cache_path)  # type: ignore[attr-defined]
        assert list(kept.glob(f"path.{kernel.__name__}-*.nbi")), kernel.__name__
