"""Damaged files of every format that Tanner reads, made from good ones by a seed, and what came of each.

    python tests/trust/mutations.py [--count 10000] [--seed 1]

Each is read as the program reads it, in a worker process, and ends in one of three ways: used, refused with a sentence for a
person, or its process died and was replaced (a decoder's own crash). Anything else is a defect, and its file is kept.
"""

import argparse
import json
import random
import struct
import sys
import tempfile
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np

HERE = Path(__file__).resolve().parent
sys.path.insert(0, str(HERE.parent))

from tanner.core.errors import TannerError  # noqa: E402
from tanner.jobs.workers import WorkerDied, Workers  # noqa: E402

Reader = Callable[[Path], Any]
EXTREMES = (
    struct.pack("<f", float("nan")), struct.pack("<f", float("inf")), struct.pack("<f", -1e38), struct.pack("<I", 2**32 - 1),
    struct.pack("<I", 2**31 - 1), struct.pack("<I", 0), struct.pack(">I", 2**31), struct.pack("<II", 1, 0),
    struct.pack("<d", float("nan")), struct.pack("<d", 1e300), struct.pack("<H", 65535), struct.pack("<H", 0),
)  # fmt: skip
WORDS = (
    "NaN",
    "-1e999",
    "99999999999999999999",
    "null",
    '"',
    "<",
    "=1+1",
    "\ud7ff\U0010ffff",
    "../..",
    "{}",
    "[]",
    "-0.0",
    "\t",
)


def turned(data: bytes, chance: random.Random, *, text: bool) -> bytes:
    """One damaged variant: bits, runs, cuts, copies, extreme numbers; in texts also words that do not belong."""
    out = bytearray(data)
    # The beginning of a file says what the rest is: half of the damage falls there.
    reach = min(len(out), 2048) if chance.random() < 0.5 else len(out)
    for _ in range(chance.choice((1, 1, 2, 4, 12))):
        if not out:
            break
        at = chance.randrange(min(reach, len(out)))
        kind = chance.choice(("bit", "run", "cut", "copy", "gone", "extreme") + (("word", "word") if text else ()))
        if kind == "bit":
            out[at] ^= 1 << chance.randrange(8)
        elif kind == "run":
            long = chance.choice((1, 4, 16, 300))
            out[at : at + long] = bytes([chance.choice((0, 255, 0x80, 0x7F))]) * min(long, len(out) - at)
        elif kind == "cut" and chance.random() < 0.3:
            del out[at:]
        elif kind == "copy":
            piece = out[at : at + chance.choice((1, 8, 200))]
            out[at:at] = piece
        elif kind == "gone":
            del out[at : at + chance.choice((1, 2, 8, 100))]
        elif kind == "extreme":
            number = chance.choice(EXTREMES)
            at -= at % 2
            out[at : at + len(number)] = number
        elif kind == "word":
            long = chance.choice((0, 1, 3, 12))
            out[at : at + long] = chance.choice(WORDS).encode("utf-8", "surrogatepass")
    return bytes(out)


# --- how each kind is read, as the program does it ---------------------------------------------------


def _picture(path: Path) -> Any:
    from tanner.jobs.tasks import preview, read_facts

    facts = read_facts(str(path))
    made = preview(str(path), {}, True)
    return {"facts": facts, **{k: made[k] for k in ("descriptor", "size", "noise", "damage")}}


def _kit(path: Path) -> Any:
    from tanner.catalogue.profiles import Profiles

    with tempfile.TemporaryDirectory() as folder:
        Profiles(Path(folder)).add(path.read_bytes(), path.name)


def _preset(path: Path) -> Any:
    from tanner.core.series.preset import parse_preset

    return parse_preset(path.read_bytes(), path.name).model_dump(mode="json")


def _spec(path: Path) -> Any:
    from tanner.core.output.spec import read_spec

    return read_spec(path).model_dump(mode="json")


def _cgats(path: Path) -> Any:
    from tanner.core.profile.chart import read_cgats

    return read_cgats(path).under(None).tolist()


def _sidecar(path: Path) -> Any:
    from dataclasses import asdict

    from tanner.core.series.sidecar import parse_sidecar

    found = parse_sidecar(path.read_bytes(), path.name)
    return asdict(found) | {"changed": None} if found else None


READERS: dict[str, Reader] = {
    "picture": _picture, "kit": _kit, "preset": _preset, "spec": _spec, "cgats": _cgats, "sidecar": _sidecar,
}  # fmt: skip


def tried(kind: str, path: str) -> tuple[str, str]:
    """What became of a file: ("used" or "refused" or "inside", the words)."""
    file = Path(path)
    before = file.read_bytes()
    try:
        # What is used reaches the catalogue or a page: it must be JSON without numbers that are none.
        json.dumps(READERS[kind](file), allow_nan=False, default=str)
        found = "used", ""
    except TannerError as error:
        found = "refused", str(error)
    except Exception as error:  # what this is looking for
        import traceback

        found = "inside", "".join(traceback.format_exception(error)[-3:])
    return found if file.read_bytes() == before else ("inside", "the file was changed")


# --- good files of every kind ----------------------------------------------------------------------


def good_files() -> dict[str, tuple[str, bytes]]:
    """Name of a file: how it is read, and its bytes."""
    import io

    import cv2
    import tifffile
    from made import exposure
    from PIL import Image

    from tanner.catalogue.library import SHIPPED
    from tanner.core.colour.cube import Cube, write_cube
    from tanner.core.colour.spaces import icc_profile
    from tanner.core.series.sidecar import Sidecar, sidecar_bytes
    from tanner.studio.camera import take

    small = take(exposure("M.DNG", width=240, height=160))
    rng = np.random.default_rng(1)
    drawn = cv2.GaussianBlur(rng.integers(0, 255, (80, 120, 3)).astype(np.uint8), (0, 0), 4)
    found: dict[str, tuple[str, bytes]] = {"raw.dng": ("picture", small)}
    found["linear.dng"] = ("picture", _linear())
    for name, options in {"a.jpg": {}, "progressive.jpg": {"progressive": True}, "a.png": {}, "lzw.tif": {}}.items():
        target = io.BytesIO()
        form = {"jpg": "JPEG", "png": "PNG", "tif": "TIFF"}[name.rpartition(".")[2]]
        more = {"compression": "tiff_lzw"} if form == "TIFF" else {"icc_profile": icc_profile("p3", 2)}
        Image.fromarray(drawn).save(target, form, **options, **more)
        found[name] = ("picture", target.getvalue())
    target = io.BytesIO()
    tifffile.imwrite(target, drawn.astype(np.uint16) * 257, photometric="rgb")
    found["deep.tif"] = ("picture", target.getvalue())
    found["a.icc"] = ("kit", icc_profile("p3", 2))
    found["a.png.png"] = ("kit", found["a.png"][1])
    table = np.stack(np.meshgrid(*[np.linspace(0, 1, 3)] * 3, indexing="ij"), -1).astype(np.float32)
    found["a.cube"] = ("kit", write_cube(Cube(title="t", table=table), ["made"]).encode())
    found["a.dcp"] = ("kit", _profile())
    found["a.xml"] = ("kit", LENS)
    preset = next(iter(sorted((SHIPPED / "presets").glob("*.json"))))
    found["preset.json"] = ("preset", preset.read_bytes())
    found["spec.json"] = ("spec", next(iter(sorted((SHIPPED / "specs").glob("*.json")))).read_bytes())
    found["chart.txt"] = ("cgats", _chart())
    sidecar = Sidecar(
        own={"light.exposure": 0.5}, offsets={"light.exposure": 0.1}, stars=3, keywords=("Ada & Bo", "cup")
    )
    found["a.dng.tanner.xmp"] = ("sidecar", sidecar_bytes(sidecar))
    return found


LENS = b"""<lensdatabase version="1"><mount><name>Alder</name></mount><lens><maker>Finch</maker><model>Finch 24 mm own</model>
<mount>Alder</mount><cropfactor>1</cropfactor><calibration><distortion model="poly3" focal="24" k1="-0.03"/>
<vignetting model="pa" focal="24" aperture="4" distance="10" k1="-0.4" k2="0.1" k3="0"/></calibration></lens></lensdatabase>"""


def _profile() -> bytes:
    from tanner.core.colour.dcp import CameraProfile, HueSatTable, write_dcp

    cells = np.empty((6, 4, 2, 3), np.float32)
    cells[..., 0], cells[..., 1:] = 5, 1.1
    eye = np.array([[0.9, -0.3, -0.1], [-0.4, 1.2, 0.2], [-0.05, 0.2, 0.6]])
    curve = np.array([[0, 0], [0.1, 0.16], [0.5, 0.7], [1, 1]])
    return write_dcp(
        CameraProfile(
            name="Bench light", model="Alder Alder One", illuminants=(17, 21), colour=(eye, eye * 1.05),
            hue_sat=(HueSatTable(cells), HueSatTable(cells)), look=HueSatTable(cells), curve=curve,
        )
    )  # fmt: skip


def _chart() -> bytes:
    rows = "\n".join(f"{'ABCDEF'[c]}{r + 1} {20 + 3 * r + 5 * c} {c - 3} {r}" for r in range(4) for c in range(6))
    head = "CGATS.17\nBEGIN_DATA_FORMAT\nSAMPLE_ID LAB_L LAB_A LAB_B\nEND_DATA_FORMAT\nNUMBER_OF_SETS 24\n"
    return f"{head}BEGIN_DATA\n{rows}\nEND_DATA\n".encode()


def _linear() -> bytes:
    from tanner.core.raw.dng import DngTags, write_dng

    pixels = np.random.default_rng(3).integers(200, 9000, (64, 96, 3)).astype(np.uint16)
    eye = np.array([[0.9, -0.3, -0.1], [-0.4, 1.2, 0.2], [-0.05, 0.2, 0.6]])
    tags = DngTags(
        "Alder", "Alder One", 100, 10_000, (0, 1, 1, 2), (0.5, 1.0, 0.7), (eye,), (21,), noise_profile=(1e-4, 1e-7)
    )
    return write_dng(pixels, tags)


TEXTS = {"kit": (".cube", ".xml"), "preset": (".json",), "spec": (".json",), "cgats": (".txt",), "sidecar": (".xmp",)}


def damaged(count: int, seed: int, folder: Path) -> Iterator[tuple[str, Path]]:
    """(how it is read, a file), one format after the other in turn."""
    goods = good_files()
    chance = random.Random(seed)
    for n in range(count):
        name = list(goods)[n % len(goods)]
        kind, data = goods[name]
        path = folder / f"{n:05d}-{name}"
        path.write_bytes(turned(data, chance, text=path.suffix in TEXTS.get(kind, ())))
        yield kind, path


def attacked(count: int, seed: int, keep: Path | None = None) -> tuple[dict[str, Counter[str]], list[str]]:
    """Counts of what came of the files by format, and what was neither used nor refused."""
    counts: dict[str, Counter[str]] = {}
    defects: list[str] = []
    with tempfile.TemporaryDirectory() as folder, Workers(2, time_limit_s=60) as workers:
        made = [
            (kind, path, workers.submit(tried, kind, str(path))) for kind, path in damaged(count, seed, Path(folder))
        ]
        for kind, path, future in made:
            name = path.name.partition("-")[2]
            try:
                how, words = future.result()
            except WorkerDied as error:
                how, words = "died", str(error)
            except TannerError as error:
                how, words = "refused", str(error)
            counts.setdefault(name, Counter())[how] += 1
            if how == "inside":
                defects.append(f"{path.name} ({kind}): {words}")
                if keep:
                    keep.mkdir(parents=True, exist_ok=True)
                    (keep / path.name).write_bytes(path.read_bytes())
            path.unlink(missing_ok=True)
    return counts, defects


def main() -> int:
    reader = argparse.ArgumentParser(description=__doc__)
    reader.add_argument("--count", type=int, default=10_000)
    reader.add_argument("--seed", type=int, default=1)
    wanted = reader.parse_args()
    counts, defects = attacked(wanted.count, wanted.seed, Path("build/attack"))
    for name, found in sorted(counts.items()):
        print(f"{name:20}", "  ".join(f"{how} {number}" for how, number in sorted(found.items())))
    print(f"{len(defects)} defects", *defects[:40], sep="\n")
    return bool(defects)


if __name__ == "__main__":
    sys.exit(main())
