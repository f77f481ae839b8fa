"""What is shared between threads is what one thread makes, in the same order, and waits for nobody."""

from concurrent.futures import ThreadPoolExecutor
from itertools import pairwise

import numpy as np
import pytest

from tanner.core.adjust.registry import defaults, develop
from tanner.core.raw.source import Source
from tanner.core.render import render
from tanner.core.sharing import bands, each, with_threads
from tanner.core.warm import synthetic


def test_things_come_in_order_and_errors_come_out() -> None:
    def odd(n: int) -> int:
        if n == 7:
            raise ValueError("seven")
        return n * n

    with ThreadPoolExecutor(2) as pool, with_threads(pool):
        assert each(odd, range(5)) == [0, 1, 4, 9, 16] and each(odd, []) == []
        with pytest.raises(ValueError, match="seven"):
            each(odd, range(10))
    with pytest.raises(ValueError, match="seven"):
        each(odd, [7])


def test_work_within_the_threads_asks_for_no_more_of_them() -> None:
    """With one thread, work that shared work of its own would wait for itself."""
    with ThreadPoolExecutor(1) as pool, with_threads(pool):
        assert each(lambda n: sum(each(lambda k: k + n, [1, 2, 3])), [0, 10]) == [6, 36]


@pytest.mark.parametrize("rows", [1, 2, 159, 160, 161, 4000])
def test_bands_cover_all_rows_once(rows: int) -> None:
    found = bands(rows, 160)
    assert found[0][0] == 0 and found[-1][1] == rows and all(a[1] == b[0] for a, b in pairwise(found))
    assert all(0 < end - first <= 160 for first, end in found)


def test_threads_change_no_number() -> None:
    """Layers, blocks, spots: each is made in the same bands and turns, whoever makes them."""
    source = synthetic(3000, 2000)
    values = defaults(raw=True, lens=True) | {
        "structure.texture": 60.0, "structure.middle": 40.0, "structure.haze": 20.0, "light.shadows": 40.0,
    }  # fmt: skip
    rng = np.random.default_rng(3)
    for n in range(12):
        at = [[float(rng.uniform(-0.4, 0.4)), float(rng.uniform(-0.3, 0.3))]]
        values |= {f"spots/{n:08x}/kind": "spot", f"spots/{n:08x}/path": at, f"spots/{n:08x}/size": 0.01}
    with ThreadPoolExecutor(2) as pool:
        pictures = [
            render(Source(source.facts, source.data), develop(values), (1500, 1000), pool=threads, bits=16)
            for threads in (None, pool)
        ]
    assert np.array_equal(*pictures)
