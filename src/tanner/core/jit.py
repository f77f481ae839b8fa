"""The one way in which kernels are compiled: cached on disk, free of the interpreter lock, in whole vectors.

The compiler is a third of a second of every start, and no page and no reading of facts needs it. So what is marked here is only
remembered; numba is loaded when the first kernel is called, and each kernel is made when it is first called or asked for by
another. What else is needed of numba comes from here, too: loaded before this file did, it would not know of the vectors.
"""

import functools
import importlib
import os
import threading
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, TypeVar

if TYPE_CHECKING:
    from numba.core import cgutils, types

__all__ = ["Intrinsic", "Kernel", "all_features", "cgutils", "intrinsic", "kernel", "load", "overload", "types"]

F = TypeVar("F", bound=Callable[..., Any])
# Re-association and contraction let LLVM vectorise; NaN and infinity keep their meaning.
_FAST = {"contract", "reassoc", "arcp", "nsz", "afn"}

_lock = threading.RLock()
_waiting: list[Callable[[], None]] = []
_loaded = False


class _Module:
    """A module that is imported when something of it is asked for."""

    def __init__(self, name: str) -> None:
        self._name = name

    def __getattr__(self, name: str) -> Any:
        load()
        return getattr(importlib.import_module(self._name), name)


if not TYPE_CHECKING:
    types, cgutils = _Module("numba.core.types"), _Module("numba.core.cgutils")


class Kernel:
    """A function that numba compiles when it is first called; for other kernels it is what numba made of it."""

    def __init__(self, function: Callable[..., Any]) -> None:
        functools.update_wrapper(self, function)
        self.function = function
        self._made: Any = None

    @property
    def made(self) -> Any:
        """What numba made of it."""
        if self._made is None:
            load()
            from numba import njit

            with _lock:  # two threads that call it at once shall not compile it twice
                if self._made is None:
                    self._made = njit(nogil=True, cache=True, fastmath=_FAST, error_model="numpy")(self.function)
        return self._made

    def __call__(self, *args: Any) -> Any:
        return (self._made or self.made)(*args)


class Intrinsic:
    """A function whose body is written out for LLVM; it runs inside kernels only."""

    def __init__(self, function: Callable[..., Any]) -> None:
        functools.update_wrapper(self, function)  # type: ignore[arg-type]
        self.function = function
        self.made: Any = None
        _when_loaded(self._make)

    def _make(self) -> None:
        from numba.extending import intrinsic

        self.made = intrinsic(self.function)


def load() -> None:
    """Load the compiler, if it is not loaded yet: what was marked becomes known to it."""
    global _loaded
    if _loaded:
        return
    with _lock:
        if _loaded:
            return
        _use_whole_vectors()
        from numba.core.registry import cpu_target
        from numba.extending import typeof_impl

        def type_of(value: Kernel | Intrinsic, _context: Any) -> Any:
            return cpu_target.typing_context.resolve_value_type(value.made)

        # What kernels name of one another has the type of what numba made of it.
        typeof_impl.register(Kernel, type_of)
        typeof_impl.register(Intrinsic, type_of)
        for make in _waiting:
            make()
        _waiting.clear()
        _loaded = True


def _when_loaded(make: Callable[[], None]) -> None:
    with _lock:
        if _loaded:
            make()
        else:
            _waiting.append(make)


def _use_whole_vectors() -> None:
    """Let LLVM use 512-bit vectors where the processor has them (it prefers 256 bits there, which was slower).

    Read by numba when it is first imported, so this must come before; a setting of the user's stays.
    """
    from llvmlite import binding

    features = binding.get_host_cpu_features()
    if features.get("avx512f") and "NUMBA_CPU_FEATURES" not in os.environ:
        features["prefer-256-bit"] = False
        os.environ["NUMBA_CPU_FEATURES"] = features.flatten()


@functools.cache
def all_features() -> frozenset[str]:
    """What kernels may use of the processor, as "+avx512f": the user's setting, if there is one."""
    load()
    from llvmlite import binding
    from numba.core import config

    return frozenset((config.CPU_FEATURES or binding.get_host_cpu_features().flatten()).split(","))


def kernel(function: F) -> F:
    """Compile a function of arrays and numbers with numba."""
    return Kernel(function)  # type: ignore[return-value]


def intrinsic(function: Callable[..., Any]) -> Any:
    """A function of the types of its arguments that gives its signature and what writes its body."""
    return Intrinsic(function)


def overload(function: Callable[..., Any]) -> Callable[[F], F]:
    """What numba takes for a function inside kernels, as `numba.extending.overload`."""

    def marked(implementation: F) -> F:
        def make() -> None:
            from numba.extending import overload

            overload(function)(implementation)

        _when_loaded(make)
        return implementation

    return marked
