"""The one way in which kernels are compiled: cached on disk, free of the interpreter lock, in whole vectors."""

import os
from collections.abc import Callable
from typing import Any, TypeVar

from llvmlite import binding

F = TypeVar("F", bound=Callable[..., Any])


def _use_whole_vectors() -> None:
    """Let LLVM use 512-bit vectors where the processor has them (it prefers 256 bits there, which was slower).

    Read by numba when it is first imported, so this must come before; a setting of the user's stays.
    """
    features = binding.get_host_cpu_features()
    if features.get("avx512f") and "NUMBA_CPU_FEATURES" not in os.environ:
        features["prefer-256-bit"] = False
        os.environ["NUMBA_CPU_FEATURES"] = features.flatten()


_use_whole_vectors()

# What else is needed of numba comes from here, too: imported before this file, it would not know of the vectors.
from numba import njit, types  # noqa: E402
from numba.core import cgutils, config  # noqa: E402
from numba.extending import intrinsic, overload  # noqa: E402

__all__ = ["ALL_FEATURES", "cgutils", "intrinsic", "kernel", "overload", "types"]

ALL_FEATURES: str = config.CPU_FEATURES or binding.get_host_cpu_features().flatten()
"""What kernels may use of the processor, as "+avx512f,-…": the user's setting, if there is one."""

# Re-association and contraction let LLVM vectorise; NaN and infinity keep their meaning.
_FAST = {"contract", "reassoc", "arcp", "nsz", "afn"}


def kernel(function: F) -> F:
    """Compile a function of arrays and numbers with numba."""
    compiled: F = njit(nogil=True, cache=True, fastmath=_FAST, error_model="numpy")(function)
    return compiled
