"""A thousand damaged files of every format (ten thousand by `make attack`): used, refused with a word, never an error inside."""

from pathlib import Path

from mutations import attacked, good_files, tried


def test_the_good_ones_are_used(tmp_path: Path) -> None:
    """Else the damaged ones would prove nothing."""
    for name, (kind, data) in good_files().items():
        path = tmp_path / name
        path.write_bytes(data)
        assert tried(kind, str(path)) == ("used", ""), name


def test_a_thousand_damaged_files() -> None:
    counts, defects = attacked(1000, seed=20)
    assert not defects, "\n".join(defects[:5])
    assert sum(sum(c.values()) for c in counts.values()) == 1000
    # Both ways out are met in nearly every format: files are neither all refused nor all taken.
    assert sum(bool(c["used"]) and bool(c["refused"]) for c in counts.values()) >= 12
    assert sum(c["died"] for c in counts.values()) <= 10
