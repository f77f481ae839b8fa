"""Measures the series: how well frames are matched, against plain copying, grey world and the camera's own white balance, and how
fast sets, leads, previews, matches and the Line-up are: `python -m bench.series [accuracy|speed]`.
"""

import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path
from statistics import median
from typing import Any

import httpx
import numpy as np
from sqlalchemy import insert

from bench.browser import bearer, paged, served
from tanner.catalogue.models import Frame, FrameSet, Shoot
from tanner.catalogue.sets import propose_sets
from tanner.catalogue.store import Catalogue
from tanner.core.adjust.registry import defaults
from tanner.core.colour.auto_white import auto_white
from tanner.core.colour.difference import ciede2000
from tanner.core.colour.temperature import xy_to_temperature
from tanner.core.profile.make import chart_picture
from tanner.core.raw.reader import read
from tanner.core.raw.source import Source
from tanner.core.render import as_shot_white
from tanner.core.series.area import NoArea
from tanner.core.series.match import colour_of, moved, picture_of, shot_as
from tanner.core.series.subjects import area_of
from tanner.jobs.match.matching import MatchWish, Reference, matched
from tanner.jobs.tasks import descriptor
from tanner.studio.camera import take
from tanner.studio.exposure import Exposure

LOOK = {**defaults(raw=True, lens=True), "light.contrast": 10.0, "light.shadows": 15.0, "colour.vibrance": 8.0}
START = datetime(2026, 3, 12, 9)


# --- accuracy ------------------------------------------------------------------------------------


def shots(scenes: tuple[str, ...], count: int, mixed: bool, moves: bool) -> list[Exposure]:
    """A made-up series: exposure up to 1 EV either way, ISO 100 to 1600, the scenes in turn; and the light.

    Args:
        mixed: the light itself goes from 3,000 to 7,500 K, and the camera errs by up to 40 mired about it; else the light
            stays at 5,500 K and the camera takes it for 3,000 to 7,500 K.
        moves: the camera is held by hand: framed otherwise each time. What the area is lit by then changes, too, which counts
            as an error of exposure here.
    """
    rng = np.random.default_rng(20_261_125)
    upright = scenes[0].startswith(("rowan", "wren"))
    made = []
    for n in range(count):
        kelvin = 1e6 / float(rng.uniform(1e6 / 7500, 1e6 / 3000))
        believed = 1e6 / (1e6 / kelvin + float(rng.uniform(-40, 40))) if mixed else kelvin
        first = {"kelvin": 5500.0, "believed": 5500.0, "ev": 0.0, "iso": 100}
        later = {"kelvin": kelvin if mixed else 5500.0, "believed": believed, "ev": float(rng.uniform(-1, 1)),
                 "iso": int(rng.choice([100, 200, 400, 800, 1600]))}  # fmt: skip
        made.append(
            Exposure(
                name=f"S{n:03d}.DNG", scene=scenes[n % len(scenes)], turn=0.0, lens="portrait" if upright else "standard",
                shutter=1 / 125, taken=START + timedelta(minutes=n), seed=n + 1, width=1500, height=1000, upright=upright,
                span=float(rng.uniform(0.85, 0.98)) if moves else 0.95,
                shift=(float(rng.uniform(-0.4, 0.4)) if moves else 0.0, 0.0), **(later if n else first),
            )
        )  # fmt: skip
    return made


def written(folder: Path, shot: Exposure, name: str) -> Source:
    path = folder / name
    path.write_bytes(take(shot))
    return read(path)


def accuracy(
    folder: Path, kind: Any, scenes: tuple[str, ...], count: int, mixed: bool, moves: bool = False
) -> dict[str, Any]:
    """Errors of each way to bring a series together, against the truth that the simulated camera knows."""
    reference, *others = shots(scenes, count, mixed, moves)
    first = written(folder, reference, "R.DNG")
    at = lambda s, v: lambda edge: picture_of(s, v, edge=edge)  # noqa: E731
    first_area, first_picture = area_of(kind, at(first, LOOK)), picture_of(first, LOOK, 16)
    ways: dict[str, list[tuple[float, float, float, float]]] = {
        k: [] for k in ("copied", "camera", "grey world", "matched", "the truth")
    }
    missing = 0
    true_first = xy_to_temperature(as_shot_white(first))
    for n, shot in enumerate(others):
        source = written(folder, shot, f"{n}.DNG")
        exact = written(folder, replace(shot, believed=shot.kelvin), "T.DNG")
        truth = xy_to_temperature(as_shot_white(exact))
        camera = shot_as(source, LOOK)
        grey = auto_white(source.camera, chart_picture(source))
        settings = {
            "copied": {**LOOK, "white.temperature": true_first[0], "white.tint": true_first[1]},
            "camera": {**LOOK, "white.temperature": camera[0], "white.tint": camera[1]},
            "grey world": {**LOOK, **grey},
            # What nobody knows: how much the area itself changes its colour with the light, all else being right.
            "the truth": {
                **LOOK,
                "white.temperature": truth[0],
                "white.tint": truth[1],
                "light.exposure": LOOK.get("light.exposure", 0.0) - shot.ev,
            },
        }
        try:
            start = Reference(str(folder / "R.DNG"), LOOK, kind=kind, most=4.5)
            found = matched(start, MatchWish(source.facts.path, LOOK), "both")
        except NoArea:
            missing += 1
            continue
        offsets = {k: found[k] for k in ("ev", "mired", "tint")}
        settings["matched"] = {**settings["camera"], **moved(LOOK, offsets, camera)}
        # Held against the reference where the area is in the frame as it was matched.
        mask = area_of(kind, at(source, settings["matched"])).mask
        if kind == "backdrop":
            mask = mask & first_area.mask
        target = colour_of(first_picture, mask if kind == "backdrop" else first_area.mask)
        for way, values in settings.items():
            ev = {"matched": offsets["ev"], "the truth": -shot.ev}.get(way, 0.0)
            lab = colour_of(picture_of(source, values, 16), mask, whole=True)
            ways[way].append(
                (
                    abs(ev + shot.ev),
                    abs(1e6 / values["white.temperature"] - 1e6 / truth[0]),
                    abs(values["white.tint"] - truth[1]),
                    float(ciede2000(lab, target)),
                )
            )
    return {"missing": missing, "ways": {k: np.array(v) for k, v in ways.items()}}


def all_accuracy() -> None:
    lamps = tuple(f"lamp-{n}" for n in range(1, 6))
    cases = [
        ("product, backdrop; the camera errs about one light", "backdrop", lamps, False, False),
        ("product, backdrop; the light itself changes", "backdrop", lamps, True, False),
        ("portrait, skin; the camera errs about one light", "skin", ("wren-1",), False, False),
        ("portrait, skin; the light itself changes", "skin", ("wren-1",), True, False),
        ("portrait, skin; other poses, held by hand, one light", "skin", ("wren-1", "wren-2"), False, True),
    ]
    print(
        "| series | way | EV, 95 % | mired, 95 % | tint, 95 % | CIEDE2000 mean / largest |\n|---|---|---|---|---|---|"
    )
    for title, kind, scenes, mixed, moves in cases:
        with tempfile.TemporaryDirectory() as name:
            found = accuracy(Path(name), kind, scenes, 16, mixed, moves)
        for way, rows in found["ways"].items():
            e = np.quantile(rows, 0.95, axis=0)
            print(
                f"| {title} | {way} | {e[0]:.3f} | {e[1]:.1f} | {e[2]:.1f} | {rows[:, 3].mean():.2f} / {rows[:, 3].max():.2f} |",
                flush=True,
            )
        if found["missing"]:
            print(f"| {title} | | area not found in {found['missing']} | | | |")


# --- speed ---------------------------------------------------------------------------------------


def many(data: Path, raw: Path, count: int, of_set: int) -> None:
    """A catalogue with frames that are links to one raw file, the first `of_set` of them in one set, led by the first."""
    source = read(raw)
    likeness = descriptor(picture_of(source, LOOK))
    facts = source.facts.summary()
    catalogue = Catalogue(data)
    rng = np.random.default_rng(3)
    with catalogue.write() as session:
        session.add(Shoot(name="Many"))
        session.flush()
        session.add_all(
            [FrameSet(shoot_id=1, name="Set 1", lead_id=1), FrameSet(shoot_id=1, name="Set 2", lead_id=of_set + 1)]
        )
        session.flush()
        rows = []
        for n in range(count):
            path = raw.with_name(f"M{n:04d}.DNG")
            path.hardlink_to(raw)
            rows.append(
                {"shoot_id": 1, "set_id": 1 if n < of_set else 2, "path": str(path), "name": path.name, "content": str(n),
                 "taken": START + timedelta(seconds=30 * n + 1800 * (n // 25)), "facts": facts, "camera": "Alder One",
                 "lens": facts.get("lens") or "", "iso": 100, "starting": dict(LOOK), "as_shot": [5500.0, 0.0], "width": 6000,
                 "height": 4000, "descriptor": [v + float(d) for v, d in zip(likeness, rng.normal(0, 0.6, 192), strict=True)]}
            )  # fmt: skip
        session.execute(insert(Frame), rows)
    catalogue.close()


def timed(work: Callable[[], Any]) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def speed() -> None:
    from bench.run import reference

    shot = Exposure(
        name="M.DNG", scene="lamp", turn=0.0, kelvin=5500.0, believed=5500.0, ev=0.0, iso=100, lens="standard", shutter=0.01,
        taken=START, width=6000, height=4000,
    )  # fmt: skip
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        raw = folder / "raws" / "M.DNG"
        raw.parent.mkdir()
        raw.write_bytes(take(shot, compress=False))
        r = median(reference(str(raw), str(folder / "r.jpg")) for _ in range(3))
        print(f"R = {r:.2f} s; frames of 24 MP, two worker processes", flush=True)
        many(folder / "data", raw, 1000, 500)
        catalogue = Catalogue(folder / "data")
        with catalogue.write() as session:
            took = timed(lambda: propose_sets(session, 1, again=True))
            session.rollback()
        catalogue.close()
        say("sets proposed for 1,000 frames", "60 s", f"{took:.1f} s")
        with served(folder / "data", [raw.parent], 8494) as url:
            api = httpx.Client(base_url=url, timeout=600, headers=bearer(folder / "data"))
            first = api.post("/api/shoots/1/want", json={"frames": list(range(1, 202))})
            until(api, first.json()["pending"])
            steps = []
            for n in range(7):
                body = {"frames": [1], "values": {"light.exposure": 0.1 * (n + 1)}}
                steps.append(timed(lambda b=body: api.post("/api/edit", json=b).raise_for_status()))  # type: ignore[misc]
            say("a change of the lead is stored (500 followers)", "50 ms", f"{1000 * median(steps):.0f} ms")
            began = time.perf_counter()
            pending = api.post("/api/shoots/1/want", json={"frames": list(range(1, 202))}).json()["pending"]
            until(api, pending)
            took = time.perf_counter() - began
            say("previews of followers anew, 512 px", "12 a second", f"{201 / took:.0f} a second")
            began = time.perf_counter()
            number = api.post("/api/match", json={"frames": list(range(2, 202)), "reference": 1}).json()["id"]
            while not (job := api.get(f"/api/match/{number}").json())["over"]:
                time.sleep(0.2)
            say("200 frames matched", "60 s", f"{time.perf_counter() - began:.0f} s ({len(job['rows'])} rows)")
            while api.get("/api/shoots/1/lineup?set=1").json()["pending"]:
                time.sleep(0.5)
            with paged() as page:
                page.goto(f"{url}/shoots/1/lineup")
                page.wait_for_selector(".point")
                page.wait_for_timeout(3000)
                took = page.evaluate(
                    "() => new Promise((done) => { const t = performance.now(); window.tannerDraw(); "
                    "requestAnimationFrame(() => setTimeout(() => done(performance.now() - t), 0)); })"
                )
            say("Line-up with 500 frames draws", "300 ms", f"{took:.0f} ms")
            answer = median(timed(lambda: api.get("/api/shoots/1/lineup?set=1")) for _ in range(5))
            say("its figures come from the program", "", f"{1000 * answer:.0f} ms")
            keys = [p["key"] for p in api.get("/api/presets").json()["presets"]]
            tries = [timed(lambda k=k: api.get(f"/api/frames/1/try?key={k}&edge=800")) for k in keys[:12]]  # type: ignore[misc]
            say("a preset on the own picture, 800 px", "150 ms", f"{1000 * median(tries):.0f} ms")


def until(api: httpx.Client, pending: int) -> None:
    while pending:
        time.sleep(0.05)
        pending = api.get("/api/shoots/1/pictures?since=0").json()["pending"]


def say(what: str, must: str, found: str) -> None:
    print(f"| {what} | {must} | {found} |", flush=True)


if __name__ == "__main__":
    wanted = sys.argv[1:] or ["accuracy", "speed"]
    if "accuracy" in wanted:
        all_accuracy()
    if "speed" in wanted:
        speed()
