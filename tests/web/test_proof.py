"""Marks and proofs of a view, by the viewer itself."""

from pathlib import Path

import numpy as np
import pytest
from made import exposure

from tanner.core.adjust.registry import defaults
from tanner.core.colour.profile_store import PROFILE_STORE
from tanner.core.colour.spaces import icc_profile
from tanner.core.errors import TannerError
from tanner.jobs.workers import Workers
from tanner.studio.camera import take
from tanner.web.viewer.viewer import AskedView, Viewer


def test_outside_is_marked_and_a_proof_is_shown(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(PROFILE_STORE, "folders", [tmp_path])
    path = tmp_path / "a.dng"
    path.write_bytes(take(exposure(scene="chart")))
    (tmp_path / "screen.icc").write_bytes(icc_profile("srgb"))
    start = defaults(raw=True, lens=True)
    strong = {**start, "colour.saturation": 60.0}
    with Workers(1) as workers:
        viewer = Viewer(workers)

        def shown(values: dict[str, object], **view: object) -> np.ndarray:
            return viewer.show(str(path), values, start, AskedView(width=300, height=200, **view)).marked.astype(int)  # type: ignore[arg-type]

        plain, marked = shown(strong), shown(strong, outside=True)
        changed = np.abs(plain - marked).max(axis=-1) > 0
        assert 0.01 < changed.mean() < 0.4
        assert (marked[changed] == [24, 150, 110]).all()
        weak = {**start, "colour.saturation": -60.0}
        assert np.array_equal(shown(weak), shown(weak, outside=True))
        proof = shown(start, proof="screen", paper=False)
        assert np.abs(proof - shown(start)).mean() < 2.5
        zoomed = shown(start, proof="screen", zoom=1.0, outside=True)
        assert zoomed.shape == shown(start, zoom=1.0).shape
        with pytest.raises(TannerError, match="no longer in Kit"):
            shown(start, proof="gone")
        viewer.close()
