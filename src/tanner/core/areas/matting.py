"""The two methods of pymatting that are used, without the rest of it.

The package compiles every solver that it has as soon as it is imported: 80 seconds of a processor on a new machine, for two
functions that take ten. So its folders are entered as packages here without running what they import of their own.
"""

import importlib
import importlib.util
import sys
from types import ModuleType

from tanner.core import jit


def _entered(name: str, place: str) -> None:
    if name not in sys.modules:
        package = ModuleType(name)
        package.__path__ = [place]
        sys.modules[name] = package


# They compile by themselves, and shall know of the vectors as our own kernels do.
jit.load()
_spec = importlib.util.find_spec("pymatting")
if _spec is None or not _spec.submodule_search_locations:
    raise ImportError("pymatting is missing: `make setup` installs it")
_place = _spec.submodule_search_locations[0]
_entered("pymatting", _place)
for _part in ("foreground", "laplacian", "util"):
    _entered(f"pymatting.{_part}", f"{_place}/{_part}")

estimate_foreground_ml = importlib.import_module("pymatting.foreground.estimate_foreground_ml").estimate_foreground_ml
cf_laplacian = importlib.import_module("pymatting.laplacian.cf_laplacian").cf_laplacian
