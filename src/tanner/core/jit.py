"""The one way in which kernels are compiled: cached on disk, free of the interpreter lock."""

from collections.abc import Callable
from typing import Any, TypeVar

from numba import njit

F = TypeVar("F", bound=Callable[..., Any])

# Re-association and contraction let LLVM vectorise; NaN and infinity keep their meaning.
_FAST = {"contract", "reassoc", "arcp", "nsz", "afn"}


def kernel(function: F) -> F:
    """Compile a function of arrays and numbers with numba."""
    compiled: F = njit(nogil=True, cache=True, fastmath=_FAST, error_model="numpy")(function)
    return compiled
