"""Small pictures from kept blocks: as near to the frame as those from the whole mosaic, without reading it."""

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import pytest
from made import exposure
from numpy.typing import NDArray

from tanner.core import small
from tanner.core.adjust.registry import defaults, develop
from tanner.core.colour.spaces import SPACES
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.render import full_size, render
from tanner.core.render.linear import BINNED
from tanner.core.small import SMALL, SmallSource, level_of, read_small
from tanner.studio.camera import take

VALUES = {**defaults(raw=True, lens=True), "detail.amount": 0.0, "light.exposure": 0.2}


@pytest.fixture
def kept(tmp_path: Path) -> Iterator[Path]:
    SMALL.folder = tmp_path / "small"
    small._frames.clear()
    yield SMALL.folder
    SMALL.folder = None
    small._frames.clear()


@pytest.fixture(scope="module")
def raw(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("small") / "A.DNG"
    path.write_bytes(take(exposure(path.name, width=2600, height=1760)))
    return path


def drawn(source: Source, edge: int, **more: Any) -> NDArray[Any]:
    w, h = full_size(source, develop({**VALUES, **more}))
    share = edge / max(w, h)
    return render(source, develop({**VALUES, **more}), (round(w * share), round(h * share)), draft=True)


def linear(pixels: NDArray[Any]) -> NDArray[np.float64]:
    return np.asarray(SPACES["srgb"].decode(pixels / np.iinfo(pixels.dtype).max))


@pytest.mark.parametrize("edge", [320, 512, 640])
def test_a_small_picture_is_as_near_to_the_frame_as_ever(kept: Path, raw: Path, edge: int) -> None:
    """Against the area mean of the full-size picture in linear light (OpenCV's INTER_AREA): at least as good, above 40 dB."""
    whole = read(raw)
    full = linear(render(whole, develop(VALUES), full_size(whole, develop(VALUES)), bits=16))
    usual, light = drawn(whole, edge), drawn(read_small(raw), edge)
    wanted = cv2.resize(full, (usual.shape[1], usual.shape[0]), interpolation=cv2.INTER_AREA)
    psnr = [-10 * np.log10(np.mean((linear(p) - wanted) ** 2)) for p in (usual, light)]
    assert psnr[1] > 40 and psnr[1] > psnr[0] - 0.5


def test_the_file_is_not_read_again(kept: Path, raw: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    first = drawn(read_small(raw), 512)
    small._frames.clear()
    asked: list[bool] = []
    monkeypatch.setattr(small, "read", lambda path, *, pixels=True: asked.append(pixels) or read(path, pixels=pixels))
    light = read_small(raw)
    assert isinstance(light, SmallSource) and np.array_equal(drawn(light, 512), first)
    drawn(light, 400, **{"light.exposure": 1.0, "light.shadows": 30.0, "crop.left": 0.2})
    assert asked == []
    # What needs the mosaic itself gets it.
    assert light.data.shape == (1760, 2600) and asked == [True]
    light.close()
    assert drawn(light, 512, **{"noise.method": "quick"}).shape == first.shape


def test_another_file_of_the_name_is_another_frame(kept: Path, tmp_path: Path, raw: Path) -> None:
    path = tmp_path / "B.DNG"
    path.write_bytes(raw.read_bytes())
    before = drawn(read_small(path), 320)
    path.write_bytes(take(exposure(path.name, width=2600, height=1760, ev=-1.5)))
    assert drawn(read_small(path), 320).mean() < before.mean() - 10


def test_damaged_blocks_are_made_again(kept: Path, raw: Path) -> None:
    first = drawn(read_small(raw), 320)
    for file in kept.glob("*.npy"):
        file.write_bytes(b"nothing")
    small._frames.clear()
    assert np.array_equal(drawn(read_small(raw), 320), first)
    (header,) = kept.glob("*header*.npy")
    np.save(header, np.frombuffer(b"no header", np.uint8))
    small._frames.clear()
    assert np.array_equal(drawn(read_small(raw), 320), first)


def test_small_frames_and_other_kinds_are_read_whole(kept: Path, tmp_path: Path) -> None:
    path = tmp_path / "S.DNG"
    path.write_bytes(take(exposure(path.name)))
    assert not isinstance(read_small(path), SmallSource)
    assert [level_of(*size) for size in ((6000, 4000), (3480, 2320), (600, 400), (4000, 6000), (2600, 100))] == [
        8,
        4,
        0,
        8,
        4,
    ]
    with pytest.raises(Exception, match="nowhere"):
        read_small(tmp_path / "nowhere.DNG")


def test_only_the_last_frames_hold_memory(
    kept: Path, raw: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(small, "PLANES", 2)
    monkeypatch.setattr(small, "HEADERS", 3)
    paths = []
    for n in range(4):
        paths.append(tmp_path / f"{n}.DNG")
        paths[-1].write_bytes(raw.read_bytes())
        drawn(read_small(paths[-1]), 320)
    assert len(small._frames) == 3
    heavy = [bool(f.memory.keys(BINNED)) for f in small._frames.values()]
    assert heavy == [False, True, True] and all(f._data is None for f in list(small._frames.values())[:-1])
