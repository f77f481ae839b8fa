"""Chart shots: found whichever way they lie, read with reasons, refused when they cannot serve."""

from pathlib import Path

import cv2
import numpy as np
import pytest
from made import exposure
from typer.testing import CliRunner

from tanner.cli import app
from tanner.core.colour.dcp import read_dcp
from tanner.core.profile.chart import ChartError, published24, read_cgats
from tanner.core.profile.detect import find_corners
from tanner.core.profile.make import Shot, chart_picture, locate, make_profile
from tanner.core.profile.readings import read_patches
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.studio.camera import take

CORNERS = np.array([[0.1896, 0.1894], [0.8096, 0.1894], [0.8096, 0.8094], [0.1896, 0.8094]])
RUNNER = CliRunner()


@pytest.fixture(scope="module")
def shots(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    folder = tmp_path_factory.mktemp("charts")
    wanted = {
        "flash": exposure(scene="chart", width=1200, height=800),
        "tungsten": exposure(scene="chart", width=1200, height=800, kelvin=2856.0, believed=2900.0),
        "two": exposure(scene="chart", width=1200, height=800, camera="Alder Two"),
        "lamp": exposure(scene="lamp", width=1200, height=800),
        "bright": exposure(scene="chart", width=1200, height=800, ev=1.2),
        "dark": exposure(scene="chart", width=1200, height=800, ev=-9.0),
    }
    for name, shot in wanted.items():
        (folder / f"{name}.dng").write_bytes(take(shot))
    return {name: folder / f"{name}.dng" for name in wanted}


@pytest.fixture(scope="module")
def picture(shots: dict[str, Path]) -> np.ndarray:
    source = read(shots["flash"])
    return chart_picture(source) / np.array(source.facts.neutral, dtype=np.float32)


def warped(picture: np.ndarray, matrix: np.ndarray) -> np.ndarray:
    h, w = picture.shape[:2]
    return cv2.warpPerspective(picture, matrix, (w, h), flags=cv2.INTER_AREA, borderMode=cv2.BORDER_REPLICATE)


def test_the_chart_is_found(shots: dict[str, Path]) -> None:
    assert np.abs(locate(read(shots["flash"])) - CORNERS).max() < 0.003
    assert np.abs(locate(read(shots["tungsten"])) - CORNERS).max() < 0.003


@pytest.mark.parametrize("degrees", [7, 90, 163, 180, 270])
def test_whichever_way_it_lies(picture: np.ndarray, degrees: float) -> None:
    h, w = picture.shape[:2]
    scale = 0.62 if degrees not in (180,) else 0.9
    matrix = np.vstack([cv2.getRotationMatrix2D((w / 2, h / 2), degrees, scale), [0, 0, 1]])
    matrix[2, :2] = 0.00004, -0.00003  # seen a little from the side
    found = find_corners(warped(picture, matrix), published24()) * [w, h]
    wanted = np.column_stack([CORNERS * [w, h], np.ones(4)]) @ matrix.T
    assert np.abs(found - wanted[:, :2] / wanted[:, 2:]).max() < 5


def test_a_mirrored_chart_is_refused(picture: np.ndarray) -> None:
    with pytest.raises(ChartError, match="mirrored"):
        find_corners(np.ascontiguousarray(picture[:, ::-1]), published24())


def test_half_a_chart_and_no_chart_are_refused(picture: np.ndarray, shots: dict[str, Path]) -> None:
    w = picture.shape[1]
    shifted = warped(picture, np.array([[1, 0, -w * 0.45], [0, 1, 0], [0, 0, 1.0]]))
    for wrong in (shifted, np.full_like(picture, 0.3)):
        with pytest.raises(ChartError, match="chart"):
            find_corners(wrong, published24())
    with pytest.raises(ChartError, match="No chart"):
        locate(read(shots["lamp"]))


def test_out_of_focus_is_found_or_refused_in_words(picture: np.ndarray) -> None:
    soft = cv2.GaussianBlur(picture, (0, 0), 6)
    assert np.abs(find_corners(soft, published24()) - CORNERS).max() < 0.01
    with pytest.raises(ChartError, match="No chart"):
        find_corners(cv2.GaussianBlur(picture, (0, 0), 60), published24())


def test_a_profile_brings_the_patches_nearer(shots: dict[str, Path]) -> None:
    made = make_profile([Shot(read(shots["two"]), "D55")], "Two", table=True)
    (light,) = made.report["lights"]
    assert light["used"] == 24 and light["after"]["mean"] < 0.8
    assert light["after"]["mean"] < light["before"]["mean"]
    assert light["after"]["mean"] <= light["leave_one_out"]["mean"] < 1.5
    assert all(abs(p["a"]) < 0.7 and abs(p["b"]) < 0.7 for p in light["neutral_axis"])
    assert made.profile.model.endswith("Alder Two") and made.profile.hue_sat


def test_two_lights_make_one_profile_cool_one_last(shots: dict[str, Path]) -> None:
    flash, tungsten = Shot(read(shots["flash"]), "D55"), Shot(read(shots["tungsten"]), "A")
    made = make_profile([flash, tungsten], "Both")
    assert made.profile.illuminants == (17, 20) and len(made.profile.colour) == 2
    with pytest.raises(ChartError, match="same light"):
        make_profile([flash, flash], "Twice")
    with pytest.raises(ChartError, match="two cameras"):
        make_profile([flash, Shot(read(shots["two"]), "A")], "Mixed")


def test_uneven_light_is_taken_out(shots: dict[str, Path]) -> None:
    source = read(shots["flash"])
    ramp = np.linspace(0.75, 1.15, source.facts.width)[None]
    data = (source.data.astype(float) - 512) * ramp + 512
    uneven = Source(source.facts, np.clip(data, 0, 16383).astype(np.uint16))
    even = make_profile([Shot(source, "D55")], "x").report["lights"][0]
    bent = make_profile([Shot(uneven, "D55")], "x").report["lights"][0]
    assert 0.1 < bent["slope_ev"][0] < 0.3 and abs(bent["slope_ev"][1]) < 0.03
    assert bent["after"]["mean"] < even["after"]["mean"] + 0.35


def test_what_cannot_be_read_is_left_out_with_a_reason(shots: dict[str, Path]) -> None:
    chart = published24()
    clipped = read_patches(chart_picture(read(shots["bright"])), CORNERS, chart)
    assert clipped.refused[18] == "clipped" and 8 <= clipped.good.sum() < 24
    assert set(read_patches(chart_picture(read(shots["dark"])), CORNERS, chart).refused) == {"underexposed"}
    numbers = chart_picture(read(shots["flash"]))
    h, w = numbers.shape[:2]
    x, y = int((CORNERS[0, 0] + 0.62 / 12) * w), int((CORNERS[0, 1] + 0.62 / 8) * h)
    numbers[y - 12 : y, x - 12 : x + 4] *= 3
    assert read_patches(numbers, CORNERS, chart).refused[0] in ("glare", "uneven")
    outside = read_patches(numbers, np.array([[0.5, 0.2], [1.2, 0.2], [1.2, 0.8], [0.5, 0.8]]), chart)
    assert "outside the picture" in outside.refused
    with pytest.raises(ChartError, match="Only 0 of 24"):
        make_profile([Shot(read(shots["dark"]), "D55", CORNERS)], "dark")


def test_crossed_corners_and_a_wrong_light_are_said(shots: dict[str, Path]) -> None:
    source = read(shots["flash"])
    with pytest.raises(ChartError, match="cross over"):
        make_profile([Shot(source, "D55", CORNERS[[0, 2, 1, 3]])], "x")
    with pytest.raises(ChartError, match="is no light"):
        make_profile([Shot(source, "noon")], "x")
    with pytest.raises(ChartError, match="do not fit this chart"):
        make_profile([Shot(source, "D55", CORNERS[[2, 3, 0, 1]])], "upside down by hand")


def cgats(tmp_path: Path, names: list[str], head: str = "") -> Path:
    from tanner.core.measure import xyz_to_lab

    lab = xyz_to_lab(published24().under(None))
    rows = [f"{n} {v[0]:.4f} {v[1]:.4f} {v[2]:.4f}" for n, v in zip(names, lab, strict=True)]
    path = tmp_path / "mine.txt"
    path.write_text(
        f"CGATS.17\n{head}\nBEGIN_DATA_FORMAT\nSAMPLE_ID LAB_L LAB_A LAB_B\nEND_DATA_FORMAT\n"
        f"NUMBER_OF_SETS {len(rows)}\nBEGIN_DATA\n" + "\n".join(rows) + "\nEND_DATA\n"
    )
    return path


def test_charts_from_cgats_files(shots: dict[str, Path], tmp_path: Path) -> None:
    names = [f"{'ABCDEF'[c]}{r + 1}" for r in range(4) for c in range(6)]
    chart = read_cgats(cgats(tmp_path, names))
    assert (chart.rows, chart.columns) == (4, 6) and chart.patches == tuple(names)
    made = make_profile([Shot(read(shots["flash"]), "D50")], "Lab", chart)
    assert made.report["lights"][0]["after"]["mean"] < 1.5
    for wrong, words in ((["x"] * 24, "how its patches lie"), (names[:23] + ["Z9"], "do not fill")):
        with pytest.raises(ChartError, match=words):
            read_cgats(cgats(tmp_path, wrong))
    (tmp_path / "no.txt").write_text("hello")
    with pytest.raises(ChartError, match=r"no CGATS\.17"):
        read_cgats(tmp_path / "no.txt")


def test_from_the_command_line(shots: dict[str, Path], tmp_path: Path) -> None:
    out = tmp_path / "bench.dcp"
    words = [
        "profile",
        "make",
        str(shots["flash"]),
        str(shots["tungsten"]),
        "--light",
        "D55",
        "--light2",
        "A",
        "--table",
    ]
    result = RUNNER.invoke(app, [*words, "-o", str(out), "--json"])
    assert result.exit_code == 0 and '"leave_one_out"' in result.output
    assert len(read_dcp(out.read_bytes()).hue_sat) == 2
    assert RUNNER.invoke(app, [*words, "-o", str(out)]).exit_code == 1  # not written over
    assert '"model": "Alder One"' in RUNNER.invoke(app, ["profile", "show", str(out), "--json"]).output
    hand = ["--corners", "0.19,0.19 0.81,0.19 0.81,0.81 0.19,0.81"]
    again = RUNNER.invoke(app, ["profile", "make", str(shots["flash"]), *hand, "-o", str(tmp_path / "h.dcp")])
    assert again.exit_code == 0 and "leaving one out" in again.output
    for wrong in (["--corners", "1,2"], ["--light", "noon"]):
        assert RUNNER.invoke(
            app, ["profile", "make", str(shots["flash"]), *wrong, "-o", str(tmp_path / "w.dcp")]
        ).exit_code
    assert not (tmp_path / "w.dcp").exists()
