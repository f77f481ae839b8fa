"""Size rules: a table worked by hand. The named edge is met exactly, the other rounded half up, at least 1 px."""

import pytest

from tanner.core.errors import FormatError
from tanner.core.output.sizing import output_size, parse_size

TABLE = [
    # rule, kept size, written size, worked by hand
    ("original", (6000, 4000), (6000, 4000)),
    ("long:2048", (6000, 4000), (2048, 1365)),  # 4000 * 2048 / 6000 = 1365.33
    ("long:2048", (4000, 6000), (1365, 2048)),
    ("long:1080", (6000, 4000), (1080, 720)),
    ("long:8000", (6000, 4000), (6000, 4000)),  # never enlarged
    ("long:1000", (3000, 2), (1000, 1)),  # 0.67 rounds to 1
    ("long:1000", (3000, 1), (1000, 1)),  # at least 1 px
    ("short:1200", (6000, 4000), (1800, 1200)),
    ("short:1200", (4000, 6000), (1200, 1800)),
    ("short:333", (1000, 999), (333, 333)),  # 1000 * 333 / 999 = 333.33
    ("short:5000", (6000, 4000), (6000, 4000)),
    ("box:1600x1200", (6000, 4000), (1600, 1067)),  # 1066.67 rounds up
    ("box:1600x1200", (4000, 6000), (800, 1200)),
    ("box:1600x1200", (1600, 1200), (1600, 1200)),
    ("box:1000x1000", (6000, 4000), (1000, 667)),  # equal sides: upright and lying alike
    ("box:1000x1000", (4000, 6000), (667, 1000)),
    ("box:3000x100", (6000, 4000), (150, 100)),
    ("box:2000x1333", (3000, 2000), (2000, 1333)),  # 1333.33 fits a box of 1333
    ("percent:50", (6000, 4000), (3000, 2000)),
    ("percent:20", (6001, 4003), (1200, 801)),  # 1200.2, 800.6
    ("percent:12.5", (100, 100), (13, 13)),  # 12.5 rounds half up
    ("percent:600", (100, 50), (600, 300)),
    ("percent:1", (30, 20), (1, 1)),
]


@pytest.mark.parametrize(("rule", "kept", "written"), TABLE)
def test_table(rule: str, kept: tuple[int, int], written: tuple[int, int]) -> None:
    assert output_size(parse_size(rule), *kept) == written


@pytest.mark.parametrize("rule", [t[0] for t in TABLE])
def test_rules_read_back_as_they_are_written(rule: str) -> None:
    assert parse_size(str(parse_size(rule))) == parse_size(rule)


@pytest.mark.parametrize(
    "text",
    [
        "",
        "long",
        "long:0",
        "long:-5",
        "long:abc",
        "box:100",
        "box:0x5",
        "percent:0",
        "percent:601",
        "5000",
        "long:99999",
    ],
)
def test_what_is_no_size_is_refused(text: str) -> None:
    with pytest.raises(FormatError, match=r"size|per cent|edge"):
        parse_size(text)
