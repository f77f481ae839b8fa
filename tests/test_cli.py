"""The command line, as a process: output, messages, exit codes."""

import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from tanner.cli import common
from tanner.core.adjust.registry import adjustments


def tanner(*arguments: object, expect: int = 0) -> subprocess.CompletedProcess[str]:
    done = subprocess.run(
        [sys.executable, "-m", "tanner.cli", *map(str, arguments)],
        capture_output=True,
        text=True,
        timeout=300,
        check=False,
    )
    assert done.returncode == expect, done.stderr
    assert "Traceback" not in done.stderr
    return done


def test_adjustments() -> None:
    entries = json.loads(tanner("adjustments", "--json").stdout)
    assert [f"{e['group']}.{e['name']}" for e in entries] == list(adjustments())
    assert set(entries[0]) >= {"group", "name", "label", "unit", "min", "max", "step", "neutral", "per_frame", "help"}
    assert "light.exposure" in tanner("adjustments").stdout


def test_info(lamp: Path, tmp_path: Path) -> None:
    facts = json.loads(tanner("info", lamp, "--json").stdout)
    assert facts["model"] == "Alder One" and len(facts["colour_matrices"][0]) == 9
    assert facts["lens_source"] == "DNG opcodes in the file" and facts["noise_profile"]
    assert "Finch 55 mm" in tanner("info", lamp).stdout
    bad = tmp_path / "bad.dng"
    bad.write_bytes(b"nothing")
    done = tanner("info", bad, lamp, "--json", expect=1)
    assert done.stderr.startswith("tanner: bad.dng: ") and len(done.stdout.splitlines()) == 2


def test_develop_two_specs_and_a_bad_file(lamp: Path, originals: Path, tmp_path: Path) -> None:
    spec = tmp_path / "web.json"
    spec.write_text(json.dumps({"title": "Web", "size": "long:300", "subfolder": "web"}))
    big = tmp_path / "big.json"
    big.write_text(json.dumps({"title": "Big", "format": "tiff16", "space": "prophoto"}))
    bad = tmp_path / "bad.dng"
    bad.write_bytes(lamp.read_bytes()[:5000])
    out = tmp_path / "out"
    done = tanner(
        "develop", lamp, bad, originals / "T0021.DNG", "--to", out, "--spec", spec, "--spec", big,
        "--set", "light.exposure=0.5", "--json", expect=1,
    )  # fmt: skip
    lines = [json.loads(x) for x in done.stdout.splitlines()]
    good = [x for x in lines if "error" not in x]
    assert len(good) == 4 and all({"path", "width", "height", "seconds", "warnings"} <= set(x) for x in good)
    assert "bad.dng" in done.stderr
    assert sorted(p.name for p in out.rglob("*") if p.is_file()) == ["T0001.jpg", "T0001.tif", "T0021.jpg", "T0021.tif"]
    with Image.open(out / "web" / "T0021.jpg") as image:
        assert image.size == (200, 300)


def test_develop_starts_automatically_for_all_files_together(originals: Path, tmp_path: Path) -> None:
    files = originals / "T0001.DNG", originals / "T0002.DNG"
    bad = tmp_path / "bad.dng"
    bad.write_bytes(b"nothing")
    tanner("develop", *files, "--to", tmp_path / "plain", "--size", "long:150")
    tanner("develop", *files, bad, "--to", tmp_path / "auto", "--size", "long:150", "--automatic", expect=1)
    tanner(
        "develop", *files, "--to", tmp_path / "set", "--size", "long:150", "--automatic", "--set", "light.exposure=-2"
    )

    def means(name: str) -> list[float]:
        return [float(np.asarray(Image.open(p)).mean()) for p in sorted((tmp_path / name).glob("*.jpg"))]

    plain, auto, own = means("plain"), means("auto"), means("set")
    assert len(auto) == 2 and max(abs(a - b) for a, b in zip(plain, auto, strict=True)) > 2
    # What is set holds over it, and what lies between the frames stays.
    assert all(o < a - 20 for o, a in zip(own, auto, strict=True))
    assert abs((auto[0] - auto[1]) - (plain[0] - plain[1])) < 8


def test_develop_with_settings_preset_and_size(lamp: Path, tmp_path: Path) -> None:
    settings = tmp_path / "s.json"
    settings.write_text(json.dumps({"crop": {"left": 0.5}, "light.contrast": 10}))
    preset = tmp_path / "p.json"
    preset.write_text(json.dumps({"name": "p", "values": {"colour.saturation": -100}}))
    arguments = [
        "develop",
        lamp,
        "--to",
        tmp_path,
        "--settings",
        settings,
        "--preset",
        preset,
        "--format",
        "png",
        "--size",
        "short:150",
    ]
    tanner(*arguments)
    with Image.open(tmp_path / "T0001.png") as image:
        assert image.size == (150, 200)
        assert np.ptp(np.asarray(image.convert("RGB")).astype(int), axis=2).max() <= 2
    # A second run never overwrites without being told.
    done = tanner(*arguments)
    assert "T0001-2.png" in done.stdout
    assert "left out" in tanner(*arguments, "--exists", "skip").stdout


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["--set", "light.exposur=1"], "light.exposure"),
        (["--set", "light.exposure=99"], "light.exposure"),
        (["--set", "light.exposure"], "GROUP.NAME=VALUE"),
        (["--size", "huge"], "size"),
        (["--format", "gif"], "format"),
        (["--settings", "gone.json"], "gone.json"),
        (["--preset", "gone.json"], "gone.json"),
        (["--spec", "gone.json"], "gone.json"),
        (["--quality", "0"], "quality"),
    ],
)
def test_wishes_that_make_no_sense_end_with_two(lamp: Path, tmp_path: Path, arguments: list[str], words: str) -> None:
    done = tanner("develop", lamp, "--to", tmp_path / "o", *arguments, expect=2)
    assert words in done.stderr and not (tmp_path / "o").exists()


def test_no_arguments_show_help() -> None:
    text = tanner("--help").stdout
    for command in ("serve", "import", "info", "develop", "adjustments"):
        assert command in text
    tanner("nonsense", expect=2)


def test_import(originals: Path, tmp_path: Path) -> None:
    data, to = tmp_path / "data", tmp_path / "photos"
    files = [originals / "T0001.DNG", originals / "T0002.DNG"]
    arguments = ["import", *files, "--shoot", "Spring", "--copy-to", to, "--data", data]
    assert "T0001.DNG  brought in" in tanner(*arguments).stdout
    lines = [json.loads(x) for x in tanner(*arguments, "--json").stdout.splitlines()]
    assert {x["state"] for x in lines} == {"already"}
    assert sorted(p.name for p in to.iterdir()) == ["T0001.DNG", "T0002.DNG"]
    assert "gone.dng" in tanner("import", tmp_path / "gone.dng", "--shoot", "S", "--data", data, expect=1).stderr
    (tmp_path / "empty").mkdir()
    assert "no pictures" in tanner("import", tmp_path / "empty", "--shoot", "S", "--data", data, expect=1).stderr


def test_settings_may_be_flat_or_by_group() -> None:
    assert common._nested({"light": {"exposure": 1}, "crop.left": 0.1}) == {"light.exposure": 1, "crop.left": 0.1}


def test_serve_says_where_and_minds_the_port(tmp_path: Path) -> None:
    import socket
    import time
    import urllib.request

    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    command = [
        sys.executable,
        "-m",
        "tanner.cli",
        "serve",
        "--data",
        str(tmp_path / "d"),
        "--folder",
        str(tmp_path),
        "--port",
        str(port),
    ]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) as server:
        assert server.stdout is not None and server.stderr is not None
        assert server.stdout.readline() == f"Tanner is at http://127.0.0.1:{port}\n"
        with urllib.request.urlopen(f"http://127.0.0.1:{port}/", timeout=30) as page:
            assert b"No shoots yet" in page.read()
        taken = tanner("serve", "--data", tmp_path / "e", "--port", port, expect=1)
        assert "cannot be used" in taken.stderr and "--port" in taken.stderr
        # The first request of a kind, whose check is made when it comes: nothing is said of that where Tanner was started.
        token = (tmp_path / "d" / "token").read_text().strip()
        first = urllib.request.Request(f"http://127.0.0.1:{port}/api/shoots", b'{"name": "Spring"}')
        first.add_header("Authorization", f"Bearer {token}")
        first.add_header("Content-Type", "application/json")
        with urllib.request.urlopen(first, timeout=30) as answer:
            assert answer.status == 200
        # Somebody is in the middle of a request: half of what it holds has come.
        asks = socket.create_connection(("127.0.0.1", port))
        head = f"POST /api/shoots HTTP/1.1\r\nHost: 127.0.0.1:{port}\r\nAuthorization: Bearer {token}\r\n"
        asks.sendall(f'{head}Content-Type: application/json\r\nContent-Length: 40\r\n\r\n{{"name":'.encode())
        time.sleep(0.3)
        server.terminate()
        for _ in range(200):
            if server.poll() is not None:
                break
            time.sleep(0.1)
        # Ended as it ends by itself, with nothing to say (semaphores that were left behind, in one version).
        assert server.poll() == 0 and server.stderr.read() == ""
        asks.close()


def test_a_shoot_is_delivered(originals: Path, tmp_path: Path) -> None:
    data, out = tmp_path / "data", tmp_path / "out"
    files = [str(originals / f"T000{n}.DNG") for n in (1, 2, 3)]
    tanner("import", *files, "--shoot", "Spring", "--data", str(data))
    base = ("deliver", "--shoot", "Spring", "--data", str(data), "--spec", "web gallery")
    rows = [json.loads(line) for line in tanner(*base, "--to", str(out), "--dry-run", "--json").stdout.splitlines()]
    assert [Path(r["target"]).name for r in rows] == ["T0001.jpg", "T0002.jpg", "T0003.jpg"]
    assert all(r["width"] == 600 and "no rights set" in r["notes"] for r in rows) and not out.exists()
    own = tmp_path / "own.json"
    own.write_text('{"title": "Own", "size": "crop:100x100", "format": "png16", "name": "{text}{number:2}"}')
    more = (
        "--spec",
        str(own),
        "--filter",
        "name:0001 or name:0003",
        "--text",
        "x",
        "--start",
        "8",
        "--document",
        "checksums",
    )
    done = tanner(*base, *more, "--to", str(out), "--json").stdout.splitlines()
    items = [json.loads(line) for line in done]
    assert {i["state"] for i in items if "state" in i} == {"done"} and items[-1]["kind"] == "checksums"
    assert sorted(p.name for p in out.rglob("*.png")) == ["x08.png", "x09.png"]
    assert len(list(out.rglob("*.jpg"))) == 2 and Path(items[-1]["path"]).read_text().count("\n") == 4
    for arguments, words in (
        (("--to", str(out), "--filter", "keep"), "No frame"),
        (("--to", str(out), "--filter", "("), "Search"),
        ((), "--to FOLDER"),
        (("--to", str(out), "--document", "poster"), "no document"),
        (("--to", str(out), "--spec", "gone"), "no output spec"),
    ):
        assert words in tanner(*base, *arguments, expect=1).stderr
    assert "no shoot" in tanner(*base[:2], "Autumn", *base[3:], "--dry-run", expect=1).stderr
