"""The generalised Anscombe transform of Poisson-Gaussian values, and its exact unbiased inverse.

Values are in units of the sensor's range, their variance is a * v + b. The inverse is the closed form of makitalo2013
(equation 11 there for the Poisson part, with the Gaussian part taken off).
"""

from typing import Any

import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]


def stabilised(values: Any, a: Any, b: Any) -> Any:
    """Values of deviation 1: 2 sqrt(v / a + 3 / 8 + b / a^2)."""
    return 2 * np.sqrt(np.maximum(values / a + (0.375 + b / (a * a)), 0))


def unbiased(stable: Any, a: Any, b: Any) -> Any:
    """Values whose mean is right, from a mean of stabilised values."""
    d = np.maximum(stable, 1.0)
    root = np.sqrt(1.5)
    value = d * d / 4 + root / 4 / d - 11 / 8 / (d * d) + 5 / 8 * root / (d * d * d) - 1 / 8 - b / (a * a)
    # Below the transform of nothing there is nothing; the line goes on smoothly, so that black keeps its mean.
    low = stabilised(np.zeros_like(value), a, b)
    plain = stable * stable / 4 - 0.375 - b / (a * a)
    return np.where(stable < np.minimum(low, 1.5), plain, value) * a
