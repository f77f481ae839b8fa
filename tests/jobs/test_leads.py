"""What is known of a lead is not worked out again."""

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from tanner.core.areas import find
from tanner.core.areas.found import found_in
from tanner.core.noise.kept import KEPT
from tanner.core.output.cutout import shade_of
from tanner.core.raw.reader import read
from tanner.core.render.guide import look_of
from tanner.jobs.areas.spots import _lead, _lead_of
from tanner.studio.camera import take
from tanner.studio.demo import frames


@pytest.fixture(scope="module")
def lamp(tmp_path_factory: pytest.TempPathFactory) -> Path:
    shot = next(s for s in frames() if s.scene == "lamp-1")
    path = tmp_path_factory.mktemp("lead") / "a.dng"
    path.write_bytes(take(shot, compress=False))
    return path


def test_a_lead_whose_subject_was_shown_is_not_searched_again(
    lamp: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Spots looked for their lead's subject anew, though the mask was on disk."""
    monkeypatch.setattr(KEPT, "folder", tmp_path)
    source = read(lamp)
    look = look_of(source)
    mask = found_in("subject", source.memory, lambda: look, str(lamp), look.grid.size)
    asked: list[str] = []
    monkeypatch.setattr(find, "found", lambda what, seen: asked.append(what))
    _lead.cache_clear()
    try:
        subject = _lead_of(str(lamp)).lead.subject
    finally:
        _lead.cache_clear()
    assert asked == [] and subject is not None
    np.testing.assert_array_equal(np.rint(subject * 255), mask)


def test_a_cut_out_and_its_shadow_look_for_the_thing_once(lamp: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The shadow's part found what throws it again, in every file."""
    asked: list[int] = []
    real = find._thing

    def counted(seen: find.Seen) -> Any:
        asked.append(1)
        return real(seen)

    monkeypatch.setattr(find, "_thing", counted)
    source = read(lamp)
    found_in("subject", source.memory, lambda: look_of(source), "", look_of(source).grid.size)
    shade_of(source)
    assert len(asked) == 1
