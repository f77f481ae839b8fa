"""The reference library, without its remarks about extras that are not installed."""

import warnings
from types import ModuleType

import pytest


@pytest.fixture(scope="session")
def colour() -> ModuleType:
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        import colour

        # Submodules that are loaded on first use say the same again.
        _ = colour.temperature, colour.SDS_ILLUMINANTS, colour.SDS_COLOURCHECKERS, colour.CCS_COLOURCHECKERS
    return colour
